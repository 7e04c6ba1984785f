package deliver

import (
	"context"
	"time"

	"synaxis/internal/core/delivery"
)

// gather takes records out of the queue up to the bounds of one delivery, and waits for more as long as these say, or
// until deadline, which may be nil. It answers what it has when ctx ends.
func (q *queue) gather(ctx context.Context, bounds delivery.Batch, deadline <-chan time.Time) []piece {
	var batch []piece
	records, size := 0, int64(0)
	for {
		q.mu.Lock()
		batch, records, size = q.fill(batch, records, size, bounds)
		q.mu.Unlock()
		if records >= bounds.Records || size >= bounds.Bytes {
			return batch
		}
		if deadline == nil && len(batch) > 0 {
			t := time.NewTimer(bounds.Wait)
			defer t.Stop()
			deadline = t.C
		}
		select {
		case <-ctx.Done():
			return batch
		case <-q.ready:
		case <-deadline:
			return batch
		}
	}
}

// fill adds what waits to a batch that has so many records and bytes. When the next record does not fit any more the
// batch counts as full.
func (q *queue) fill(batch []piece, records int, size int64, bounds delivery.Batch) ([]piece, int, int64) {
	for len(q.items) > 0 && records < bounds.Records && size < bounds.Bytes {
		it := q.items[0]
		from, end := it.run(it.next)
		if it.next = from; from == end {
			q.items = q.items[1:]
			continue
		}
		p := piece{it, it.next, it.next}
		start := it.start(it.next)
		for p.to < end && records < bounds.Records {
			grown := size + int64(it.Encoded.Ends[p.to]-start)
			if grown > bounds.Bytes && records > 0 {
				break
			}
			records++
			p.to++
			if grown >= bounds.Bytes {
				break
			}
		}
		if p.to == p.from {
			return batch, records, bounds.Bytes
		}
		size += int64(it.Encoded.Ends[p.to-1] - start)
		batch = append(batch, p)
		if it.next = p.to; it.next == len(it.Encoded.Ends) {
			q.items = q.items[1:]
		}
	}
	return batch, records, size
}
