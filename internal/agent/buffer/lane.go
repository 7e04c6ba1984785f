package buffer

import (
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"synaxis/internal/core/record"
)

// Lane is what one source has on disk for one destination. It is safe for concurrent use; Next belongs to one
// goroutine.
type Lane struct {
	store  *Store
	dir    string
	files  Files
	most   int64 // bytes of a segment
	io     sync.Mutex
	mu     sync.Mutex
	segs   []*segment // the oldest first; frames are appended to the last
	chunks []*chunk   // appended and not synced
	next   uint64     // number of the next record
	synced uint64     // number behind the last record that is safe
	done   ranges
	saved  uint64 // what the caller has written down of done
	seg    *segment
	at     int64  // what Next reads: segment and offset
	read   uint64 // number of the next record that Next gives
	failed error  // why the last write failed
	closed bool

	damaged int64 // records that were found to be damaged, and are lost
}

// segment is one file of a lane.
type segment struct {
	path    string
	file    File
	first   uint64
	end     uint64 // behind its last record
	size    int64  // with what is not written yet
	written int64
	full    bool // nothing is appended any more
	oldest  time.Time
	origins map[*record.Origin]uint16 // of a segment that is written
	known   map[uint16]*record.Origin // of one that is read
	senders map[string]int64          // records that Next has not given, of senders that are known by their names
}

// sent counts records of an origin that Next has to give, or has given.
func (s *segment) sent(o *record.Origin, records int64) {
	name := o.SenderName()
	if name == "" {
		return
	}
	if s.senders == nil {
		s.senders = map[string]int64{}
	}
	s.senders[name] += records
}

// chunk is what was appended to one segment since the last sync.
type chunk struct {
	seg   *segment
	bytes []byte
	end   uint64
	safe  []func()
}

// spare are the bytes of chunks that were written, for those that come.
var spare = sync.Pool{New: func() any { return new([]byte) }}

func newChunk(seg *segment, end uint64) *chunk {
	return &chunk{seg: seg, bytes: (*spare.Get().(*[]byte))[:0], end: end}
}

// ErrClosed says that a lane takes nothing any more.
var ErrClosed = errors.New("the buffer is closed")

