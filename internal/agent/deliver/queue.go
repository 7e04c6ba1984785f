package deliver

import (
	"context"
	"slices"
	"sync"
	"time"

	"synaxis/internal/agent/buffer"
	"synaxis/internal/core/delivery"
	"synaxis/internal/core/wire"
)

// MaxQueued bounds the bytes that wait in memory for one destination. What finds no room goes to disk, or waits.
const MaxQueued = 8 << 20

// window is how much of what one source has on disk is in memory too.
const window = 1 << 20

// patient is how long records wait for room before they go to disk for the sake of their neighbours.
const patient = time.Second

// queue holds what waits for one destination: for each source in order, the beginning in memory and the rest on disk.
// Sources take turns. It is safe for concurrent use; load, gather and what takes records belong to one goroutine.
type queue struct {
	deps   Deps
	name   string
	spec   delivery.Buffer
	troubl func() bool // deliveries fail now

	mu      sync.Mutex
	edges   map[string]*edge
	order   []*edge
	turn    int             // whose turn it is
	busy    map[uint64]bool // streams of which a delivery is under way
	queued  int64           // bytes in memory, also of what was taken out and is not settled
	stopped bool
	full    time.Time // since when the buffer is full, or zero
	space   chan struct{}
	ready   chan struct{} // one token when something waits
	lost    map[string]*Discards
}

// Discards tell what of a source was given up.
type Discards struct {
	Records  int64
	From, To time.Time // when the records were read
	At       time.Time // when the last ones were given up
}

// edge is what one source has for the destination.
type edge struct {
	source  string
	items   []*Item // in memory, in order; settled ones go when they are first
	bytes   int64
	lane    *buffer.Lane // nil without a buffer
	account func(sender string, c wire.DeliveryCounts)
	follow  func(stream uint64, c wire.DeliveryCounts)
	damaged int64 // records of the lane that were lost to damage, as far as they are counted
}

func newQueue(spec delivery.Spec, deps Deps, trouble func() bool) *queue {
	q := &queue{deps: deps, name: spec.Name, spec: spec.Buffer, troubl: trouble, edges: map[string]*edge{},
		busy: map[uint64]bool{}, space: make(chan struct{}), ready: make(chan struct{}, 1),
		lost: map[string]*Discards{}}
	if spec.Kind == delivery.Discard { // which always takes everything
		q.spec.Disk = 0
	}
	if q.disk() {
		for source := range deps.Buffers.Have(spec.Name) {
			q.edge(source)
		}
	}
	return q
}

// disk tells whether there is a buffer.
func (q *queue) disk() bool { return q.deps.Buffers != nil && q.spec.Disk > 0 }

// edge is the edge of a source. The queue is locked.
func (q *queue) edge(source string) *edge {
	e := q.edges[source]
	if e != nil {
		return e
	}
	e = &edge{source: source, account: func(string, wire.DeliveryCounts) {}}
	if q.deps.Account != nil {
		e.account = func(sender string, c wire.DeliveryCounts) { q.deps.Account(q.name, source, sender, c) }
	}
	if q.deps.Follow != nil {
		e.follow = func(stream uint64, c wire.DeliveryCounts) { q.deps.Follow(q.name, stream, c) }
	}
	if q.deps.Buffers != nil {
		e.lane = q.deps.Buffers.Lane(buffer.Key{Destination: q.name, Source: source})
		for _, o := range q.order { // the source had another name before
			if o.lane == e.lane {
				o.source, q.edges[source] = source, o
				return o
			}
		}
		e.damaged = e.lane.Damaged() // the books were held against the lane as it was found
	}
	q.edges[source] = e
	q.order = append(q.order, e)
	return e
}

// place is where an item goes.
type place uint8

const (
	wait place = iota
	inMemory
	onDisk
	nowhere
)

// put adds an item. When there is no room it waits, and calls waiting now and then; when ctx ends it adds the item all
// the same, since its records must be settled by somebody. It answers false when the queue was stopped.
func (q *queue) put(ctx context.Context, it *Item, waiting func()) bool {
	it.left, it.at = len(it.Encoded.Ends), time.Now()
	for {
		q.mu.Lock()
		if q.stopped {
			q.mu.Unlock()
			return false
		}
		it.edge = q.edge(it.Encoded.Origin.Source)
		p := q.choose(it, ctx.Err() != nil)
		if p == onDisk {
			p = q.toDisk(it, ctx.Err() != nil)
		}
		if p == wait && q.disk() && q.fitsMemory(it) {
			p = inMemory
		}
		switch p {
		case inMemory:
			q.push(it)
		case nowhere:
			q.discarded(it.edge.source, int64(it.left), it.at)
		}
		space := q.space
		q.mu.Unlock()
		switch p {
		case nowhere:
			it.became(wire.DeliveryCounts{Discarded: int64(it.left)})
			it.Encoded.Release()
			return true
		case inMemory, onDisk:
			return true
		}
		t := time.NewTimer(patient / 4)
		select {
		case <-ctx.Done():
		case <-space:
		case <-t.C:
			waiting()
		}
		t.Stop()
	}
}

