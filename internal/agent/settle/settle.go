// Package settle keeps the books of what a position may move over: only the contiguous run of batches whose
// records have all been settled by every way they were sent.
package settle

import (
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
	from = from.Settled()
	if from.Acknowledged == 0 { // kept by a version that did not count them
		from.Acknowledged = from.Read - from.Dropped
		for _, d := range from.Deliveries {
			from.Acknowledged -= d.Refused
		}
		from.Acknowledged = max(0, from.Acknowledged)
	}
	b := &Book{}
	b.live.Add(from)
	b.settled.Add(from)
	return b
}

// Note counts something that needs no settling, such as a file that shrank.
func (b *Book) Note(n wire.Numbers) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.live.Add(n)
	b.settled.Add(n)
}

// Live returns the numbers as of now; Pending is what is read and not settled.
func (b *Book) Live() wire.Numbers {
	b.mu.Lock()
	defer b.mu.Unlock()
	out := b.live.Clone()
	out.Pending = b.live.Read - b.settled.Read
	return out
}

// Cursor is up to where something was read. Its bytes are of the input's kind; the book keeps them and hands them
// back.
type Cursor []byte

// Snapshot returns the settled cursors of ledgers and the settled numbers, which fit each other.
func (b *Book) Snapshot(ledgers []*Ledger) (cursors []Cursor, settled wire.Numbers) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, l := range ledgers {
		cursors = append(cursors, l.settled)
	}
	return cursors, b.settled.Clone()
}

// Ledger is the account of what is read in order: a file, a connection.
type Ledger struct {
	book    *Book
	open    []*Entry
	settled Cursor
}

// Ledger opens an account at a cursor.
func (b *Book) Ledger(at Cursor) *Ledger { return &Ledger{book: b, settled: at} }

// Entry is one batch.
type Entry struct {
	ledger *Ledger
	end    Cursor
	edges  int
	counts wire.Numbers
}

// Add opens an entry that ends at a cursor and is sent edges ways; with none it is settled as it is.
func (l *Ledger) Add(end Cursor, edges int, counts wire.Numbers) *Entry {
	l.book.mu.Lock()
	defer l.book.mu.Unlock()
	l.book.live.Add(counts)
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
	b.live.Add(n)
	e.counts.Add(n)
	e.edges--
	e.ledger.advance()
}

func (l *Ledger) advance() {
	n := 0
	for n < len(l.open) && l.open[n].edges <= 0 {
		l.settled = l.open[n].end
		c := &l.open[n].counts
		c.Acknowledged = c.Read - c.Dropped
		for _, d := range c.Deliveries {
			c.Acknowledged -= d.Refused
		}
		c.Acknowledged = max(0, c.Acknowledged) // two destinations may refuse the same record
		l.book.settled.Add(*c)
		l.book.live.Acknowledged += c.Acknowledged
		n++
	}
	l.open = l.open[n:]
}

// Settled is up to where everything is settled.
func (l *Ledger) Settled() Cursor {
	l.book.mu.Lock()
	defer l.book.mu.Unlock()
	return l.settled
}

// Idle tells whether nothing is open.
func (l *Ledger) Idle() bool {
	l.book.mu.Lock()
	defer l.book.mu.Unlock()
	return len(l.open) == 0
}
