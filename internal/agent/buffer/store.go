package buffer

import (
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"synaxis/internal/core/record"
)

// Groups of syncs: after so long, or so many bytes.
const (
	syncEvery = 100 * time.Millisecond
	syncBytes = 4 << 20
)

// waitingAtMost is how much of all lanes may wait in memory to be written. Above it a lane is written before more is
// appended to it, so that there is at most a frame of each lane more.
const waitingAtMost = 8 << 20

// Bounds of a segment.
const (
	SegmentSize = 64 << 20
	segmentMin  = 1 << 20
)

// Key names a lane.
type Key struct{ Destination, Source string }

// Mark is what was written down of a lane: up to where its records are done, and up to where they were on disk.
type Mark struct {
	Done   uint64 `json:"done"`
	Synced uint64 `json:"synced"`
}

// Store holds the buffers of an agent, a folder for each destination and in it one for each source.
type Store struct {
	dir   string
	host  string
	files Files
	log   *slog.Logger

	mu      sync.Mutex
	lanes   map[Key]*Lane
	dirty   chan struct{} // of size 1, as urgent
	urgent  chan struct{}
	stop    chan struct{}
	done    chan struct{}
	bytes   atomic.Int64
	waiting atomic.Int64 // bytes that were appended and are not safe yet
	foreign int
}

// Options say how a store is opened.
type Options struct {
	Host  string // the agent's host id: segments of another are moved aside
	Files Files  // Disk{} by default
	Log   *slog.Logger
	Marks map[Key]Mark // what was written down when the store was used last
	Waits Found        // is told what waits of senders, where it is set
}

// Found is told which records of a sender that is known by its name wait, and when they were appended.
type Found func(k Key, sender string, at time.Time, records int64)

// Open reads what is on disk.
func Open(dir string, o Options) (*Store, error) {
	s := &Store{dir: dir, host: o.Host, files: o.Files, log: o.Log, lanes: map[Key]*Lane{},
		dirty:  make(chan struct{}, 1),
		urgent: make(chan struct{}, 1), stop: make(chan struct{}), done: make(chan struct{})}
	if s.files == nil {
		s.files = Disk{}
	}
	if s.log == nil {
		s.log = slog.New(slog.DiscardHandler)
	}
	destinations, err := s.files.Names(dir)
	if err != nil {
		return nil, fmt.Errorf("read buffers: %w", err)
	}
	for _, destination := range destinations {
		sources, err := s.files.Names(filepath.Join(dir, destination))
		if err != nil {
			s.log.Warn("a buffer cannot be read", "destination", destination, "error", err)
			continue
		}
		for _, source := range sources {
			k := Key{destination, source}
			s.lanes[k] = s.open(k, o.Marks[k], o.Waits)
		}
	}
	for k, m := range o.Marks { // numbers go on where they were, also where nothing is left
		if s.lanes[k] == nil && m.Synced > 0 {
			s.lanes[k] = s.open(k, m, o.Waits)
		}
	}
	go s.keepSyncing()
	return s, nil
}

// open reads what is on disk of one lane.
func (s *Store) open(k Key, m Mark, waits Found) *Lane {
	l := &Lane{store: s, dir: filepath.Join(s.dir, k.Destination, k.Source), files: s.files, most: SegmentSize}
	l.done.prefix, l.saved, l.read = m.Done, m.Done, m.Done
	names, _ := s.files.Names(l.dir)
	slices.Sort(names)
	names = slices.DeleteFunc(names, func(n string) bool { return !strings.HasSuffix(n, ".seg") })
	end := m.Done
	for i, name := range names {
		path := filepath.Join(l.dir, name)
		seg, err := s.scan(path, i == len(names)-1, &end, l, func(o *record.Origin, at int64, records int64) {
			if sender := o.SenderName(); sender != "" && waits != nil {
				waits(k, sender, time.Unix(0, at), records)
			}
		})
		switch {
		case errors.Is(err, errForeign):
			s.foreign++
			s.log.Error("a segment of a buffer is another agent's; it is moved aside and never delivered", "path",
				path)
			if err := s.files.Rename(path, path+".foreign"); err != nil {
				s.log.Error("it cannot be moved", "path", path, "error", err)
			}
		case err != nil:
			s.log.Error("a segment of a buffer cannot be read", "path", path, "error", err)
		case seg.end <= l.done.prefix || seg.end == seg.first:
			seg.file.Close()
			_ = s.files.Remove(path)
		default:
			l.segs = append(l.segs, seg)
			s.bytes.Add(seg.size)
		}
	}
	if end < m.Synced { // it was safe, and is gone
		l.lost(end, m.Synced)
		end = m.Synced
	}
	l.next, l.synced = end, end
	return l
}

