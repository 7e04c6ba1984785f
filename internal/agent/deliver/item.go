package deliver

import (
	"sync"
	"time"

	"synaxis/internal/agent/buffer"
	"synaxis/internal/core/record"
	"synaxis/internal/core/wire"
)

// Item is a run of encoded records of one batch. Done is called once: when all of them are settled, or when those that
// are not are safe on disk.
type Item struct {
	Encoded    record.Encoded
	Stream     uint64         // what they were read from: records of one stream stay in order
	Leaving    record.Leaving // whether they can be read again
	Neighbours bool           // their source has other destinations, which wait as long as this one has no room
	Done       func(wire.DeliveryCounts)

	at    time.Time
	edge  *edge
	next  int    // first record not taken into a delivery
	open  int    // the first that is not settled
	ahead []bool // records settled beyond that, when there are any
	frame *frame // where it is on disk, or nil

	mu     sync.Mutex
	left   int                 // records not settled
	safe   bool                // Done was called, since it is on disk
	counts wire.DeliveryCounts // of what was settled since the item was made, or since it was safe
}

// frame is the place of an item in its lane.
type frame struct{ from, to uint64 }

// settle notes that a run of records is settled.
func (it *Item) settle(from, to int) {
	if from == it.open && it.ahead == nil {
		it.open = to
		return
	}
	if it.ahead == nil {
		it.ahead = make([]bool, len(it.Encoded.Ends))
	}
	for i := from; i < to; i++ {
		it.ahead[i] = true
	}
	for it.open < len(it.ahead) && it.ahead[it.open] {
		it.open++
	}
}

// bytes are how many bytes its records from one up to another take.
func (it *Item) bytes(from, to int) int64 {
	if to == 0 || to > len(it.Encoded.Ends) {
		return 0
	}
	n := int64(it.Encoded.Ends[to-1])
	if from > 0 {
		n -= int64(it.Encoded.Ends[from-1])
	}
	return n
}

// became counts what became of records. It answers whether all are settled now; the item is then done with.
func (it *Item) became(c wire.DeliveryCounts) bool {
	it.told(c)
	it.mu.Lock()
	defer it.mu.Unlock()
	it.left -= int(c.Acknowledged + c.Refused + c.Discarded)
	it.counts.Acknowledged += c.Acknowledged
	it.counts.Sent += c.Sent
	it.counts.Refused += c.Refused
	it.counts.Discarded += c.Discarded
	if it.left > 0 {
		return false
	}
	if it.safe {
		it.edge.account(it.Encoded.Origin.SenderName(), it.counts)
	} else {
		it.Done(it.counts)
	}
	return true
}

// written notes that the item is safe on disk.
func (it *Item) written() {
	it.mu.Lock()
	defer it.mu.Unlock()
	if it.left == 0 || it.safe {
		return
	}
	it.safe = true
	it.counts.OnDisk = int64(it.left)
	it.told(wire.DeliveryCounts{OnDisk: it.counts.OnDisk})
	it.Done(it.counts)
	it.counts = wire.DeliveryCounts{}
}

// told tells who follows the stream of the item.
func (it *Item) told(c wire.DeliveryCounts) {
	if it.edge != nil && it.edge.follow != nil {
		it.edge.follow(it.Stream, c)
	}
}

// toFrame are the records that are not settled, as they go to disk.
func (it *Item) toFrame() buffer.Frame {
	f := buffer.Frame{Encoding: it.Encoded.Encoding, Origin: it.Encoded.Origin, At: it.at, Stream: it.Stream}
	if it.open == 0 && it.ahead == nil {
		f.Bytes, f.Ends = it.Encoded.Bytes, it.Encoded.Ends
		return f
	}
	for from := 0; ; {
		begin, end := it.run(from)
		if begin >= end {
			return f
		}
		for i := begin; i < end; i++ {
			f.Bytes = append(f.Bytes, it.Encoded.Bytes[it.start(i):it.Encoded.Ends[i]]...)
			f.Ends = append(f.Ends, uint32(len(f.Bytes)))
		}
		from = end
	}
}

// run is the next run of records that are not settled, from a place on.
func (it *Item) run(from int) (begin, end int) {
	if it.ahead == nil {
		return max(from, it.open), len(it.Encoded.Ends)
	}
	for from < len(it.ahead) && (from < it.open || it.ahead[from]) {
		from++
	}
	for end = from; end < len(it.ahead) && !it.ahead[end]; end++ {
	}
	return from, end
}

// nth is the record that is number n, from 0, of those that are not settled.
func (it *Item) nth(n int) int {
	for from := 0; ; {
		begin, end := it.run(from)
		if begin+n < end || begin >= end {
			return min(begin+n, len(it.Encoded.Ends)-1)
		}
		n -= end - begin
		from = end
	}
}

// size is what an item weighs: its bytes, and what a record costs that has none.
func (it *Item) size() int64 { return int64(len(it.Encoded.Bytes) + 4*len(it.Encoded.Ends)) }

// settled tells whether nothing of it is open.
func (it *Item) settled() bool {
	it.mu.Lock()
	defer it.mu.Unlock()
	return it.left == 0
}

// piece is a part of an item that travels in one delivery.
type piece struct {
	item     *Item
	from, to int
}

func (p piece) bytes() []byte {
	return p.item.Encoded.Bytes[p.item.start(p.from):p.item.Encoded.Ends[p.to-1]]
}

// start is where a record begins.
func (it *Item) start(record int) uint32 {
	if record == 0 {
		return 0
	}
	return it.Encoded.Ends[record-1]
}
