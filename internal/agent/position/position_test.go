package position

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/wire"
)

func open(t *testing.T, path string) *Store {
	t.Helper()
	s, err := Open(path, Options{Now: time.Now()})
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

func TestStore(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "p.json")
	now := time.Now()
	s := open(t, path)
	assert.True(t, s.FirstLook("a", "/x/*", now))
	assert.False(t, s.FirstLook("a", "/x/*", now))
	assert.True(t, s.FirstLook("b", "/x/*", now))
	f := File{Source: "a", Path: "/x/1", Dev: 1, Ino: 2, HeadLen: 3, Head: "h", Tail: "t", Offset: 9}
	s.Put(f)
	s.SetNumbers("a", wire.Numbers{Read: 4})
	require.NoError(t, s.Save())
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	for range 3 { // by the file alone, then with a journal of some lines
		f.Offset += 10
		s.Put(f)
		s.SetNumbers("a", wire.Numbers{Read: f.Offset})
		require.NoError(t, s.Save())
		s = open(t, path)
		require.Len(t, s.Files("a"), 1)
		assert.Equal(t, f, s.Files("a")[0])
		assert.Equal(t, f.Offset, s.Numbers("a").Read)
		assert.False(t, s.FirstLook("a", "/x/*", now))
	}
	s.Forget(f.Key())
	require.NoError(t, s.Save())
	assert.Empty(t, open(t, path).Files("a"))
	left, err := filepath.Glob(filepath.Join(filepath.Dir(path), ".*"))
	require.NoError(t, err)
	assert.Empty(t, left, "no temporary file is left")
}

// TestJournal: a save costs what changed; the journal is folded, survives being torn at any byte, and a failed save is
// made up for.
func TestJournal(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	path := filepath.Join(dir, "p.json")
	s := open(t, path)
	for i := range 2000 {
		s.Put(
			File{
				Source: "a",
				Path:   "/x/log",
				Dev:    1,
				Ino:    uint64(i),
				Head:   strings.Repeat("h", 64),
				Tail:   strings.Repeat("t", 128),
			},
		)
	}
	require.NoError(t, s.Save())
	whole := s.base
	for i := range 40 {
		f, ok := s.File(Key{"a", 1, 7})
		require.True(t, ok)
		f.Offset += int64(10 + i)
		s.Put(f)
		s.SetNumbers("a", wire.Numbers{Read: f.Offset})
		require.NoError(t, s.Save())
	}
	assert.Equal(t, whole, s.base, "nothing was folded")
	assert.Less(t, s.length, int64(40_000), "40 changes of one file of 2,000 are little to write")
	s.Close()

	journal, err := os.ReadFile(s.journalPath())
	require.NoError(t, err)
	last := int64(-1)
	for at := 0; at <= len(journal); at += 701 {
		require.NoError(t, os.WriteFile(s.journalPath(), journal[:at], 0o600))
		f, ok := open(t, path).File(Key{"a", 1, 7})
		require.True(t, ok)
		assert.GreaterOrEqual(t, f.Offset, last, "torn at %d", at)
		last = f.Offset
	}
	// What comes behind a torn line is not lost either.
	require.NoError(t, os.WriteFile(s.journalPath(), journal[:len(journal)-5], 0o600))
	s = open(t, path)
	f, _ := s.File(Key{"a", 1, 7})
	f.Offset = 1 << 40
	s.Put(f)
	require.NoError(t, s.Save())
	f, _ = open(t, path).File(Key{"a", 1, 7})
	assert.Equal(t, int64(1<<40), f.Offset)

	// A journal that has become long is folded.
	for i := range 1000 {
		f.Offset = int64(i)
		f.Path = "/x/" + strings.Repeat("long", 300)
		s.Put(f)
		require.NoError(t, s.Save())
	}
	assert.Less(t, s.length, int64(foldAfter)+whole)
	all, err := filepath.Glob(filepath.Join(dir, "*"))
	require.NoError(t, err)
	assert.LessOrEqual(t, len(all), 3, "%v", all)
	f, _ = open(t, path).File(Key{"a", 1, 7})
	assert.Equal(t, int64(999), f.Offset)
}

