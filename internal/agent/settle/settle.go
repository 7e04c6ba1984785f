// Package settle keeps the books of what a position may move over: only the contiguous run of batches whose records
// have all been settled by every way they were sent. Records are settled when they were acknowledged, put among the
// rejects, given up and counted, or when they are safe on disk.
package settle

import (
	"bytes"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"synaxis/internal/core/wire"
)

// Book holds the ledgers of one source and its sums: live counts everything at once, settled only what a position
// has moved over. What goes to disk is the latter, so that after a crash the numbers fit the positions and a record
// that is read again is not counted twice. What became of records at one destination is settled by a position of its
// own.
type Book struct {
	mu            *sync.Mutex   // of all books that were opened together
	changes       *atomic.Int64 // of them
	live, settled wire.Numbers
	edges         map[string]*edge
	lent          map[string]bool // of edges that another book goes on with
}

// Books are those of one agent. What one has counted may go on in another.
type Books struct {
	mu      sync.Mutex
	changes atomic.Int64
}

// Changes counts whatever changes in the books, so that one who keeps them knows whether there is anything new.
func (s *Books) Changes() int64 { return s.changes.Load() }

// edge is the account of one destination.
type edge struct {
	live, settled wire.DeliveryCounts
	senders       map[string]*became // of who sent the records; nil where nobody is known
	unclear       bool               // records were lost, and nobody knows whose they were
}

// became is what became of the records of a sender, and which of them wait.
type became struct {
	live, settled wire.DeliveryCounts
	waits         Waits
}

// settle notes what became of records of a sender, or of nobody who is known, that waited. Once nothing waits, nothing
// of any sender does.
func (e *edge) settle(sender string, c wire.DeliveryCounts) {
	gone := c.Acknowledged + c.Refused + c.Discarded
	if s := e.sender(sender); s != nil {
		count(&s.live, c)
		s.waits.Take(gone)
	} else if gone > 0 && len(e.senders) > 0 {
		e.unclear = true
	}
	if e.unclear && e.live.Waiting() <= 0 {
		for _, s := range e.senders {
			s.waits = Waits{}
		}
		e.unclear = false
	}
}

// sender is the account of a sender that is known by its name; nil for nobody.
func (e *edge) sender(name string) *became {
	if name == "" {
		return nil
	}
	s := e.senders[name]
	if s == nil {
		if e.senders == nil {
			e.senders = map[string]*became{}
		}
		s = &became{}
		e.senders[name] = s
	}
	return s
}

// NewBook begins a book alone with what was on disk.
func NewBook(from wire.Numbers) *Book { return new(Books).Open(from) }

// Open begins a book with what was on disk.
func (s *Books) Open(from wire.Numbers) *Book {
	b := &Book{mu: &s.mu, changes: &s.changes, edges: map[string]*edge{}, lent: map[string]bool{}}
	for name, d := range from.Deliveries {
		d.InMemory, d.DiskBytes, d.Oldest = 0, 0, 0
		if d.Read == 0 { // kept by a version that did not count it
			d.Read = -d.Difference()
		}
		b.edges[name] = &edge{live: d, settled: d}
	}
	for name := range from.SenderWaiting { // what waits is told by OnDisk
		to, sender := wire.CutSenderOf(name)
		b.edge(to).sender(sender)
	}
	from = from.Settled()
	from.Deliveries = nil
	for _, c := range ofSenders(&from) {
		for name, v := range *c.of {
			to, sender := wire.CutSenderOf(name)
			s := b.edge(to).sender(sender)
			*c.in(&s.live), *c.in(&s.settled) = v, v
		}
		*c.of = nil
	}
	b.live.Add(from)
	b.settled.Add(from)
	return b
}

// senderCount is a number of what became of a sender's records, in the numbers of a source and in an account.
type senderCount struct {
	of *map[string]int64
	in func(*wire.DeliveryCounts) *int64
}

func ofSenders(n *wire.Numbers) []senderCount {
	return []senderCount{
		{&n.SenderAcknowledged, func(c *wire.DeliveryCounts) *int64 { return &c.Acknowledged }},
		{&n.SenderSent, func(c *wire.DeliveryCounts) *int64 { return &c.Sent }},
		{&n.SenderRefused, func(c *wire.DeliveryCounts) *int64 { return &c.Refused }},
	}
}