// scan reads a segment whole, without keeping its frames. What a crash tore off is cut. end is behind the last record
// that was seen; what is missing before the next one is lost. found is told which records wait.
func (s *Store) scan(
	path string, last bool, end *uint64, l *Lane, found func(o *record.Origin, at int64, records int64),
) (*segment, error) {
	file, err := s.files.Open(path, false)
	if err != nil {
		return nil, err
	}
	size, err := file.Size()
	if err != nil {
		file.Close()
		return nil, err
	}
	head, err := readAt(file, 0, min(size, int64(headerFixed+maxHeader)))
	at := int64(0)
	if err == nil || size == 0 {
		var n int
		if n, err = readHeader(head, s.host); err == nil {
			at = int64(n)
		}
	}
	if errors.Is(err, errForeign) {
		file.Close()
		return nil, err
	}
	seg := &segment{path: path, file: file, size: size, written: size, full: true}
	good := at
	origins := map[uint16]*record.Origin{}
	for at < size {
		data, err := readAt(file, at, min(size-at, 4*readAhead))
		if err != nil {
			file.Close()
			return nil, err
		}
		used := 0
		for used < len(data) {
			h, payload, n, bad := readFrame(data[used:])
			rest := size - at - int64(used)
			if errors.Is(bad, errTorn) && int64(max(n, frameHead)) <= rest {
				if used > 0 {
					break
				}
				if data, err = readAt(file, at, int64(n)); err == nil && len(data) == n {
					continue
				}
				bad = errDamage
			}
			if bad != nil {
				used = int(l.behind(seg, at+int64(used)+1, size) - at)
				break
			}
			used += n
			good = at + int64(used)
			switch {
			case h.kind == kindOrigin:
				if o, err := readOrigin(payload); err == nil {
					origins[h.origin] = o
				}
			case h.kind == kindRecords && s.seen(seg, h, end, l):
				seg.sent(origins[h.origin], int64(h.records))
				found(origins[h.origin], h.at, int64(h.records))
			}
		}
		at += int64(used)
	}
	if last && good < size { // its records were not settled: they are read again from where they came
		if err := file.Truncate(good); err == nil {
			seg.size, seg.written = good, good
		}
	}
	return seg, nil
}

// seen notes a frame of records that is whole, and tells whether its records wait.
func (s *Store) seen(seg *segment, h head, end *uint64, l *Lane) bool {
	if h.first < *end { // done, or copied twice
		if e := h.first + uint64(h.records); e > *end {
			*end = e
		}
		return false
	}
	if h.first > *end {
		l.lost(*end, h.first)
	}
	if seg.end == 0 {
		seg.first, seg.oldest = h.first, time.Unix(0, h.at)
	}
	*end = h.first + uint64(h.records)
	seg.end = *end
	return true
}

// Lane is the lane of a source at a destination, made when it is not there.
func (s *Store) Lane(k Key) *Lane {
	s.mu.Lock()
	defer s.mu.Unlock()
	l := s.lanes[k]
	if l == nil {
		l = s.open(k, Mark{}, nil)
		s.lanes[k] = l
	}
	return l
}

// Have are the lanes of a destination that hold something, by source.
func (s *Store) Have(destination string) map[string]*Lane {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := map[string]*Lane{}
	for k, l := range s.lanes {
		if k.Destination == destination && l.State().Records > 0 {
			out[k.Source] = l
		}
	}
	return out
}