// Append adds a frame, whose number it sets, and calls safe once it is on disk. With loaded the caller keeps the frame
// in memory, and Next passes over it; that counts only when Next has given everything before it. Append answers
// whether it did. The bytes are copied.
func (l *Lane) Append(f *Frame, loaded bool, safe func()) (kept bool, err error) {
	if l.store.waiting.Load() > waitingAtMost { // as fast as the disk, and no faster
		if err := l.Flush(); err != nil {
			return false, err
		}
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.closed {
		return false, ErrClosed
	}
	size := int64(len(f.Bytes)+4*len(f.Ends)) + frameHead
	seg, c, err := l.writable(size)
	if err != nil {
		return false, err
	}
	before := len(c.bytes)
	kept = loaded && l.read == l.next
	number, ok := seg.origins[f.Origin]
	if !ok {
		number = uint16(len(seg.origins))
		if c.bytes, err = appendOrigin(c.bytes, head{kind: kindOrigin, origin: number}, f.Origin); err != nil {
			return false, err
		}
		seg.origins[f.Origin] = number
	}
	f.First = l.next
	c.bytes = appendRecords(c.bytes, head{first: f.First, records: uint32(len(f.Ends)), encoding: uint8(f.Encoding),
		origin: number, at: f.At.UnixNano(), stream: f.Stream}, *f)
	grown := int64(len(c.bytes) - before)
	if seg.oldest.IsZero() {
		seg.oldest = f.At
	}
	l.next = f.End()
	seg.size, seg.end, c.end = seg.size+grown, l.next, l.next
	c.safe = append(c.safe, safe)
	l.store.grew(grown)
	l.store.waiting.Add(grown)
	l.store.wake()
	if kept {
		l.seg, l.at, l.read = seg, seg.size, l.next
	} else {
		seg.sent(f.Origin, int64(f.Records()))
	}
	if len(c.bytes) >= syncBytes {
		l.store.hurry()
	}
	return kept, nil
}

// writable is the segment that a frame of a size goes to, and the chunk that is open for it.
func (l *Lane) writable(size int64) (*segment, *chunk, error) {
	var seg *segment
	if n := len(l.segs); n > 0 {
		seg = l.segs[n-1]
	}
	if seg == nil || seg.full || seg.origins == nil || seg.size > int64(headerFixed) && seg.size+size > l.most ||
		len(seg.origins) >= 1<<16-1 {
		if seg != nil {
			seg.full = true
		}
		if err := l.files.Folder(l.dir); err != nil {
			return nil, nil, err
		}
		path := filepath.Join(l.dir, fmt.Sprintf("%020d.seg", l.next))
		file, err := l.files.Open(path, true)
		if err == nil {
			err = file.Truncate(0)
		}
		if err != nil {
			return nil, nil, err
		}
		seg = &segment{path: path, file: file, first: l.next, end: l.next, origins: map[*record.Origin]uint16{}}
		l.segs = append(l.segs, seg)
		c := newChunk(seg, l.next)
		c.bytes = append(c.bytes, header(l.store.host)...)
		seg.size = int64(len(c.bytes))
		l.store.grew(seg.size)
		l.store.waiting.Add(seg.size)
		l.chunks = append(l.chunks, c)
		return seg, c, nil
	}
	if n := len(l.chunks); n > 0 && l.chunks[n-1].seg == seg {
		return seg, l.chunks[n-1], nil
	}
	c := newChunk(seg, l.next)
	l.chunks = append(l.chunks, c)
	return seg, c, nil
}

// Flush writes and syncs what was appended. What cannot be written stays in memory and is tried again by the next
// Flush.
func (l *Lane) Flush() error {
	l.io.Lock()
	defer l.io.Unlock()
	l.mu.Lock()
	chunks := l.chunks
	l.chunks = nil
	l.mu.Unlock()
	var err error
	n := 0
	for ; n < len(chunks) && err == nil; n++ {
		if err = l.write(chunks[n]); err != nil {
			break
		}
	}
	l.mu.Lock()
	l.failed = err
	if n > 0 {
		l.synced = max(l.synced, chunks[n-1].end)
	}
	if n < len(chunks) {
		rest := slices.Clone(chunks[n:])
		if len(l.chunks) > 0 && l.chunks[0].seg == rest[len(rest)-1].seg { // appended to the same segment since
			last := rest[len(rest)-1]
			last.bytes = append(last.bytes, l.chunks[0].bytes...)
			last.safe, last.end = append(last.safe, l.chunks[0].safe...), l.chunks[0].end
			l.chunks = l.chunks[1:]
		}
		l.chunks = append(rest, l.chunks...)
	}
	l.mu.Unlock()
	for _, c := range chunks[:n] {
		l.store.waiting.Add(-int64(len(c.bytes)))
		spare.Put(&c.bytes)
		for _, safe := range c.safe {
			if safe != nil {
				safe()
			}
		}
	}
	return err
}

func (l *Lane) write(c *chunk) error {
	begins := c.seg.written == 0
	_, err := c.seg.file.WriteAt(c.bytes, c.seg.written)
	if err == nil {
		err = c.seg.file.Sync()
	}
	if err == nil && begins {
		err = l.files.SyncFolder(l.dir)
	}
	if err != nil {
		_ = c.seg.file.Truncate(c.seg.written) // room for what else needs it, and no half frame for a reader
		return err
	}
	l.mu.Lock()
	c.seg.written += int64(len(c.bytes))
	l.mu.Unlock()
	return nil
}

// Waiting is how many bytes were appended and are not safe yet.
func (l *Lane) Waiting() (n int64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, c := range l.chunks {
		n += int64(len(c.bytes))
	}
	return n
}

// Failed is why the last write failed, or nil.
func (l *Lane) Failed() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.failed
}

// readAhead is how many bytes of a segment are read at once.
const readAhead = 1 << 20

