package test

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"math/big"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/contract"
	"synaxis/internal/core/wire"
)

// TestJoinIsRefusedInWords: each wrong way to join is told at the host, and the agent keeps trying.
func TestJoinIsRefusedInWords(t *testing.T) {
	t.Parallel()
	d := startDesk(t, "--tls-auto")
	ctx := context.Background()
	once := d.joinToken(1, nil)
	d.agent("first", t.TempDir(), once)
	eventually(t, 15*time.Second, "the first to join", func() bool { return d.connected("first") })
	revoked := d.joinToken(1, nil)
	resp, err := d.api.RevokeJoinToken(ctx, strings.Split(revoked, ".")[0])
	get[struct{}](t, resp, err)
	short := "1ms"
	resp, err = d.api.CreateJoinToken(ctx, contract.NewJoinToken{Lasts: &short})
	expired := get[contract.CreatedJoinToken](t, resp, err).Token
	good := d.joinToken(0, nil)
	for name, c := range map[string]struct{ token, pin, words string }{
		"wrong":     {"jffffffffffff.nonsense", d.pin, "the join token is not known here"},
		"none":      {"", d.pin, "no join token and no credential were given"},
		"malformed": {"wrong", d.pin, "the join token is not known here"},
		"used-up":   {once, d.pin, "the join token is used up: it was for 1 hosts"},
		"revoked":   {revoked, d.pin, "the join token was revoked"},
		"expired":   {expired, d.pin, "the join token expired on"},
		"wrong-pin": {good, "sha256:" + strings.Repeat("0", 64), "the service's certificate does not match the pin"},
		"no-pin":    {good, "", "certificate"},
		"first": {good, d.pin, "the desk has a host named first already, which has joined, and this token was " +
			"not made for it"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			args := []string{"--service", d.url, "--state", t.TempDir(), "--name", name, "--report", "200ms"}
			if c.pin != "" {
				args = append(args, "--pin", c.pin)
			}
			p := startWith(t, joinsBy(c.token), "synaxis-agent", args...)
			eventually(t, 15*time.Second, c.words, func() bool { return strings.Contains(p.log.String(), c.words) })
			assert.Contains(t, p.log.String(), "again_in=", "it keeps trying")
			select {
			case <-p.done:
				assert.Fail(t, "it must not end")
			default:
			}
			assert.NotContains(t, p.log.String(), "joined; the credential")
		})
	}
}

func TestPlainHTTPOffLoopbackIsRefused(t *testing.T) {
	t.Parallel()
	p := start(t, "synaxisd", "--data", t.TempDir(), "--listen", "0.0.0.0:0")
	<-p.done
	assert.NotZero(t, p.cmd.ProcessState.ExitCode())
	assert.Contains(t, p.log.String(), "without TLS: tokens and configs would travel in clear; use --tls-auto")
	q := start(t, "synaxisd", "--data", t.TempDir(), "--listen", "0.0.0.0:0", "--insecure")
	eventually(
		t,
		15*time.Second,
		"it to listen when told so",
		func() bool { return strings.Contains(q.log.String(), "msg=listening") },
	)
}

// TestOwnCertificate: with a certificate of one's own the leaf is what is pinned.
func TestOwnCertificate(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	c := &x509.Certificate{
		SerialNumber: big.NewInt(7),
		NotBefore:    time.Now().Add(-time.Hour),
		NotAfter:     time.Now().Add(time.Hour),
		DNSNames:     []string{"desk.example"},
	}
	der, err := x509.CreateCertificate(rand.Reader, c, c, &key.PublicKey, key)
	require.NoError(t, err)
	keyDER, err := x509.MarshalECPrivateKey(key)
	require.NoError(t, err)
	require.NoError(
		t,
		os.WriteFile(dir+"/cert.pem", pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600),
	)
	require.NoError(
		t,
		os.WriteFile(dir+"/key.pem", pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: keyDER}), 0o600),
	)
	d := startDesk(t, "--tls-cert", dir+"/cert.pem", "--tls-key", dir+"/key.pem")
	assert.Equal(t, wire.Fingerprint(der), d.pin)
	out, code := d.cli("status")
	assert.Zero(t, code, out)
	d.agent("h", filepath.Join(dir, "state"), d.joinToken(1, nil))
	eventually(t, 15*time.Second, "the agent over TLS", func() bool { return d.connected("h") })
	d.pin = "sha256:" + strings.Repeat("1", 64)
	out, code = d.cli("status")
	assert.Equal(t, 5, code)
	assert.Contains(t, out, "does not match the pin")
}