// Destinations are those of which something is on disk.
func (s *Store) Destinations() (out []string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for k, l := range s.lanes {
		if l.State().Records > 0 && !slices.Contains(out, k.Destination) {
			out = append(out, k.Destination)
		}
	}
	slices.Sort(out)
	return out
}

// Rename gives lanes another destination or source, with what is in them.
func (s *Store) Rename(from, to Key) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	l := s.lanes[from]
	if l == nil || s.lanes[to] != nil && s.lanes[to].State().Records > 0 {
		return nil
	}
	if err := l.Flush(); err != nil {
		return err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	dir := filepath.Join(s.dir, to.Destination, to.Source)
	if old := s.lanes[to]; old != nil {
		_ = s.files.Remove(dir)
	}
	if len(l.segs) > 0 {
		if err := s.files.Rename(l.dir, dir); err != nil {
			return fmt.Errorf("rename a buffer: %w", err)
		}
	}
	for _, seg := range l.segs {
		seg.path = filepath.Join(dir, filepath.Base(seg.path))
	}
	l.dir = dir
	delete(s.lanes, from)
	s.lanes[to] = l
	return nil
}

// Keys are the lanes there are.
func (s *Store) Keys() []Key {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Collect(maps.Keys(s.lanes))
}

// Marks are what is to be written down of all lanes.
func (s *Store) Marks() map[Key]Mark {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := make(map[Key]Mark, len(s.lanes))
	for k, l := range s.lanes {
		if done, synced := l.Mark(); synced > 0 {
			out[k] = Mark{done, synced}
		}
	}
	return out
}

// Saved says that marks were written down.
func (s *Store) Saved(marks map[Key]Mark) {
	s.mu.Lock()
	lanes := maps.Clone(s.lanes)
	s.mu.Unlock()
	for k, m := range marks {
		if l := lanes[k]; l != nil {
			l.Saved(m.Done)
		}
	}
}

// Bytes is how much all segments hold.
func (s *Store) Bytes() int64 { return s.bytes.Load() }

// Foreign is how many segments of other agents were found.
func (s *Store) Foreign() int { return s.foreign }

func (s *Store) grew(bytes int64) { s.bytes.Add(bytes) }

// hurry asks for a sync before its time.
func (s *Store) hurry() {
	select {
	case s.urgent <- struct{}{}:
	default:
	}
}

// sayDamaged says that records of a lane are lost.
func (s *Store) sayDamaged(l *Lane, records int64) {
	rel, err := filepath.Rel(s.dir, l.dir)
	if err != nil {
		return
	}
	destination, source := filepath.Split(rel)
	s.log.Error("records on disk are damaged and lost", "destination", filepath.Clean(destination), "source", source,
		"records", records)
}

func (s *Store) keepSyncing() {
	defer close(s.done)
	for {
		select {
		case <-s.stop:
			s.Sync()
			return
		case <-s.urgent:
		case <-s.dirty:
			select { // what comes soon is synced with it
			case <-s.stop:
			case <-s.urgent:
			case <-time.After(syncEvery):
			}
		}
		s.Sync()
		if s.waiting.Load() > 0 { // of a disk that takes nothing now, or what came meanwhile
			s.wake()
		}
	}
}

// wake tells that something waits to be synced.
func (s *Store) wake() {
	select {
	case s.dirty <- struct{}{}:
	default:
	}
}

// Sync writes and syncs everything that waits.
func (s *Store) Sync() {
	s.mu.Lock()
	lanes := slices.Collect(maps.Values(s.lanes))
	s.mu.Unlock()
	for _, l := range lanes {
		if l.Waiting() > 0 {
			_ = l.Flush() // the lane says so
		}
	}
}

// Close syncs what waits, and lets go of the files.
func (s *Store) Close() {
	close(s.stop)
	<-s.done
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, l := range s.lanes {
		l.close()
	}
}
