package rollouts

import (
	"context"

	"synaxis/internal/core/rollout"
)

// Handle takes events, and then all that waits in the queue, as Run does.
func (d *Driver) Handle(ctx context.Context, events ...any) {
	var all []happening
	for _, e := range events {
		if x, ok := e.(rollout.Event); ok {
			e = hostEvent{x}
		}
		all = append(all, e.(happening))
	}
	d.handle(ctx, all)
	for more := d.queue.take(maxBatch); len(more) > 0; more = d.queue.take(maxBatch) {
		d.handle(ctx, more)
	}
}

// Again are the events that wait for another try.
func (d *Driver) Again() []any {
	var out []any
	for _, x := range d.again {
		out = append(out, x)
	}
	return out
}

// HostChanged is the event that a host changed.
func HostChanged(name string) any { return hostChanged{name} }
