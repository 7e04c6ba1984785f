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
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"synaxis/internal/agent/buffer"
	"synaxis/internal/core/wire"
)

// Sizes of what identifies a file: the hash of its beginning, and the bytes before the position.
const (
	HeadSize = 1024
	TailSize = 64
)

// File is what is known of one file of one source.
type File struct {
	Source  string `json:"source"`
	Path    string `json:"path"` // where it was seen last
	Dev     uint64 `json:"dev"`
	Ino     uint64 `json:"ino"`
	HeadLen int    `json:"headLen"`
	Head    string `json:"head"`
	Tail    string `json:"tail"`
	Offset  int64  `json:"offset"`
	// it had left its path when it was closed: another file may have its inode by now
	Moved   bool  `json:"moved,omitempty"`
	Missing int64 `json:"missing,omitempty"` // seconds in which the agent ran and saw its folder without it
	// Stream is drawn when the file is found or begins anew: with a place in the file it names a record for ever.
	Stream uint64  `json:"stream,omitempty"`
	Ahead  []Ahead `json:"ahead,omitempty"` // by name
	// how large a packed file was that was read to its end; 0 for another one
	Packed int64 `json:"packed,omitempty"`
	// where an input goes on that is no file, in its own words
	Place string `json:"place,omitempty"`
}

// Ahead is a destination that has settled more than Offset.
type Ahead struct {
	Destination string `json:"destination"`
	Offset      int64  `json:"offset"`
}

// Same tells whether both say the same.
func (f File) Same(o File) bool {
	a, b := f.Ahead, o.Ahead
	f.Ahead, o.Ahead = nil, nil
	return slices.Equal(a, b) && reflect.DeepEqual(f, o)
}

// Key tells files of a source apart.
type Key struct {
	Source string `json:"source"`
	Dev    uint64 `json:"dev"`
	Ino    uint64 `json:"ino"`
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

// state is the file on disk, as of its last folding.
type state struct {
	Began    time.Time               `json:"began"`
	Fold     int                     `json:"fold"` // counts up; a journal belongs to one of them
	Files    []File                  `json:"files"`
	Numbers  map[string]wire.Numbers `json:"numbers"`
	Patterns map[string]time.Time    `json:"patterns"` // source and pattern, when first looked at
	Lanes    []Lane                  `json:"lanes,omitempty"`
}

// Lane is how far the buffer of a source at a destination is settled.
type Lane struct {
	buffer.Key
	buffer.Mark
}

// Store holds positions in memory. What changed is appended to a journal, which is folded into a new file of
// everything now and then, so that a write costs what changed and not how much there is.
type Store struct {
	mu       sync.Mutex
	path     string
	began    time.Time
	files    map[Key]File
	numbers  map[string]wire.Numbers
	patterns map[string]time.Time
	lanes    map[buffer.Key]buffer.Mark
	reread   bool

	changed map[Key]bool        // files that are not written yet
	counted map[string]bool     // sources whose numbers are not
	looked  map[string]bool     // patterns
	marked  map[buffer.Key]bool // lanes
	fold    bool                // the journal is of no use: write everything

	saving  sync.Mutex // one Save at a time
	journal *os.File
	length  int64 // of the journal
	size    atomic.Int64
	base    int64 // of the file it belongs to
	folds   int
}

// KeepMissing is how long, in time in which the agent ran and saw its folder without it, a file is remembered.
const KeepMissing = 24 * time.Hour

// foldAfter is how long a journal may be before it is folded, in bytes; it may also be as long as what it is folded
// into.
const foldAfter = 1 << 20

// Damaged says that positions cannot be read any more.
type Damaged struct {
	Path string
	Err  error
}

func (d Damaged) Error() string {
	return fmt.Sprintf(
		"positions in %s are damaged, and so are those before them: %v; start the agent once with --reread: it then "+
			"reads every file from its start, so that nothing is lost, and what was delivered before comes twice",
		d.Path,
		d.Err,
	)
}

// Unwrap gives what is wrong with the file.
func (d Damaged) Unwrap() error { return d.Err }

// Options say how a store is opened.
type Options struct {
	Now    time.Time
	Reread bool // damaged positions are begun anew, and every file is then read from its start
	Log    *slog.Logger
}

// Open reads the store, or begins a new one. Where its file is damaged, the one before is taken: what was settled
// since comes twice.
func Open(path string, o Options) (*Store, error) {
	s := &Store{
		path:     path,
		began:    o.Now,
		files:    map[Key]File{},
		numbers:  map[string]wire.Numbers{},
		patterns: map[string]time.Time{},
		changed:  map[Key]bool{},
		counted:  map[string]bool{},
		looked:   map[string]bool{},
		lanes:    map[buffer.Key]buffer.Mark{},
		marked:   map[buffer.Key]bool{},
	}
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	err := s.read(path)
	if err == nil {
		err = s.replay()
		return s, err
	}
	_, missing := os.Stat(s.beforePath())
	if errors.Is(err, fs.ErrNotExist) && errors.Is(missing, fs.ErrNotExist) {
		return s, nil
	}
	var unreadable *fs.PathError
	if errors.As(err, &unreadable) && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("read positions: %w", err)
	}
	s.fold = true
	if again := s.read(s.beforePath()); again == nil {
		o.Log.Warn(
			"the positions are damaged or gone; those before them are taken, and what was settled since comes twice",
			"path",
			path,
			"error",
			err,
		)
		return s, nil
	}
	if !o.Reread {
		return nil, Damaged{path, err}
	}
	s.reread = true
	o.Log.Warn("the positions are damaged; every file is read from its start", "path", path, "error", err)
	return s, nil
}

