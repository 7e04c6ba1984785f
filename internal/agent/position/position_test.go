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

func TestStore(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "p.json")
	now := time.Now()
	s, err := Open(path, now)
	require.NoError(t, err)
	assert.True(t, s.FirstLook("a", "/x/*", now))
	assert.False(t, s.FirstLook("a", "/x/*", now))
	assert.True(t, s.FirstLook("b", "/x/*", now))
	f := File{Source: "a", Path: "/x/1", Dev: 1, Ino: 2, HeadLen: 3, Head: "h", Tail: "t", Offset: 9, Seen: now}
	s.Put(f)
	s.Put(File{Source: "a", Path: "/x/old", Ino: 3, Seen: now.Add(-8 * 24 * time.Hour)})
	s.SetNumbers("a", wire.Numbers{Read: 4})
	require.NoError(t, s.Save())
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	s, err = Open(path, now)
	require.NoError(t, err)
	require.Len(t, s.Files("a"), 1, "what was not seen for long is forgotten")
	assert.Equal(t, int64(9), s.Files("a")[0].Offset)
	assert.Equal(t, int64(4), s.Numbers("a").Read)
	assert.False(t, s.FirstLook("a", "/x/*", now))
	s.Forget(f.Key())
	assert.Empty(t, s.Files("a"))
	require.NoError(t, os.WriteFile(path, []byte("{"), 0o600))
	_, err = Open(path, now)
	assert.ErrorContains(t, err, "damaged")
	left, err := filepath.Glob(filepath.Join(filepath.Dir(path), ".*"))
	require.NoError(t, err)
	assert.Empty(t, left, "no temporary file is left")
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
		"same": {text, true}, "longer": {text + "more", true}, "other end": {change(2500), true}, "other beginning": {change(5), false},
		"other tail": {change(1990), false}, "between": {change(1500), true}, "shorter": {text[:1999], false}, "empty": {"", false},
	} {
		assert.Equal(t, c.want, f.Matches(strings.NewReader(c.text), int64(len(c.text))), name)
	}
	_, empty, err := Head(strings.NewReader(""), 0)
	require.NoError(t, err)
	assert.True(t, File{Head: empty}.Matches(strings.NewReader("grown"), 5), "nothing was read of it yet")
}
