package deliver

import (
	"context"
	"fmt"
	"math/rand/v2"
	"time"

	"synaxis/internal/core/delivery"
	"synaxis/internal/core/health"
)

// doubt is a delivery that was refused as a whole: its records may be to blame, or the destination refuses everything.
type doubt struct {
	batch []piece
	why   string
	cause string // in short
	since time.Time
}

// A delivery that is refused as a whole is in doubt: one of its records may be to blame, or the destination refuses
// everything. Which of both it is shows in what is sent next.

// hold waits while the destination refuses everything. The fault is then not the records', so none is put among the
// rejects, and none is looked for; one record is tried now and then, of another item each time, until one is accepted.
// False when ctx ended first.
func (d *Destination) hold(ctx context.Context) bool {
	for try := 1; len(d.doubt) > 0; try++ {
		since := d.doubt[0].since
		if time.Since(since) > d.Spec.Retry.GiveUp {
			doubts := d.doubt
			d.doubt, d.guilty = nil, nil
			for i, x := range doubts {
				if !d.giveUp(ctx, openIn(x.batch), x.why) {
					d.doubt = doubts[i:]
					return false
				}
			}
			d.fine()
			return true
		}
		if len(d.doubt) > 1 || try > 1 {
			d.trouble(health.RefusesEverything, "it refuses everything: "+d.doubt[len(d.doubt)-1].why, since)
		}
		if try > 1 || len(d.doubt) > 1 {
			if !d.pauseForMore(ctx, d.Spec.Retry.Pause(try, rand.Float64())) {
				return false
			}
		}
		probe := d.probe()
		a, ok := d.until(ctx, probe, time.Now())
		switch {
		case !ok:
			return false
		case a.Outcome == delivery.Accepted:
			return d.accepted(ctx, probe) && d.blame(ctx)
		default:
			d.keepDoubt(probe, a, since)
		}
	}
	return true
}

// probe takes one record to try: of an item in doubt, or of the queue, by turns.
func (d *Destination) probe() []piece {
	var items []*Item
	seen := map[*Item]bool{}
	for _, x := range d.doubt {
		for _, p := range x.batch {
			if p.item.left > 0 && !seen[p.item] {
				seen[p.item], items = true, append(items, p.item)
			}
		}
	}
	doubted := len(items)
	for _, it := range d.queue.waits() {
		if !seen[it] {
			seen[it], items = true, append(items, it)
		}
	}
	at, round := d.probes%len(items), d.probes/len(items)
	d.probes++
	it := items[at]
	if at < doubted { // another record each time, since the first may be the one to blame
		record := it.nth(round % it.left)
		return []piece{{it, record, record + 1}}
	}
	from, _ := it.run(it.next)
	it.next = from + 1
	return []piece{{it, from, from + 1}}
}

// keepDoubt keeps a record that was tried and refused in doubt, unless it is there already.
func (d *Destination) keepDoubt(probe []piece, a Answer, since time.Time) {
	for i, x := range d.doubt {
		for _, p := range x.batch {
			if p.item == probe[0].item && p.from <= probe[0].from && probe[0].to <= p.to {
				d.doubt[i].why, d.doubt[i].cause = a.Why, a.Kind
				return
			}
		}
	}
	d.doubt = append(d.doubt, doubt{probe, a.Why, a.Kind, since})
}

// pauseForMore is pause, which ends earlier when more records came, since one of them may be accepted.
func (d *Destination) pauseForMore(ctx context.Context, long time.Duration) bool {
	short := min(long, time.Second)
	if !pause(ctx, short) {
		return false
	}
	t := time.NewTimer(long - short)
	defer t.Stop()
	select {
	case <-ctx.Done():
		return false
	case <-d.queue.ready:
	case <-t.C:
	}
	return true
}

// blame looks for the records to blame in what is in doubt, once something else was accepted. When so many are refused
// one after the other that the destination seems to refuse everything again, what is left stays in doubt. False when
// ctx ended first.
func (d *Destination) blame(ctx context.Context) bool {
	for len(d.doubt) > 0 {
		x := d.doubt[0]
		rest := openIn(x.batch)
		if len(rest) > 0 {
			if !d.resolve(ctx, rest) {
				return false
			}
			if d.inRow > maxInRow {
				d.inRow = 0
				return d.hold(ctx)
			}
		}
		d.doubt = d.doubt[1:]
	}
	d.doubt = nil
	return true
}

// acquit puts what was found to blame back in doubt, since what was sent after it was refused too, or nothing was.
func (d *Destination) acquit() {
	d.doubt, d.guilty = append(d.doubt, d.guilty...), nil
}

// resolve sends a part of what is in doubt until it is accepted, given up, or parted further. False when ctx ended
// first.
func (d *Destination) resolve(ctx context.Context, batch []piece) bool {
	a, ok := d.until(ctx, batch, time.Now())
	switch {
	case !ok:
		return false
	case a.Outcome == delivery.Accepted:
		return d.accepted(ctx, batch)
	case a.Outcome == delivery.Again:
		return d.giveUp(ctx, batch, a.Why)
	}
	return d.part(ctx, batch, a)
}

// giveUp puts what was tried for too long among the rejects. False when ctx ended first.
func (d *Destination) giveUp(ctx context.Context, batch []piece, why string) bool {
	return d.reject(ctx, batch, "given-up", fmt.Sprintf("given up after %s: %s", d.Spec.Retry.GiveUp, why))
}

// maxInRow is how many requests may be refused one after the other before it is the destination that refuses: more
// than to find two records next to each other in the largest delivery.
const maxInRow = 32

// openIn are the parts of a batch that are not settled.
func openIn(batch []piece) (out []piece) {
	for _, p := range batch {
		for from := p.from; p.item.left > 0; {
			begin, end := p.item.run(from)
			if end = min(end, p.to); begin >= end {
				break
			}
			out = append(out, piece{p.item, begin, end})
			from = end
		}
	}
	return out
}

// part sends the halves of a refused batch, and those of what is refused again, until each record is accepted or
// alone: that one is to blame. False when ctx ended first.
func (d *Destination) part(ctx context.Context, batch []piece, a Answer) bool {
	if d.inRow++; d.inRow > maxInRow {
		return true
	}
	left, right := halves(batch)
	if right == nil {
		d.guilty = append(d.guilty, doubt{left, a.Why, a.Kind, time.Now()})
		return true
	}
	for _, half := range [][]piece{left, right} {
		if d.inRow > maxInRow {
			return true
		}
		if d.pace.Wait(ctx) != nil {
			return false
		}
		if !d.resolve(ctx, half) {
			return false
		}
	}
	return true
}

// halves splits a batch in two by records; right is nil when there is one record.
func halves(batch []piece) (left, right []piece) {
	n := 0
	for _, p := range batch {
		n += p.to - p.from
	}
	if n < 2 {
		return batch, nil
	}
	half := n / 2
	for _, p := range batch {
		switch size := p.to - p.from; {
		case half >= size:
			left = append(left, p)
			half -= size
		case half > 0:
			left = append(left, piece{p.item, p.from, p.from + half})
			right = append(right, piece{p.item, p.from + half, p.to})
			half = 0
		default:
			right = append(right, p)
		}
	}
	return left, right
}
