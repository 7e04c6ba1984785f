// Package files reads log files as they grow: found by patterns, followed through rotation by renaming and by
// copying and truncating, and continued where their records were settled last.
//
// One goroutine serves one source. Sizes are polled; a file costs nothing but a look while it does not grow.
package files

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"synaxis/internal/agent/position"
	"synaxis/internal/agent/settle"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/record"
)

// Timings of the reader.
const (
	pollEvery  = 100 * time.Millisecond // sizes of open files
	scanEvery  = 500 * time.Millisecond // patterns
	movedFlush = time.Second            // the same, when the file was rotated away
	holdMoved  = time.Minute            // how long a file that is gone from its path stays open
	holdBegun  = time.Second            // how long a shorter file that begins like another waits to become its copy
	holdCopy   = 10 * time.Second       // how long a copy of a file waits for the original to be truncated
)

const (
	readSize   = 256 << 10
	maxRecords = 4096
)

// Out is where batches go: it encodes and queues one batch, and settles the entry when that is done. Edges is how many
// ways its records go. It blocks while a destination has no room, and calls waiting meanwhile; when ctx ends it queues at
// once.
type Out interface {
	Edges(b *record.Batch) int
	Send(ctx context.Context, b *record.Batch, e *settle.Entry, waiting func())
}

// Complaint is what is wrong with a source as its reader sees it.
type Complaint struct {
	Code, Reason string
	Since        time.Time
}

// Source is what a Reader needs to know.
type Source struct {
	Spec      pipeline.Source
	Treatment *pipeline.Treatment
	Origin    func(path string) *record.Origin
	Out       Out
	Store     *position.Store
	Book      *settle.Book
	Hints     *Hints
	Log       *slog.Logger
	Now       func() time.Time
}

// Reader reads the files of one source.
type Reader struct {
	Source
	mu        sync.Mutex // guards streams for Snapshot, and complaint
	streams   map[position.Key]*stream
	complaint Complaint
	copies    map[position.Key]time.Time // copies that wait for their original to be truncated
	batch     record.Batch
	lastScan  time.Time
	inScan    bool
	hint      chan struct{}
}

// stream is one open file.
type stream struct {
	file   *os.File
	info   position.File // identity; without Offset and Tail
	ledger *settle.Ledger
	origin *record.Origin
	read   int64  // up to where records were cut
	tail   []byte // the bytes before read
	size   int64
	grew   time.Time // when it last grew, or was opened
	moved  time.Time // since when it is gone from its path, or zero
	first  int64     // how much of it was there when it was opened: what its start holds is as old as the file

	// shrunk is set when a truncation was noticed. It is acted on at the next look at the patterns only: a list of paths
	// that was made before may lack the copy that has what was not read yet.
	shrunk bool

	saved     int64 // the offset that was saved last, with the bytes before it
	savedTail string
}

// New makes a reader. old may be the reader that served the source before; its open files are taken over.
func New(s Source, old *Reader) *Reader {
	r := &Reader{Source: s, streams: map[position.Key]*stream{}, copies: map[position.Key]time.Time{}, hint: make(chan struct{}, 1)}
	if old != nil {
		r.streams, r.copies = old.streams, old.copies
		for k, st := range r.streams {
			st.origin = s.Origin(st.info.Path)
			if st.moved.IsZero() && !r.wants(st.info.Path) {
				st.file.Close()
				delete(r.streams, k)
			}
		}
	}
	return r
}

// Run reads until ctx ends. The files stay open, for the next reader or Close.
func (r *Reader) Run(ctx context.Context) {
	defer r.Hints.Drop(r.hint)
	r.scan()
	r.findRotated()
	for ctx.Err() == nil {
		if r.Now().Sub(r.lastScan) >= scanEvery {
			r.scan()
		}
		if r.round(ctx) {
			continue
		}
		t := time.NewTimer(pollEvery)
		select {
		case <-ctx.Done():
		case <-r.hint:
			r.lastScan = time.Time{}
		case <-t.C:
		}
		t.Stop()
	}
}

// Close closes the files. Positions are kept.
func (r *Reader) Close() {
	r.Save()
	r.mu.Lock()
	defer r.mu.Unlock()
	for k, st := range r.streams {
		st.file.Close()
		delete(r.streams, k)
	}
}

