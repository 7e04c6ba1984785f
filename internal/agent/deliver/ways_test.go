package deliver

import (
	"bufio"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/delivery"
	"synaxis/internal/core/health"
	"synaxis/internal/core/record"
	"synaxis/internal/core/wire"
)

// authority is a made-up one, with certificates for this machine.
type authority struct {
	pem  string
	cert *x509.Certificate
	key  *ecdsa.PrivateKey
}

func newAuthority(t *testing.T) *authority {
	t.Helper()
	a := &authority{}
	var err error
	a.key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	tpl := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "harbour authority"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IsCA: true,
		BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	der, err := x509.CreateCertificate(rand.Reader, tpl, tpl, &a.key.PublicKey, a.key)
	require.NoError(t, err)
	a.cert, err = x509.ParseCertificate(der)
	require.NoError(t, err)
	a.pem = string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
	return a
}

// issue makes a certificate and its key, in PEM, for names.
func (a *authority) issue(t *testing.T, names ...string) (certificate, key string) {
	t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	tpl := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: "host"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), DNSNames: names,
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	if len(names) > 0 {
		tpl.IPAddresses = nil
	}
	der, err := x509.CreateCertificate(rand.Reader, tpl, a.cert, &k.PublicKey, a.key)
	require.NoError(t, err)
	text, err := x509.MarshalECPrivateKey(k)
	require.NoError(t, err)
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})),
		string(pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: text}))
}

// one sends one item and answers what came of it within a while.
func sendOne(t *testing.T, spec delivery.Spec, deps Deps) (wire.DeliveryCounts, Trouble) {
	t.Helper()
	spec.Name = "d"
	spec.Batch = delivery.Batch{Records: 10, Bytes: 1 << 20, Wait: time.Millisecond}
	spec.Retry = delivery.Retry{First: time.Millisecond, Longest: 5 * time.Millisecond, GiveUp: time.Hour}
	if spec.Compress == "" {
		spec.Compress = "none"
	}
	deps.Rejects = &Rejects{Dir: t.TempDir()}
	d, err := New(spec, deps)
	require.NoError(t, err)
	d.Start()
	defer d.Stop()
	done := make(chan wire.DeliveryCounts, 1)
	d.Put(context.Background(), item(d.Encoding(), 0, 3, func(c wire.DeliveryCounts) { done <- c }), nil)
	for {
		select {
		case c := <-done:
			return c, Trouble{}
		case <-time.After(20 * time.Millisecond):
			if tr := d.Trouble(); tr.Code != "" {
				return wire.DeliveryCounts{}, tr
			}
		}
	}
}

// TestProof: each way to prove who one is reaches the receiver, and nothing is taken without it.
func TestProof(t *testing.T) {
	t.Parallel()
	secrets := map[string]string{"${secret.token@7}": "t0ken", "${secret.password@1}": "open sesame"}
	deps := Deps{Secret: func(ref string) (string, bool) { v, ok := secrets[ref]; return v, ok }}
	for name, c := range map[string]struct {
		auth delivery.Auth
		good func(r *http.Request) bool
	}{
		"bearer": {delivery.Auth{Bearer: "${secret.token@7}"},
			func(r *http.Request) bool { return r.Header.Get("Authorization") == "Bearer t0ken" }},
		"basic": {delivery.Auth{User: "desk", Password: "${secret.password@1}"},
			func(r *http.Request) bool {
				user, password, ok := r.BasicAuth()
				return ok && user == "desk" && password == "open sesame"
			}},
		"header": {delivery.Auth{Headers: map[string]string{"X-Key": "k-${secret.token@7}"}},
			func(r *http.Request) bool { return r.Header.Get("X-Key") == "k-t0ken" }},
	} {
		s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if !c.good(r) {
				w.WriteHeader(http.StatusUnauthorized)
			}
		}))
		t.Cleanup(s.Close)
		for _, kind := range []delivery.Kind{delivery.HTTP, delivery.OTLP} {
			got, trouble := sendOne(t, delivery.Spec{Kind: kind, URLs: []string{s.URL}, Auth: c.auth}, deps)
			assert.Equal(t, int64(3), got.Acknowledged, "%s: %v", name, trouble)
			_, trouble = sendOne(t, delivery.Spec{Kind: kind, URLs: []string{s.URL}}, deps)
			assert.Equal(t, health.LoginRefused, trouble.Code, name)
		}
	}
	_, trouble := sendOne(t, delivery.Spec{Kind: delivery.HTTP, URLs: []string{"http://127.0.0.1:9"},
		Auth: delivery.Auth{Bearer: "${secret.gone@1}"}}, deps)
	assert.Equal(t, health.LoginRefused, trouble.Code)
	assert.NotContains(t, trouble.Reason, "t0ken")
}

