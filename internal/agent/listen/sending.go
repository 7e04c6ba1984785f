package listen

import (
	"context"
	"slices"

	"synaxis/internal/agent/settle"
	"synaxis/internal/core/record"
	"synaxis/internal/core/wire"
)

// sending sends what is treated on, while the goroutine of the source treats what comes next.
type sending struct {
	free    chan *record.Batch // of which one is treated, one waits and one is sent
	treated chan treated
	done    chan struct{} // closed when all is sent
}

// treated is a batch that is to be sent, which is the last of its parcel or not.
type treated struct {
	batch  *record.Batch
	counts wire.Numbers
	parcel *parcel
	last   bool
}

// send begins to send what is treated, as far as ctx lets it.
func (in *Input) send(ctx context.Context) *sending {
	x := &sending{free: make(chan *record.Batch, 3), treated: make(chan treated, 1), done: make(chan struct{})}
	for range cap(x.free) {
		x.free <- &record.Batch{}
	}
	go func() {
		defer close(x.done)
		var entries []*settle.Entry // of a parcel
		for t := range x.treated {
			e := in.sendOn(ctx, t.batch, t.counts)
			if t.parcel.done != nil {
				entries = append(entries, e)
			}
			if t.last {
				t.parcel.arena = t.batch.Arena
				in.finish(t.parcel, entries)
				entries = nil
			}
			t.batch.Arena = nil // which the batch that is treated now may go on with
			x.free <- t.batch
		}
	}()
	return x
}

// end waits until all that was treated is sent.
func (x *sending) end() {
	close(x.treated)
	<-x.done
}

// sendOn sends a batch to its destinations.
func (in *Input) sendOn(ctx context.Context, b *record.Batch, counts wire.Numbers) *settle.Entry {
	in.place++
	ways := in.Out.Ways(b, func(string) bool { return false })
	e := in.ledger.Add(cursorAt(in.place), ways, counts)
	if slices.ContainsFunc(ways, func(w settle.Way) bool { return w.Records > 0 }) {
		in.Out.Send(ctx, b, e, func() { in.held.Store(true) })
		in.held.Store(false)
	}
	return e
}

// finish takes back a parcel of which nothing is asked for any more, or tells who waits for it once it is settled.
func (in *Input) finish(p *parcel, entries []*settle.Entry) {
	if p.done == nil {
		in.inbox.recycle(p)
		return
	}
	end, done := in.server.ctx.Done(), p.done
	go func() {
		for _, e := range entries {
			select {
			case <-e.Settled():
			case <-end:
				return
			}
		}
		done()
	}()
}
