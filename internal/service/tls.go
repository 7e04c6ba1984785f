package service

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
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
	"time"

	"synaxis/internal/core/wire"
)

// autoTLS makes (once) an authority in the data folder and a certificate for the names of this machine and those of
// names. The certificate is made anew at each start; what agents pin is the authority.
func autoTLS(dir string, names []string, now time.Time) (tls.Certificate, string, error) {
	caDER, caKey, err := authority(dir, now)
	if err != nil {
		return tls.Certificate{}, "", fmt.Errorf("authority: %w", err)
	}
	ca, err := x509.ParseCertificate(caDER)
	if err != nil {
		return tls.Certificate{}, "", err
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return tls.Certificate{}, "", err
	}
	t := &x509.Certificate{
		SerialNumber: serial(),
		Subject:      pkix.Name{CommonName: "Synaxis service"},
		NotBefore:    now.Add(-time.Hour),
		NotAfter:     now.AddDate(1, 0, 0),
		KeyUsage:     x509.KeyUsageDigitalSignature,
		ExtKeyUsage:  []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	host, err := os.Hostname()
	if err == nil {
		names = append(names, host)
	}
	addrs, err := net.InterfaceAddrs()
	if err != nil {
		return tls.Certificate{}, "", err
	}
	for _, a := range addrs {
		if ip, ok := a.(*net.IPNet); ok {
			t.IPAddresses = append(t.IPAddresses, ip.IP)
		}
	}
	for _, n := range append(names, "localhost") {
		if ip := net.ParseIP(n); ip != nil {
			t.IPAddresses = append(t.IPAddresses, ip)
		} else if n != "" {
			t.DNSNames = append(t.DNSNames, n)
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, t, ca, &key.PublicKey, caKey)
	if err != nil {
		return tls.Certificate{}, "", err
	}
	return tls.Certificate{Certificate: [][]byte{der, caDER}, PrivateKey: key}, wire.Fingerprint(caDER), nil
}

func serial() *big.Int {
	n, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return big.NewInt(time.Now().UnixNano())
	}
	return n
}

func authority(dir string, now time.Time) (der []byte, key *ecdsa.PrivateKey, err error) {
	path := filepath.Join(dir, "authority.pem")
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
	t := &x509.Certificate{
		SerialNumber:          serial(),
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
