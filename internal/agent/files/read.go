package files

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"synaxis/internal/agent/position"
	"synaxis/internal/core/health"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/record"
	"synaxis/internal/core/wire"
)

// round looks at the files whose turn it is, and reads one batch where something waits. It tells whether it read
// anything. What was written first is read first. Files that are read for the first time come after those that grow,
// but for every fourth batch.
func (r *Reader) round(ctx context.Context) bool {
	now := r.Now()
	written := r.written.take()
	keys := make([]position.Key, 0, 16)
	r.rests = r.late == 0 && len(r.unpacking) == 0
	for k, st := range r.streams {
		every := pollEvery
		if now.Sub(st.grew) > IdleAfter && st.size <= st.read && st.moved.IsZero() {
			every = idleEvery
		} else {
			r.rests = false
		}
		if st.size > st.read || now.Sub(st.looked) >= every || written[st.info.Path] {
			keys = append(keys, k)
		}
	}
	var waiting []position.Key
	for _, k := range keys {
		st := r.streams[k] // a look may change what there is
		if st == nil {
			continue
		}
		if now.Sub(st.looked) >= pollEvery || written[st.info.Path] {
			r.look(st)
		}
		if st.size > st.read && now.Sub(st.tried) >= pollEvery {
			waiting = append(waiting, k)
		}
	}
	r.turn++
	for len(waiting) > 0 && ctx.Err() == nil {
		next := 0
		for i, k := range waiting {
			if st, best := r.streams[k], r.streams[waiting[next]]; st != nil &&
				(best == nil || st.before(best, r.turn%firstShare == 0)) {
				next = i
			}
		}
		if st := r.streams[waiting[next]]; st != nil {
			if r.readOnce(ctx, st) {
				return true
			}
			st.tried = now // an unfinished line: until it grows, or has waited long enough
		}
		waiting = slices.Delete(waiting, next, next+1)
	}
	return false
}

// before tells whether what waits in st should be read before what waits in x. first turns round which class comes
// first.
func (st *stream) before(x *stream, first bool) bool {
	if a, b := st.moved.IsZero(), x.moved.IsZero(); a != b { // what is going away comes before all else
		return b
	}
	if a, b := st.firstTime(st.read), x.firstTime(x.read); a != b {
		return a == first
	}
	return st.waitsSince(st.read).Before(x.waitsSince(x.read))
}

// readOnce reads, treats and sends one batch. It answers false when nothing could be cut yet.
func (r *Reader) readOnce(ctx context.Context, st *stream) bool {
	b := &r.batch
	until := st.size
	bound := st.ledger.Boundary(cursorAt(st.read))
	if bound != nil { // a destination has everything up to there
		until = min(until, offsetOf(bound))
	}
	want, most := min(until-st.read, readSize), int64(r.Treatment.MaxRecord())
	if st.hole {
		want = min(want, holeSize)
	}
	for {
		b.Reset()
		b.Arena = slices.Grow(b.Arena, int(want))[:want]
		n, err := st.file.ReadAt(b.Arena, st.read)
		if err != nil && !errors.Is(err, io.EOF) {
			r.complain(health.NotReadable, fmt.Sprintf("%s: %v", st.info.Path, err))
			return false
		}
		if !st.continues() { // truncated and written anew while it was being read
			r.scan()
			return true
		}
		b.Arena = b.Arena[:n]
		now := r.Now()
		zeros := r.zeros(b.Arena)
		hole := zeros > 0 && !r.filled(st)
		r.mu.Lock()
		st.hole = hole
		r.mu.Unlock()
		if hole {
			return false
		}
		if zeros > 0 {
			r.move(st, zeros)
			st.ledger.Add(cursorAt(st.read), nil, wire.Numbers{Bytes: int64(zeros), Zeros: int64(zeros)})
			return true
		}
		flush := false
		if bound != nil && st.read+int64(n) == offsetOf(bound) {
			flush = true // a record ended there when it was read before
		} else if st.read+int64(n) >= st.size {
			idle := now.Sub(st.grew)
			flush = idle >= r.idle() || !st.moved.IsZero() && idle >= movedFlush && now.Sub(st.moved) >= movedFlush
		}
		b.Origin, b.Written, b.Stream, b.UID = st.origin, st.written(now), st.info.Stream, st.uid
		switch b.Leaving = record.Stays; {
		case st.deleted:
			b.Leaving = record.Deleted
		case !st.moved.IsZero():
			b.Leaving = record.Rotated
		}
		used, c := r.Treatment.Run(b, st.read, now.UnixNano(), maxRecords, flush)
		if used == 0 {
			if int64(n) == want && want < min(until-st.read, most+readSize) {
				want = min(until-st.read, want*4, most+readSize)
				continue
			}
			if until < st.size { // it was cut otherwise before
				until, bound = st.size, nil
				continue
			}
			return false
		}
		r.move(st, used)
		counts := c.All()
		if c.Read > 0 && !st.probe { // which is no sign of life of what writes the log
			counts.LastRecord = now.UnixNano()
			counts.TimeOffset = st.timeOffset(b, now)
		}
		end := cursorAt(st.read)
		ways := r.Out.Ways(b, func(destination string) bool { return st.ledger.Ahead(destination, end) })
		e := st.ledger.Add(end, ways, counts)
		for _, w := range ways {
			if w.Records > 0 {
				r.Out.Send(ctx, b, e, r.scan)
				break
			}
		}
		return true
	}
}

