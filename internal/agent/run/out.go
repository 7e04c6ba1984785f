package run

import (
	"context"
	"slices"
	"sync/atomic"
	"time"

	"synaxis/internal/agent/deliver"
	"synaxis/internal/agent/settle"
	"synaxis/internal/core/record"
	"synaxis/internal/core/wire"
)

// out sends the batches of one source.
type out struct {
	engine *Engine
	send   []string // by the bits of record.Record.Routes
	only   string   // the one destination that is sent to, or all
	except []string // but these
	enc    record.Encoder
	held   atomic.Pointer[string] // the destination that has no room now
	ways   []settle.Way
}

// takes tells whether a destination is sent to.
func (o *out) takes(name string) bool {
	return (o.only == "" || o.only == name) && !slices.Contains(o.except, name)
}

// Ways tells how many records of a batch go to each destination. It answers memory that it uses again.
func (o *out) Ways(b *record.Batch, ahead func(destination string) bool) []settle.Way {
	o.ways = o.ways[:0]
	clear := uint64(0)
	for bit, name := range o.send {
		if !o.takes(name) || ahead(name) {
			clear |= 1 << bit
			continue
		}
		n := int64(0)
		for i := range b.Records {
			n += int64(b.Records[i].Routes >> bit & 1)
		}
		o.ways = append(o.ways, settle.Way{Destination: name, Records: n})
	}
	if clear != 0 {
		for i := range b.Records {
			b.Records[i].Routes &^= clear
		}
	}
	return o.ways
}

func (o *out) Send(ctx context.Context, b *record.Batch, entry *settle.Entry, waiting func()) {
	var encoded [record.Encodings]*record.Encoded
	defer func() {
		for _, e := range encoded {
			if e != nil {
				e.Release()
			}
		}
	}()
	for _, way := range o.ways {
		if way.Records == 0 {
			continue
		}
		name := way.Destination
		bit := slices.Index(o.send, name)
		for {
			d := o.engine.dest(name)
			if d == nil { // taken out of the config while this source is being stopped
				entry.Done(name, wire.DeliveryCounts{Discarded: way.Records})
				break
			}
			o.engine.probes.Sends(b.Origin.File, b.Stream, name)
			enc := d.Encoding()
			if encoded[enc] == nil {
				e := o.enc.Encode(enc, b)
				encoded[enc] = &e
			}
			item := &deliver.Item{
				Encoded:    encoded[enc].Only(b, bit),
				Stream:     b.Stream,
				Leaving:    b.Leaving,
				Neighbours: len(o.ways) > 1,
				Done:       func(c wire.DeliveryCounts) { entry.Done(name, c) },
			}
			if d.Put(ctx, item, func() { o.held.Store(&name); waiting() }) {
				break
			}
			item.Encoded.Release()
			if ctx.Err() != nil && o.engine.ctx.Err() != nil {
				return // the agent stops; the entry stays open and the position before it
			}
			time.Sleep(time.Millisecond) // another takes its place
		}
	}
	o.held.Store(nil)
}