// Next reads the frames that come next, of about so many bytes; none when there is nothing that is safe and was not
// given yet.
func (l *Lane) Next(most int64) (frames []Frame, err error) {
	for got := int64(0); got < most; {
		l.mu.Lock()
		seg, at, written := l.place()
		l.mu.Unlock()
		if seg == nil {
			return frames, nil
		}
		used := 0
		data, err := readAt(seg.file, at, min(written-at, max(readAhead, most-got)))
		for err == nil && used < len(data) && got < most {
			h, payload, n, bad := readFrame(data[used:])
			rest := written - at - int64(used)
			switch {
			case errors.Is(bad, errTorn) && used > 0 && int64(max(n, frameHead)) <= rest:
			case errors.Is(bad, errTorn) && n > len(data) && int64(n) <= rest: // longer than what was read
				data, err = readAt(seg.file, at, int64(n))
				continue
			case bad != nil:
				used = int(l.behind(seg, at+int64(used)+1, written) - at)
			default:
				used += n
				if f, ok := l.take(seg, h, payload); ok {
					frames = append(frames, f)
					got += int64(n)
				}
				continue
			}
			break
		}
		if err != nil {
			return frames, fmt.Errorf("read %s: %w", seg.path, err)
		}
		l.mu.Lock()
		if l.seg == seg && l.at == at { // not dropped meanwhile
			l.at += int64(used)
		}
		l.mu.Unlock()
	}
	return frames, nil
}

func readAt(file File, at, n int64) ([]byte, error) {
	data := make([]byte, n)
	k, err := file.ReadAt(data, at)
	if k == len(data) || errors.Is(err, io.EOF) && k > 0 {
		err = nil
	}
	return data[:k], err
}

// place is where Next reads: the segment, the offset, and up to where it is written; no segment when nothing waits.
func (l *Lane) place() (*segment, int64, int64) {
	for {
		if l.seg == nil {
			if len(l.segs) == 0 || l.segs[0].written == 0 {
				return nil, 0, 0
			}
			l.seg = l.segs[0]
			l.at = l.headerOf(l.seg)
		}
		if l.at < l.seg.written {
			return l.seg, l.at, l.seg.written
		}
		i := slices.Index(l.segs, l.seg)
		if l.seg.written < l.seg.size || i+1 >= len(l.segs) || l.segs[i+1].written == 0 {
			return nil, 0, 0
		}
		l.seg = l.segs[i+1]
		l.at = l.headerOf(l.seg)
	}
}

// headerOf is how long the header of a segment is; where it is damaged, the next frame is looked for.
func (l *Lane) headerOf(seg *segment) int64 {
	data := make([]byte, min(seg.written, int64(headerFixed+maxHeader)))
	n, _ := seg.file.ReadAt(data, 0)
	if size, err := readHeader(data[:n], l.store.host); err == nil {
		return int64(size)
	}
	return 0
}

