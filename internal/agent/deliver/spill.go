package deliver

import (
	"time"

	"synaxis/internal/core/delivery"
	"synaxis/internal/core/record"
	"synaxis/internal/core/wire"
)

const (
	staysThere  = record.Stays
	deletedFile = record.Deleted
)

// toDisk puts an item behind all that its source has on disk. What is in memory only goes first, so that no position
// waits for it. It answers where the item went. The queue is locked.
func (q *queue) toDisk(it *Item, stopping bool) place {
	e := it.edge
	fit := func(size int64) bool { return q.makeRoom(e, size) }
	safe := q.safeguard(e, fit)
	if !safe || !fit(it.size()) {
		switch {
		case q.spec.AtLimit == delivery.DiscardNewest:
			return nowhere
		case stopping:
			return inMemory
		}
		return wait
	}
	keep := e.bytes < window && q.room(e, it.size())
	f := it.toFrame()
	kept, err := e.lane.Append(&f, keep, func() { it.written(); q.kick() })
	if err != nil {
		return wait
	}
	if kept {
		it.frame = &frame{f.First, f.End()}
		q.push(it)
		return onDisk
	}
	it.Encoded.Release() // the lane has a copy
	return onDisk
}

// safeguard writes what a source has in memory only to disk, in order, as far as it fits; it stays in memory too.
// False when something does not fit, or cannot be written. The queue is locked.
func (q *queue) safeguard(e *edge, fits func(size int64) bool) bool {
	for _, it := range e.items {
		if it.frame != nil || it.settled() {
			continue
		}
		if !fits(it.size()) {
			return false
		}
		f := it.toFrame()
		kept, err := e.lane.Append(&f, true, func() { it.written(); q.kick() })
		if err != nil {
			return false
		}
		if it.frame = (&frame{f.First, f.End()}); !kept { // it will be read from disk as well: twice, never lost
			q.deps.Log.Warn("records in memory were written behind others on disk", "source", e.source)
		}
	}
	return true
}

// makeRoom tells whether so many bytes of a source have room on disk, after giving up older records where the buffer
// says so. The queue is locked.
func (q *queue) makeRoom(e *edge, size int64) bool {
	for {
		if e.lane.Failed() == nil && q.fits(e, size) {
			q.full = time.Time{}
			return true
		}
		if q.full.IsZero() {
			q.full = time.Now()
		}
		if q.spec.AtLimit != delivery.DiscardOldest {
			return false
		}
		largest := e
		for _, o := range q.order {
			if o.lane.State().Bytes > largest.lane.State().Bytes {
				largest = o
			}
		}
		gone := largest.lane.DropOldest()
		if gone.Bytes == 0 {
			return false
		}
		if gone.Records > 0 {
			left := gone.Records
			for sender, n := range gone.Senders {
				if n = min(n, left); n > 0 {
					largest.account(sender, wire.DeliveryCounts{Discarded: n})
					left -= n
				}
			}
			largest.account("", wire.DeliveryCounts{Discarded: left})
			q.discarded(largest.source, gone.Records, gone.From)
		}
	}
}

// fits tells whether so many bytes more of a source fit on disk. Half of the room is kept for the sources that use
// less than their share. The queue is locked.
func (q *queue) fits(e *edge, size int64) bool {
	if q.deps.DiskFull != nil && q.deps.DiskFull(size) {
		return false
	}
	share, free := q.spec.Disk/2/int64(len(q.order)), q.spec.Disk-size
	for _, o := range q.order {
		used := o.lane.State().Bytes
		free -= used
		if o != e {
			free -= max(0, share-used)
		}
	}
	return free >= 0
}

// discarded notes that records were given up. The queue is locked.
func (q *queue) discarded(source string, records int64, from time.Time) {
	d := q.lost[source]
	if d == nil {
		d = &Discards{From: from}
		q.lost[source] = d
	}
	d.Records += records
	d.To, d.At = from, time.Now()
}

// load brings records from disk into memory, of each source as much as its window holds.
func (q *queue) load(transcode func(*record.Encoded) bool) error {
	q.mu.Lock()
	var need []*edge
	for _, e := range q.order {
		if e.lane != nil && e.bytes < window/2 && e.lane.State().Unread > 0 && q.room(e, window/2) {
			need = append(need, e)
		}
	}
	q.mu.Unlock()
	for _, e := range need {
		frames, err := e.lane.Next(window)
		q.mu.Lock()
		if n := e.lane.Damaged() - e.damaged; n > 0 { // nobody knows any more whose they were
			e.damaged += n
			e.account("", wire.DeliveryCounts{Discarded: n})
		}
		for _, f := range frames {
			it := &Item{Encoded: record.Encoded{Encoding: f.Encoding, Origin: f.Origin, Bytes: f.Bytes, Ends: f.Ends},
				Stream: f.Stream, at: f.At, edge: e, left: f.Records(), safe: true, frame: &frame{f.First, f.End()}}
			if !transcode(&it.Encoded) {
				it.frame = nil
				e.lane.Done(f.First, f.End())
				e.account(f.Origin.SenderName(), wire.DeliveryCounts{Discarded: int64(it.left)})
				q.discarded(e.source, int64(it.left), f.At)
				continue
			}
			q.push(it)
		}
		q.mu.Unlock()
		if err != nil {
			return err
		}
	}
	return nil
}

// safeguardAll writes everything that is in memory only to disk, as far as there is room.
func (q *queue) safeguardAll() {
	q.mu.Lock()
	defer q.mu.Unlock()
	if !q.disk() {
		return
	}
	for _, e := range q.order {
		q.safeguard(e, func(size int64) bool { return e.lane.Failed() == nil && q.fits(e, size) })
	}
}