// choose is where an item goes. The queue is locked.
func (q *queue) choose(it *Item, stopping bool) place {
	e, disk := it.edge, q.disk()
	behind := disk && e.lane.State().Unread > 0 // what comes before it is on disk
	trouble := disk && q.troubl()
	if !behind && !trouble && it.Leaving != deletedFile && q.room(e, it.size()) {
		return inMemory
	}
	if !disk {
		if stopping || it.Leaving == deletedFile && q.room(e, it.size()) {
			return inMemory
		}
		return wait
	}
	if behind || trouble || stopping || it.Leaving != staysThere ||
		it.Neighbours && time.Since(it.at) >= patient {
		return onDisk
	}
	return wait
}

// fitsMemory tells whether an item that found no room on a disk that others have filled may stay in memory: there is
// room, and nothing before it is on disk only. The queue is locked.
func (q *queue) fitsMemory(it *Item) bool {
	return it.Leaving == staysThere && q.deps.DiskFull != nil && q.deps.DiskFull(it.size()) &&
		it.edge.lane.State().Unread == 0 && q.room(it.edge, it.size())
}

// room tells whether so many bytes more of a source fit into memory. Half of the room is kept for the sources that use
// less than their share. The queue is locked.
func (q *queue) room(e *edge, size int64) bool {
	if q.queued > 0 && q.deps.Budget != nil && q.deps.Budget.used.Load()+size > q.deps.Budget.most.Load() {
		return false
	}
	if e.bytes == 0 {
		return true
	}
	share, free := int64(MaxQueued/2/len(q.order)), MaxQueued-q.queued
	for _, o := range q.order {
		if o != e {
			free -= max(0, share-o.bytes)
		}
	}
	return free > 0
}

// push adds an item in memory, room or not. The queue is locked.
func (q *queue) push(it *Item) {
	it.edge.items = append(it.edge.items, it)
	it.edge.bytes += it.size()
	q.queued += it.size()
	q.deps.Budget.take(it.size())
	q.kick()
}

// kick wakes who waits for something to do.
func (q *queue) kick() {
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
		it.edge = q.edge(it.edge.source)
		q.push(it)
	}
}

// settle notes what became of a delivery's records.
func (q *queue) settle(batch []piece, refused bool) {
	q.mu.Lock()
	defer q.mu.Unlock()
	freed := false
	for _, p := range batch {
		n := int64(p.to - p.from)
		c := wire.DeliveryCounts{Acknowledged: n, Sent: p.item.bytes(p.from, p.to)}
		if refused {
			c = wire.DeliveryCounts{Refused: n}
		}
		p.item.settle(p.from, p.to)
		if p.item.became(c) {
			q.free(p.item)
			freed = true
		}
	}
	if freed {
		close(q.space)
		q.space = make(chan struct{})
	}
}

// free lets go of an item that is settled. The queue is locked.
func (q *queue) free(it *Item) {
	if it.frame != nil {
		it.edge.lane.Done(it.frame.from, it.frame.to)
	}
	q.forget(it)
	for len(it.edge.items) > 0 && it.edge.items[0].settled() {
		it.edge.items = it.edge.items[1:]
	}
}

// forget takes an item out of the count of what is in memory, and gives its memory back. The queue is locked.
func (q *queue) forget(it *Item) {
	size := it.size()
	q.queued -= size
	it.edge.bytes -= size
	q.deps.Budget.give(size)
	it.Encoded.Release()
}

// drain waits until nothing is left that is not settled, or the context ends.
func (q *queue) drain(ctx context.Context) {
	t := time.NewTicker(50 * time.Millisecond)
	defer t.Stop()
	for !q.empty() {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
	}
}

// waits is a copy of the items of which something was not taken out yet.
func (q *queue) waits() (out []*Item) {
	q.mu.Lock()
	defer q.mu.Unlock()
	for _, e := range q.order {
		for _, it := range e.items {
			if from, end := it.run(it.next); from < end {
				out = append(out, it)
			}
		}
	}
	return out
}

// stop ends the queue, and answers what is not settled in memory, for each source in order.
func (q *queue) stop() (rest []*Item) {
	q.mu.Lock()
	defer q.mu.Unlock()
	for _, e := range q.order {
		for _, it := range e.items {
			if !it.settled() {
				it.next = it.open
				rest = append(rest, it)
			}
		}
		e.items, e.bytes = nil, 0
	}
	q.deps.Budget.give(q.queued)
	q.queued, q.stopped = 0, true
	close(q.space)
	q.space = make(chan struct{})
	return rest
}

// reopen lets the queue take what it held once more.
func (q *queue) reopen() {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.stopped = false
}

// empty tells whether nothing is left that is not settled.
func (q *queue) empty() bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	return q.queued == 0 && !slices.ContainsFunc(q.order, func(e *edge) bool {
		return e.lane != nil && e.lane.State().Records > 0
	})
}

// Backlog is what waits for a destination.
type Backlog struct {
	Source    string
	OnDisk    int64 // records
	DiskBytes int64
	InMemory  int64     // records that are not on disk
	Oldest    time.Time // when the oldest was read that is on disk, or zero
}

// backlog is what waits, by source.
func (q *queue) backlog() (out []Backlog) {
	q.mu.Lock()
	defer q.mu.Unlock()
	for _, e := range q.order {
		b := Backlog{Source: e.source}
		for _, it := range e.items {
			it.mu.Lock()
			if it.left > 0 && !it.safe {
				b.InMemory += int64(it.left)
			}
			it.mu.Unlock()
		}
		if e.lane != nil {
			s := e.lane.State()
			b.OnDisk, b.DiskBytes = s.Records, s.Bytes
			b.Oldest = s.Oldest
		}
		out = append(out, b)
	}
	return out
}
