package test

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/contract"
)

// TestExpiring: a receiver's certificate that ends soon is a state of the sources that send there, and takes no record
// away; what ends within 30 days is told by the status and the first page, of secrets by what is said and of
// certificates by what they say; and what ends later is not.
func TestExpiring(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	dir := t.TempDir()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	ends := time.Now().Add(5 * 24 * time.Hour)
	c := &x509.Certificate{SerialNumber: big.NewInt(7), NotBefore: time.Now().Add(-time.Hour), NotAfter: ends,
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: true, BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, c, c, &key.PublicKey, key)
	require.NoError(t, err)
	recv := newReceiver(t, nil)
	s := httptest.NewUnstartedServer(http.HandlerFunc(recv.serve))
	s.TLS = &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}}}
	s.StartTLS()
	t.Cleanup(s.Close)
	pemFile := filepath.Join(dir, "ca.pem")
	require.NoError(t, os.WriteFile(pemFile, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	out, code := d.cli("secret", "set", "archive-ca", "--file", pemFile)
	require.Zero(t, code, out)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "token"), []byte("opensesame"), 0o600))
	for name, span := range map[string]string{"near": "20d", "far": "90d"} {
		out, code = d.cli("secret", "set", name, "--file", filepath.Join(dir, "token"), "--expires", span)
		require.Zero(t, code, out)
	}
	d.agent("h", filepath.Join(dir, "state"), d.joinToken(1, nil))
	eventually(t, time.Minute, "the agent", func() bool { return d.connected("h") })
	d.publish(linesCatalogue(dir+"/*.log", s.URL) + "tls: {ca: \"${secret.archive-ca}\"}\n")
	require.Equal(t, contract.RolloutStateDone, d.rollOut().State)
	appendLines(t, filepath.Join(dir, "a.log"), 0, 10)
	d.balanced("out", 10)
	v := d.reasoned("h", "lines", "certificate-expiring")
	assert.Equal(t, contract.Degraded, v.State)
	assert.Contains(t, *v.Reason, ends.UTC().Format("2006-01-02"))
	_, all := recv.count()
	assert.Equal(t, 10, all)

	status := get[contract.Status](t, first(d.api.GetStatus(context.Background())), nil)
	require.Len(t, status.Expires, 2)
	assert.Equal(t, "archive-ca", status.Expires[0].Name)
	assert.WithinDuration(t, ends, status.Expires[0].At, time.Second)
	assert.Equal(t, "near", status.Expires[1].Name)
	out, _ = d.cli("status")
	assert.Contains(t, out, "secret archive-ca expires on "+ends.UTC().Format("2006-01-02")+"; and 1 more")
	assert.Contains(t, out, "the last")
	out, code = d.cli("secret", "set", "near", "--expires", "2099-01-01")
	require.Zero(t, code, out)
	out, _ = d.cli("status")
	assert.NotContains(t, out, "more\n")
	_, code = d.cli("secret", "set", "near", "--expires", "soon")
	assert.Equal(t, 2, code)

	require.NotEmpty(t, status.Rollouts)
	var done []string
	for _, x := range status.Changes {
		done = append(done, x.Action)
		assert.Equal(t, "admin", x.Who)
	}
	assert.Contains(t, strings.Join(done, ","), "rollout start")
	ctx, stop := context.WithTimeout(context.Background(), 2*time.Minute)
	defer stop()
	tab := d.browse(ctx)
	require.NoError(t, tab.Open(d.url+"/"))
	require.NoError(t, tab.See("Secret archive-ca expires on"))
	require.NoError(t, tab.See("Done in the last 24 hours"))
}