// TestRotatedSecret: after a 401 the newest version is asked for, once, and no record is lost.
func TestRotatedSecret(t *testing.T) {
	t.Parallel()
	var want atomic.Value
	want.Store("new")
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer "+want.Load().(string) {
			w.WriteHeader(http.StatusUnauthorized)
		}
	}))
	t.Cleanup(s.Close)
	var asked atomic.Int64
	newest := "new"
	deps := Deps{
		Secret: func(string) (string, bool) { return "old", true },
		Newest: func(ref string) (string, bool) { asked.Add(1); return newest, ref == "${secret.token@7}" },
	}
	spec := delivery.Spec{Kind: delivery.HTTP, URLs: []string{s.URL}, Auth: delivery.Auth{Bearer: "${secret.token@7}"}}
	got, trouble := sendOne(t, spec, deps)
	assert.Equal(t, int64(3), got.Acknowledged, "%v", trouble)
	assert.EqualValues(t, 1, asked.Load())
	newest = "old"
	asked.Store(0)
	_, trouble = sendOne(t, spec, deps)
	assert.Equal(t, health.LoginRefused, trouble.Code)
	assert.EqualValues(t, 1, asked.Load(), "not with every try")
}

// TestSafe: an authority of its own, server names, client certificates and versions, and what is not verified.
func TestSafe(t *testing.T) {
	t.Parallel()
	ours, other := newAuthority(t), newAuthority(t)
	certificate, key := ours.issue(t)
	named, namedKey := ours.issue(t, "archive.whimbrel.example")
	client, clientKey := ours.issue(t, "host")
	stranger, strangerKey := other.issue(t, "host")
	server := func(certificate, key string, change func(c *tls.Config)) string {
		pair, err := tls.X509KeyPair([]byte(certificate), []byte(key))
		require.NoError(t, err)
		s := httptest.NewUnstartedServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
			_, _ = io.Copy(io.Discard, r.Body)
		}))
		s.TLS = &tls.Config{Certificates: []tls.Certificate{pair}}
		if change != nil {
			change(s.TLS)
		}
		s.Config.ErrorLog = nil
		s.StartTLS()
		t.Cleanup(s.Close)
		return s.URL
	}
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM([]byte(ours.pem))
	plain := server(certificate, key, nil)
	mutual := server(certificate, key, func(c *tls.Config) {
		c.ClientAuth, c.ClientCAs = tls.RequireAndVerifyClientCert, pool
	})
	old := server(certificate, key, func(c *tls.Config) { c.MaxVersion = tls.VersionTLS12 })
	elsewhere := server(named, namedKey, nil)
	for name, c := range map[string]struct {
		url  string
		tls  delivery.TLS
		good bool
	}{
		"our authority":       {plain, delivery.TLS{CA: ours.pem}, true},
		"the host's own list": {plain, delivery.TLS{}, false},
		"another authority":   {plain, delivery.TLS{CA: other.pem}, false},
		"not verified":        {plain, delivery.TLS{NoVerify: true}, true},
		"another name":        {elsewhere, delivery.TLS{CA: ours.pem}, false},
		"another name, as said": {elsewhere, delivery.TLS{CA: ours.pem, ServerName: "archive.whimbrel.example"},
			true},
		"without a certificate":  {mutual, delivery.TLS{CA: ours.pem}, false},
		"with a certificate":     {mutual, delivery.TLS{CA: ours.pem, Certificate: client, Key: clientKey}, true},
		"with a stranger's":      {mutual, delivery.TLS{CA: ours.pem, Certificate: stranger, Key: strangerKey}, false},
		"an old version":         {old, delivery.TLS{CA: ours.pem}, true},
		"an old version refused": {old, delivery.TLS{CA: ours.pem, Minimum: "1.3"}, false},
	} {
		got, trouble := sendOne(t, delivery.Spec{Kind: delivery.HTTP, URLs: []string{c.url}, TLS: c.tls}, Deps{})
		assert.Equal(t, c.good, got.Acknowledged == 3, "%s: %v", name, trouble)
	}
	for _, bad := range []delivery.TLS{{CA: "no pem"}, {Certificate: client}, {CA: "${secret.gone@1}"}} {
		_, err := New(delivery.Spec{Name: "d", Kind: delivery.HTTP, URLs: []string{plain}, TLS: bad}, Deps{})
		assert.Error(t, err)
	}
}

