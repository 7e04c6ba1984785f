package test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/contract"
)

// TestSizes: the agent's binary is under 40 MB, and it stays under 60 MB resident while it tails 100 idle files.
func TestSizes(t *testing.T) {
	t.Parallel()
	info, err := os.Stat(filepath.Join(bin, "synaxis-agent"))
	require.NoError(t, err)
	assert.Less(t, info.Size(), int64(40_000_000))
	d := startDesk(t)
	dir := t.TempDir()
	recv := newReceiver(t, nil)
	for i := range 100 {
		appendLines(t, filepath.Join(dir, fmt.Sprintf("f%d.log", i)), i*10, i*10+10)
	}
	agent := d.agent("h", filepath.Join(dir, "state"), d.joinToken(1, nil))
	eventually(t, 15*time.Second, "the agent", func() bool { return d.connected("h") })
	d.publish(linesCatalogue(dir+"/*.log", recv.URL))
	require.Equal(t, contract.RolloutStateDone, d.rollOut().State)
	eventually(t, 15*time.Second, "all lines", func() bool { n, _ := recv.count(); return n == 1000 })
	fds, err := os.ReadDir(fmt.Sprintf("/proc/%d/fd", agent.cmd.Process.Pid))
	require.NoError(t, err)
	assert.GreaterOrEqual(t, len(fds), 100, "the files are open")
	time.Sleep(2 * time.Second)
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", agent.cmd.Process.Pid))
	require.NoError(t, err)
	for line := range strings.Lines(string(status)) {
		if rest, ok := strings.CutPrefix(line, "VmRSS:"); ok {
			kb, err := strconv.Atoi(strings.Fields(rest)[0])
			require.NoError(t, err)
			assert.Less(t, kb, 60_000, "resident, in kB")
			t.Logf("agent: %d bytes on disk, %d kB resident with 100 files", info.Size(), kb)
		}
	}
}

// TestUntouchedSourceIsUntouched: a change of another source leaves a source's file open and rereads nothing; the same
// holds for a source whose destination changed, and for one whose own treatment changed.
func TestUntouchedSourceIsUntouched(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	dir := t.TempDir()
	recv, other := newReceiver(t, nil), newReceiver(t, nil)
	one, two := filepath.Join(dir, "one.log"), filepath.Join(dir, "two.log")
	appendLines(t, one, 0, 100)
	appendLines(t, two, 1000, 1100)
	agent := d.agent("h", filepath.Join(dir, "state"), d.joinToken(1, nil))
	eventually(t, 15*time.Second, "the agent", func() bool { return d.connected("h") })
	text := linesCatalogue(
		one,
		recv.URL,
	) + "---\nsource: more\nhosts: all\nread: {files: [" + two + "], first-read: start}\nformat: raw\nsend: [{to: " +
		"out}]\n"
	d.publish(text)
	require.Equal(t, contract.RolloutStateDone, d.rollOut().State)
	eventually(t, 15*time.Second, "all lines", func() bool { n, _ := recv.count(); return n == 200 })
	open := func() string {
		out, err := exec.Command("sh", "-c", fmt.Sprintf("ls -l /proc/%d/fd | grep one.log | sed 's/.* \\([0-9]*\\) "+
			"->.*/\\1/'", agent.cmd.Process.Pid)).
			Output()
		require.NoError(t, err)
		return strings.TrimSpace(string(out))
	}
	before := open()
	require.NotEmpty(t, before)
	for i, change := range []string{
		strings.Replace(text, "source: more\n", "source: more\nlabels: {a: b}\n", 1),
		strings.Replace(text, "source: lines\n", "source: lines\nlabels: {a: b}\n", 1),
		strings.ReplaceAll(strings.Replace(text, "records: 100", "records: 50", 1), recv.URL, other.URL),
	} {
		d.publish(change)
		require.Equal(t, contract.RolloutStateDone, d.rollOut().State)
		assert.Equal(t, before, open(), "the file stays open")
		appendLines(t, one, 100+i, 101+i)
		eventually(
			t,
			15*time.Second,
			"the new line",
			func() bool { a, _ := recv.count(); b, _ := other.count(); return a+b == 201+i },
		)
	}
	_, a := recv.count()
	_, b := other.count()
	assert.Equal(t, 203, a+b, "nothing was read again")
	assert.Equal(t, 1, b, "the last change took effect")
}

// TestFilesAndPatterns: except, files that appear later, first-read: now, a last line without its end, and a file
// destination.
func TestFilesAndPatterns(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	dir := t.TempDir()
	journal := filepath.Join(dir, "journal.ndjson")
	logs := filepath.Join(dir, "log")
	require.NoError(t, os.MkdirAll(filepath.Join(logs, "deep", "er"), 0o755))
	appendLines(t, filepath.Join(logs, "old.log"), 0, 10)
	d.agent("h", filepath.Join(dir, "state"), d.joinToken(1, nil))
	eventually(t, 15*time.Second, "the agent", func() bool { return d.connected("h") })
	d.publish(
		"source: lines\nhosts: all\nread: {files: [\"" + logs + "/**/*.log\"], except: [\"no-*\"]}\nformat: " +
			"raw\nsend: [{to: journal}]\n---\ndestination: journal\ndeliver: {file: {path: " + journal +
			"}}\nbatch: {wait: 20ms}\n",
	)
	require.Equal(t, contract.RolloutStateDone, d.rollOut().State)
	time.Sleep(500 * time.Millisecond)
	appendLines(t, filepath.Join(logs, "old.log"), 10, 12)
	appendLines(t, filepath.Join(logs, "deep", "er", "new.log"), 20, 22)
	appendLines(t, filepath.Join(logs, "no-thanks.log"), 90, 92)
	f, err := os.OpenFile(filepath.Join(logs, "torn.log"), os.O_CREATE|os.O_WRONLY, 0o644)
	require.NoError(t, err)
	_, err = f.WriteString("line 30\nline 31 without its end")
	require.NoError(t, err)
	require.NoError(t, f.Close())
	read := func() string { text, _ := os.ReadFile(journal); return string(text) }
	eventually(t, 15*time.Second, "the lines", func() bool { return strings.Count(read(), "\n") == 6 })
	for _, want := range []string{"line 10", "line 11", "line 20", "line 21", "line 30", "line 31 without its end"} {
		assert.Contains(t, read(), `"body":"`+want+`"`)
	}
	assert.NotContains(t, read(), "line 9")
	// A file destination that was moved away is begun anew.
	require.NoError(t, os.Rename(journal, journal+".1"))
	appendLines(t, filepath.Join(logs, "old.log"), 40, 41)
	eventually(
		t,
		15*time.Second,
		"the file to be there again",
		func() bool { return strings.Contains(read(), "line 40") },
	)
}
