package run

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz"

	"synaxis/internal/core/hostconfig"
)

// script is a program of a test.
func (b *bench) script(name, text string) string {
	path := filepath.Join(b.dir, name)
	require.NoError(b.t, os.WriteFile(path, []byte("#!/bin/sh\n"+text), 0o755))
	return path
}

// TestCommands: a program that is run now and then, and one that is kept running, with states for those that fail.
func TestCommands(t *testing.T) {
	t.Parallel()
	t.Run("now and then", func(t *testing.T) {
		t.Parallel()
		b := newBench(t, t.TempDir())
		defer b.Stop()
		b.write("n", "")
		p := b.script("tide", "echo x >> "+b.dir+"/n; echo level=$(wc -l < "+b.dir+"/n); printf 'last of %s' $1\n")
		require.NoError(t, b.Apply(b.listens(fmt.Sprintf("command: {run: [%s, gauge], every: 200ms}", p), "    format: raw\n")))
		require.Eventually(t, func() bool { return len(b.records()) >= 6 }, longest, 10*time.Millisecond)
		got := bodies(b.records())
		assert.Equal(t, []string{"level=1", "last of gauge", "level=2", "last of gauge", "level=3", "last of gauge"},
			got[:6])
		assert.Empty(t, b.Sources()[0].Code)
		n, _ := b.Numbers()
		assert.Zero(t, n["in"].Deliveries["out"].Difference())
	})
	t.Run("fails", func(t *testing.T) {
		t.Parallel()
		b := newBench(t, t.TempDir())
		defer b.Stop()
		p := b.script("tide", "echo here; echo 'no such gauge' >&2; exit 3\n")
		require.NoError(t, b.Apply(b.listens(fmt.Sprintf("command: {run: [%s], every: 1h}", p), "    format: raw\n")))
		require.Eventually(t, func() bool { return b.Sources()[0].Code == "command-failing" }, longest,
			10*time.Millisecond)
		assert.Contains(t, b.Sources()[0].Reason, "ended with an error: exit status 3; it said: no such gauge")
		assert.Equal(t, []string{"here"}, bodies(b.await1(1)), "what it printed counts")
		require.NoError(t, b.Apply(b.listens("command: {run: [/no/such/program], every: 1h}", "    format: raw\n")))
		require.Eventually(t, func() bool { return strings.Contains(b.Sources()[0].Reason, "cannot be run") }, longest,
			10*time.Millisecond)
	})
	t.Run("kept running", func(t *testing.T) {
		t.Parallel()
		b := newBench(t, t.TempDir())
		defer b.Stop()
		p := b.script("radar", "echo begun; sleep 0.2; echo more; sleep 600 & wait\n")
		require.NoError(t, b.Apply(b.listens(fmt.Sprintf("command: {run: [%s]}", p), "    format: raw\n")))
		b.await1(2)
		running := func() bool {
			out, _ := exec.Command("pgrep", "-f", p).Output()
			return len(out) > 0
		}
		require.True(t, running())
		require.NoError(t, b.Apply(b.listens("generate: {rate: 1/h, template: x}", "    format: raw\n")))
		assert.False(t, running(), "it ends with its source, and all that it started")
	})
	t.Run("started again", func(t *testing.T) {
		t.Parallel()
		b := newBench(t, t.TempDir())
		defer b.Stop()
		p := b.script("radar", "echo begun; exit 1\n")
		require.NoError(t, b.Apply(b.listens(fmt.Sprintf("command: {run: [%s]}", p), "    format: raw\n")))
		require.Eventually(t, func() bool { return len(b.records()) >= 2 }, longest, 10*time.Millisecond)
		assert.Contains(t, b.Sources()[0].Reason, "it is started again in")
	})
	t.Run("ends after its output", func(t *testing.T) {
		t.Parallel()
		b := newBench(t, t.TempDir())
		defer b.Stop()
		p := b.script("radar", "echo begun; exec >&-; sleep 0.3; echo 'no sweep' >&2; exit 3\n")
		require.NoError(t, b.Apply(b.listens(fmt.Sprintf("command: {run: [%s]}", p), "    format: raw\n")))
		require.Eventually(t, func() bool { return b.Sources()[0].Code == "command-failing" }, longest,
			10*time.Millisecond)
		assert.Contains(t, b.Sources()[0].Reason, "exit status 3; it said: no sweep", "it is not ended before it ends")
	})
	t.Run("well again", func(t *testing.T) {
		t.Parallel()
		b := newBench(t, t.TempDir())
		defer b.Stop()
		p := b.script("radar", fmt.Sprintf("[ -e %[1]s/again ] && exec sleep 600; echo begun; touch %[1]s/again; "+
			"echo 'no sweep' >&2; exit 3\n", b.dir))
		require.NoError(t, b.Apply(b.listens(fmt.Sprintf("command: {run: [%s]}", p), "    format: raw\n")))
		require.Eventually(t, func() bool { return b.Sources()[0].Code == "command-failing" }, longest,
			10*time.Millisecond)
		require.Eventually(t, func() bool { return b.Sources()[0].Code != "command-failing" }, longest,
			10*time.Millisecond)
		assert.Empty(t, b.Sources()[0].Code, "what another run said is no matter of this one")
	})
}

