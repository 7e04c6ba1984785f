package run

import (
	"bytes"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/hostconfig"
)

type bench struct {
	t   *testing.T
	dir string
	*Engine
}

func newBench(t *testing.T, dir string) *bench {
	state := filepath.Join(dir, "state")
	require.NoError(t, os.MkdirAll(state, 0o700))
	e, err := NewEngine(state, "id", false, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	return &bench{t, dir, e}
}

// config reads lines of a folder into a file.
func (b *bench) config(pattern string, more string) hostconfig.Config {
	c, err := hostconfig.Read(
		fmt.Appendf(
			nil,
			"synaxis: 1\nhost: h\nsources:\n  - source: lines\n    read: {files: [%q], first-read: start}\n    "+
				"format: raw\n    send: [out]\n%sdestinations:\n  - destination: out\n    deliver: {file: {path: "+
				"%q}}\n    batch: {wait: 5ms}\n",
			filepath.Join(b.dir, pattern),
			more,
			filepath.Join(b.dir, "out"),
		),
		hostconfig.Runs,
	)
	require.NoError(b.t, err)
	return c
}

func (b *bench) write(name, text string) {
	f, err := os.OpenFile(filepath.Join(b.dir, name), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o644)
	require.NoError(b.t, err)
	_, err = f.WriteString(text)
	require.NoError(b.t, err)
	require.NoError(b.t, f.Close())
}

// arrived tells how often each body is in the destination.
func (b *bench) arrived() map[string]int {
	text, _ := os.ReadFile(filepath.Join(b.dir, "out"))
	out := map[string]int{}
	for line := range bytes.Lines(text) {
		_, rest, ok := bytes.Cut(line, []byte(`"body":"`))
		if body, _, found := bytes.Cut(rest, []byte{'"'}); ok && found {
			out[string(body)]++
		}
	}
	return out
}

func (b *bench) await(want ...string) {
	b.t.Helper()
	require.Eventually(b.t, func() bool {
		have := b.arrived()
		for _, w := range want {
			if have[w] == 0 {
				return false
			}
		}
		return true
	}, longest, 10*time.Millisecond, "%v in %v", want, b.arrived())
}

func (b *bench) truncations() int64 {
	n, _ := b.Numbers()
	return n["lines"].Truncated
}

func TestRotations(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		pattern string
		rotate  func(b *bench)
		lost    bool // a possible loss must be reported
	}{
		"renamed, matched": {"*.log*", func(b *bench) {
			b.write("a.log", "3\n")
			require.NoError(b.t, os.Rename(b.dir+"/a.log", b.dir+"/a.log.1"))
		}, false},
		"renamed, not matched": {"*.log", func(b *bench) {
			b.write("a.log", "3\n")
			require.NoError(b.t, os.Rename(b.dir+"/a.log", b.dir+"/a.old"))
		}, false},
		"copied and truncated, copy matched": {"*.log*", func(b *bench) {
			b.write("a.log", "3\n")
			text, err := os.ReadFile(b.dir + "/a.log")
			require.NoError(b.t, err)
			require.NoError(b.t, os.WriteFile(b.dir+"/a.log.1", text, 0o644))
			require.NoError(b.t, os.Truncate(b.dir+"/a.log", 0))
		}, false},
		"truncated, no copy": {"*.log", func(b *bench) {
			b.write("a.log", "3\n")
			b.await("3")
			require.NoError(b.t, os.Truncate(b.dir+"/a.log", 0))
			require.Eventually(b.t, func() bool { return b.truncations() == 1 }, longest, 10*time.Millisecond)
		}, true},
		"deleted and made anew": {"*.log", func(b *bench) {
			b.write("a.log", "3\n")
			b.await("3")
			require.NoError(b.t, os.Remove(b.dir+"/a.log"))
		}, false},
		"truncated and longer than before": {"*.log", func(b *bench) {
			b.write("a.log", "3\n")
			b.await("3")
			require.NoError(b.t, os.Truncate(b.dir+"/a.log", 0))
			b.write("a.log", strings.Repeat("other lines that are new\n", 50))
			b.await("other lines that are new")
		}, true},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := newBench(t, t.TempDir())
			b.write("a.log", "1\n2\n")
			require.NoError(t, b.Apply(b.config(c.pattern, "")))
			b.await("1", "2")
			c.rotate(b)
			b.write("a.log", "4\n5\n")
			b.await("3", "4", "5")
			time.Sleep(700 * time.Millisecond) // another look must not read anything again
			for body, n := range b.arrived() {
				if len(body) == 1 {
					assert.Equal(t, 1, n, body)
				}
			}
			assert.Equal(t, c.lost, b.truncations() > 0)
			b.Stop()
		})
	}
}

