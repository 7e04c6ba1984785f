package rollouts

import "context"

// Handle takes events, and then all that waits in the queue, as Run does.
func (d *Driver) Handle(ctx context.Context, events ...any) {
	d.handle(ctx, events)
	for more := d.queue.take(maxBatch); len(more) > 0; more = d.queue.take(maxBatch) {
		d.handle(ctx, more)
	}
}

// Again are the events that wait for another try.
func (d *Driver) Again() []any { return d.again }

// HostChanged is the event that a host changed.
func HostChanged(name string) any { return hostChanged{name} }
