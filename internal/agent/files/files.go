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
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"synaxis/internal/core/health"
	"sync"
	"syscall"
	"time"

	"synaxis/internal/agent/input"
	"synaxis/internal/agent/position"
	"synaxis/internal/agent/settle"
	"synaxis/internal/core/record"
)

// Timings of the reader.
const (
	pollEvery  = 100 * time.Millisecond // sizes of open files
	scanEvery  = 500 * time.Millisecond // patterns, when that is quickly done
	scanAtMost = 10 * time.Second       // and when it is not: no more than one part in scanShare of the time
	// sizes of files that have not grown for IdleAfter; a hint of the system comes first
	idleEvery  = 2 * time.Second
	IdleAfter  = 10 * time.Second
	missEvery  = time.Minute      // files that are known and not there
	still      = time.Second      // how long a file must have been still before its place is given to another
	stillLate  = pollEvery        // the same, while a file that has something new waits for a place
	movedFlush = time.Second      // the same, when the file was rotated away
	holdMoved  = time.Minute      // how long a file that is gone from its path stays open
	holdBegun  = time.Second      // how long a shorter file that begins like another waits to become its copy
	holdCopy   = 10 * time.Second // how long a copy of a file waits for the original to be truncated
)

const (
	readSize   = 256 << 10
	maxRecords = 4096
	holeSize   = 4096 // that is read where a file has only room, to see whether it is filled
	firstShare = 4    // of so many reads one is of a file that is read for the first time
	scanShare  = 200  // of the time that a look at the patterns took passes before the next one
	hintShare  = 20   // the same, when the system says that a file appeared
)

// Source is what a Reader is made of.
type Source struct {
	input.Parts
	Hints *Hints
	Slots *Slots // nil for any number of open files
	Own   string // the agent's own folder, without links, in which nothing is read
	// Probes are files that are read beside those of the patterns, from their start; nil for none. They count for
	// nothing that is said of the source's own files.
	Probes func() []string
	// Named are files that a program of the host names, beside those of the patterns, and what is wrong with it; nil
	// for none.
	Named func() (paths []string, trouble input.Complaint)
}

// Reader reads the files of one source. One goroutine, that of Run, changes what it holds; the lock is for those who
// look on.
type Reader struct {
	Source
	mu        sync.Mutex // guards streams, their positions and marks, packed, complaint and gone
	streams   map[position.Key]*stream
	packed    map[position.Key]packedFile
	complaint input.Complaint
	gone      bool // another reader has taken over: nothing is saved any more

	copies map[position.Key]waitingCopy
	// files that were found truncated when they were to be opened: they are begun anew at the next look, after their
	// copies, which the list of paths at hand may lack
	cut map[position.Key]bool
	// deleted files that may come again packed, the oldest first
	gonePacked []goneFile
	there      map[position.Key]found // at the last look
	unpacking  map[position.Key]*unpacking
	batch      record.Batch
	lastScan   time.Time
	scanCost   time.Duration
	lastMiss   time.Time
	missing    map[position.Key]time.Duration
	turn       int
	rests      bool // no file has grown lately, and none waits
	inTurns    int  // files that wait until another one gives its place away, or gave theirs
	late       int  // those of them that have something new
	inScan     bool
	lost       string // what was let go before it was read
	lostAt     time.Time
	fresh      bool // a stream began that is not written down yet
	bounds     bounds
	hint       chan struct{}
	written    *written
}

// waitingCopy is a file that looks like the copy of another, and waits for that one to be truncated.
type waitingCopy struct {
	since  time.Time
	offset int64 // from which on it is read if it is none
}

