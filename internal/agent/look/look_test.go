package look

import (
	"context"
	"encoding/binary"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/wire"
)

func looker(state string, takes ...string) Looker {
	return Looker{State: state, Now: time.Now, Folders: func() []string { return nil }, Takes: func(path string) bool {
		for _, t := range takes {
			if t == path {
				return true
			}
		}
		return false
	}}
}

func put(t *testing.T, dir, name, text string) string {
	t.Helper()
	path := filepath.Join(dir, name)
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	return path
}

func wide(text string, order binary.AppendByteOrder) string {
	var out []byte
	for _, u := range utf16.Encode([]rune(text)) {
		out = order.AppendUint16(out, u)
	}
	return string(out)
}

// TestLines: the last lines of a file as characters, whatever their encoding, bounded in number and length, and with
// broken bytes to be seen.
func TestLines(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	many := strings.Repeat("the gate is open\n", 300) + "the last\n"
	huge := strings.Repeat("2031-04-02 06:15:09 INFO Fähre bereit\n", 12_000) // more than is read
	for name, c := range map[string]struct {
		text     string
		n        int
		first    string
		last     string
		count    int
		encoding string
		more     bool
	}{
		"utf-8":          {"a\nFähre\r\n", 0, "a", "Fähre", 2, "", false},
		"no end":         {"a\nb", 0, "a", "b", 2, "", false},
		"few of many":    {many, 2, "the gate is open", "the last", 2, "", true},
		"as many as may": {many, 900, "the gate is open", "the last", wire.MaxLines, "", true},
		"utf-16le": {wide("\ufeffFähre\r\nKüste 潮\r\n", binary.LittleEndian), 0, "Fähre", "Küste 潮", 2,
			"utf-16le", false},
		"utf-16be": {wide("Fähre ist bereit\nKüste frei\n", binary.BigEndian), 0, "Fähre ist bereit",
			"Küste frei", 2, "utf-16be", false},
		"utf-16le, huge": {wide("\ufeff"+huge, binary.LittleEndian), 3, "2031-04-02 06:15:09 INFO Fähre bereit",
			"2031-04-02 06:15:09 INFO Fähre bereit", 3, "utf-16le", true},
		"utf-8, huge": {huge, 3, "2031-04-02 06:15:09 INFO Fähre bereit", "2031-04-02 06:15:09 INFO Fähre bereit",
			3, "", true},
		"latin-1": {"F\xe4hre nach K\xfcste\n", 0, "Fähre nach Küste", "Fähre nach Küste", 1, "latin-1",
			false},
		"broken": {"Fähre \xe4\x81\xff größer Küste\n", 0, `Fähre \xe4\x81\xff größer Küste`,
			`Fähre \xe4\x81\xff größer Küste`, 1, "", false},
		"a line too long": {strings.Repeat("ä", 5000) + "\n", 0, strings.Repeat("ä", longest/2) + "…", strings.Repeat(
			"ä", longest/2) + "…", 1, "", false},
		"nothing": {"", 0, "", "", 0, "", false},
		"blank":   {"\n\n", 0, "", "", 0, "", false},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			path := put(t, dir, strings.ReplaceAll(name, ",", "")+".log", c.text)
			got, err := looker("").Lines(path, c.n)
			require.NoError(t, err)
			require.Len(t, got.Lines, c.count)
			assert.Equal(
				t,
				[]any{path, int64(len(c.text)), c.encoding, c.more},
				[]any{got.Path, got.Size, got.Encoding, got.More},
			)
			if c.count > 0 {
				assert.Equal(t, c.first, got.Lines[0])
				assert.Equal(t, c.last, got.Lines[c.count-1])
			}
		})
	}
}

// TestClosed: what is no log, or is closed to the desk, is refused in words, by whatever name it is asked for.
func TestClosed(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	state := filepath.Join(dir, "state")
	inState := put(t, state, "identity.json", "{}")
	blob := put(t, dir, "blob.log", "a\x00b\x00\x00c\n")
	hidden := put(t, dir, ".kept/x.log", "x\n")
	link := filepath.Join(dir, "innocent.log")
	require.NoError(t, os.Symlink(inState, link))
	for path, words := range map[string]string{inState: "closed to the desk", link: "closed to the desk",
		hidden: "hidden", blob: "no text", "x.log": "whole path", dir + "/./x.log": "whole path",
		dir:             "no file of lines",
		"/etc/hostname": "closed to the desk", "/proc/self/environ": "closed to the desk", filepath.Join(dir,
			"none.log"): "no such file"} {
		_, err := looker(state).Lines(path, 0)
		require.ErrorContains(t, err, words, path)
		r := looker(state).Answer(context.Background(), wire.AskLines, wire.Ask{ID: "4", Path: path})
		assert.Equal(t, "4", r.ID)
		assert.Contains(t, r.Error, words)
		assert.Nil(t, r.Lines)
	}
	assert.Contains(t, looker(state).Answer(context.Background(), "tides", wire.Ask{}).Error, "install a newer one")
}

