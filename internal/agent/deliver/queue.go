package deliver

import (
	"context"
	"slices"
	"sync"
	"time"
)

// MaxQueued bounds the bytes that wait for one destination; who brings more waits.
const MaxQueued = 8 << 20

// queue holds what waits for one destination, in order. It is safe for concurrent use.
type queue struct {
	mu      sync.Mutex
	items   []*Item
	queued  int64 // bytes, also of what was taken out and is not settled
	stopped bool
	space   chan struct{} // closed and renewed when room was made
	ready   chan struct{} // one token when something waits
}

func newQueue() *queue { return &queue{space: make(chan struct{}), ready: make(chan struct{}, 1)} }

// size is what an item weighs: its bytes, and what a record costs that has none.
func (it *Item) size() int64 { return int64(len(it.Encoded.Bytes) + 4*len(it.Encoded.Ends)) }

// put adds an item. When there is no room it waits, and calls waiting now and then; when ctx ends it adds the item all
// the same, since its records must be settled by somebody. It answers false when the queue was stopped.
func (q *queue) put(ctx context.Context, it *Item, waiting func()) bool {
	it.left = len(it.Encoded.Ends)
	for {
		q.mu.Lock()
		if q.stopped {
			q.mu.Unlock()
			return false
		}
		if q.queued < MaxQueued || ctx.Err() != nil {
			q.push(it)
			q.mu.Unlock()
			return true
		}
		space := q.space
		q.mu.Unlock()
		t := time.NewTimer(time.Second)
		select {
		case <-ctx.Done():
		case <-space:
		case <-t.C:
			waiting()
		}
		t.Stop()
	}
}

// push adds an item, room or not. The queue is locked.
func (q *queue) push(it *Item) {
	q.items = append(q.items, it)
	q.queued += it.size()
	select {
	case q.ready <- struct{}{}:
	default:
	}
}

// adopt adds what another queue left.
func (q *queue) adopt(items []*Item) {
	q.mu.Lock()
	defer q.mu.Unlock()
	for _, it := range items {
		q.push(it)
	}
}

// freed makes room for so many bytes.
func (q *queue) freed(bytes int64) {
	if bytes == 0 {
		return
	}
	q.mu.Lock()
	defer q.mu.Unlock()
	q.queued -= bytes
	close(q.space)
	q.space = make(chan struct{})
}

// drain waits until nothing is left that is not settled, or the context ends.
func (q *queue) drain(ctx context.Context) {
	for {
		q.mu.Lock()
		empty, space := q.queued == 0, q.space
		q.mu.Unlock()
		if empty {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-space:
		}
	}
}

// waits is a copy of the items that wait.
func (q *queue) waits() []*Item {
	q.mu.Lock()
	defer q.mu.Unlock()
	return slices.Clone(q.items)
}

// stop ends the queue, and answers what waited in it.
func (q *queue) stop() []*Item {
	q.mu.Lock()
	defer q.mu.Unlock()
	items := q.items
	q.items, q.queued, q.stopped = nil, 0, true
	close(q.space)
	q.space = make(chan struct{})
	return items
}

// empty tells whether nothing is left that is not settled.
func (q *queue) empty() bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	return q.queued == 0
}
