// Package settle keeps the books of what a file's position may move over: only the contiguous run of batches whose
// records have all been settled by every way they were sent.
package settle

import (
	"maps"
	"sync"

	"synaxis/internal/core/wire"
)

// Book holds the ledgers of one source and its sums: live counts everything at once, settled only what a position
// has moved over. What goes to disk is the latter, so that after a crash the numbers fit the positions and a record
// that is read again is not counted twice.
type Book struct {
	mu            sync.Mutex
	live, settled wire.Numbers
}

// NewBook begins with what was on disk.
func NewBook(from wire.Numbers) *Book {
	from.Pending = 0
	b := &Book{}
	Add(&b.live, from)
	Add(&b.settled, from)
	return b
}

// Note counts something that needs no settling, such as a file that shrank.
func (b *Book) Note(n wire.Numbers) {
	b.mu.Lock()
	defer b.mu.Unlock()
	Add(&b.live, n)
	Add(&b.settled, n)
}

// Live returns the numbers as of now; Pending is what is read and not settled.
func (b *Book) Live() wire.Numbers {
	b.mu.Lock()
	defer b.mu.Unlock()
	out := b.live
	out.Deliveries, out.Drops = maps.Clone(out.Deliveries), maps.Clone(out.Drops)
	out.Pending = b.live.Read - b.settled.Read
	return out
}

// Snapshot returns the settled offsets of ledgers and the settled numbers, which fit each other.
func (b *Book) Snapshot(ledgers []*Ledger) (offsets []int64, settled wire.Numbers) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, l := range ledgers {
		offsets = append(offsets, l.settled)
	}
	settled = b.settled
	settled.Deliveries, settled.Drops = maps.Clone(settled.Deliveries), maps.Clone(settled.Drops)
	return offsets, settled
}

// Ledger is the account of one file.
type Ledger struct {
	book    *Book
	open    []*Entry
	settled int64
}

// Ledger opens an account at an offset.
func (b *Book) Ledger(offset int64) *Ledger { return &Ledger{book: b, settled: offset} }

// Entry is one batch.
type Entry struct {
	ledger *Ledger
	end    int64
	edges  int
	counts wire.Numbers
}

// Add opens an entry that ends at an offset and is sent edges ways; with none it is settled as it is.
func (l *Ledger) Add(end int64, edges int, counts wire.Numbers) *Entry {
	l.book.mu.Lock()
	defer l.book.mu.Unlock()
	Add(&l.book.live, counts)
	e := &Entry{ledger: l, end: end, edges: edges, counts: counts}
	l.open = append(l.open, e)
	l.advance()
	return e
}

// Done settles one way of the entry: so many records acknowledged and refused at a destination.
func (e *Entry) Done(destination string, c wire.DeliveryCounts) {
	b := e.ledger.book
	b.mu.Lock()
	defer b.mu.Unlock()
	n := wire.Numbers{Deliveries: map[string]wire.DeliveryCounts{destination: c}}
	Add(&b.live, n)
	Add(&e.counts, n)
	e.edges--
	e.ledger.advance()
}

func (l *Ledger) advance() {
	n := 0
	for n < len(l.open) && l.open[n].edges <= 0 {
		l.settled = l.open[n].end
		Add(&l.book.settled, l.open[n].counts)
		n++
	}
	l.open = l.open[n:]
}

// Idle tells whether nothing is open.
func (l *Ledger) Idle() bool {
	l.book.mu.Lock()
	defer l.book.mu.Unlock()
	return len(l.open) == 0
}

// Add sums numbers up; of the times the later stays.
func Add(to *wire.Numbers, n wire.Numbers) {
	to.Read += n.Read
	to.Bytes += n.Bytes
	to.Unparsed += n.Unparsed
	to.Dropped += n.Dropped
	to.Blank += n.Blank
	to.Failed += n.Failed
	to.Masked += n.Masked
	for reason, d := range n.Drops {
		if to.Drops == nil {
			to.Drops = map[string]int64{}
		}
		to.Drops[reason] += d
	}
	to.Truncated += n.Truncated
	to.LastRecord = max(to.LastRecord, n.LastRecord)
	for d, c := range n.Deliveries {
		if to.Deliveries == nil {
			to.Deliveries = map[string]wire.DeliveryCounts{}
		}
		have := to.Deliveries[d]
		have.Acknowledged += c.Acknowledged
		have.Refused += c.Refused
		to.Deliveries[d] = have
	}
}
