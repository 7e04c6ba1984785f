package wire

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"math/big"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/open-telemetry/opamp-go/protobufs"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"google.golang.org/protobuf/proto"
)

func TestFrames(t *testing.T) {
	t.Parallel()
	m := &protobufs.AgentToServer{InstanceUid: []byte("0123456789abcdef"), SequenceNum: 7}
	frame, err := Marshal(m)
	require.NoError(t, err)
	assert.Zero(t, frame[0])
	for _, f := range [][]byte{frame, frame[1:]} {
		var back protobufs.AgentToServer
		require.NoError(t, Unmarshal(f, &back))
		assert.True(t, proto.Equal(m, &back))
	}
	assert.Error(t, Unmarshal([]byte{0, 0xff, 0xff}, &protobufs.AgentToServer{}))
}

func TestNumbersRoundTrip(t *testing.T) {
	t.Parallel()
	all := map[string]Numbers{
		"a": {
			Read:       5,
			Bytes:      6,
			Unparsed:   1,
			Dropped:    2,
			Blank:      3,
			Truncated:  4,
			Pending:    1,
			LastRecord: 9,
			Deliveries: map[string]DeliveryCounts{"x": {Acknowledged: 4, Refused: 1}, "y": {Acknowledged: 5}},
		},
		"b": {Read: 1},
	}
	req := EncodeNumbers("h", time.Unix(1, 0), time.Unix(2, 0), all)
	back := report(t, req)
	assert.Equal(t, all, back.Sources)
	assert.Equal(t, time.Unix(1, 0), back.Start)
	assert.Equal(t, time.Unix(2, 0), back.At)
	for _, m := range req.ResourceMetrics[0].ScopeMetrics[0].Metrics {
		assert.True(t, m.GetGauge() != nil || m.GetSum().GetIsMonotonic(), m.Name)
	}
}

// TestCounters: every number of a source is in the table once, and goes round all that the table is for.
func TestCounters(t *testing.T) {
	t.Parallel()
	metrics, n, was := map[string]bool{}, Numbers{}, Numbers{}
	for i, c := range Counters {
		assert.False(t, metrics[c.Metric], c.Metric)
		metrics[c.Metric] = true
		*c.Of(&n), *c.Of(&was) = int64(100+i), int64(i)
	}
	v := reflect.ValueOf(n)
	for i := range v.NumField() {
		if v.Field(i).Kind() == reflect.Int64 {
			assert.NotZero(t, v.Field(i).Int(), "%s is in no counter", v.Type().Field(i).Name)
		}
	}
	back := report(t, EncodeNumbers("h", time.Unix(1, 0), time.Unix(2, 0), map[string]Numbers{"a": n}))
	assert.Equal(t, n, back.Sources["a"])
	d, any := n.Since(was)
	assert.True(t, any)
	sum := was
	sum.Add(d)
	assert.Equal(t, n, sum.withGauges(n))
	assert.Equal(t, n, was.NotBelow(n).NotBelow(n).withGauges(n))
	_, any = n.Since(n)
	assert.False(t, any)
}

// withGauges takes over what is as of now.
func (n Numbers) withGauges(from Numbers) Numbers {
	for _, c := range Counters {
		if c.Kind != Sum {
			*c.Of(&n) = *c.Of(&from)
		}
	}
	return n
}

func certificate(
	t *testing.T,
	parent *x509.Certificate,
	parentKey *ecdsa.PrivateKey,
	name string,
) ([]byte, *x509.Certificate, *ecdsa.PrivateKey) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	c := &x509.Certificate{
		SerialNumber:          big.NewInt(1),
		NotBefore:             time.Now().Add(-time.Hour),
		NotAfter:              time.Now().Add(time.Hour),
		DNSNames:              []string{name},
		BasicConstraintsValid: true,
		IsCA:                  parent == nil,
		KeyUsage:              x509.KeyUsageCertSign | x509.KeyUsageDigitalSignature,
	}
	if parent == nil {
		parent, parentKey = c, key
	}
	der, err := x509.CreateCertificate(rand.Reader, c, parent, &key.PublicKey, parentKey)
	require.NoError(t, err)
	c, err = x509.ParseCertificate(der)
	require.NoError(t, err)
	return der, c, key
}

func TestPin(t *testing.T) {
	t.Parallel()
	caDER, ca, caKey := certificate(t, nil, nil, "")
	leaf, _, _ := certificate(t, ca, caKey, "desk.example")
	strangerDER, _, _ := certificate(t, nil, nil, "desk.example")
	chain := [][]byte{leaf, caDER}
	assert.NoError(t, VerifyPin(Fingerprint(caDER), chain, "desk.example"))
	assert.NoError(
		t,
		VerifyPin(strings.ToUpper(Fingerprint(leaf)), chain, "other.example"),
		"a pinned leaf is itself, whatever it is called",
	)
	assert.ErrorContains(t, VerifyPin(Fingerprint(caDER), chain, "other.example"), "does not vouch")
	assert.ErrorIs(t, VerifyPin(Fingerprint(strangerDER), chain, "desk.example"), ErrPin)
	assert.ErrorContains(
		t,
		VerifyPin(Fingerprint(caDER), [][]byte{strangerDER, caDER}, "desk.example"),
		"does not vouch",
		"presenting the authority is not being vouched for by it",
	)
	assert.ErrorIs(t, VerifyPin(Fingerprint(caDER), nil, "desk.example"), ErrPin)
	assert.NoError(t, CheckPin(Fingerprint(caDER)))
	for _, bad := range []string{"", "sha256:12", "md5:" + strings.Repeat("0", 64), "sha256:" + strings.Repeat("g",
		64)} {
		assert.Error(t, CheckPin(bad), bad)
	}
}