// TestLogs: logs that are being written and that no source takes, with how they are written and how fast they grow; no
// line of them.
func TestLogs(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) { testLogs(t, dir) })
}

func testLogs(t *testing.T, dir string) {
	app := put(t, dir, "app/app.log", strings.Repeat("2031-04-02 06:15:09 INFO it is open\n", 20))
	tide := put(
		t,
		dir,
		"tide.log",
		wide("\ufeff"+strings.Repeat("2031-04-02T06:15:09Z WARN Fähre später\r\n", 900), binary.LittleEndian),
	)
	taken := put(t, dir, "lane.log", "x\n")
	old := put(t, dir, "old.log", "x\n")
	require.NoError(t, os.Chtimes(old, time.Time{}, time.Now().Add(-48*time.Hour)))
	for _, name := range []string{"app.log.2", "app.log.gz", "blob.log", ".x/y.log", "empty.log",
		"a/b/c/d/e/f/deep.log"} {
		put(t, dir, name, map[bool]string{true: "", false: "a\x00b\n"}[name == "empty.log"])
	}
	grown := make(chan struct{})
	go func() {
		defer close(grown)
		time.Sleep(watched / 2)
		f, err := os.OpenFile(app, os.O_APPEND|os.O_WRONLY, 0)
		if err == nil {
			fmt.Fprint(f, strings.Repeat("2031-04-02 06:15:10 INFO it is shut\n", 10))
			f.Close()
		}
	}()
	r := looker(
		"",
		taken,
	).Answer(context.Background(), wire.AskLogs, wire.Ask{Folders: []string{dir, filepath.Join(dir, "app"),
		filepath.Join(dir, "none")}})
	<-grown
	require.Empty(t, r.Error)
	assert.Contains(t, r.Logs.Folders, dir)
	assert.NotContains(t, r.Logs.Folders, filepath.Join(dir, "app"), "it is below another")
	found := map[string]wire.Log{}
	for _, x := range r.Logs.Items {
		if strings.HasPrefix(x.Path, dir) {
			found[x.Path] = x
		}
	}
	require.Len(t, found, 2)
	assert.Equal(t, []any{"template", true, ""}, []any{found[app].Kind, found[app].NoZone, found[app].Encoding})
	assert.InDelta(t, 360, found[app].Rate, 1)
	assert.Equal(
		t,
		[]any{"template", false, "utf-16le"},
		[]any{found[tide].Kind, found[tide].NoZone, found[tide].Encoding},
	)
	assert.InDelta(t, 1, found[tide].Share, 0.01)
}

func TestNames(t *testing.T) {
	t.Parallel()
	for path, want := range map[string][2]bool{"/srv/gate/lane.log": {true, false}, "/srv/logs/gate": {true, false},
		"/srv/gate/out.txt": {true, false}, "/tmp/x.log": {false, false}, "/srv/gate/data.bin": {false, false},
		"/srv/gate/lane.log.1": {true, true}, "/srv/gate/lane.log.zst": {true, true}, "/srv/gate/gate.db": {false,
			true}, "/run/x.log": {false, false}} {
		assert.Equal(t, want, [2]bool{logLike(path), packed(path)}, path)
	}
	for info, want := range map[string][2]bool{"pos:\t0\nflags:\t0102001\nmnt_id:\t4\n": {true, true},
		"flags:\t02\n": {true, false}, "flags:\t0102002\n": {true, true}, "flags:\t01\n": {true, true},
		"pos:\t0\nflags:\t0100000\n": {false, false}, "flags:\tx\n": {false, false}, "": {false, false}} {
		writes, adds := forWriting([]byte(info))
		assert.Equal(t, want, [2]bool{writes, adds}, "%q", info)
	}
}

// TestOpenLogsAnywhere: a log that a program holds open is found wherever it lies, whatever it is called.
func TestOpenLogsAnywhere(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "ferry.data")
	f, err := os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	require.NoError(t, err)
	defer f.Close()
	_, err = f.WriteString(
		"2031-04-02 06:15:09 INFO gate opens\n2031-04-02 06:15:10 WARN ramp is slow\n2031-04-02 06:15:11 INFO gate " +
			"shuts\n",
	)
	require.NoError(t, err)
	holder := exec.Command("sleep", "60") // another program than the agent has it open
	holder.Stdout = f
	require.NoError(t, holder.Start())
	t.Cleanup(func() { _ = holder.Process.Kill(); _ = holder.Wait() })
	l := Looker{
		State:   "/nowhere",
		Takes:   func(string) bool { return false },
		Folders: func() []string { return nil },
		Now:     time.Now,
	}
	logs, err := l.Logs(context.Background(), nil)
	require.NoError(t, err)
	i := slices.IndexFunc(logs.Items, func(x wire.Log) bool { return x.Path == path })
	require.GreaterOrEqual(t, i, 0, "%+v", logs.Items)
	assert.Equal(t, []any{"template", "sleep"}, []any{logs.Items[i].Kind, logs.Items[i].Program})
}
