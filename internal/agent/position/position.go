// Package position keeps on disk how far each file has been settled, how to know it again, and what was counted.
package position

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"synaxis/internal/core/wire"
)

// Sizes of what identifies a file: the hash of its beginning, and the bytes before the position.
const (
	HeadSize = 1024
	TailSize = 64
)

// File is what is known of one file of one source.
type File struct {
	Source  string    `json:"source"`
	Path    string    `json:"path"` // where it was seen last
	Dev     uint64    `json:"dev"`
	Ino     uint64    `json:"ino"`
	HeadLen int       `json:"headLen"`
	Head    string    `json:"head"`
	Tail    string    `json:"tail"`
	Offset  int64     `json:"offset"`
	Seen    time.Time `json:"seen"`
}

// Key tells files of a source apart.
type Key struct {
	Source   string
	Dev, Ino uint64
}

// Key returns the key of a file.
func (f File) Key() Key { return Key{f.Source, f.Dev, f.Ino} }

// Identity reads device and inode.
func Identity(info fs.FileInfo) (dev, ino uint64) {
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return uint64(st.Dev), st.Ino
	}
	return 0, 0
}

// Head hashes the beginning of a file, up to HeadSize bytes of the first size.
func Head(r io.ReaderAt, size int64) (length int, sum string, err error) {
	buf := make([]byte, min(size, HeadSize))
	n, err := r.ReadAt(buf, 0)
	if err != nil && !errors.Is(err, io.EOF) {
		return 0, "", err
	}
	h := sha256.Sum256(buf[:n])
	return n, hex.EncodeToString(h[:]), nil
}

// Tail returns the up to TailSize bytes before an offset, in hexadecimal.
func Tail(r io.ReaderAt, offset int64) (string, error) {
	buf := make([]byte, min(offset, TailSize))
	n, err := r.ReadAt(buf, offset-int64(len(buf)))
	if err != nil && (!errors.Is(err, io.EOF) || n < len(buf)) {
		return "", err
	}
	return hex.EncodeToString(buf), nil
}

// Matches tells whether an open file continues what f describes: as long, with the same beginning and the same bytes
// before the position.
func (f File) Matches(r io.ReaderAt, size int64) bool {
	if size < f.Offset || size < int64(f.HeadLen) {
		return false
	}
	n, sum, err := Head(r, int64(f.HeadLen))
	if err != nil || n != f.HeadLen || sum != f.Head {
		return false
	}
	tail, err := Tail(r, f.Offset)
	return err == nil && tail == f.Tail
}

// state is the file on disk.
type state struct {
	Began    time.Time               `json:"began"`
	Files    []File                  `json:"files"`
	Numbers  map[string]wire.Numbers `json:"numbers"`
	Patterns map[string]time.Time    `json:"patterns"` // source and pattern, when first looked at
}

// Store holds positions in memory and writes them as a whole.
type Store struct {
	mu       sync.Mutex
	path     string
	began    time.Time
	files    map[Key]File
	numbers  map[string]wire.Numbers
	patterns map[string]time.Time
	dirty    bool
}

// keep is how long a file that is seen no more is remembered.
const keep = 7 * 24 * time.Hour

// Open reads the store, or begins a new one.
func Open(path string, now time.Time) (*Store, error) {
	s := &Store{path: path, began: now, files: map[Key]File{}, numbers: map[string]wire.Numbers{}, patterns: map[string]time.Time{}}
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return s, nil
	}
	if err != nil {
		return nil, fmt.Errorf("read positions: %w", err)
	}
	var st state
	if err := json.Unmarshal(text, &st); err != nil {
		return nil, fmt.Errorf("positions in %s are damaged: %w; move the file away to begin anew", path, err)
	}
	s.began = st.Began
	for _, f := range st.Files {
		if now.Sub(f.Seen) < keep {
			s.files[f.Key()] = f
		}
	}
	if st.Numbers != nil {
		s.numbers = st.Numbers
	}
	if st.Patterns != nil {
		s.patterns = st.Patterns
	}
	return s, nil
}

// Began is when the numbers began.
func (s *Store) Began() time.Time { return s.began }

// Files returns what is known of a source.
func (s *Store) Files(source string) []File {
	s.mu.Lock()
	defer s.mu.Unlock()
	var out []File
	for k, f := range s.files {
		if k.Source == source {
			out = append(out, f)
		}
	}
	return out
}

// Put remembers a file.
func (s *Store) Put(f File) {
	s.mu.Lock()
	defer s.mu.Unlock()
	old := s.files[f.Key()]
	if old.Seen.Add(time.Hour).After(f.Seen) { // being seen again alone is not worth a write
		seen := f.Seen
		f.Seen = old.Seen
		if old == f {
			return
		}
		f.Seen = seen
	}
	s.files[f.Key()] = f
	s.dirty = true
}

// Forget drops a file.
func (s *Store) Forget(k Key) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.files, k)
	s.dirty = true
}

// FirstLook tells whether a pattern of a source is looked at for the first time, and remembers that it was.
func (s *Store) FirstLook(source, pattern string, now time.Time) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	k := source + "\n" + pattern
	if _, ok := s.patterns[k]; ok {
		return false
	}
	s.patterns[k] = now
	s.dirty = true
	return true
}

// Numbers returns what was counted of a source.
func (s *Store) Numbers(source string) wire.Numbers {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.numbers[source]
}

// SetNumbers remembers what was counted.
func (s *Store) SetNumbers(source string, n wire.Numbers) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if old := s.numbers[source]; old.Read == n.Read && old.Blank == n.Blank && old.Bytes == n.Bytes && old.Truncated == n.Truncated {
		return
	}
	s.numbers[source] = n
	s.dirty = true
}

// Save writes the store when anything changed: a new file, synced, renamed over the old one, and the folder synced.
func (s *Store) Save() error {
	s.mu.Lock()
	if !s.dirty {
		s.mu.Unlock()
		return nil
	}
	st := state{Began: s.began, Numbers: s.numbers, Patterns: s.patterns}
	for _, f := range s.files {
		st.Files = append(st.Files, f)
	}
	text, err := json.Marshal(st)
	s.dirty = false
	s.mu.Unlock()
	if err == nil {
		err = WriteFile(s.path, text, 0o600)
	}
	if err != nil {
		s.mu.Lock()
		s.dirty = true
		s.mu.Unlock()
		return fmt.Errorf("write positions: %w", err)
	}
	return nil
}

// WriteFile replaces a file so that after a crash either the old or the new one is there, whole.
func WriteFile(path string, text []byte, mode fs.FileMode) error {
	dir := filepath.Dir(path)
	tmp, err := os.CreateTemp(dir, "."+filepath.Base(path)+".*")
	if err != nil {
		return err
	}
	defer os.Remove(tmp.Name())
	if _, err = tmp.Write(text); err == nil {
		err = tmp.Chmod(mode)
	}
	if err == nil {
		err = tmp.Sync()
	}
	if cerr := tmp.Close(); err == nil {
		err = cerr
	}
	if err == nil {
		err = os.Rename(tmp.Name(), path)
	}
	if err != nil {
		return err
	}
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}