// read takes everything that a file says.
func (s *Store) read(path string) error {
	text, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	var st state
	if err := json.Unmarshal(text, &st); err != nil {
		return err
	}
	s.began, s.base, s.folds = st.Began, int64(len(text)), st.Fold
	for _, f := range st.Files {
		s.files[f.Key()] = f
	}
	if st.Numbers != nil {
		s.numbers = st.Numbers
	}
	if st.Patterns != nil {
		s.patterns = st.Patterns
	}
	for _, l := range st.Lanes {
		s.lanes[l.Key] = l.Mark
	}
	return nil
}

// Size is how many bytes the positions take on disk.
func (s *Store) Size() int64 { return s.size.Load() }

// measure notes how many bytes the positions take, with the file before this one.
func (s *Store) measure() { s.size.Store(2*s.base + s.length) }

// Began is when the numbers began.
func (s *Store) Began() time.Time { return s.began }

// Reread tells whether positions were lost, so that every file must be read from its start.
func (s *Store) Reread() bool { return s.reread }

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

// File returns what is known of one file.
func (s *Store) File(k Key) (File, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	f, ok := s.files[k]
	return f, ok
}

// Put remembers a file.
func (s *Store) Put(f File) {
	s.mu.Lock()
	defer s.mu.Unlock()
	k := f.Key()
	if old, ok := s.files[k]; ok && old.Same(f) {
		return
	}
	s.files[k] = f
	s.changed[k] = true
}

// Forget drops a file.
func (s *Store) Forget(k Key) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if _, ok := s.files[k]; ok {
		delete(s.files, k)
		s.changed[k] = true
	}
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
	s.looked[k] = true
	return true
}

// Marks are how far buffers are settled.
func (s *Store) Marks() map[buffer.Key]buffer.Mark {
	s.mu.Lock()
	defer s.mu.Unlock()
	return maps.Clone(s.lanes)
}

// SetMarks remembers how far buffers are settled. Those that are not among them are forgotten.
func (s *Store) SetMarks(marks map[buffer.Key]buffer.Mark) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for k, m := range marks {
		if s.lanes[k] != m {
			s.lanes[k] = m
			s.marked[k] = true
		}
	}
	for k := range s.lanes {
		if _, ok := marks[k]; !ok {
			delete(s.lanes, k)
			s.marked[k] = true
		}
	}
}

// Rename gives what is known of a source, or of a destination, its new name.
func (s *Store) Rename(source, destination map[string]string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for k, f := range s.files {
		was := f
		f.Ahead = slices.Clone(f.Ahead)
		for i := range f.Ahead {
			if now, ok := destination[f.Ahead[i].Destination]; ok {
				f.Ahead[i].Destination = now
			}
		}
		slices.SortFunc(f.Ahead, func(a, b Ahead) int { return strings.Compare(a.Destination, b.Destination) })
		if now, ok := source[k.Source]; ok {
			f.Source = now
		}
		if f.Same(was) {
			continue
		}
		if f.Source != k.Source {
			delete(s.files, k)
			s.changed[k] = true
		}
		s.files[f.Key()] = f
		s.changed[f.Key()] = true
	}
	for was, now := range source {
		if n, ok := s.numbers[was]; ok {
			delete(s.numbers, was)
			s.numbers[now] = n
			s.counted[was], s.counted[now] = true, true
		}
		for k, at := range s.patterns {
			if pattern, ok := strings.CutPrefix(k, was+"\n"); ok {
				delete(s.patterns, k)
				s.patterns[now+"\n"+pattern] = at
				s.looked[k], s.looked[now+"\n"+pattern] = true, true
			}
		}
	}
	for name, n := range s.numbers {
		for was, now := range destination {
			d, ok := n.Deliveries[was]
			if _, taken := n.Deliveries[now]; !ok || taken {
				continue
			}
			n = n.Clone()
			delete(n.Deliveries, was)
			n.Deliveries[now] = d
			s.numbers[name], s.counted[name] = n, true
		}
	}
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
	if _, any := n.Since(s.numbers[source]); !any && maps.Equal(n.Deliveries, s.numbers[source].Deliveries) {
		return
	}
	s.numbers[source] = n
	s.counted[source] = true
}

// Save makes what changed safe: appended to the journal and synced, or, when that has become long, everything in a new
// file, synced, renamed over the old one, and the folder synced. On an error it is tried again by the next Save.
func (s *Store) Save() error {
	s.saving.Lock()
	defer s.saving.Unlock()
	s.mu.Lock()
	lines, fold := s.lines()
	changed, counted, looked, marked := s.changed, s.counted, s.looked, s.marked
	fold = fold || s.fold || s.length > max(foldAfter, s.base)
	var text []byte
	var err error
	if fold {
		text, err = s.everything()
	}
	if len(lines) > 0 || fold {
		s.changed, s.counted, s.looked = map[Key]bool{}, map[string]bool{}, map[string]bool{}
		s.marked = map[buffer.Key]bool{}
	}
	s.mu.Unlock()
	switch {
	case err != nil:
	case fold:
		err = s.rewrite(text)
	case len(lines) > 0:
		err = s.append(lines)
	}
	if err == nil {
		return nil
	}
	s.mu.Lock()
	maps.Copy(s.changed, changed)
	maps.Copy(s.counted, counted)
	maps.Copy(s.looked, looked)
	maps.Copy(s.marked, marked)
	s.mu.Unlock()
	return fmt.Errorf("write positions: %w", err)
}

// Close lets go of the journal.
func (s *Store) Close() {
	s.saving.Lock()
	defer s.saving.Unlock()
	if s.journal != nil {
		s.journal.Close()
		s.journal = nil
	}
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
