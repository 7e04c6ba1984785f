package certificates

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func request(t *testing.T, key any, asks *x509.CertificateRequest) string {
	der, err := x509.CreateCertificateRequest(rand.Reader, asks, key)
	require.NoError(t, err)
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: der}))
}

// TestListener: what is signed holds against the authority, for the names that the service knows and no others.
func TestListener(t *testing.T) {
	t.Parallel()
	dir, now := t.TempDir(), time.Now()
	a := New(dir, func() time.Time { return now })
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	chain, until, err := a.Listener(request(t, key, &x509.CertificateRequest{Subject: pkix.Name{CommonName: "desk"},
		DNSNames: []string{"desk.example"}}), "gate-a", []string{"192.0.2.7", "gate-a", "", "fd00::2"})
	require.NoError(t, err)
	assert.Equal(t, now.Add(ListenerLife).Unix(), until.Unix())
	leaf, rest := pem.Decode([]byte(chain))
	c, err := x509.ParseCertificate(leaf.Bytes)
	require.NoError(t, err)
	assert.Equal(t, "gate-a", c.Subject.CommonName)
	assert.Equal(t, []string{"gate-a", "localhost"}, c.DNSNames, "not what the request says")
	root, text, err := New(dir, time.Now).Certificate() // it is kept
	require.NoError(t, err)
	assert.Equal(t, string(text), string(rest), "the authority goes along")
	pool := x509.NewCertPool()
	pool.AddCert(root)
	for _, name := range []string{"gate-a", "localhost", "127.0.0.1", "192.0.2.7", "fd00::2", "::1"} {
		_, err := c.Verify(x509.VerifyOptions{Roots: pool, DNSName: name, CurrentTime: now})
		assert.NoError(t, err, name)
	}
	_, err = c.Verify(x509.VerifyOptions{Roots: pool, DNSName: "desk.example", CurrentTime: now})
	assert.Error(t, err)
	assert.False(t, c.IsCA)

	weak, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	good := request(t, key, &x509.CertificateRequest{})
	block, _ := pem.Decode([]byte(good))
	block.Bytes[len(block.Bytes)-1] ^= 1
	for name, bad := range map[string]string{"nothing": "", "no request": string(text), "another key": request(t, weak,
		&x509.CertificateRequest{}), "a broken signature": string(pem.EncodeToMemory(block))} {
		_, _, err := a.Listener(bad, "gate-a", nil)
		assert.Error(t, err, name)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "authority.pem"), []byte("damaged"), 0o600))
	_, _, err = New(dir, time.Now).Certificate()
	assert.ErrorContains(t, err, "damaged")
}