// TestWhileItWasDown: what was written, renamed and copied while no agent ran is found again where it was left.
func TestWhileItWasDown(t *testing.T) {
	t.Parallel()
	for name, rotate := range map[string]func(b *bench){
		"went on":              func(*bench) {},
		"renamed, not matched": func(b *bench) { require.NoError(b.t, os.Rename(b.dir+"/a.log", b.dir+"/a.old")) },
		"copied and truncated": func(b *bench) {
			text, err := os.ReadFile(b.dir + "/a.log")
			require.NoError(b.t, err)
			require.NoError(b.t, os.WriteFile(b.dir+"/b.log", text, 0o644))
			require.NoError(b.t, os.Truncate(b.dir+"/a.log", 0))
		},
		"copied and truncated, the copy looks newer": func(b *bench) {
			text, err := os.ReadFile(b.dir + "/a.log")
			require.NoError(b.t, err)
			require.NoError(b.t, os.WriteFile(b.dir+"/b.log", text, 0o644))
			require.NoError(b.t, os.Truncate(b.dir+"/a.log", 0))
			later := time.Now().Add(time.Hour)
			require.NoError(b.t, os.Chtimes(b.dir+"/b.log", later, later))
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			b := newBench(t, dir)
			b.write("a.log", "1\n2\n")
			c := b.config("*.log", "")
			require.NoError(t, b.Apply(c))
			b.await("1", "2")
			require.Eventually(t, func() bool { // what has arrived counts only once the agent knows it
				n, _ := b.Numbers()
				return n["lines"].Deliveries["out"].Acknowledged == 2
			}, longest, 5*time.Millisecond)
			b.Stop()
			b.write("a.log", "3\n")
			rotate(b)
			b.write("a.log", "4\n")
			again := newBench(t, dir)
			require.NoError(t, again.Apply(c))
			again.await("3", "4")
			time.Sleep(300 * time.Millisecond)
			assert.Equal(t, map[string]int{"1": 1, "2": 1, "3": 1, "4": 1}, again.arrived())
			n, _ := again.Numbers()
			assert.Equal(t, int64(4), n["lines"].Read, "the numbers went on too")
			again.Stop()
		})
	}
}

// TestOpenRecordKeepsItsStart: a record of several lines that is still open keeps the position at its start.
func TestOpenRecordKeepsItsStart(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	b := newBench(t, dir)
	b.write("a.log", "== one\n a\n== two\n b\n")
	c := b.config("*.log", "    records: {begin: '^=='}\n")
	c.Sources[0].Begin = "^=="
	require.NoError(t, b.Apply(c))
	b.await(`== one\n a`)
	b.Stop()
	b.write("a.log", " c\n== three\n")
	again := newBench(t, dir)
	require.NoError(t, again.Apply(c))
	again.await(`== two\n b\n c`)
	again.Stop()
}