// TestCommandComplains: what a program that goes well says on standard error is a state, without private data, until a
// run that says nothing; or no matter, where the definition says so.
func TestCommandComplains(t *testing.T) {
	t.Parallel()
	for name, x := range map[string]struct{ script, every, more string }{
		"now and then": {"echo level=1; [ -e %s/well ] || echo 'gauge of ada@quay.example drifts' >&2\n", ", every: 200ms", ""},
		"kept running": {"echo level=1; echo 'gauge of ada@quay.example drifts' >&2; exec sleep 600 #%s\n", "", ""},
		"ignored":      {"echo level=1; echo 'gauge drifts' >&2 #%s\n", ", every: 200ms", ", standard-error: ignore"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := newBench(t, t.TempDir())
			defer b.Stop()
			p := b.script("tide", fmt.Sprintf(x.script, b.dir))
			require.NoError(t, b.Apply(b.listens(fmt.Sprintf("command: {run: [%s]%s%s}", p, x.every, x.more),
				"    format: raw\n    steps: [{mask: [email]}]\n")))
			if x.more != "" {
				require.Eventually(t, func() bool { return len(b.records()) >= 4 }, longest, 10*time.Millisecond)
				assert.Empty(t, b.Sources()[0].Code)
				return
			}
			require.Eventually(t, func() bool { return b.Sources()[0].Code == "command-complains" }, longest,
				10*time.Millisecond)
			assert.Equal(t, p+" runs, and says on standard error: gauge of ******** drifts", b.Sources()[0].Reason)
			if x.every != "" {
				b.write("well", "")
				require.Eventually(t, func() bool { return b.Sources()[0].Code == "" }, longest, 10*time.Millisecond)
			}
		})
	}
}

func TestGenerate(t *testing.T) {
	t.Parallel()
	b := newBench(t, t.TempDir())
	defer b.Stop()
	require.NoError(t, b.Apply(b.listens("generate: {rate: 100/s, template: 'n={n} at={time}'}", "    format: keyvalue\n")))
	require.Eventually(t, func() bool { return len(b.records()) >= 20 }, longest, 10*time.Millisecond)
	for i, r := range b.records()[:20] {
		assert.Equal(t, float64(i+1), r.Fields["n"])
	}
}

// TestFilesFrom: a program says which files there are; what it says later counts then, and when it fails what it said
// before.
func TestFilesFrom(t *testing.T) {
	t.Parallel()
	b := newBench(t, t.TempDir())
	defer b.Stop()
	b.write("a.log", "one\n")
	b.write("b.log", "two\n")
	b.write("list", b.dir+"/a.log\nrelative\n/no/such\n")
	p := b.script("which", "cat "+b.dir+"/list || exit 1\n")
	read := fmt.Sprintf("files-from: {command: [%s], every: 100ms}, first-read: start", p)
	require.NoError(t, b.Apply(b.listens(read, "    format: raw\n")))
	assert.Equal(t, []string{"one"}, bodies(b.await1(1)))
	b.write("list", b.dir+"/b.log\n")
	assert.Equal(t, []string{"one", "two"}, bodies(b.await1(2)))
	require.NoError(t, os.Remove(filepath.Join(b.dir, "list")))
	require.Eventually(t, func() bool { return b.Sources()[0].Code == "command-failing" }, longest,
		10*time.Millisecond)
	b.write("a.log", "three\n")
	assert.Equal(t, []string{"one", "two", "three"}, bodies(b.await1(3)))
}

