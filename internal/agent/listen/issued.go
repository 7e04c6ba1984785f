package listen

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"time"
)

// Times of issued certificates: how often it is looked whether one is due, and how soon it is asked again where the
// service gives none.
const (
	renewLook  = time.Minute
	renewAgain = 5 * time.Second
)

// issued is a certificate that the service signs. The key is made on the host and does not leave it.
type issued struct {
	path string
	ask  func(request string) (chain, words string)
	now  func() time.Time

	mu    sync.Mutex
	have  *tls.Certificate
	leaf  *x509.Certificate
	words string // why there is none
}

// newIssued goes on with the certificate that is kept, where there is one.
func newIssued(dir, source string, ask func(source, request string) (chain, words string),
	now func() time.Time) *issued {
	x := &issued{path: filepath.Join(dir, "issued", source+".pem"), now: now, words: "it was not asked for yet",
		ask: func(request string) (string, string) { return ask(source, request) }}
	if text, err := os.ReadFile(x.path); err == nil {
		_ = x.take(text) // what cannot be used is asked for anew
	}
	return x
}

// take takes a certificate with its key.
func (x *issued) take(text []byte) error {
	pair, err := tls.X509KeyPair(text, text)
	if err != nil {
		return err
	}
	leaf, err := x509.ParseCertificate(pair.Certificate[0])
	if err != nil {
		return err
	}
	if !x.now().Before(leaf.NotAfter) {
		return errors.New("it has expired")
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	x.have, x.leaf, x.words = &pair, leaf, ""
	return nil
}

// get is the certificate for a connection.
func (x *issued) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.have == nil {
		return nil, errors.New("there is no certificate yet")
	}
	return x.have, nil
}

// state is until when the certificate is good, or why there is none.
func (x *issued) state() (until time.Time, words string) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.leaf == nil {
		return until, x.words
	}
	return x.leaf.NotAfter, ""
}

// due tells whether two thirds of the life of the certificate are over, or there is none.
func (x *issued) due() bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.leaf == nil {
		return true
	}
	life := x.leaf.NotAfter.Sub(x.leaf.NotBefore)
	return !x.now().Before(x.leaf.NotBefore.Add(life * 2 / 3))
}

// keep asks for a certificate where one is due, until ctx ends.
func (x *issued) keep(ctx context.Context) {
	for ctx.Err() == nil {
		wait := renewLook
		if x.due() {
			if err := x.renew(); err != nil {
				wait = renewAgain
				x.mu.Lock()
				x.words = err.Error()
				x.mu.Unlock()
			}
		}
		select {
		case <-ctx.Done():
		case <-time.After(wait):
		}
	}
}

func (x *issued) renew() error {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	request, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{}, key)
	if err != nil {
		return err
	}
	chain, words := x.ask(string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: request})))
	if chain == "" {
		return errors.New(words)
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	text := append([]byte(chain), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})...)
	if err := x.take(text); err != nil {
		return fmt.Errorf("what the service signed cannot be used: %w", err)
	}
	if err = os.MkdirAll(filepath.Dir(x.path), 0o700); err == nil {
		if err = os.WriteFile(x.path+".new", text, 0o600); err == nil {
			err = os.Rename(x.path+".new", x.path)
		}
	}
	return err
}