// TestConfigIsRefused: what the agent cannot run it refuses with the reason, the old config goes on, and the desk
// shows both.
func TestConfigIsRefused(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	dir := t.TempDir()
	recv := newReceiver(t, nil)
	file := filepath.Join(dir, "x.log")
	d.agent("h", filepath.Join(dir, "state"), d.joinToken(1, nil))
	eventually(t, 15*time.Second, "the agent", func() bool { return d.connected("h") })
	appendLines(t, file, 0, 10)
	d.publish(linesCatalogue(file, recv.URL))
	require.Equal(t, contract.RolloutStateDone, d.rollOut().State)
	old := d.host("h")

	bad := linesCatalogue(
		file,
		recv.URL,
	) + "---\nsource: more\nhosts: all\nread: {files: [/nowhere]}\nformat: raw\nsend: [{to: " +
		"shelf}]\n---\ndestination: shelf\ndeliver: {file: {path: /proc/no/such/place.ndjson}}\n"
	d.publish(bad)
	r := d.rollOut()
	assert.Equal(t, contract.RolloutStateStopped, r.State)
	assert.Equal(t, "refused", r.Hosts[0].State)
	assert.Contains(t, *r.Hosts[0].Reason, "destination shelf: cannot write /proc/no/such/place.ndjson")
	h := d.host("h")
	assert.Equal(t, contract.Failing, h.Verdict.State)
	assert.Contains(t, *h.Verdict.Reason, "cannot write /proc/no/such/place.ndjson")
	assert.Equal(t, *old.RunningHash, *h.RunningHash, "the old one runs")
	assert.NotEqual(t, *h.AssignedHash, *h.RunningHash)
	out, code := d.cli("host", "config", "h")
	require.Zero(t, code)
	assert.Contains(t, out, "The host does not run what it is assigned")
	out, code = d.cli("rollout", "watch", strconv.Itoa(r.Id))
	assert.Equal(t, 4, code, out)
	appendLines(t, file, 10, 20)
	eventually(t, 10*time.Second, "the old config to go on", func() bool { n, _ := recv.count(); return n == 20 })
	resp, err := d.api.GetStatus(context.Background())
	s := get[contract.Status](t, resp, err)
	assert.Equal(t, 1, s.InForce)
	assert.Equal(t, 2, s.Published)

	// Going back is a rollout of an earlier revision.
	one := 1
	resp, err = d.api.StartRollout(context.Background(), contract.NewRollout{Revision: &one, Plan: &oneWave})
	back := get[contract.Rollout](t, resp, err)
	eventually(t, 10*time.Second, "the way back", func() bool {
		resp, err := d.api.GetRollout(context.Background(), back.Id)
		return get[contract.Rollout](t, resp, err).State == contract.RolloutStateDone
	})
	eventually(
		t,
		5*time.Second,
		"all well again",
		func() bool { return d.host("h").Verdict.State == contract.Healthy },
	)
}

// TestBrokenLoadKeepsNothing: one broken definition refuses the whole load, with the place and what was expected.
func TestBrokenLoadKeepsNothing(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "sub"), 0o755))
	require.NoError(
		t,
		os.WriteFile(filepath.Join(dir, "good.yaml"), []byte("destination: out\ndeliver: {discard: {}}\n"), 0o644),
	)
	require.NoError(
		t,
		os.WriteFile(
			filepath.Join(dir, "sub", "bad.yaml"),
			[]byte("# one\nsource: aa\nhosts: all\nread:\n  fyles: [/a]\nformat: raw\nsend: [{to: out}]\n"),
			0o644,
		),
	)
	out, code := d.cli("draft", "load", dir)
	assert.Equal(t, 3, code)
	assert.Contains(t, out, `sub/bad.yaml:5:3: read has no key "fyles"`)
	assert.Contains(t, out, `did you mean "files"?`)
	out, _ = d.cli("draft", "load", dir, "-o", "json")
	assert.Contains(t, out, `"code": "unknown-key"`)
	resp, err := d.api.ListDrafts(context.Background())
	assert.Empty(t, get[contract.DraftList](t, resp, err).Items)
}

// TestPublishIsCompareAndSwap: two drafts on one head, and the second must look again.
func TestPublishIsCompareAndSwap(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	ctx := context.Background()
	load := func(text string, whole bool) int {
		resp, err := d.api.LoadDraft(
			ctx,
			contract.NewDraft{Whole: whole, Files: []contract.File{{Path: "a.yaml", Text: text}}},
		)
		return get[contract.Draft](t, resp, err).Id
	}
	one := load("destination: one\ndeliver: {discard: {}}\n", true)
	two := load("destination: two\ndeliver: {discard: {}}\n", true)
	adds := load("destination: three\ndeliver: {discard: {}}\n", false)
	uses := load("source: ss\nhosts: all\nread: {files: [/a]}\nformat: raw\nsend: [{to: one}]\n", false)
	zero := 0
	resp, err := d.api.PublishDraft(ctx, one, contract.Publication{Head: &zero})
	assert.Equal(t, 1, get[contract.Published](t, resp, err).Revision)
	refused := func(id int, head *int, status int, words string) {
		t.Helper()
		resp, err := d.api.PublishDraft(ctx, id, contract.Publication{Head: head})
		require.NoError(t, err)
		defer resp.Body.Close()
		assert.Equal(t, status, resp.StatusCode)
		var b strings.Builder
		_, _ = fmt.Fprint(&b, readAll(t, resp))
		assert.Contains(t, b.String(), words)
	}
	refused(two, nil, http.StatusConflict, "load it again")
	refused(one, nil, http.StatusConflict, "published")
	refused(adds, &zero, http.StatusConflict, "revision 1 was published since you looked")
	resp, err = d.api.PublishDraft(ctx, adds, contract.Publication{})
	assert.Equal(t, 2, get[contract.Published](t, resp, err).Revision)
	// A draft that deletes what another uses is stopped by the full check at the publication.
	removes := load("destination: three\ndeliver: {discard: {}}\n", true)
	resp, err = d.api.PublishDraft(ctx, uses, contract.Publication{})
	assert.Equal(t, 3, get[contract.Published](t, resp, err).Revision)
	refused(removes, nil, http.StatusConflict, "load it again")
	refused(
		load("source: ss\nhosts: all\nread: {files: [/a]}\nformat: raw\nsend: [{to: one}]\n", true),
		nil,
		http.StatusUnprocessableEntity,
		"dangling-reference",
	)
	out, code := d.cli("catalogue", "show", "destination", "three")
	require.Zero(t, code)
	assert.Contains(t, out, "a.yaml line")
}

