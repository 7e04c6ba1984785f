package preflight

import (
	"context"
	"errors"
	"fmt"
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

	"synaxis/internal/core/hostconfig"
	"synaxis/internal/core/wire"
)

// rehearse runs one and answers what was tried by kind and name.
func rehearse(t *testing.T, r Rehearsal, text string, args ...any) map[string]wire.Tried {
	t.Helper()
	r.State = t.TempDir()
	if r.Now == nil {
		r.Now = time.Now
	}
	if r.Secret == nil {
		r.Secret = func(string) (string, bool) { return "", false }
	}
	out := map[string]wire.Tried{}
	for _, x := range r.Run(context.Background(), fmt.Appendf(nil, "synaxis: 1\nhost: h\n"+text, args...)) {
		name, _, _ := strings.Cut(x.Name, " ")
		out[strings.TrimSpace(x.Kind+" "+name)] = x
		if x.Level != wire.TryFine && x.Kind != wire.TryConfig && x.Level != wire.TryNote {
			assert.NotEmpty(t, x.Todo, "%+v", x)
		}
	}
	return out
}

// TestPaths: what is there, what is not, and what cannot be read.
func TestPaths(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	for i := range 3 {
		require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprintf("lane-%d.log", i)), []byte("12345"), 0o644))
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "lane-9.log.tmp"), []byte("1"), 0o644))
	source := func(name, pattern string) string {
		return fmt.Sprintf("  - source: %s\n    read: {files: [%q], except: [\"*.tmp\"]}\n    format: raw\n    send: [out]\n",
			name, pattern)
	}
	got := rehearse(t, Rehearsal{}, "sources:\n"+source("good", dir+"/lane-*")+source("none", dir+"/gate-*.log")+
		source("nowhere", dir+"/not/there/*.log")+source("odd", dir+"/lane-1.log/x*.log")+
		"destinations:\n  - destination: out\n    deliver: {discard: {}}\n")
	assert.Equal(t, wire.TryFine, got["config"].Level)
	good := got["path good"]
	assert.Equal(t, wire.TryFine, good.Level)
	assert.EqualValues(t, 3, good.Files)
	assert.EqualValues(t, 15, good.Bytes)
	assert.WithinDuration(t, time.Now(), good.Newest, time.Minute)
	assert.Equal(t, "path-matches-nothing", got["path none"].Code)
	assert.Equal(t, wire.TryNote, got["path nowhere"].Level)
	assert.Equal(t, "the folder is not there", got["path nowhere"].Words)
	assert.Equal(t, wire.TryTrouble, got["path odd"].Level)
	assert.Contains(t, got["path odd"].Words, "not a directory")
	assert.Equal(t, wire.TryFine, got["destination out"].Level)
	assert.Equal(t, wire.TryFine, got["disk"].Level)
	if os.Getuid() == 0 { // who may read everything
		return
	}
	require.NoError(t, os.Chmod(filepath.Join(dir, "lane-0.log"), 0))
	denied := rehearse(t, Rehearsal{}, "sources:\n"+source("good", dir+"/lane-*")+
		"destinations:\n  - destination: out\n    deliver: {discard: {}}\n")["path good"]
	assert.Equal(t, "not-readable", denied.Code)
	assert.Contains(t, denied.Words, "permission denied")
}