func (b *Book) edge(destination string) *edge {
	e := b.edges[destination]
	if e == nil {
		e = &edge{}
		b.edges[destination] = e
	}
	return e
}

// OnDisk says how many records of the source are really on disk for a destination, when the agent starts, and which
// of them are of senders that are known by their names. What was safe and was not written down yet is read again, and
// counts as read twice; what is missing was lost, and counts as discarded.
func (b *Book) OnDisk(destination string, records int64, senders map[string]*Waits) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.changes.Add(1)
	e := b.edge(destination)
	for name, w := range senders {
		if s := e.sender(name); s != nil {
			s.waits = *w
		}
	}
	for _, c := range []*wire.DeliveryCounts{&e.live, &e.settled} {
		more := records - c.OnDisk
		c.OnDisk = records
		c.Read += max(0, more)
		c.Discarded += max(0, -more)
	}
}

// FromDisk says what became of records of a sender, or of nobody who is known, that were on disk.
func (b *Book) FromDisk(destination, sender string, c wire.DeliveryCounts) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.changes.Add(1)
	e := b.edge(destination)
	for _, to := range []*wire.DeliveryCounts{&e.live, &e.settled} {
		to.OnDisk -= c.Acknowledged + c.Refused + c.Discarded
		count(to, c)
	}
	if s := e.sender(sender); s != nil {
		count(&s.settled, c)
	}
	e.settle(sender, c)
}

// count counts what became of records.
func count(to *wire.DeliveryCounts, c wire.DeliveryCounts) {
	to.Acknowledged += c.Acknowledged
	to.Sent += c.Sent
	to.Refused += c.Refused
	to.Discarded += c.Discarded
	to.OnDisk += c.OnDisk
}

// Take goes on with what another book had counted of a destination. That one counts into this book from now on, as far
// as it has something under way. Both were opened together.
func (b *Book) Take(from *Book, destination string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.changes.Add(1)
	e := from.edges[destination]
	if e == nil || from.lent[destination] || from == b {
		return
	}
	if b.lent[destination] || b.edges[destination] == nil {
		b.edges[destination] = e
		from.lent[destination] = true
		delete(b.lent, destination)
		return
	}
	to := b.edges[destination]
	from.edges[destination], from.lent[destination] = to, true
	for _, x := range []struct{ to, from *wire.DeliveryCounts }{{&to.live, &e.live}, {&to.settled, &e.settled}} {
		x.to.Read += x.from.Read
		x.to.Dropped += x.from.Dropped
		x.to.Elsewhere += x.from.Elsewhere
		x.to.InMemory += x.from.InMemory
		count(x.to, *x.from)
	}
	for name, s := range e.senders {
		have := to.sender(name)
		count(&have.live, s.live)
		count(&have.settled, s.settled)
		have.waits.merge(&s.waits)
	}
}

// Rename gives what was counted of a destination its new name.
func (b *Book) Rename(was, now string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.changes.Add(1)
	if e := b.edges[was]; e != nil && b.edges[now] == nil { // what is under way still says the old name
		b.edges[now], b.lent[was] = e, true
	}
}

// Note counts something that needs no settling, such as a file that shrank.
func (b *Book) Note(n wire.Numbers) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.changes.Add(1)
	b.live.Add(n)
	b.settled.Add(n)
}

// Live returns the numbers as of now; Pending is what waits for a destination.
func (b *Book) Live() wire.Numbers {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.live.Acknowledged = b.acknowledged(b.live, func(e *edge) wire.DeliveryCounts { return e.live })
	out := b.numbers(b.live, func(e *edge) wire.DeliveryCounts { return e.live },
		func(s *became) *wire.DeliveryCounts { return &s.live })
	for name, e := range b.edges {
		if !b.lent[name] {
			out.Pending = max(out.Pending, e.live.Waiting())
		}
	}
	return out
}

