package files

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"synaxis/internal/agent/position"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/wire"
)

// round reads once from every file that has something; it tells whether any had.
func (r *Reader) round(ctx context.Context) bool {
	busy := false
	keys := make([]position.Key, 0, len(r.streams))
	for k := range r.streams {
		keys = append(keys, k)
	}
	for _, k := range keys {
		if st := r.streams[k]; st != nil && ctx.Err() == nil {
			r.look(st)
			if st.size > st.read && r.readOnce(ctx, st) {
				busy = true
			}
		}
	}
	return busy
}

// readOnce reads, treats and sends one batch. It answers false when nothing could be cut yet.
func (r *Reader) readOnce(ctx context.Context, st *stream) bool {
	b := &r.batch
	want, most := min(st.size-st.read, readSize), int64(r.Treatment.MaxRecord())
	for {
		b.Reset()
		b.Arena = slices.Grow(b.Arena, int(want))[:want]
		n, err := st.file.ReadAt(b.Arena, st.read)
		if err != nil && !errors.Is(err, io.EOF) {
			r.complain("not-readable", fmt.Sprintf("%s: %v", st.info.Path, err))
			return false
		}
		if !st.continues() { // truncated and written anew while it was being read
			r.scan()
			return true
		}
		b.Arena = b.Arena[:n]
		now := r.Now()
		flush := false
		if st.read+int64(n) >= st.size {
			idle := now.Sub(st.grew)
			flush = idle >= r.idle() || !st.moved.IsZero() && idle >= movedFlush && now.Sub(st.moved) >= movedFlush
		}
		b.Origin, b.Written = st.origin, st.written(now)
		used, c := r.Treatment.Run(b, st.read, now.UnixNano(), maxRecords, flush)
		if used == 0 {
			if int64(n) == want && want < min(st.size-st.read, most+readSize) {
				want = min(st.size-st.read, want*4, most+readSize)
				continue
			}
			return false
		}
		r.mu.Lock()
		st.read += int64(used)
		st.tail = append(st.tail, b.Arena[max(0, used-position.TailSize):used]...)
		st.tail = st.tail[max(0, len(st.tail)-position.TailSize):]
		r.mu.Unlock()
		counts := wire.Numbers{Read: c.Read, Bytes: c.Bytes, Unparsed: c.Unparsed, Dropped: c.Dropped(), Drops: c.ByReason(), Blank: c.Blank, Failed: c.Failed, Masked: c.Masked}
		if c.Read > 0 {
			counts.LastRecord = now.UnixNano()
		}
		edges := r.Out.Edges(b)
		e := st.ledger.Add(st.read, edges, counts)
		if edges > 0 {
			r.Out.Send(ctx, b, e, r.scan)
		}
		return true
	}
}

// written is when what is read next was written at the latest: for what was there when the file was opened, when it was last written.
// It is 0 for what came since, which is dated by when it is read.
func (st *stream) written(now time.Time) int64 {
	if st.read >= st.first {
		return 0
	}
	if info, err := st.file.Stat(); err == nil && info.ModTime().Before(now) {
		return info.ModTime().UnixNano()
	}
	return 0
}

// idle is after how long without more the last record counts as complete.
func (r *Reader) idle() time.Duration {
	if r.Spec.Idle > 0 {
		return r.Spec.Idle
	}
	return pipeline.DefaultIdle
}
