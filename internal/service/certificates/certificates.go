// Package certificates is the service's own authority: it signs the service's certificate, and those of listeners.
package certificates

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"sync"
	"time"
)

// ListenerLife is how long a certificate of a listener is good. Agents ask for the next one when two thirds are over.
const ListenerLife = 90 * 24 * time.Hour

// Authority signs. It is made in the data folder when it is needed first, and is safe for concurrent use.
type Authority struct {
	dir string
	now func() time.Time

	mu   sync.Mutex
	cert *x509.Certificate
	key  *ecdsa.PrivateKey
}

// New is the authority of a data folder.
func New(dir string, now func() time.Time) *Authority { return &Authority{dir: dir, now: now} }

// open reads the authority, or makes it. It is locked.
func (a *Authority) open() error {
	if a.cert != nil {
		return nil
	}
	der, key, err := a.read()
	if err != nil {
		return fmt.Errorf("authority: %w", err)
	}
	a.key = key
	a.cert, err = x509.ParseCertificate(der)
	return err
}

func (a *Authority) read() (der []byte, key *ecdsa.PrivateKey, err error) {
	path := filepath.Join(a.dir, "authority.pem")
	text, err := os.ReadFile(path)
	if err == nil {
		for block, rest := pem.Decode(text); block != nil; block, rest = pem.Decode(rest) {
			switch block.Type {
			case "CERTIFICATE":
				der = block.Bytes
			case "EC PRIVATE KEY":
				if key, err = x509.ParseECPrivateKey(block.Bytes); err != nil {
					return nil, nil, err
				}
			}
		}
		if der == nil || key == nil {
			return nil, nil, fmt.Errorf("%s is damaged", path)
		}
		return der, key, nil
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return nil, nil, err
	}
	if key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader); err != nil {
		return nil, nil, err
	}
	now := a.now()
	t := &x509.Certificate{
		SerialNumber:          Serial(),
		Subject:               pkix.Name{CommonName: "Synaxis authority"},
		NotBefore:             now.Add(-time.Hour),
		NotAfter:              now.AddDate(10, 0, 0),
		KeyUsage:              x509.KeyUsageCertSign,
		BasicConstraintsValid: true,
		IsCA:                  true,
		MaxPathLenZero:        true,
	}
	if der, err = x509.CreateCertificate(rand.Reader, t, t, &key.PublicKey, key); err != nil {
		return nil, nil, err
	}
	keyDER, err := x509.MarshalECPrivateKey(key)
	if err != nil {
		return nil, nil, err
	}
	out := append(
		pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}),
		pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: keyDER})...)
	return der, key, os.WriteFile(path, out, 0o600)
}

// Serial is a random serial number.
func Serial() *big.Int {
	n, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return big.NewInt(time.Now().UnixNano())
	}
	return n
}

// Sign signs a certificate for a public key. It answers both the certificate and the authority's, in DER.
func (a *Authority) Sign(t *x509.Certificate, public any) (der, authority []byte, err error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if err := a.open(); err != nil {
		return nil, nil, err
	}
	der, err = x509.CreateCertificate(rand.Reader, t, a.cert, public, a.key)
	return der, a.cert.Raw, err
}

// Certificate is the authority's own, and its PEM: what senders must trust.
func (a *Authority) Certificate() (*x509.Certificate, []byte, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if err := a.open(); err != nil {
		return nil, nil, err
	}
	return a.cert, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: a.cert.Raw}), nil
}

// Listener signs what a host asks for, for a listener of it: names and addresses are those that the service knows, and
// nothing that the request says of them. It answers the certificate with the authority's, in PEM.
func (a *Authority) Listener(request, host string, names []string) (chain string, until time.Time, err error) {
	block, _ := pem.Decode([]byte(request))
	if block == nil || block.Type != "CERTIFICATE REQUEST" {
		return "", until, errors.New("it is no request for a certificate")
	}
	csr, err := x509.ParseCertificateRequest(block.Bytes)
	if err == nil {
		err = csr.CheckSignature()
	}
	if err != nil {
		return "", until, fmt.Errorf("the request cannot be used: %w", err)
	}
	key, ok := csr.PublicKey.(*ecdsa.PublicKey)
	if !ok || key.Curve != elliptic.P256() {
		return "", until, errors.New("the request is for another kind of key than P-256")
	}
	now := a.now()
	t := &x509.Certificate{
		SerialNumber: Serial(),
		Subject:      pkix.Name{CommonName: host},
		NotBefore:    now.Add(-time.Hour),
		NotAfter:     now.Add(ListenerLife),
		KeyUsage:     x509.KeyUsageDigitalSignature,
		ExtKeyUsage:  []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	AddNames(t, append([]string{host, "localhost", "127.0.0.1", "::1"}, names...))
	der, authority, err := a.Sign(t, key)
	if err != nil {
		return "", until, err
	}
	out := append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}),
		pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: authority})...)
	return string(out), t.NotAfter, nil
}

// AddNames adds names and addresses to a certificate, each once.
func AddNames(t *x509.Certificate, names []string) {
	seen := map[string]bool{}
	for _, n := range names {
		if n == "" || seen[n] {
			continue
		}
		seen[n] = true
		if ip := net.ParseIP(n); ip != nil {
			t.IPAddresses = append(t.IPAddresses, ip)
		} else {
			t.DNSNames = append(t.DNSNames, n)
		}
	}
}