// TestDamaged: damaged or empty positions are replaced by those before them; where there are none the agent does not
// start, and says how it does without losing anything.
func TestDamaged(t *testing.T) {
	t.Parallel()
	for _, damage := range []string{"", "{", "\x00\x00\x00", `{"files": 7}`} {
		path := filepath.Join(t.TempDir(), "p.json")
		s := open(t, path)
		f := File{Source: "a", Path: "/x/1", Dev: 1, Ino: 2, Offset: 9}
		s.Put(f)
		require.NoError(t, s.Save())
		s.fold = true
		f.Offset = 20
		s.Put(f)
		require.NoError(t, s.Save())
		s.Close()
		require.NoError(t, os.WriteFile(path, []byte(damage), 0o600))
		s = open(t, path)
		assert.Equal(t, int64(9), s.Files("a")[0].Offset, "%q", damage)
		require.NoError(t, s.Save())
		require.NoError(t, os.WriteFile(path, []byte(damage), 0o600))
		require.NoError(t, os.WriteFile(s.beforePath(), []byte(damage), 0o600))
		_, err := Open(path, Options{Now: time.Now()})
		var d Damaged
		require.ErrorAs(t, err, &d)
		assert.ErrorContains(t, err, "--reread")
		s, err = Open(path, Options{Now: time.Now(), Reread: true})
		require.NoError(t, err)
		assert.True(t, s.Reread())
		s.Close()
	}
}

// TestFailedSaves: what could not be written is written by the next save that can.
func TestFailedSaves(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	path := filepath.Join(dir, "state", "p.json")
	s, err := Open(path, Options{Now: time.Now()})
	require.NoError(t, err)
	t.Cleanup(s.Close)
	s.FirstLook("a", "/x", time.Now())
	s.Put(File{Source: "a", Ino: 1, Offset: 5})
	s.SetNumbers("a", wire.Numbers{Read: 1})
	require.Error(t, s.Save())
	require.Error(t, s.Save(), "it stays to be done")
	require.NoError(t, os.Mkdir(filepath.Dir(path), 0o700))
	require.NoError(t, s.Save())
	back := open(t, path)
	assert.Len(t, back.Files("a"), 1)
	assert.Equal(t, int64(1), back.Numbers("a").Read)
	assert.False(t, back.FirstLook("a", "/x", time.Now()))
}

// TestIdentity: a file is the same when its beginning and the bytes before the position are.
func TestIdentity(t *testing.T) {
	t.Parallel()
	text := strings.Repeat("0123456789", 300)
	head, sum, err := Head(strings.NewReader(text), int64(len(text)))
	require.NoError(t, err)
	assert.Equal(t, HeadSize, head)
	tail, err := Tail(strings.NewReader(text), 2000)
	require.NoError(t, err)
	f := File{HeadLen: head, Head: sum, Tail: tail, Offset: 2000}
	change := func(at int) string { return text[:at] + "x" + text[at+1:] }
	for name, c := range map[string]struct {
		text string
		want bool
	}{
		"same": {text, true}, "longer": {text + "more", true}, "other end": {change(2500), true},
		"other beginning": {change(5), false},
		"other tail":      {change(1990), false}, "between": {change(1500), true}, "shorter": {text[:1999], false},
		"empty": {"", false},
	} {
		assert.Equal(t, c.want, f.Matches(strings.NewReader(c.text), int64(len(c.text))), name)
	}
	_, empty, err := Head(strings.NewReader(""), 0)
	require.NoError(t, err)
	assert.True(t, File{Head: empty}.Matches(strings.NewReader("grown"), 5), "nothing was read of it yet")
}