// Complaint returns what is wrong, or an empty one.
func (r *Reader) Complaint() Complaint {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.complaint
}

func (r *Reader) complain(code, reason string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.complaint.Code != code {
		r.complaint.Since = r.Now()
	}
	r.complaint.Code, r.complaint.Reason = code, reason
}

// Save puts the settled offsets and numbers into the store; writing it to disk is the caller's.
func (r *Reader) Save() {
	r.mu.Lock()
	defer r.mu.Unlock()
	list := make([]*stream, 0, len(r.streams))
	ledgers := make([]*settle.Ledger, 0, len(r.streams))
	for _, st := range r.streams {
		list = append(list, st)
		ledgers = append(ledgers, st.ledger)
	}
	offsets, numbers := r.Book.Snapshot(ledgers)
	for i, st := range list {
		if st.savedTail == "" || st.saved != offsets[i] {
			tail, err := position.Tail(st.file, offsets[i])
			if err != nil {
				continue // it shrank under us; the scan will see it
			}
			st.saved, st.savedTail = offsets[i], tail
		}
		f := st.info
		f.Offset, f.Tail, f.Seen = st.saved, st.savedTail, r.Now()
		r.Store.Put(f)
	}
	r.Store.SetNumbers(r.Spec.Name, numbers)
}

// found is a path that a pattern matches.
type found struct {
	path  string
	info  fs.FileInfo
	first bool // there when its pattern was first looked at
}

// expand looks the patterns up.
func (r *Reader) expand() (list []found, anyFirst bool, unreadable string) {
	seen := map[string]bool{}
	for _, pattern := range r.Spec.Files {
		first := r.Store.FirstLook(r.Spec.Name, pattern, r.Now())
		anyFirst = anyFirst || first
		base, _ := doublestar.SplitPattern(filepath.ToSlash(pattern))
		r.Hints.Watch(base, r.hint)
		paths, err := doublestar.FilepathGlob(pattern, doublestar.WithFilesOnly())
		if err != nil {
			unreadable = fmt.Sprintf("pattern %s: %v", pattern, err)
		}
		for _, p := range paths {
			if seen[p] || r.excepted(p) {
				continue
			}
			seen[p] = true
			r.Hints.Watch(filepath.Dir(p), r.hint)
			info, err := os.Stat(p)
			if err != nil || !info.Mode().IsRegular() {
				continue
			}
			list = append(list, found{p, info, first})
		}
	}
	return list, anyFirst, unreadable
}

// Takes tells whether the source reads a path.
func (r *Reader) Takes(path string) bool { return r.wants(path) }

// wants tells whether the patterns take a path.
func (r *Reader) wants(path string) bool {
	for _, pattern := range r.Spec.Files {
		if ok, _ := doublestar.PathMatch(pattern, path); ok {
			return !r.excepted(path)
		}
	}
	return false
}

// excepted tells whether a pattern of except takes the path out. A pattern without a slash is for the base name.
func (r *Reader) excepted(path string) bool {
	for _, pattern := range r.Spec.Except {
		name := path
		if !strings.Contains(pattern, "/") {
			name = filepath.Base(path)
		}
		if ok, _ := doublestar.Match(pattern, name); ok {
			return true
		}
	}
	return false
}