// TestDestinations: each way in which a destination cannot be reached has its code, and nothing is delivered without
// being asked for.
func TestDestinations(t *testing.T) {
	t.Parallel()
	status, bodies := http.StatusOK, []string{}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		buf := make([]byte, 4096)
		n, _ := r.Body.Read(buf)
		bodies = append(bodies, string(buf[:n]))
		if r.Header.Get("Authorization") == "" && status == http.StatusOK && r.URL.Path == "/in" {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		w.WriteHeader(status)
	}))
	t.Cleanup(s.Close)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	one := func(r Rehearsal, text string) wire.Tried {
		return rehearse(t, r, "destinations:\n  - destination: out\n"+text)["destination out"]
	}
	secret := Rehearsal{Secret: func(ref string) (string, bool) { return "t0ken", ref == "${secret.key@1}" }}
	const auth = "    auth: {bearer: \"${secret.key@1}\"}\n"
	http1 := func(url string) string { return fmt.Sprintf("    deliver: {http: {url: %q}}\n", url) }
	got := one(secret, http1(s.URL+"/in")+auth)
	assert.Equal(t, wire.TryFine, got.Level, got.Words)
	assert.Equal(t, []string{""}, bodies, "an empty delivery")
	got = one(secret, http1(s.URL+"/in"))
	assert.Equal(t, "login-refused", got.Code)
	got = one(Rehearsal{}, http1(s.URL+"/in")+auth)
	assert.Equal(t, wire.TryNote, got.Level, "a secret that is not there is not asked for")
	bodies = nil
	send := secret
	send.SendTest = true
	got = one(send, http1(s.URL+"/in")+auth)
	assert.Equal(t, "it has taken a test record", got.Words)
	require.Len(t, bodies, 1)
	assert.Contains(t, bodies[0], "a test record of a Synaxis preflight")
	for code, want := range map[int]string{404: "wrong-path", 503: "receiver-busy", 500: "receiver-failing"} {
		status = code
		assert.Equal(t, want, one(secret, http1(s.URL+"/x")).Code)
	}
	status = http.StatusBadRequest
	assert.Equal(t, wire.TryNote, one(secret, http1(s.URL+"/x")).Level, "it takes no empty delivery")
	assert.Equal(t, "connection-refused", one(secret, http1("http://127.0.0.1:9/in")).Code)
	assert.Equal(t, "name-not-found", one(secret, http1("http://nowhere.invalid/in")).Code)
	assert.Equal(t, "tls-failed", one(secret, http1(strings.Replace(s.URL, "http:", "https:", 1))).Code)
	syslog := fmt.Sprintf("    deliver: {syslog: {address: %q}}\n", l.Addr())
	assert.Equal(t, wire.TryFine, one(secret, syslog).Level)
	dir := t.TempDir()
	assert.Equal(t, "the file can be made", one(secret, fmt.Sprintf("    deliver: {file: {path: %q}}\n",
		dir+"/x")).Words)
	names, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Empty(t, names, "nothing is left there")
	assert.Equal(t, "destination-unwritable",
		one(secret, fmt.Sprintf("    deliver: {file: {path: %q}}\n", dir+"/not/there/x")).Code)
	got = one(secret, "    deliver: {http: {url: \"http://127.0.0.1:9\"}}\n    buffer: {disk: 9000GiB}\n")
	assert.NotEmpty(t, got.Code)
}

// TestDiskClockConfig: too little room, a clock that is off, and a config that the agent cannot run.
func TestDiskClockConfig(t *testing.T) {
	t.Parallel()
	const big = "destinations:\n  - destination: out\n    deliver: {file: {path: /tmp/x}}\n    buffer: {disk: 9000000GiB}\n"
	now := time.Now()
	got := rehearse(t, Rehearsal{Desk: now.Add(-time.Minute)}, big)
	assert.Equal(t, "buffer-over-disk", got["disk"].Code)
	assert.Equal(t, "the clock is ahead of the service's", got["clock"].Words)
	got = rehearse(t, Rehearsal{Desk: now.Add(time.Minute)}, big)
	assert.Equal(t, "the clock is behind the service's", got["clock"].Words)
	masked := Rehearsal{Check: func(c hostconfig.Config) error {
		if _, ok := c.Secret("${secret.mask_key@3}"); !ok {
			return errors.New("a secret is not here")
		}
		return nil
	}}
	got = rehearse(t, masked, "masks:\n  - mask: m\n    find: x\n    fill: {hash: \"${secret.mask_key@3}\"}\n"+
		"destinations:\n  - destination: out\n    deliver: {discard: {}}\n")
	assert.Equal(t, wire.TryFine, got["config"].Level, got["config"].Words)
	got = rehearse(t, Rehearsal{}, "muscles: []\n")
	assert.Len(t, got, 1)
	assert.Equal(t, "config-refused", got["config"].Code)
}

// TestPorts: what listens and what is run is tried, and nothing of it stays.
func TestPorts(t *testing.T) {
	t.Parallel()
	held, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer held.Close()
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := free.Addr().(*net.TCPAddr).Port
	free.Close()
	source := func(name, read string) string {
		return fmt.Sprintf("  - source: %s\n    read: {%s}\n    format: raw\n    send: [out]\n", name, read)
	}
	listens := func(address string, port int) string {
		return fmt.Sprintf("socket: {listen: {address: %s, port: %d}}", address, port)
	}
	text := "sources:\n" + source("free", listens("127.0.0.1", port)) +
		source("held", listens("127.0.0.1", held.Addr().(*net.TCPAddr).Port)) + source("away", listens("198.51.100.1", port)) +
		source("run", "command: {run: [sh], every: 1m}") + source("lost", "command: {run: [/no/such], every: 1m}") +
		source("which", "files-from: {command: [no-such-program]}") +
		"destinations:\n  - destination: out\n    deliver: {discard: {}}\n"
	for range 2 { // the port is free again
		got := rehearse(t, Rehearsal{}, "%s", text)
		assert.Equal(t, wire.TryFine, got["port free"].Level, got["port free"].Words)
		assert.Equal(t, wire.TryFine, got["port held"].Level)
		assert.Contains(t, got["port held"].Words, "a source of this agent")
		assert.Equal(t, "cannot-listen", got["port away"].Code)
		assert.Contains(t, got["port away"].Words, "does not have this address")
		assert.Equal(t, wire.TryFine, got["program run"].Level)
		assert.Equal(t, "command-failing", got["program lost"].Code)
		assert.Equal(t, "command-failing", got["program which"].Code)
	}
}