// take makes a frame of what was read, unless it is known, another agent's, or damaged inside. What it passes over is
// done.
func (l *Lane) take(seg *segment, h head, payload []byte) (Frame, bool) {
	if h.kind == kindOrigin {
		o, err := readOrigin(payload)
		if err == nil && o.HostID == l.store.host {
			if seg.known == nil {
				seg.known = map[uint16]*record.Origin{}
			}
			seg.known[h.origin] = o
		}
		return Frame{}, false
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if h.first < l.read { // it was there before
		return Frame{}, false
	}
	o := seg.known[h.origin]
	if o == nil {
		for origin, n := range seg.origins {
			if n == h.origin {
				o = origin
			}
		}
	}
	f, err := h.frame(payload, o)
	if h.first > l.read { // what stood between is lost
		l.lost(l.read, h.first)
	}
	l.read = min(h.first+uint64(h.records), l.next)
	if err != nil { // its origin is damaged
		l.lost(h.first, l.read)
		return Frame{}, false
	}
	seg.sent(f.Origin, -int64(f.Records()))
	if l.done.has(f.First) {
		return Frame{}, false
	}
	return f, true
}

// lost notes that records were found to be damaged.
func (l *Lane) lost(from, to uint64) {
	if n := l.done.add(from, to); n > 0 {
		l.damaged += n
		l.store.sayDamaged(l, n)
	}
}

// Damaged is how many records were lost to damage since the store was opened.
func (l *Lane) Damaged() int64 {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.damaged
}

// behind is where the next whole frame begins, looked for from an offset on, or the end.
func (l *Lane) behind(seg *segment, at, end int64) int64 {
	for at < end {
		data := make([]byte, min(end-at, 4*readAhead))
		n, _ := seg.file.ReadAt(data, at)
		data = data[:n]
		if n < frameHead {
			return end
		}
		for i := 0; i+4 <= n; i++ {
			if data[i] != marker&0xff || data[i+1] != marker>>8&0xff {
				continue
			}
			one := make([]byte, min(end-at-int64(i), maxFrame+beforeSum))
			if size := sizeOf(data[i:]); size > 0 {
				one = one[:min(len(one), size)]
			} else {
				continue
			}
			k, _ := seg.file.ReadAt(one, at+int64(i))
			if _, _, _, err := readFrame(one[:k]); err == nil {
				return at + int64(i)
			}
		}
		at += int64(n) - 3
	}
	return end
}

// sizeOf is how long the frame at the beginning of data says to be, or 0 when there is none.
func sizeOf(data []byte) int {
	if len(data) < beforeSum {
		return 0
	}
	_, _, size, err := readFrame(data[:min(len(data), frameHead)])
	if err != nil && !errors.Is(err, errTorn) {
		return 0
	}
	return size
}

// Done says that records are settled: their room is given back once the caller has written that down.
func (l *Lane) Done(from, to uint64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.done.add(from, to)
}

// Mark is up to where records are done, without a gap, and up to where they are on disk.
func (l *Lane) Mark() (done, synced uint64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.done.prefix, l.synced
}

// Saved says that a mark of done was written down; segments that it covers are deleted.
func (l *Lane) Saved(done uint64) {
	l.mu.Lock()
	l.saved = max(l.saved, done)
	var gone []*segment
	for len(l.segs) > 0 {
		s := l.segs[0]
		if s.end > l.saved || s.written < s.size || s.end == s.first && !s.full {
			break
		}
		if l.seg == s {
			l.seg, l.at = nil, 0
		}
		s.full = true
		gone = append(gone, s)
		l.segs = l.segs[1:]
	}
	l.mu.Unlock()
	for _, s := range gone {
		l.remove(s)
	}
}

func (l *Lane) remove(s *segment) {
	s.file.Close()
	_ = l.files.Remove(s.path) // what cannot be removed is passed over at the next start: its records are done
	l.store.grew(-s.size)
}

// Dropped is what was given up to make room.
type Dropped struct {
	Records int64
	Senders map[string]int64 // of them, those of senders that are known by their names
	From    time.Time        // when the oldest was appended
	Bytes   int64            // that were freed
}

// DropOldest gives up the oldest records to make room: those of the oldest segment that Next has not given yet.
func (l *Lane) DropOldest() (d Dropped) {
	_ = l.Flush() // a disk that is full is why room is made
	l.mu.Lock()
	if len(l.segs) == 0 || len(l.chunks) > 0 && l.chunks[0].seg == l.segs[0] {
		l.mu.Unlock()
		return d
	}
	s := l.segs[0]
	s.full = true
	l.segs = l.segs[1:]
	d.From, d.Bytes = s.oldest, s.size
	if begin := max(s.first, l.read); begin < s.end {
		d.Records, d.Senders = l.done.add(begin, s.end), s.senders
		l.read = max(l.read, s.end)
	}
	if l.seg == s || l.seg == nil {
		l.seg, l.at = nil, 0
	}
	l.mu.Unlock()
	l.remove(s)
	return d
}

// State is how much a lane holds.
type State struct {
	Records int64 // on disk, or on their way there, and not settled
	Bytes   int64 // of its segments
	Oldest  time.Time
	Unread  int64 // records that Next has not given
}

// State tells how much the lane holds.
func (l *Lane) State() (s State) {
	l.mu.Lock()
	defer l.mu.Unlock()
	s.Records = int64(l.next-l.done.prefix) - l.done.count
	s.Unread = int64(l.next - l.read)
	for _, seg := range l.segs {
		s.Bytes += seg.size
		if s.Oldest.IsZero() && s.Records > 0 && seg.end > l.done.prefix {
			s.Oldest = seg.oldest
		}
	}
	return s
}

// Rewind makes Next give again what is not done, as after a start.
func (l *Lane) Rewind() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.seg, l.at, l.read = nil, 0, l.done.prefix
}

// close lets go of the files. What was appended and is not safe is gone.
func (l *Lane) close() {
	l.io.Lock()
	defer l.io.Unlock()
	l.mu.Lock()
	defer l.mu.Unlock()
	l.closed = true
	for _, s := range l.segs {
		s.file.Close()
	}
}