func (b *Book) numbers(
	n wire.Numbers, of func(*edge) wire.DeliveryCounts, senders func(*became) *wire.DeliveryCounts,
) wire.Numbers {
	out := n.Clone()
	counts := ofSenders(&out)
	for name, e := range b.edges {
		if b.lent[name] {
			continue
		}
		if out.Deliveries == nil {
			out.Deliveries = map[string]wire.DeliveryCounts{}
		}
		out.Deliveries[name] = of(e)
		for sender, s := range e.senders {
			at := wire.SenderOf(name, sender)
			for _, c := range counts {
				wire.Count(c.of, at, *c.in(senders(s)))
			}
			if out.SenderWaiting == nil {
				out.SenderWaiting = map[string]int64{}
			}
			out.SenderWaiting[at] = s.waits.Records
			wire.Count(&out.SenderOldest, at, s.waits.Oldest())
		}
	}
	return out
}

// acknowledged is how many records all of their destinations have.
func (b *Book) acknowledged(n wire.Numbers, of func(*edge) wire.DeliveryCounts) int64 {
	missing := int64(0)
	for name, e := range b.edges {
		if b.lent[name] {
			continue
		}
		c := of(e)
		missing = max(missing, c.Refused+c.Discarded+c.OnDisk+c.InMemory)
	}
	return max(n.Acknowledged, n.Read-n.Dropped-missing)
}

// Cursor is up to where something was read. Its bytes are of the input's kind; the book keeps them and hands them
// back. Of two cursors of one ledger, the later one is the greater by its bytes.
type Cursor []byte

// Settled is what may be written down of a ledger.
type Settled struct {
	All   Cursor            // up to where everything is settled
	Ahead map[string]Cursor // of destinations that have settled more; nil when there are none
}

// Snapshot returns what is settled of ledgers and the settled numbers, which fit each other.
func (b *Book) Snapshot(ledgers []*Ledger) (settled []Settled, numbers wire.Numbers) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, l := range ledgers {
		settled = append(settled, Settled{l.settled, l.ahead()})
	}
	b.settled.Acknowledged = b.acknowledged(b.settled, func(e *edge) wire.DeliveryCounts { return e.settled })
	return settled, b.numbers(b.settled, func(e *edge) wire.DeliveryCounts { return e.settled },
		func(s *became) *wire.DeliveryCounts { return &s.settled })
}

// Ledger is the account of what is read in order: a file, a connection.
type Ledger struct {
	book    *Book
	open    []*Entry
	base    int // how many entries came before the first that is open
	settled Cursor
	own     map[string]*own
}

// own is how far one destination has come.
type own struct {
	next int // the first entry that it has not settled
	end  Cursor
}

// Ledger opens an account at a cursor. ahead are cursors of destinations that have more.
func (b *Book) Ledger(at Cursor, ahead map[string]Cursor) *Ledger {
	b.changes.Add(1) // a file that was found has a position
	l := &Ledger{book: b, settled: at, own: map[string]*own{}}
	for name, end := range ahead {
		l.own[name] = &own{end: end}
	}
	return l
}

// Ahead tells whether a destination has everything up to a cursor from before the ledger was opened.
func (l *Ledger) Ahead(destination string, end Cursor) bool {
	l.book.mu.Lock()
	defer l.book.mu.Unlock()
	o := l.own[destination]
	return o != nil && bytes.Compare(end, o.end) <= 0
}

// Boundary is the next cursor behind another at which a destination stopped before the ledger was opened: a batch must
// not reach across it. It is nil when there is none.
func (l *Ledger) Boundary(after Cursor) Cursor {
	l.book.mu.Lock()
	defer l.book.mu.Unlock()
	var next Cursor
	for _, o := range l.own {
		if bytes.Compare(o.end, after) > 0 && (next == nil || bytes.Compare(o.end, next) < 0) {
			next = o.end
		}
	}
	return next
}

// ahead are the cursors of destinations that have more than everything.
func (l *Ledger) ahead() map[string]Cursor {
	var out map[string]Cursor
	for name, o := range l.own {
		if bytes.Compare(o.end, l.settled) > 0 {
			if out == nil {
				out = map[string]Cursor{}
			}
			out[name] = o.end
		}
	}
	return out
}

// Way is how many records of a batch go to a destination.
type Way struct {
	Destination string
	Records     int64
}

// Entry is one batch.
type Entry struct {
	ledger *Ledger
	index  int
	end    Cursor
	left   int // ways that are not settled
	ways   []way
	counts wire.Numbers
	sender string        // of its records, where it is known
	done   chan struct{} // closed when left is 0; nil where nobody waits
}