// stream is one open file.
type stream struct {
	file   *os.File
	info   position.File // identity; without Offset and Tail
	ledger *settle.Ledger
	origin *record.Origin
	uid    []byte // what the ids of its records begin with; nil for none
	read   int64  // up to where records were cut
	tail   []byte // the bytes before read
	size   int64
	grew   time.Time // when it last grew, or was opened
	wrote  time.Time // when it was last written to, as far as is known
	looked time.Time
	tried  time.Time // when nothing could be cut from it
	hole   bool      // what comes next is room that its writer has made
	moved  time.Time // since when it is gone from its path, or zero
	// its last name is gone, since when: its room is given back only when it is closed
	deleted bool
	gone    time.Time
	probe   bool
	packed  int64 // how large the file is that it was unpacked from; 0 for none
	first   int64 // how much of it was there when it was opened: what its start holds is as old as the file
	begun   bool  // it was known before it was opened, so that what waits in it is not read for the first time
	marks   []mark

	// shrunk is set when a truncation was noticed. It is acted on at the next look at the patterns only: a list of
	// paths that was made before may lack the copy that has what was not read yet.
	shrunk bool

	saved position.File // what was saved last; without HeadLen when nothing was
}

// New makes a reader. old may be the reader that served the source before, which must have ended; its open files are
// taken over, and what it would still save is not.
func New(s Source, old *Reader) *Reader {
	r := &Reader{
		Source:  s,
		streams: map[position.Key]*stream{},
		packed:  map[position.Key]packedFile{},
		copies:  map[position.Key]waitingCopy{},
		cut:     map[position.Key]bool{},

		unpacking: map[position.Key]*unpacking{},
		missing:   map[position.Key]time.Duration{},
		hint:      make(chan struct{}, 1),
		written:   newWritten(),
		bounds:    bounds{own: s.Own, follow: s.Spec.Links == "follow", bases: map[string]string{}},
	}
	for _, known := range s.Store.Files(s.Spec.Name) {
		if known.Dev == 0 {
			r.gonePacked = append(r.gonePacked, goneFile{known: known})
		}
	}
	if old != nil {
		old.mu.Lock()
		r.streams, r.copies, r.unpacking, r.gonePacked = old.streams, old.copies, old.unpacking, old.gonePacked
		old.unpacking = map[position.Key]*unpacking{}
		old.streams, old.gone = map[position.Key]*stream{}, true
		old.mu.Unlock()
		for k, st := range r.streams {
			st.origin = s.Origin(st.info.Path)
			r.name(st, st.info.Stream)
			if st.moved.IsZero() && !r.wants(st.info.Path) {
				r.shut(k, st)
			}
		}
	}
	return r
}

// shut closes a file.
func (r *Reader) shut(k position.Key, st *stream) {
	r.mu.Lock()
	defer r.mu.Unlock()
	st.file.Close()
	delete(r.streams, k)
	r.Slots.give()
}

// Run reads until ctx ends. The files stay open, for the next reader or Close.
func (r *Reader) Run(ctx context.Context) {
	defer r.Hints.Drop(r.hint)
	r.scan()
	r.findRotated()
	for ctx.Err() == nil {
		if r.Now().Sub(r.lastScan) >= r.scanPause() {
			r.scan()
		}
		if r.round(ctx) {
			continue
		}
		pause, fresh := pollEvery, (chan struct{})(nil)
		if r.rests {
			pause, fresh = scanEvery, r.written.fresh
		}
		t := time.NewTimer(pause)
		select {
		case <-ctx.Done():
		case <-r.hint:
			if r.Now().Sub(r.lastScan) >= hintShare*r.scanCost {
				r.scan()
			} else {
				time.AfterFunc(hintShare*r.scanCost, func() { // not lost, and not at once
					select {
					case r.hint <- struct{}{}:
					default:
					}
				})
			}
		case <-fresh:
		case <-t.C:
		}
		t.Stop()
	}
}