// TestRefusedForGood: what the receiver refuses goes to the rejects, alone, and is counted; what it throttles comes
// again.
func TestRefusedForGood(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	dir := t.TempDir()
	calls := 0
	recv := newReceiver(t, nil)
	picky := http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		body := readAllBody(q)
		recv.mu.Lock()
		calls++
		n := calls
		recv.mu.Unlock()
		switch {
		case n <= 2:
			w.Header().Set("Retry-After", "1")
			w.WriteHeader(http.StatusTooManyRequests)
		case strings.Contains(body, "line 13\""):
			http.Error(w, "I do not like thirteen", http.StatusBadRequest)
		default:
			for line := range strings.Lines(body) {
				recv.mu.Lock()
				recv.bodies[line]++
				recv.mu.Unlock()
			}
		}
	})
	recv.Config.Handler = picky
	file := filepath.Join(dir, "x.log")
	state := filepath.Join(dir, "state")
	d.agent("h", state, d.joinToken(1, nil))
	eventually(t, 15*time.Second, "the agent", func() bool { return d.connected("h") })
	appendLines(t, file, 0, 40)
	d.publish(linesCatalogue(file, recv.URL))
	require.Equal(t, contract.RolloutStateDone, d.rollOut().State)
	eventually(t, 20*time.Second, "all but one", func() bool { n, _ := recv.count(); return n == 39 })
	rejects := filepath.Join(state, "rejects", "out", fmt.Sprintf("%020d.ndjson", 1))
	eventually(t, 10*time.Second, "the rejects", func() bool { text, _ := os.ReadFile(rejects); return len(text) > 0 })
	text, err := os.ReadFile(rejects)
	require.NoError(t, err)
	assert.Equal(t, 1, strings.Count(string(text), "\n"))
	assert.Contains(t, string(text), "I do not like thirteen")
	assert.Contains(t, string(text), `"body":"line 13"`)
	eventually(t, 10*time.Second, "the numbers", func() bool {
		n := d.host("h").Sources[0].Numbers
		return n.Read == 40 && n.Acknowledged == 39 && n.Refused == 1 && n.Pending == 0
	})
	assert.Equal(t, contract.Degraded, d.host("h").Sources[0].Verdict.State)
}

// TestHeldBy: a receiver that is away holds its source, which says so, and nothing is lost; another source goes on.
func TestHeldBy(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	dir := t.TempDir()
	address := freePort(t)
	good := newReceiver(t, nil)
	d.agent("h", filepath.Join(dir, "state"), d.joinToken(1, nil))
	eventually(t, 15*time.Second, "the agent", func() bool { return d.connected("h") })
	one, two := filepath.Join(dir, "one.log"), filepath.Join(dir, "two.log")
	appendLines(t, one, 0, 10)
	appendLines(t, two, 0, 10)
	text := linesCatalogue(
		one,
		good.URL,
	) + "---\nsource: more\nhosts: all\nread: {files: [" + two + "], first-read: start}\nformat: raw\nsend: [{to: " +
		"away}]\n---\ndestination: away\ndeliver: {http: {url: \"http://" + address + "/in\"}}\nretry: {first: " +
		"50ms, longest: 200ms}\n"
	d.publish(text)
	require.Equal(t, contract.RolloutStateDone, d.rollOut().State)
	eventually(t, 10*time.Second, "the one that is not held", func() bool { n, _ := good.count(); return n == 10 })
	eventually(t, 15*time.Second, "held by", func() bool {
		for _, s := range d.host("h").Sources {
			if s.Name == "more" && s.Verdict.Code != nil && *s.Verdict.Code == "held-by" {
				return strings.Contains(*s.Verdict.Reason, "held by away") &&
					strings.Contains(*s.Verdict.Reason, "connection refused")
			}
		}
		return false
	})
	srv := &http.Server{Addr: address, Handler: http.HandlerFunc(good.serve)}
	go func() { _ = srv.ListenAndServe() }()
	t.Cleanup(func() { _ = srv.Close() })
	eventually(t, 15*time.Second, "what was held", func() bool { _, all := good.count(); return all == 20 })
}