// Settled is closed when all of the entry is settled.
func (e *Entry) Settled() <-chan struct{} {
	b := e.ledger.book
	b.mu.Lock()
	defer b.mu.Unlock()
	if e.done == nil {
		e.done = make(chan struct{})
		if e.left <= 0 {
			close(e.done)
		}
	}
	return e.done
}

// way is the account of one destination for an entry.
type way struct {
	destination string
	settled     bool
	counts      wire.DeliveryCounts
}

// Add opens an entry that ends at a cursor, with what was counted of its records, and for each destination to which
// its records are brought how many go there; with none it is settled as it is.
func (l *Ledger) Add(end Cursor, ways []Way, counts wire.Numbers) *Entry {
	b := l.book
	b.mu.Lock()
	defer b.mu.Unlock()
	b.changes.Add(1)
	b.live.Add(counts)
	e := &Entry{ledger: l, index: l.base + len(l.open), end: end, counts: counts}
	for name := range counts.Senders { // a batch is of one
		e.sender = name
	}
	var read time.Time
	if e.sender != "" {
		read = time.Now()
	}
	if len(ways) > 0 {
		e.ways = make([]way, len(ways))
	}
	l.open = append(l.open, e)
	for i, w := range ways {
		c := wire.DeliveryCounts{
			Read:      counts.Read,
			Dropped:   counts.Dropped,
			Elsewhere: counts.Read - counts.Dropped - w.Records,
		}
		e.ways[i] = way{w.Destination, w.Records == 0, c}
		edge := b.edge(w.Destination)
		if w.Records > 0 {
			e.left++
			if s := edge.sender(e.sender); s != nil {
				s.waits.Add(read, w.Records)
			}
		}
		live := &edge.live
		live.Read += c.Read
		live.Dropped += c.Dropped
		live.Elsewhere += c.Elsewhere
		live.InMemory += w.Records
		if l.own[w.Destination] == nil {
			l.own[w.Destination] = &own{next: e.index, end: l.settled}
		}
	}
	for i := range ways {
		l.advanceOwn(ways[i].Destination)
	}
	l.advance()
	return e
}

// Done settles one way of the entry: what became of its records at a destination.
func (e *Entry) Done(destination string, c wire.DeliveryCounts) {
	l := e.ledger
	b := l.book
	b.mu.Lock()
	defer b.mu.Unlock()
	b.changes.Add(1)
	edge := b.edge(destination)
	edge.live.InMemory -= c.Acknowledged + c.Refused + c.Discarded + c.OnDisk
	count(&edge.live, c)
	edge.settle(e.sender, c)
	if w := e.way(destination); w != nil && !w.settled {
		count(&w.counts, c)
		w.settled = true
		if e.left--; e.left == 0 && e.done != nil {
			close(e.done)
		}
	}
	l.advanceOwn(destination)
	l.advance()
}

func (e *Entry) way(destination string) *way {
	i := slices.IndexFunc(e.ways, func(w way) bool { return w.destination == destination })
	if i < 0 {
		return nil
	}
	return &e.ways[i]
}

// advanceOwn moves the cursor of a destination over what it has settled.
func (l *Ledger) advanceOwn(destination string) {
	o := l.own[destination]
	if o == nil {
		return
	}
	o.next = max(o.next, l.base)
	for ; o.next < l.base+len(l.open); o.next++ {
		e := l.open[o.next-l.base]
		w := e.way(destination)
		if w != nil && !w.settled {
			return
		}
		if w != nil {
			edge := l.book.edge(destination)
			edge.settled.Read += w.counts.Read
			edge.settled.Dropped += w.counts.Dropped
			edge.settled.Elsewhere += w.counts.Elsewhere
			count(&edge.settled, w.counts)
			if s := edge.sender(e.sender); s != nil {
				count(&s.settled, w.counts)
			}
		}
		if bytes.Compare(e.end, o.end) > 0 {
			o.end = e.end
		}
	}
}

func (l *Ledger) advance() {
	n := 0
	for n < len(l.open) && l.open[n].left <= 0 {
		for _, w := range l.open[n].ways {
			l.advanceOwn(w.destination)
		}
		l.settled = l.open[n].end
		l.book.settled.Add(l.open[n].counts)
		n++
	}
	l.open = l.open[n:]
	l.base += n
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