// TestJournal: entries are read through the journal's program, with their fields, and after a restart from where they
// were settled.
func TestJournal(t *testing.T) {
	dir := t.TempDir()
	b := newBench(t, dir)
	// A stand-in for the journal's program: it keeps what it was asked, and prints entries from a file.
	b.write("journal", "__CURSOR=c1\n__REALTIME_TIMESTAMP=1932883509000007\nPRIORITY=3\n_PID=12\n_SYSTEMD_UNIT=gate.service\n"+
		"MESSAGE=one\n\n__CURSOR=c2\nMESSAGE\n\x07\x00\x00\x00\x00\x00\x00\x00two\nand\n\n")
	b.script("journalctl", fmt.Sprintf("echo \"$@\" >> %s/asked; case \"$*\" in *--lines=1) printf '__CURSOR=c0\\nMESSAGE=x\\n\\n'; "+
		"exit;; esac; cat %s/journal; exec sleep 600\n", dir, dir))
	t.Setenv("PATH", dir+":"+os.Getenv("PATH"))
	config := b.listens("journal: {units: [gate.service]}", "    format: raw\n")
	require.NoError(t, b.Apply(config))
	got := b.await1(2)
	assert.Equal(t, []string{"one", "two\nand"}, bodies(got))
	assert.Equal(t, "ERROR", got[0].Level)
	assert.Equal(t, time.UnixMicro(1932883509000007).UTC(), got[0].Time)
	assert.Equal(t, map[string]any{"journal.pid": 12.0, "journal.systemd_unit": "gate.service"}, got[0].Fields)
	require.Eventually(t, func() bool {
		n, _ := b.Numbers()
		return n["in"].Deliveries["out"].Acknowledged == 2
	}, longest, 10*time.Millisecond)
	b.Stop()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "journal"), []byte("__CURSOR=c3\nMESSAGE=three\n\n"), 0o644))
	again := newBench(t, dir)
	defer again.Stop()
	require.NoError(t, again.Apply(config))
	again.await1(3)
	asked, err := os.ReadFile(filepath.Join(dir, "asked"))
	require.NoError(t, err)
	lines := strings.Split(strings.TrimSpace(string(asked)), "\n")
	require.Len(t, lines, 3)
	assert.Contains(t, lines[0], "--lines=1")
	assert.Contains(t, lines[1], "--no-tail --after-cursor=c0 --unit=gate.service")
	assert.Contains(t, lines[2], "--no-tail --after-cursor=c2 --unit=gate.service")
}

// TestIsolatedOfPrograms: a program is run once for all destinations, also where one of them is isolated, and each
// gets the same records.
func TestIsolatedOfPrograms(t *testing.T) {
	t.Parallel()
	for name, read := range map[string]string{"now and then": ", every: 1h", "kept running": ""} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := newBench(t, t.TempDir())
			defer b.Stop()
			p := b.script("tide", "echo run >> "+b.dir+"/runs; echo level=$(wc -l < "+b.dir+"/runs); exec sleep 5\n")
			c, err := hostconfig.Read(fmt.Appendf(nil, "synaxis: 1\nhost: h\nsources:\n  - source: in\n    read: {command: {run: "+
				"[%s]%s}}\n    format: raw\n    send: [out, other]\ndestinations:\n  - destination: out\n    deliver: {file: "+
				"{path: %q}}\n    batch: {wait: 5ms}\n  - destination: other\n    deliver: {file: {path: %q}}\n    isolate: true\n"+
				"    batch: {wait: 5ms}\n", p, read, filepath.Join(b.dir, "out"), filepath.Join(b.dir, "other")),
				hostconfig.Runs)
			require.NoError(t, err)
			require.NoError(t, b.Apply(c))
			var one, two []byte
			require.Eventually(t, func() bool {
				one, _ = os.ReadFile(filepath.Join(b.dir, "out"))
				two, _ = os.ReadFile(filepath.Join(b.dir, "other"))
				return len(one) > 0 && len(two) > 0
			}, longest, 10*time.Millisecond)
			assert.Equal(t, string(one), string(two), "with its id")
			runs, err := os.ReadFile(filepath.Join(b.dir, "runs"))
			require.NoError(t, err)
			assert.Equal(t, "run\n", string(runs))
		})
	}
}