// move goes on by so many bytes of what was read.
func (r *Reader) move(st *stream, used int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	st.read += int64(used)
	st.tail = append(st.tail, r.batch.Arena[max(0, used-position.TailSize):used]...)
	st.tail = st.tail[max(0, len(st.tail)-position.TailSize):]
}

// zeros is how many NUL bytes stand at the begin of what was read: a hole, as a program leaves it that goes on writing
// at its old place after its file was truncated. In UTF-16 they belong to characters.
func (r *Reader) zeros(data []byte) int {
	if strings.HasPrefix(r.Spec.Encoding, "utf-16") {
		return 0
	}
	n := 0
	for n+8 <= len(data) && binary.LittleEndian.Uint64(data[n:]) == 0 {
		n += 8
	}
	for n < len(data) && data[n] == 0 {
		n++
	}
	return n
}

// filled tells whether something stands behind the NUL bytes: where a file ends with them its writer has made room,
// and will write there.
func (r *Reader) filled(st *stream) bool {
	var last [1]byte
	_, err := st.file.ReadAt(last[:], st.size-1)
	return err == nil && last[0] != 0
}

// written is when what is read next was written at the latest: for what was there when the file was opened, when it
// was last written. It is 0 for what came since, which is dated by when it is read.
func (st *stream) written(now time.Time) int64 {
	if st.read >= st.first {
		return 0
	}
	if info, err := st.file.Stat(); err == nil && info.ModTime().Before(now) {
		return info.ModTime().UnixNano()
	}
	return 0
}

// live is how long ago a file may have grown so that what is read of it was written just now.
const live = 2 * time.Second

// timeOffset is by how many milliseconds the time of the last record is ahead of when it was written, where that is
// known: the file is read to its end and grew just now. It is 0 for not known, and 1 for none.
func (st *stream) timeOffset(b *record.Batch, now time.Time) int64 {
	if b.Written != 0 || st.read < st.size || now.Sub(st.grew) > live || len(b.Records) == 0 {
		return 0
	}
	r := &b.Records[len(b.Records)-1]
	if r.TimeNote != record.TimeGood || r.Flags&record.Unparsed != 0 || r.Time == r.Observed {
		return 0
	}
	if ms := (r.Time - st.grew.UnixNano()) / int64(time.Millisecond); ms != 0 {
		return ms
	}
	return 1
}

// idle is after how long without more the last record counts as complete.
func (r *Reader) idle() time.Duration {
	if r.Spec.Idle > 0 {
		return r.Spec.Idle
	}
	return pipeline.DefaultIdle
}