// Close closes the files. Positions are kept.
func (r *Reader) Close() {
	r.Save()
	for _, u := range r.unpacking {
		go u.drop()
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	for k, st := range r.streams {
		st.file.Close()
		delete(r.streams, k)
		r.Slots.give()
	}
}

// Complaint returns what is wrong, or an empty one.
func (r *Reader) Complaint() input.Complaint {
	r.mu.Lock()
	defer r.mu.Unlock()
	if e := r.Spec.Watch.File; r.complaint.Code == "" && e.Every > 0 {
		grew := map[string]time.Time{}
		for _, st := range r.streams {
			if !st.probe && st.moved.IsZero() {
				grew[st.info.Path] = st.wrote
			}
		}
		if reason, since := health.SilentFiles(e, grew, r.Now()); reason != "" {
			return input.Complaint{Code: health.Silent, Reason: reason, Since: since}
		}
	}
	return r.complaint
}

func (r *Reader) complain(code health.Code, reason string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.complaint.Code != code {
		r.complaint.Since = r.Now()
	}
	r.complaint.Code, r.complaint.Reason = code, reason
}

// Save puts the settled offsets and numbers into the store, of files for which they changed; writing it to disk is the
// caller's.
func (r *Reader) Save() {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.gone {
		return
	}
	list := make([]*stream, 0, len(r.streams))
	ledgers := make([]*settle.Ledger, 0, len(r.streams))
	for _, st := range r.streams {
		list = append(list, st)
		ledgers = append(ledgers, st.ledger)
	}
	settled, numbers := r.Book.Snapshot(ledgers)
	for i, st := range list {
		f := st.info
		f.Offset, f.Tail, f.Ahead = offsetOf(settled[i].All), st.saved.Tail, aheadOf(settled[i].Ahead)
		if f.Same(st.saved) {
			continue
		}
		if f.Offset != st.saved.Offset || f.Tail == "" {
			tail, err := position.Tail(st.file, f.Offset)
			if err != nil {
				continue // it shrank under us; the scan will see it
			}
			f.Tail = tail
		}
		st.saved = f
		r.Store.Put(f)
	}
	r.Store.SetNumbers(r.Spec.Name, numbers)
}

// scan looks at the patterns and at every open file.
func (r *Reader) scan() {
	if r.inScan {
		return
	}
	r.inScan = true
	defer func() { r.inScan = false }()
	now := r.Now()
	list, first, trouble := r.expand()
	at := map[position.Key]found{}
	for _, f := range list {
		dev, ino := position.Identity(f.info)
		at[position.Key{Source: r.Spec.Name, Dev: dev, Ino: ino}] = f
	}
	r.there = at
	r.vacate(now)
	var fresh []position.Key
	read := map[position.Key]bool{}
	for k := range at {
		if r.streams[k] == nil {
			fresh = append(fresh, k)
			known, ok := r.Store.File(k)
			read[k] = ok && !known.Moved && known.Offset == at[k].info.Size()
		}
	}
	slices.SortFunc(fresh, func(a, b position.Key) int { // those with something new first, and of these the oldest
		if r.cut[a] != r.cut[b] {
			if r.cut[a] {
				return 1
			}
			return -1
		}
		if read[a] != read[b] {
			if read[a] {
				return 1
			}
			return -1
		}
		return at[a].info.ModTime().Compare(at[b].info.ModTime())
	})
	r.inTurns, r.late = 0, 0
	cut := len(r.cut)
	for _, k := range fresh {
		if err := r.open(k, at[k]); err != nil && !errors.Is(err, fs.ErrNotExist) {
			trouble = err.Error()
		}
	}
	again := len(r.cut) > cut
	for k := range r.copies {
		if _, ok := at[k]; !ok {
			delete(r.copies, k)
		}
	}
	for k, u := range r.unpacking {
		if _, ok := at[k]; !ok {
			go u.drop()
			delete(r.unpacking, k)
		}
	}
	for k := range r.cut {
		if _, ok := at[k]; !ok || r.streams[k] != nil {
			delete(r.cut, k)
		}
	}
	r.mu.Lock()
	for k := range r.packed {
		if _, ok := at[k]; !ok {
			delete(r.packed, k)
		}
	}
	r.mu.Unlock()
	for k, st := range r.streams {
		if f, ok := at[k]; ok {
			st.moved = time.Time{}
			if st.info.Path != f.path {
				r.mu.Lock()
				st.info.Path, st.origin = f.path, r.Origin(f.path)
				r.mu.Unlock()
			}
		} else if st.moved.IsZero() {
			if err := readable(filepath.Dir(st.info.Path)); err != nil { // what cannot be seen is not gone
				trouble = fmt.Sprintf("the folder of %s cannot be read any more: %v; what is open is read on",
					st.info.Path, err)
			} else {
				st.moved = now
			}
		}
		r.look(st)
		r.leave(k, st, now)
	}
	r.abandon(now)
	r.packedDone()
	r.scanCost = r.Now().Sub(now) // without the disk below, which may be slow once
	// Before anything is read: after a crash a second first look would pass over what came since this one, and a file
	// that is found anew would give its records other ids.
	if first || r.fresh {
		r.Save()
		if err := r.Store.Save(); err != nil {
			trouble = err.Error()
		} else {
			r.fresh = false
		}
	}
	r.miss(at, now)
	r.lastScan = r.Now()
	if again {
		r.lastScan = time.Time{} // look at once
	}
	var program input.Complaint
	if r.Named != nil {
		_, program = r.Named()
	}
	switch {
	case program.Code != "":
		r.complain(program.Code, program.Reason)
	case trouble != "":
		r.complain(health.NotReadable, trouble)
	case r.inTurns > 0:
		r.complain(
			health.TooFewDescriptors,
			fmt.Sprintf(
				"%d of %d files are read in turns: the agent may have %d files open at the same time",
				r.inTurns,
				len(list),
				r.Slots.limit(),
			),
		)
	case r.lost != "" && now.Sub(r.lostAt) < lostSaid:
		r.complain(health.FilesLost, r.lost)
	case r.empty(list):
		if last := r.Book.Live().LastRecord; last > 0 {
			r.complain(health.FilesGone, fmt.Sprintf("its files are gone: no file matches %s any more; the last record was "+
				"read at %s", strings.Join(r.Spec.Files, ", "), time.Unix(0, last).UTC().Format("2006-01-02 15:04:05 UTC")))
		} else {
			r.complain(health.PathMatchesNothing, r.nothing())
		}
	default:
		r.complain("", "")
	}
}

// leave lets go of a file that is gone from its path, once it is read and settled: at once when it was deleted, after
// a while when it was moved, since more may come.
func (r *Reader) leave(k position.Key, st *stream, now time.Time) {
	if st.moved.IsZero() || st.packed > 0 {
		st.deleted = false
		return
	}
	deleted := false
	if info, err := st.file.Stat(); err == nil {
		if x, ok := info.Sys().(*syscall.Stat_t); ok {
			deleted = x.Nlink == 0
		}
	}
	if deleted && !st.deleted {
		st.deleted, st.gone = true, now
	}
	if st.read < st.size || !st.ledger.Idle() {
		return
	}
	quiet := min(now.Sub(st.moved), now.Sub(st.grew))
	if deleted && quiet > movedFlush { // nothing can find it any more
		r.Save()
		last := ending(st.file, st.read)
		r.shut(k, st)
		r.forget(k, last)
	} else if quiet > holdMoved {
		r.mu.Lock()
		st.info.Moved = true
		r.mu.Unlock()
		r.Save()
		r.shut(k, st)
	}
}

// name gives a stream its number, from which the ids of its records come. Without one it is drawn.
func (r *Reader) name(st *stream, number uint64) {
	for number == 0 {
		number = rand.Uint64()
		r.fresh = true
	}
	st.info.Stream = number
	if st.uid = nil; !r.Spec.NoIDs {
		st.uid = record.NewUID(st.origin.HostID, number)
	}
}

// since is when what waits in a file that is opened now was written at the latest.
func (st *stream) since(now time.Time) time.Time {
	if info, err := st.file.Stat(); err == nil && info.ModTime().Before(now) {
		return info.ModTime()
	}
	return now
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
