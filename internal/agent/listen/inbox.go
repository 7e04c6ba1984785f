package listen

import (
	"context"
	"sync"
	"time"

	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/record"
)

// Bounds of what waits to be treated.
const (
	mostInbox  = 16 << 20  // bytes, of a source
	overhead   = 96        // bytes that a message takes beside its text
	parcelSize = 512 << 10 // bytes of messages that are treated together
	alwaysRoom = 64 << 10  // bytes that each sender may have, whatever others have
)

// parcel is what came from one sender and is treated together. With done, somebody waits until it is settled.
type parcel struct {
	peer     *peer
	arena    []byte
	messages []pipeline.Message
	at       time.Time // when the first of it came
	size     int
	done     func()
}

func (p *parcel) add(text []byte, truncated bool, given *record.Given) {
	at := len(p.arena)
	p.arena = append(p.arena, text...)
	p.messages = append(p.messages, pipeline.Message{Text: record.Span{Off: uint32(at), Len: uint32(len(text))},
		Truncated: truncated, Given: given})
	p.size += len(text) + overhead
}

// inbox is what waits, by sender. Senders take turns. A sender may have as much as is left free, so that one that
// floods takes no more than half of the room, and others find some.
type inbox struct {
	mu     sync.Mutex
	order  []*peer // who has something, in turns
	bytes  int
	closed bool
	ready  chan struct{} // one token when something came
	room   chan struct{} // closed when something was taken
	spare  []*parcel
}

func newInbox() *inbox { return &inbox{ready: make(chan struct{}, 1), room: make(chan struct{})} }

// fits tells whether a sender may have so many bytes more. It is locked.
func (x *inbox) fits(p *peer, size int) bool {
	free := mostInbox - x.bytes
	return p.held+size <= max(alwaysRoom, free) && x.bytes+size <= mostInbox+alwaysRoom ||
		p.held == 0 && x.bytes <= mostInbox
}

// put adds messages of a sender, each by fill, to what of it is treated together; false where there is no room.
func (x *inbox) put(p *peer, size, n int, now time.Time, fill func(to *parcel)) bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.closed || !x.fits(p, size+n*overhead) {
		return false
	}
	var to *parcel
	if k := len(p.queue); k > 0 && p.queue[k-1].done == nil && p.queue[k-1].size+size < parcelSize {
		to = p.queue[k-1]
	} else {
		to = x.fresh(p, now)
		x.queue(p, to)
	}
	before := to.size
	fill(to)
	x.grown(p, to.size-before)
	return true
}

// deliver adds a whole parcel. It answers false where there is no room.
func (x *inbox) deliver(p *parcel) bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.closed || !x.fits(p.peer, p.size) {
		return false
	}
	x.queue(p.peer, p)
	x.grown(p.peer, p.size)
	return true
}

func (x *inbox) queue(p *peer, one *parcel) {
	if len(p.queue) == 0 {
		x.order = append(x.order, p)
	}
	p.queue = append(p.queue, one)
}

func (x *inbox) grown(p *peer, size int) {
	x.bytes += size
	p.held += size
	p.busy.Store(true)
	select {
	case x.ready <- struct{}{}:
	default:
	}
}

func (x *inbox) fresh(p *peer, now time.Time) *parcel {
	if n := len(x.spare); n > 0 {
		one := x.spare[n-1]
		x.spare = x.spare[:n-1]
		*one = parcel{peer: p, arena: one.arena[:0], messages: one.messages[:0], at: now}
		return one
	}
	return &parcel{peer: p, at: now}
}

// spares is how many parcels are kept to be used again.
const spares = 8

// recycle takes back what was treated.
func (x *inbox) recycle(p *parcel) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if len(x.spare) < spares && cap(p.arena) <= 2*parcelSize {
		clear(p.messages)
		p.peer = nil
		x.spare = append(x.spare, p)
	}
}

// take waits for what comes next; nil when ctx has ended, or it was closed.
func (x *inbox) take(ctx context.Context) *parcel {
	for {
		x.mu.Lock()
		if len(x.order) > 0 && ctx.Err() == nil {
			p := x.order[0]
			one := p.queue[0]
			p.queue = p.queue[1:]
			x.order = x.order[1:]
			if len(p.queue) > 0 {
				x.order = append(x.order, p)
			} else {
				p.queue = nil
				p.busy.Store(false)
			}
			x.bytes -= one.size
			p.held -= one.size
			close(x.room)
			x.room = make(chan struct{})
			x.mu.Unlock()
			return one
		}
		closed := x.closed
		x.mu.Unlock()
		if closed || ctx.Err() != nil {
			return nil
		}
		select {
		case <-ctx.Done():
		case <-x.ready:
		}
	}
}

// wait waits until something was taken; false when it was closed, or stop is.
func (x *inbox) wait(stop <-chan struct{}) bool {
	x.mu.Lock()
	room, closed := x.room, x.closed
	x.mu.Unlock()
	if closed {
		return false
	}
	select {
	case <-room:
		return true
	case <-stop:
		return false
	case <-time.After(100 * time.Millisecond): // it was taken between
		return true
	}
}

// waits is how much waits, and since when.
func (x *inbox) waits() (bytes int64, oldest time.Time) {
	x.mu.Lock()
	defer x.mu.Unlock()
	for _, p := range x.order {
		if at := p.queue[0].at; oldest.IsZero() || at.Before(oldest) {
			oldest = at
		}
	}
	return int64(x.bytes), oldest
}

func (x *inbox) close() {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.closed = true
	close(x.room)
	x.room = make(chan struct{})
	select {
	case x.ready <- struct{}{}:
	default:
	}
}