// TestCertificateChanges: a receiver whose certificate becomes another authority's gets nothing until it is a good one
// again, and nothing is lost. Where it speaks HTTP/2, so does the agent, over one connection.
func TestCertificateChanges(t *testing.T) {
	t.Parallel()
	ours, other := newAuthority(t), newAuthority(t)
	var bad atomic.Bool
	pairOf := func(a *authority) *tls.Certificate {
		certificate, key := a.issue(t)
		pair, err := tls.X509KeyPair([]byte(certificate), []byte(key))
		require.NoError(t, err)
		return &pair
	}
	good, wrong := pairOf(ours), pairOf(other)
	var mu sync.Mutex
	var taken strings.Builder
	protocols := map[int]bool{}
	s := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		text, _ := io.ReadAll(r.Body)
		mu.Lock()
		defer mu.Unlock()
		taken.Write(text)
		protocols[r.ProtoMajor] = true
	}))
	s.EnableHTTP2 = true
	s.TLS = &tls.Config{GetConfigForClient: func(*tls.ClientHelloInfo) (*tls.Config, error) {
		pair := good
		if bad.Load() {
			pair = wrong
		}
		return &tls.Config{Certificates: []tls.Certificate{*pair}, NextProtos: []string{"h2"}}, nil
	}}
	s.StartTLS()
	t.Cleanup(s.Close)
	d, _ := destination(t, delivery.Spec{Kind: delivery.HTTP, URLs: []string{s.URL}, TLS: delivery.TLS{CA: ours.pem}})
	d.Start()
	defer d.Stop()
	done := make(chan wire.DeliveryCounts, 3)
	put := func(from int) {
		d.Put(context.Background(), item(record.NDJSON, from, from+5, func(c wire.DeliveryCounts) { done <- c }), nil)
	}
	put(0)
	<-done
	bad.Store(true)
	s.CloseClientConnections()
	put(5)
	eventually(t, func() bool { return d.Trouble().Code == health.TLSFailed })
	bad.Store(false)
	<-done
	mu.Lock()
	defer mu.Unlock()
	for i := range 10 {
		assert.Equal(t, 1, strings.Count(taken.String(), fmt.Sprintf("n%03d", i)))
	}
	assert.Equal(t, map[int]bool{2: true}, protocols)
}

// TestSeveralAddresses: the next address when one fails, and the first again later.
func TestSeveralAddresses(t *testing.T) {
	t.Parallel()
	var firstUp atomic.Bool
	first := newServer(t, func(int, string) int {
		if firstUp.Load() {
			return http.StatusOK
		}
		return http.StatusServiceUnavailable
	})
	second := newServer(t, always(http.StatusOK))
	got, trouble := sendOne(t, delivery.Spec{Kind: delivery.HTTP,
		URLs: []string{first.URL, "http://127.0.0.1:9", second.URL}}, Deps{})
	assert.Equal(t, int64(3), got.Acknowledged, "%v", trouble)
	p := &posts{spec: delivery.Spec{URLs: []string{"a", "b"}}}
	now := time.Now()
	assert.Equal(t, 0, p.address(now))
	p.next(0, now)
	assert.Equal(t, 1, p.address(now.Add(firstAgain/2)))
	assert.Equal(t, 0, p.address(now.Add(firstAgain)))
}