// scan looks at the patterns and at every open file.
func (r *Reader) scan() {
	if r.inScan {
		return
	}
	r.inScan = true
	defer func() { r.inScan = false }()
	now := r.Now()
	r.lastScan = now
	list, first, trouble := r.expand()
	at := map[position.Key]found{}
	for _, f := range list {
		dev, ino := position.Identity(f.info)
		at[position.Key{Source: r.Spec.Name, Dev: dev, Ino: ino}] = f
	}
	var fresh []position.Key
	for k := range at {
		if r.streams[k] == nil {
			fresh = append(fresh, k)
		}
	}
	slices.SortFunc(fresh, func(a, b position.Key) int { return at[a].info.ModTime().Compare(at[b].info.ModTime()) })
	for _, k := range fresh {
		if err := r.open(k, at[k]); err != nil && !errors.Is(err, fs.ErrNotExist) {
			trouble = err.Error()
		}
	}
	if first { // before anything is read: after a crash a second first look would pass over what came since this one
		r.Save()
		if err := r.Store.Save(); err != nil {
			trouble = err.Error()
		}
	}
	for k := range r.copies {
		if _, ok := at[k]; !ok {
			delete(r.copies, k)
		}
	}
	for k, st := range r.streams {
		if f, ok := at[k]; ok {
			st.moved = time.Time{}
			if st.info.Path != f.path {
				r.mu.Lock()
				st.info.Path, st.origin = f.path, r.Origin(f.path)
				r.mu.Unlock()
			}
		} else if st.moved.IsZero() {
			st.moved = now
		}
		r.look(st)
		if !st.moved.IsZero() && st.read >= st.size && st.ledger.Idle() && now.Sub(st.moved) > holdMoved && now.Sub(st.grew) > holdMoved {
			r.Save()
			r.mu.Lock()
			st.file.Close()
			delete(r.streams, k)
			r.mu.Unlock()
		}
	}
	switch {
	case trouble != "":
		r.complain("not-readable", trouble)
	case len(list) == 0 && len(r.streams) == 0:
		r.complain("path-matches-nothing", "no file matches "+strings.Join(r.Spec.Files, ", "))
	default:
		r.complain("", "")
	}
}

// open begins to read a file that is not open yet.
func (r *Reader) open(k position.Key, f found) error {
	file, err := os.Open(f.path)
	if err != nil {
		return err
	}
	info, err := file.Stat()
	if err != nil {
		file.Close()
		return err
	}
	if dev, ino := position.Identity(info); dev != k.Dev || ino != k.Ino {
		file.Close()
		return nil // replaced since; the next scan sees the new one
	}
	size := info.Size()
	for _, known := range r.Store.Files(r.Spec.Name) {
		if known.Key() == k {
			offset := int64(0)
			if known.Matches(file, size) {
				offset = known.Offset
			} else if known.Offset > 0 {
				r.shrank(f.path, known.Offset, size)
			}
			return r.begin(k, f.path, file, size, offset, nil)
		}
	}
	if verdict, from := r.copyOf(k, file, size); verdict == copyYes {
		delete(r.copies, k)
		return r.inherit(k, f.path, file, size, from)
	} else if verdict == copyWait {
		file.Close()
		return nil
	}
	delete(r.copies, k)
	offset := int64(0)
	if f.first && r.Spec.FirstRead == "now" {
		offset = lineStart(file, size)
	}
	return r.begin(k, f.path, file, size, offset, nil)
}

func (r *Reader) begin(k position.Key, path string, file *os.File, size, offset int64, ledger *settle.Ledger) error {
	if ledger == nil {
		ledger = r.Book.Ledger(offset)
	}
	st := &stream{file: file, read: offset, ledger: ledger, origin: r.Origin(path), grew: r.Now(),
		info: position.File{Source: r.Spec.Name, Path: path, Dev: k.Dev, Ino: k.Ino}, size: size, first: size}
	var err error
	if st.info.HeadLen, st.info.Head, err = position.Head(file, size); err == nil {
		st.tail = make([]byte, min(offset, position.TailSize))
		_, err = file.ReadAt(st.tail, offset-int64(len(st.tail)))
	}
	if err != nil && !errors.Is(err, io.EOF) {
		file.Close()
		return err
	}
	r.mu.Lock()
	r.streams[k] = st
	r.mu.Unlock()
	return nil
}

// mark is what identifies the file as far as it was read.
func (st *stream) mark() position.File {
	m := st.info
	m.Offset, m.Tail = st.read, hex.EncodeToString(st.tail)
	return m
}

// lineStart is the beginning of the last line that is not finished, so that a file taken from now on is not cut in
// the middle of a line.
func lineStart(file io.ReaderAt, size int64) int64 {
	buf := make([]byte, min(size, 64<<10))
	n, _ := file.ReadAt(buf, size-int64(len(buf)))
	for i := n - 1; i >= 0; i-- {
		if buf[i] == '\n' {
			return size - int64(n) + int64(i) + 1
		}
	}
	return size
}
