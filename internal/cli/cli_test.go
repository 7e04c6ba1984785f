package cli

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/contract"
)

func TestTableFits(t *testing.T) {
	t.Parallel()
	var b bytes.Buffer
	a := &app{out: &b}
	a.table(
		[]string{"name", "n", "what"},
		[][]string{{"a", "1", strings.Repeat("words and ", 30)}, {"longer", "1,000", "x"}},
		2,
	)
	for line := range strings.Lines(b.String()) {
		assert.LessOrEqual(t, len([]rune(strings.TrimRight(line, " \n"))), width, line)
	}
	assert.Contains(t, b.String(), "     1  words", "numbers are aligned at their end: %s", b.String())
	b.Reset()
	a.facts("one", "x", "none", "", "two", strings.Repeat("long ", 40))
	assert.NotContains(t, b.String(), "none")
	assert.Equal(t, "one  x", strings.SplitN(b.String(), "\n", 2)[0])
	for line := range strings.Lines(b.String()) {
		assert.LessOrEqual(t, len(line), width+1)
	}
}

func TestWords(t *testing.T) {
	t.Parallel()
	for n, want := range map[int64]string{0: "0", 999: "999", 1000: "1,000", -1234567: "-1,234,567"} {
		assert.Equal(t, want, number(n))
	}
	assert.Equal(t, "1 host", plural(1, "host", "hosts"))
	assert.Equal(t, "1,200 hosts", plural(1200, "host", "hosts"))
	assert.Equal(t, "a, b, c and 3 more", some([]string{"a", "b", "c", "d", "e", "f"}))
	assert.Equal(t, "1 refused, 2 confirmed", stateCounts(map[string]int{"confirmed": 2, "refused": 1}))
	for d, want := range map[time.Duration]string{0: "now", 30 * time.Second: "30 s ago", 5 * time.Minute: "5 min ago",
		3 * time.Hour: "3 h ago", 72 * time.Hour: "3 days ago"} {
		at := time.Now().Add(-d)
		assert.Equal(t, want, ago(&at))
	}
	seen := map[string]bool{}
	for _, s := range []contract.State{contract.Healthy, contract.Degraded, contract.Failing, contract.Waiting,
		contract.Offline} {
		mark := strings.Fields(stateMark(s))[0]
		assert.False(t, seen[mark], "each state has a shape of its own")
		seen[mark] = true
	}
}

// TestCheckNeedsNoService, and a folder is read whole: sorted, without hidden files and other kinds.
func TestCheckNeedsNoService(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	for name, text := range map[string]string{"b/one.yaml": "destination: one\ndeliver: {discard: {}}\n",
		"two.json": `{"destination": "two", "deliver": {"discard": {}}}`, "notes.txt": "no",
		".hidden/x.yaml": "no: no", ".y.yaml": "no: no"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	run := func(args ...string) (string, int) {
		var out bytes.Buffer
		code := Run(context.Background(), args, strings.NewReader(""), &out, &out)
		return out.String(), code
	}
	out, code := run("check", dir)
	assert.Zero(t, code)
	assert.Contains(t, out, "2 definitions in 2 files: 0 errors, 0 warnings, 2 notes.")
	assert.Contains(t, out, "b/one.yaml:1:1: no source sends to this destination")
	out, code = run("check", dir, "-o", "json")
	assert.Zero(t, code)
	assert.Contains(t, out, `"notMade"`)
	_, code = run("check", t.TempDir())
	assert.Equal(t, 1, code)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "bad.yaml"), []byte("source: x\n"), 0o644))
	out, code = run("check", dir)
	assert.Equal(t, exitFindings, code)
	assert.Contains(t, out, "bad.yaml:1:")
	for _, args := range [][]string{{"status"}, {"host", "list", "--url", "http://127.0.0.1:1"}} {
		out, code = run(args...)
		assert.Equal(t, exitNotAllowed, code, out)
	}
	t.Setenv("SYNAXIS_TOKEN", "t")
	out, code = run("status", "--url", "http://127.0.0.1:1")
	assert.Equal(t, exitNotAllowed, code)
	assert.Contains(t, out, "the service cannot be reached")
	_, code = run("status", "--url", "nowhere")
	assert.Equal(t, exitUsage, code)
}

func TestLegible(t *testing.T) {
	t.Parallel()
	assert.Equal(
		t,
		`{"a":"x > y && <b> \\u003e \n \""}`,
		string(legible([]byte(`{"a":"x \u003e y \u0026\u0026 \u003cb\u003e \\u003e \n \""}`))),
	)
}

// TestLogsAreAsOldAsTheirFiles: at the desk a date without a year is measured by when the file was last written.
func TestLogsAreAsOldAsTheirFiles(t *testing.T) {
	log := filepath.Join(t.TempDir(), "lock.log")
	require.NoError(
		t,
		os.WriteFile(
			log,
			[]byte(
				"Dec 30 06:15:09 lock-2 gated[7]: opened\nMar  2 06:15:09 lock-2 gated[7]: shut\nMar  4 06:15:09 "+
					"lock-2 gated[7]: opened\n",
			),
			0o644,
		),
	)
	written := time.Date(2019, 3, 4, 7, 0, 0, 0, time.UTC)
	require.NoError(t, os.Chtimes(log, written, written))
	for _, args := range [][]string{{"format", "try", "syslog", log, "--zone", "UTC", "-o", "json"}, {"format",
		"guess", log, "--zone", "UTC", "-o", "json"}} {
		var out bytes.Buffer
		require.Zero(t, Run(context.Background(), args, strings.NewReader(""), &out, &out), out.String())
		for _, want := range []string{"2018-12-30T06:15:09Z", "2019-03-04T06:15:09Z"} {
			assert.Contains(t, out.String(), want, "%v", args)
		}
	}
}

// TestAmounts: a number of one sender has the unit of the number.
func TestAmounts(t *testing.T) {
	t.Parallel()
	for name, want := range map[string]string{"read": "2,048", "read@bridge-a": "2,048", "bytes": "2.0 KiB",
		"sent@bridge-a": "2.0 KiB", "disk": "2.0 KiB", "lag": "34m8s", "dropped:limit": "2,048"} {
		assert.Equal(t, want, amount(name, 2048), name)
	}
}