// TestOddReceivers: those that answer too early, in pieces, with a gigabyte, or not at all lose nothing and take no
// memory.
func TestOddReceivers(t *testing.T) {
	t.Parallel()
	early, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { early.Close() })
	go func() {
		for {
			c, err := early.Accept()
			if err != nil {
				return
			}
			go func() {
				_, _ = fmt.Fprint(c, "HTTP/1.1 200 OK\r\nContent-Length: 0\r\nConnection: close\r\n\r\n")
				time.Sleep(50 * time.Millisecond)
				c.Close()
			}()
		}
	}()
	var calls atomic.Int64
	huge := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		w.WriteHeader(http.StatusOK)
		calls.Add(1)
		buf := make([]byte, 1<<20)
		for range 1 << 10 {
			if _, err := w.Write(buf); err != nil {
				return
			}
		}
	}))
	t.Cleanup(huge.Close)
	pieces := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		for range 20 {
			_, _ = w.Write([]byte("."))
			_ = http.NewResponseController(w).Flush()
			time.Sleep(time.Millisecond)
		}
	}))
	t.Cleanup(pieces.Close)
	p, err := posting(delivery.Spec{Kind: delivery.HTTP, URLs: []string{"http://" + early.Addr().String()},
		Compress: "none"}, Deps{}, record.NDJSON)
	require.NoError(t, err)
	a := p.Send(context.Background(), []delivery.Segment{{Bytes: make([]byte, 32<<20)}})
	assert.Equal(t, delivery.Again, a.Outcome, "it has not read what it acknowledges")
	got, _ := sendOne(t, delivery.Spec{Kind: delivery.HTTP, URLs: []string{huge.URL}}, Deps{})
	assert.Equal(t, int64(3), got.Acknowledged)
	got, _ = sendOne(t, delivery.Spec{Kind: delivery.HTTP, URLs: []string{pieces.URL}}, Deps{})
	assert.Equal(t, int64(3), got.Acknowledged)
}

// TestIdempotencyKey: a delivery that is sent again has the key that it had; another one has another.
func TestIdempotencyKey(t *testing.T) {
	t.Parallel()
	var mu sync.Mutex
	keys := map[string]map[string]bool{} // by body
	n := 0
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		text, _ := io.ReadAll(r.Body)
		mu.Lock()
		defer mu.Unlock()
		n++
		if keys[string(text)] == nil {
			keys[string(text)] = map[string]bool{}
		}
		keys[string(text)][r.Header.Get("Idempotency-Key")] = true
		if n%2 == 1 {
			w.WriteHeader(http.StatusServiceUnavailable)
		}
	}))
	t.Cleanup(s.Close)
	d, _ := destination(t, delivery.Spec{Kind: delivery.HTTP, URLs: []string{s.URL}})
	d.Start()
	done := make(chan wire.DeliveryCounts, 1)
	d.Put(context.Background(), item(record.NDJSON, 0, 50, func(c wire.DeliveryCounts) { done <- c }), nil)
	<-done
	d.Stop()
	all := map[string]bool{}
	for _, k := range keys {
		assert.Len(t, k, 1)
		for key := range k {
			assert.NotEmpty(t, key)
			all[key] = true
		}
	}
	assert.Len(t, all, 5)
}

