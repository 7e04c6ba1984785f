package deliver

import (
	"synaxis/internal/core/record"
	"synaxis/internal/core/wire"
)

// Item is a run of encoded records of one batch. Done is called once, when all of them are settled here.
type Item struct {
	Encoded record.Encoded
	Done    func(wire.DeliveryCounts)

	next   int    // first record not taken into a delivery
	left   int    // records not settled
	open   int    // the first of them
	ahead  []bool // records settled beyond that, when there are any
	counts wire.DeliveryCounts
}

// settle notes that a run of records is settled.
func (it *Item) settle(from, to int) {
	it.left -= to - from
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
