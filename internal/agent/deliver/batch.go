package deliver

import (
	"context"
	"time"

	"synaxis/internal/core/delivery"
)

// gathering is a delivery that is being put together.
type gathering struct {
	bounds  delivery.Batch
	pieces  []piece
	records int
	size    int64
	full    bool
	streams map[uint64]bool
}

// gather takes records out of the queue up to the bounds of one delivery, and waits for more as long as these say, or
// until deadline, which may be nil. load brings more into memory. It answers what it has when ctx ends, and nothing
// when attend says that something else is to be done first.
func (q *queue) gather(
	ctx context.Context, bounds delivery.Batch, deadline <-chan time.Time, load func(), attend func() bool,
) []piece {
	g := &gathering{bounds: bounds, streams: map[uint64]bool{}}
	for {
		load()
		q.mu.Lock()
		q.fill(g)
		q.mu.Unlock()
		if g.full {
			return g.pieces
		}
		if deadline == nil && len(g.pieces) > 0 {
			t := time.NewTimer(bounds.Wait)
			defer t.Stop()
			deadline = t.C
		}
		select {
		case <-ctx.Done():
			return g.pieces
		case <-q.ready:
			if attend() {
				return g.pieces
			}
		case <-deadline:
			return g.pieces
		}
	}
}

// least is what a source may take of a delivery in its turn, however many there are.
const least = 16 << 10

// fill adds what waits, the sources by turns. The queue is locked.
func (q *queue) fill(g *gathering) {
	if len(q.order) == 0 {
		return
	}
	quantum := max(g.bounds.Bytes/int64(len(q.order)), least)
	for progress := true; progress && !g.full; {
		progress = false
		first := q.turn
		for k := range q.order {
			q.turn = (first + k + 1) % len(q.order)
			if q.takeFrom(q.order[(first+k)%len(q.order)], g, quantum) {
				progress = true
			}
			if g.full {
				return
			}
		}
	}
}

// takeFrom adds what waits of one source, up to so many bytes. Records of a stream of which another delivery is under
// way wait for it. When the next record does not fit any more the delivery counts as full. The queue is locked.
func (q *queue) takeFrom(e *edge, g *gathering, quantum int64) (took bool) {
	for _, it := range e.items {
		if q.busy[it.Stream] && !g.streams[it.Stream] {
			continue
		}
		for {
			from, end := it.run(it.next)
			if it.next = from; from >= end {
				break
			}
			p := piece{it, from, from}
			start := it.start(from)
			grown := int64(0)
			for p.to < end && g.records < g.bounds.Records {
				grown = int64(it.Encoded.Ends[p.to] - start)
				if g.size+grown > g.bounds.Bytes && g.records > 0 {
					g.full = true
					break
				}
				g.records++
				p.to++
				if g.size+grown >= g.bounds.Bytes {
					break
				}
			}
			if p.to == p.from {
				g.full = true
				return took
			}
			size := int64(it.Encoded.Ends[p.to-1] - start)
			g.size += size
			quantum -= size
			it.next = p.to
			g.pieces = append(g.pieces, p)
			g.streams[it.Stream], q.busy[it.Stream] = true, true
			took = true
			if g.full = g.full || g.records >= g.bounds.Records || g.size >= g.bounds.Bytes; g.full {
				return took
			}
			if quantum <= 0 {
				return took
			}
		}
	}
	return took
}

// release says that a delivery is not under way any more.
func (q *queue) release(batch []piece) {
	q.mu.Lock()
	defer q.mu.Unlock()
	for _, p := range batch {
		delete(q.busy, p.item.Stream)
	}
	q.kick()
}
