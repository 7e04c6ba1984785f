package listen

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"math/big"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// signer signs requests for a life, as the service does; while it is away it says so.
type signer struct {
	life  time.Duration
	away  atomic.Bool
	asked atomic.Int64
}

func (s *signer) sign(_, request string) (string, string) {
	s.asked.Add(1)
	if s.away.Load() {
		return "", "the service is not there"
	}
	block, _ := pem.Decode([]byte(request))
	csr, err := x509.ParseCertificateRequest(block.Bytes)
	if err != nil {
		return "", err.Error()
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return "", err.Error()
	}
	now := time.Now()
	c := &x509.Certificate{SerialNumber: big.NewInt(now.UnixNano()), NotBefore: now, NotAfter: now.Add(s.life)}
	der, err := x509.CreateCertificate(rand.Reader, c, c, csr.PublicKey, key)
	if err != nil {
		return "", err.Error()
	}
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})), ""
}

// TestIssued: a certificate is asked for until it is there, kept over a restart, and renewed when two thirds of its
// life are over, also where the service is away for a while.
func TestIssued(t *testing.T) {
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		s := &signer{life: 90 * 24 * time.Hour}
		s.away.Store(true)
		ctx, stop := context.WithCancel(context.Background())
		defer stop()
		x := newIssued(dir, "radar", s.sign, time.Now)
		go x.keep(ctx)
		time.Sleep(12 * time.Second)
		_, words := x.state()
		assert.Equal(t, "the service is not there", words)
		assert.Equal(t, int64(3), s.asked.Load())
		_, err := x.get(nil)
		assert.Error(t, err)
		s.away.Store(false)
		time.Sleep(5 * time.Second)
		first, words := x.state()
		assert.Empty(t, words)
		assert.WithinDuration(t, time.Now().Add(s.life), first, 10*time.Second)
		c, err := x.get(nil)
		require.NoError(t, err)
		require.NotNil(t, c)

		again := newIssued(dir, "radar", func(string, string) (string, string) { return "", "none" }, time.Now)
		kept, words := again.state()
		assert.Empty(t, words, "it is kept")
		assert.Equal(t, first, kept)

		time.Sleep(59 * 24 * time.Hour)
		until, _ := x.state()
		assert.Equal(t, first, until, "not before two thirds are over")
		s.away.Store(true)
		time.Sleep(25 * time.Hour)
		asked := s.asked.Load()
		time.Sleep(10 * time.Minute)
		assert.Greater(t, s.asked.Load(), asked, "it asks on")
		until, _ = x.state()
		assert.Equal(t, first, until, "it stays while the service is away")
		s.away.Store(false)
		time.Sleep(time.Minute)
		until, _ = x.state()
		assert.True(t, until.After(first))
		assert.WithinDuration(t, time.Now().Add(s.life), until, 2*time.Minute)
		stop()
		synctest.Wait()

		time.Sleep(200 * 24 * time.Hour)
		_, words = newIssued(dir, "radar", s.sign, time.Now).state()
		assert.NotEmpty(t, words, "one that has expired is not used")
	})
}