// TestUntouched: a source whose definition is the same goes on untouched, wherever its lines stand in the config.
func TestUntouched(t *testing.T) {
	t.Parallel()
	b := newBench(t, t.TempDir())
	defer b.Stop()
	p := b.script("tide", "echo run >> "+b.dir+"/runs; echo level=1; exec sleep 600\n")
	for i, more := range []string{"", "    labels: {turn: second}\n", "    labels:\n      turn: third\n", ""} {
		c, err := hostconfig.Read(fmt.Appendf(nil, "synaxis: 1\nhost: h\nsources:\n  - source: another\n    read: {files: "+
			"[/nowhere/*.log]}\n    format: raw\n%s    send: [out]\n  - source: in\n    read: {command: {run: [%s]}}\n"+
			"    format: keyvalue\n    steps:\n      - drop: fields.level == \"2\"\n      - set: {gauge: '\"quay\"'}\n    send: "+
			"[{to: out, when: 'has(fields.level)'}, {otherwise: out}]\ndestinations:\n  - destination: out\n    deliver: {file: "+
			"{path: %q}}\n    batch: {wait: 5ms}\n", more, p, filepath.Join(b.dir, "out")), hostconfig.Runs)
		require.NoError(t, err, "%d", i)
		require.NoError(t, b.Apply(c))
		require.Eventually(t, func() bool { return len(b.records()) > 0 }, longest, 10*time.Millisecond)
	}
	time.Sleep(100 * time.Millisecond)
	runs, err := os.ReadFile(filepath.Join(b.dir, "runs"))
	require.NoError(t, err)
	assert.Equal(t, "run\n", string(runs), "it is not started anew")
}

// TestJournalThatIsNone: a program that prints no export of the journal, and does not end, is ended and told.
func TestJournalThatIsNone(t *testing.T) {
	dir := t.TempDir()
	b := newBench(t, dir)
	defer b.Stop()
	b.script("journalctl", "case \"$*\" in *--lines=1) exit 1;; esac; printf '__CURSOR=c1\\nMESSAGE=one\\n\\nno export at all\\n\\n'; exec sleep 600\n")
	t.Setenv("PATH", dir+":"+os.Getenv("PATH"))
	require.NoError(t, b.Apply(b.listens("journal: {}", "    format: raw\n")))
	require.Eventually(t, func() bool { return b.Sources()[0].Code == "command-failing" }, longest,
		10*time.Millisecond)
	assert.Contains(t, b.Sources()[0].Reason, "what journalctl prints cannot be read")
	assert.Contains(t, b.Sources()[0].Reason, "it is started again in")
	require.Eventually(t, func() bool { return len(b.records()) > 0 }, longest, 10*time.Millisecond)
	assert.Equal(t, "one", b.records()[0].Body, "what stood before is read")
}

// TestPackedOnce: packed files of each kind are read once from start to end; one whose content was read before it was
// packed is read from where that ended, also after a restart.
func TestPackedOnce(t *testing.T) {
	t.Parallel()
	for kind, pack := range map[string]func(text string) []byte{
		"gz": func(text string) []byte {
			var out bytes.Buffer
			w := gzip.NewWriter(&out)
			_, _ = w.Write([]byte(text))
			w.Close()
			return out.Bytes()
		},
		"zst": func(text string) []byte {
			w, _ := zstd.NewWriter(nil)
			return w.EncodeAll([]byte(text), nil)
		},
		"xz": func(text string) []byte {
			var out bytes.Buffer
			w, _ := xz.NewWriter(&out)
			_, _ = w.Write([]byte(text))
			w.Close()
			return out.Bytes()
		},
	} {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			b := newBench(t, dir)
			long := ""
			for i := range 3000 {
				long += fmt.Sprintf("old line %d of a log that was packed long ago\n", i)
			}
			put := func(name, text string) {
				path := filepath.Join(dir, name)
				require.NoError(t, os.WriteFile(path, pack(text), 0o644))
				past := time.Now().Add(-10 * time.Second)
				require.NoError(t, os.Chtimes(path, past, past))
			}
			put("app.log.9."+kind, long)
			b.write("app.log", "first\nsecond\n")
			require.NoError(t, b.Apply(b.config("app.log*", "")))
			b.await("first", "second", "old line 2999 of a log that was packed long ago")
			assert.Len(t, b.arrived(), 3002)

			// rotated, packed and deleted while it is read
			require.NoError(t, os.Rename(filepath.Join(dir, "app.log"), filepath.Join(dir, "app.log.1")))
			b.write("app.log", "third\n")
			b.await("third")
			put("app.log.2."+kind, "first\nsecond\n")
			require.NoError(t, os.Remove(filepath.Join(dir, "app.log.1")))
			b.write("app.log", "fourth\n")
			b.await("fourth")
			time.Sleep(3 * time.Second)
			n, _ := b.Numbers()
			assert.Equal(t, int64(3004), n["lines"].Read, "nothing is read twice")
			assert.Zero(t, n["lines"].Packed)
			b.Stop()

			// more is written, it is rotated and packed, while the agent is down
			text, err := os.ReadFile(filepath.Join(dir, "app.log"))
			require.NoError(t, err)
			put("app.log.3."+kind, string(text)+"fifth\n")
			require.NoError(t, os.Remove(filepath.Join(dir, "app.log")))
			b.write("app.log", "sixth\n")
			again := newBench(t, dir)
			defer again.Stop()
			require.NoError(t, again.Apply(again.config("app.log*", "")))
			again.await("fifth", "sixth")
			time.Sleep(time.Second)
			for line, times := range again.arrived() {
				require.Equal(t, 1, times, line)
			}
			assert.Len(t, again.arrived(), 3006)
			left, _ := filepath.Glob(filepath.Join(dir, "state", "unpacked", "*"))
			assert.Empty(t, left)
		})
	}
}