// TestLimit: records are sent no faster than is said.
func TestLimit(t *testing.T) {
	t.Parallel()
	s := newServer(t, always(http.StatusOK))
	d, _ := destination(t, delivery.Spec{Kind: delivery.HTTP, URLs: []string{s.URL}, Limit: 20000,
		Batch: delivery.Batch{Records: 1000, Bytes: 4000, Wait: time.Millisecond}})
	d.Start()
	defer d.Stop()
	it := item(record.NDJSON, 0, 400, nil)
	size := len(it.Encoded.Bytes)
	require.Greater(t, size, 30000)
	done := make(chan struct{})
	it.Done = func(wire.DeliveryCounts) { close(done) }
	began := time.Now()
	d.Put(context.Background(), it, nil)
	<-done
	took := time.Since(began).Seconds()
	assert.Greater(t, took, float64(size-20000)/20000*0.9, "after a second's worth at once")
}

// message is a syslog message as a receiver reads it.
type message struct{ pri, host, app, rest string }

func parseMessage(t *testing.T, text string) message {
	t.Helper()
	require.True(t, strings.HasPrefix(text, "<"), text)
	pri, rest, ok := strings.Cut(text[1:], ">1 ")
	require.True(t, ok, text)
	parts := strings.SplitN(rest, " ", 4)
	require.Len(t, parts, 4)
	_, err := time.Parse(time.RFC3339Nano, parts[0])
	require.NoError(t, err)
	return message{pri, parts[1], parts[2], parts[3]}
}

// TestSyslog: each record arrives as a message over UDP, TCP and TLS, also after the receiver was away.
func TestSyslog(t *testing.T) {
	t.Parallel()
	ours := newAuthority(t)
	certificate, key := ours.issue(t)
	pair, err := tls.X509KeyPair([]byte(certificate), []byte(key))
	require.NoError(t, err)
	for _, transport := range []string{"udp", "tcp", "tls"} {
		t.Run(transport, func(t *testing.T) {
			t.Parallel()
			var mu sync.Mutex
			var got []string
			take := func(text string) { mu.Lock(); got = append(got, text); mu.Unlock() }
			address := ""
			if transport == "udp" {
				c, err := net.ListenPacket("udp", "127.0.0.1:0")
				require.NoError(t, err)
				t.Cleanup(func() { c.Close() })
				address = c.LocalAddr().String()
				go func() {
					buf := make([]byte, 1<<16)
					for {
						n, _, err := c.ReadFrom(buf)
						if err != nil {
							return
						}
						take(string(buf[:n]))
					}
				}()
			} else {
				l, err := net.Listen("tcp", "127.0.0.1:0")
				require.NoError(t, err)
				if transport == "tls" {
					l = tls.NewListener(l, &tls.Config{Certificates: []tls.Certificate{pair}})
				}
				t.Cleanup(func() { l.Close() })
				address = l.Addr().String()
				go func() {
					for {
						c, err := l.Accept()
						if err != nil {
							return
						}
						go func() {
							defer c.Close()
							in := bufio.NewReader(c)
							for {
								text, err := in.ReadString(' ')
								if err != nil {
									return
								}
								n, err := strconv.Atoi(strings.TrimSpace(text))
								if err != nil {
									return
								}
								buf := make([]byte, n)
								if _, err := io.ReadFull(in, buf); err != nil {
									return
								}
								take(string(buf))
							}
						}()
					}
				}()
			}
			counts, trouble := sendOne(t, delivery.Spec{Kind: delivery.Syslog, Address: address, Transport: transport,
				TLS: delivery.TLS{CA: ours.pem}}, Deps{})
			require.Equal(t, int64(3), counts.Acknowledged, "%v", trouble)
			eventually(t, func() bool { mu.Lock(); defer mu.Unlock(); return len(got) == 3 })
			m := parseMessage(t, got[1])
			assert.Equal(t, "13", m.pri, "user, notice")
			assert.Equal(t, "h", m.host)
			assert.Equal(t, "s", m.app)
			assert.True(t, strings.HasSuffix(m.rest, "\xef\xbb\xbfn001"), m.rest)
		})
	}
	_, trouble := sendOne(t, delivery.Spec{Kind: delivery.Syslog, Address: "127.0.0.1:9", Transport: "tcp"}, Deps{})
	assert.Equal(t, health.ConnectionRefused, trouble.Code)
}