// TestSwapsLeaveNothing: hundreds of swaps leave goroutines and open files as they were.
func TestSwapsLeaveNothing(t *testing.T) {
	b := newBench(t, t.TempDir())
	b.write("a.log", "1\n")
	one := b.config("*.log", "")
	more := "  - source: more\n    read: {files: [/nowhere/*]}\n    format: raw\n    send: [out]\n"
	two := b.config("*.log", more)
	two.Sources[0].Labels = map[string]string{"a": "b"}
	two.Destinations[0].Batch.Records = 7
	require.NoError(t, b.Apply(two))
	require.NoError(t, b.Apply(one))
	b.await("1")
	fds := func() int {
		list, err := os.ReadDir("/proc/self/fd")
		require.NoError(t, err)
		return len(list)
	}
	goroutines, files := runtime.NumGoroutine(), fds()
	for range 200 {
		require.NoError(t, b.Apply(two))
		require.NoError(t, b.Apply(one))
	}
	require.Eventually(
		t,
		func() bool { return runtime.NumGoroutine() <= goroutines+2 && fds() <= files+1 },
		longest,
		50*time.Millisecond,
		"%d goroutines were %d, %d files were %d",
		runtime.NumGoroutine(),
		goroutines,
		fds(),
		files,
	)
	b.write("a.log", "2\n")
	b.await("2")
	assert.Equal(t, map[string]int{"1": 1, "2": 1}, b.arrived())
	b.Stop()
}

// TestApplyIsAllOrNothing: a config with one part that cannot run changes nothing.
func TestApplyIsAllOrNothing(t *testing.T) {
	t.Parallel()
	b := newBench(t, t.TempDir())
	good := b.config("*.log", "")
	require.NoError(t, b.Apply(good))
	bad := b.config("*.txt", "")
	bad.Destinations[0].Path = "/proc/no/such/file"
	require.ErrorContains(t, b.Apply(bad), "destination out: cannot write /proc/no/such/file")
	b.write("a.log", "1\n")
	b.await("1")
	b.Stop()
	_, err := New(Options{Service: "nowhere", StateDir: t.TempDir(), Name: "x"})
	assert.ErrorContains(t, err, "--service")
	dir := t.TempDir()
	a, err := New(Options{Service: "http://127.0.0.1:1", StateDir: dir, Name: "x"})
	require.NoError(t, err)
	_, err = New(Options{Service: "http://127.0.0.1:1", StateDir: dir, Name: "x"})
	assert.ErrorContains(t, err, "another agent uses the state folder")
	a.Engine().Stop()
}

// TestPartFromTheFuture: the agent refuses a config with a part that it does not know, says so to the service, and the
// old one goes on, also after a restart.
func TestPartFromTheFuture(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	open := func() *Agent {
		a, err := New(
			Options{
				Service:  "http://127.0.0.1:1",
				StateDir: filepath.Join(dir, "state"),
				Name:     "h",
				Log:      slog.New(slog.DiscardHandler),
			},
		)
		require.NoError(t, err)
		return a
	}
	a := open()
	b := &bench{t, dir, a.Engine()}
	good := fmt.Appendf(
		nil,
		"synaxis: 1\nhost: h\nhash: %064d\nsources:\n  - source: lines\n    read: {files: [%q], first-read: "+
			"start}\n    format: raw\n    send: [out]\ndestinations:\n  - destination: out\n    deliver: {file: "+
			"{path: %q}}\n    batch: {wait: 5ms}\n",
		1,
		filepath.Join(dir, "*.log"),
		filepath.Join(dir, "out"),
	)
	status := a.Apply(good, nil, []byte{1})
	assert.Empty(t, status.GetErrorMessage())
	status = a.Apply(append(bytes.Clone(good), "surprises: [{mask: card}]\n"...), nil, []byte{2})
	assert.Equal(t, []byte{2}, status.GetLastRemoteConfigHash())
	assert.Contains(t, status.GetErrorMessage(), `this agent cannot run the host config; line 13: `)
	assert.Equal(t, good, a.Effective(), "what runs is the old one")
	assert.Equal(t, status, a.ConfigStatus())
	b.write("a.log", "1\n")
	b.await("1")
	health := a.Health()
	assert.True(t, health.GetHealthy())
	assert.Contains(t, health.GetComponentHealthMap(), "source/lines")
	a.Engine().Stop()
	require.NoError(t, a.lock.Close())

	again := open()
	assert.Equal(t, good, again.Effective(), "the last good one is what is kept")
	b = &bench{t, dir, again.Engine()}
	b.write("a.log", "2\n")
	b.await("2")
	again.Engine().Stop()
}