// TestPackedWhileWritten: a log that is rotated and packed at once, into which its program writes on for a moment, is
// not read again: neither the first packed file that there is, nor one that has less than was read.
func TestPackedWhileWritten(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	b := newBench(t, dir)
	defer b.Stop()
	want, n := 0, 0
	more := func(f *os.File, lines int) {
		for range lines {
			n++
			_, err := fmt.Fprintf(f, "line %d of a log whose program is slow to open its new file\n", n)
			require.NoError(t, err)
		}
		want += lines
	}
	path := filepath.Join(dir, "app.log")
	open := func() *os.File {
		f, err := os.OpenFile(path, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
		require.NoError(t, err)
		return f
	}
	f := open()
	more(f, 50)
	require.NoError(t, b.Apply(b.config("app.log*", "")))
	b.await("line 50 of a log whose program is slow to open its new file") // what was never open cannot be read on
	for turn := 1; turn <= 4; turn++ {
		more(f, 50)
		require.NoError(t, os.Rename(path, path+".1"))
		text, err := os.ReadFile(path + ".1")
		require.NoError(t, err)
		late := turn%2 == 1
		if late {
			more(f, 3)
		}
		for k := turn; k > 1; k-- {
			require.NoError(t, os.Rename(fmt.Sprintf("%s.%d.gz", path, k-1), fmt.Sprintf("%s.%d.gz", path, k)))
		}
		var packed bytes.Buffer
		z := gzip.NewWriter(&packed)
		_, _ = z.Write(text)
		require.NoError(t, z.Close())
		require.NoError(t, os.WriteFile(path+".1.gz", packed.Bytes(), 0o644))
		require.NoError(t, os.Remove(path+".1"))
		f.Close()
		f = open()
		more(f, 5)
		b.await(fmt.Sprintf("line %d of a log whose program is slow to open its new file", n))
		time.Sleep(3 * time.Second) // until the packed one is looked at
	}
	f.Close()
	require.Eventually(t, func() bool { return len(b.arrived()) == want }, longest, 10*time.Millisecond)
	numbers, _ := b.Numbers()
	assert.Equal(t, int64(want), numbers["lines"].Read, "each once")
}

// TestPackedAlike: files that begin alike are not taken for one another: what a packed file holds is read, whatever
// has the same first line.
func TestPackedAlike(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	b := newBench(t, dir)
	defer b.Stop()
	b.write("app.log", "date,lane,result\n")
	require.NoError(t, b.Apply(b.config("app.log*", "")))
	b.await("date,lane,result")
	var out bytes.Buffer
	w := gzip.NewWriter(&out)
	_, err := w.Write([]byte("date,lane,result\npacked one\npacked two\n"))
	require.NoError(t, err)
	require.NoError(t, w.Close())
	path := filepath.Join(dir, "app.log.1.gz")
	require.NoError(t, os.WriteFile(path, out.Bytes(), 0o644))
	past := time.Now().Add(-10 * time.Second)
	require.NoError(t, os.Chtimes(path, past, past))
	b.await("packed one", "packed two")
	b.write("app.log", "live one\n")
	b.await("live one")
	text, err := os.ReadFile(filepath.Join(dir, "out"))
	require.NoError(t, err)
	ids := map[string]bool{}
	for line := range bytes.Lines(text) {
		var r heard
		require.NoError(t, json.Unmarshal(line, &r))
		assert.False(t, ids[r.ID], "an id twice: %s", r.Body)
		ids[r.ID] = true
	}
}
