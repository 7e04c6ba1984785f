// Package deliver brings encoded records to their destinations, again and again until they are settled: acknowledged,
// or refused for good and kept among the rejects.
package deliver

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"synaxis/internal/agent/buffer"
	"synaxis/internal/core/delivery"
	"synaxis/internal/core/health"
	"synaxis/internal/core/record"
	"synaxis/internal/core/wire"
)

// Deps are what destinations share.
type Deps struct {
	Rejects  *Rejects
	Buffers  *buffer.Store // nil for none
	Budget   *Budget       // nil for any
	DiskFull func(more int64) bool
	// Account counts what became of a source's records that were on disk.
	Account func(destination, source, sender string, c wire.DeliveryCounts)
	// Follow hears what becomes of records, by the stream that they were read from, memory and disk alike; nil for
	// nobody. It must not wait.
	Follow func(destination string, stream uint64, c wire.DeliveryCounts)
	Log    *slog.Logger
	// Secret is the value of a reference such as ${secret.archive_token@7}; Newest the newest one, asked of the
	// service.
	Secret, Newest func(ref string) (string, bool)
}

// Destination delivers to one place: what waits in its queue it gathers into deliveries, hands them to the sender of
// its kind, and goes on until each record is settled. Several deliveries may be under way, none of the same stream;
// once one fails they go one at a time until the destination takes records again. Any goroutine may Put.
type Destination struct {
	Spec    delivery.Spec
	deps    Deps
	log     *slog.Logger
	senders []Sender // one for each delivery that may be under way
	queue   *queue
	limit   *rate.Limiter // of bytes; nil for any

	mu      sync.Mutex
	failed  Trouble
	refusal string // the last answer that refused records
	refused time.Time
	unsure  []unsure // deliveries that failed while others were under way
	answers Answers

	ending sync.Mutex // one Stop at a time
	ended  bool
	cancel context.CancelFunc
	done   chan struct{}
	doubt  []doubt       // deliveries that were refused as a whole, as long as nothing was accepted since
	guilty []doubt       // single records that were refused, as long as nothing was accepted after them
	inRow  int           // requests that were refused one after the other
	pace   *rate.Limiter // of requests that look for the records to blame
	probes int
	said   time.Duration // answerSaid, but in tests
}

// unsure is a delivery that failed while others were under way.
type unsure struct {
	batch []piece
	began time.Time
}

// Trouble is why deliveries fail now; without Code they do not.
type Trouble struct {
	Code   health.Code
	Reason string
	Since  time.Time
}

// Bounds of waiting for an answer: when it is said that there is none, and when it is given up.
const (
	answerSaid   = 8 * time.Second
	answerWaited = 15 * time.Second
)

// Bounds of looking for the records to blame in a delivery, in requests a second and at once.
const (
	blamePerSecond = 20
	blameAtOnce    = 40
)

// New prepares a destination and, for a file, makes sure that it can be written.
func New(spec delivery.Spec, deps Deps) (*Destination, error) {
	if deps.Log == nil {
		deps.Log = slog.New(slog.DiscardHandler)
	}
	deps.Log = deps.Log.With("destination", spec.Name)
	d := &Destination{
		Spec: spec,
		deps: deps,
		log:  deps.Log,
		pace: rate.NewLimiter(blamePerSecond, blameAtOnce),
		said: answerSaid,
	}
	for range max(1, spec.AtOnce) {
		sender, err := newSender(spec, deps, d.senders)
		if err != nil {
			d.closeSenders()
			return nil, fmt.Errorf("destination %s: %w", spec.Name, err)
		}
		d.senders = append(d.senders, sender)
	}
	if spec.Limit > 0 {
		d.limit = rate.NewLimiter(rate.Limit(spec.Limit), int(max(float64(spec.Batch.Bytes), spec.Limit)))
	}
	d.queue = newQueue(spec, deps, func() bool { return d.Trouble().Code != "" })
	return d, nil
}

func (d *Destination) closeSenders() {
	for _, s := range d.senders {
		s.Close()
	}
}

// Encoding is the form in which records wait for this destination.
func (d *Destination) Encoding() record.Encoding { return d.senders[0].Encoding() }

// Put hands over an item. What finds no room in memory goes to disk; when there is no room at all it waits, and calls
// waiting now and then; when ctx ends it queues the item all the same, since its records must be settled by somebody.
// It answers false when the destination was stopped: another of its name has taken over.
func (d *Destination) Put(ctx context.Context, it *Item, waiting func()) bool {
	return d.queue.put(ctx, it, waiting)
}

// LookUp asks the receiver whether it has the record of a probe; known is false where there is no address for that.
func (d *Destination) LookUp(ctx context.Context, probe string) (found, known bool, words string) {
	s, ok := d.senders[0].(interface {
		lookUp(ctx context.Context, probe string) (bool, string)
	})
	if !ok || d.Spec.LookUp == "" {
		return false, false, ""
	}
	found, words = s.lookUp(ctx, probe)
	return found, true, words
}

// Expires is when a certificate by which the receiver is reached ends first, or zero where none is known.
func (d *Destination) Expires() time.Time {
	if s, ok := d.senders[0].(*httpSender); ok {
		if at := s.expires.Load(); at != 0 {
			return time.Unix(at, 0)
		}
	}
	return time.Time{}
}

// Adopt takes over what another destination of this name left.
func (d *Destination) Adopt(items []*Item) {
	d.queue.adopt(slices.DeleteFunc(items, func(it *Item) bool {
		if d.transcode(&it.Encoded) {
			return false
		}
		it.became(wire.DeliveryCounts{Discarded: int64(it.left)}) // of a destination that keeps nothing
		return true
	}))
}

// Drain waits until nothing is left to deliver, or the context ends.
func (d *Destination) Drain(ctx context.Context) { d.queue.drain(ctx) }

// Empty tells whether nothing is left to deliver.
func (d *Destination) Empty() bool { return d.queue.empty() }

// Safeguard writes to disk what waits in memory only, as far as there is room.
func (d *Destination) Safeguard() { d.queue.safeguardAll() }

// Backlog is what waits, by source.
func (d *Destination) Backlog() []Backlog { return d.queue.backlog() }

// Full is since when the buffer is full, or zero.
func (d *Destination) Full() time.Time {
	d.queue.mu.Lock()
	defer d.queue.mu.Unlock()
	return d.queue.full
}

// Unwritable is why the buffer cannot be written, or nil.
func (d *Destination) Unwritable() error {
	d.queue.mu.Lock()
	defer d.queue.mu.Unlock()
	for _, e := range d.queue.order {
		if e.lane == nil {
			continue
		}
		if err := e.lane.Failed(); err != nil {
			return err
		}
	}
	return nil
}

// Abandon ends delivering and puts everything that is left among the rejects. It answers how many records.
func (d *Destination) Abandon(ctx context.Context, why string) (records int64, err error) {
	left := d.Stop()
	d.queue.reopen()
	d.queue.adopt(left)
	for {
		if err := d.queue.load(func(*record.Encoded) bool { return true }); err != nil {
			return records, err
		}
		waits := d.queue.waits()
		if len(waits) == 0 {
			return records, nil
		}
		for _, it := range waits {
			rest := openIn([]piece{{it, 0, len(it.Encoded.Ends)}})
			if it.Encoded.Bytes == nil { // of a destination that keeps nothing
				d.queue.settle(rest, false)
				continue
			}
			for _, p := range rest {
				records += int64(p.to - p.from)
			}
			if !d.reject(ctx, rest, "left", why) {
				return records, ctx.Err()
			}
		}
	}
}

// Discarded is what was given up since the destination was made, by source.
func (d *Destination) Discarded() map[string]Discards {
	d.queue.mu.Lock()
	defer d.queue.mu.Unlock()
	out := map[string]Discards{}
	for source, x := range d.queue.lost {
		out[source] = *x
	}
	return out
}

// Start begins to deliver.
func (d *Destination) Start() {
	ctx, cancel := context.WithCancel(context.Background())
	d.cancel, d.done = cancel, make(chan struct{})
	go func() {
		defer close(d.done)
		d.run(ctx)
	}()
}

// Stop ends delivering and returns the items that are not settled. A delivery under way is given up; what the other
// side took of it will come twice.
func (d *Destination) Stop() []*Item {
	d.ending.Lock()
	defer d.ending.Unlock()
	if d.ended {
		return nil
	}
	d.ended = true
	if d.cancel != nil {
		d.cancel()
		<-d.done
	}
	d.closeSenders()
	d.doubt, d.guilty, d.unsure = nil, nil, nil
	return d.queue.stop()
}

// Trouble tells why deliveries fail now.
func (d *Destination) Trouble() Trouble {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.failed
}

// Refusal is the last answer that refused records, and when that was.
func (d *Destination) Refusal() (string, time.Time) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.refusal, d.refused
}

// trouble notes why deliveries fail, since at least a time.
func (d *Destination) trouble(code health.Code, why string, since time.Time) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.failed.Code != "" {
		since = d.failed.Since
	}
	d.failed = Trouble{code, why, since}
}

func (d *Destination) fine() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.failed = Trouble{}
}

func (d *Destination) run(ctx context.Context) {
	var under sync.WaitGroup
	defer under.Wait()
	free := make(chan Sender, len(d.senders))
	for _, s := range d.senders {
		free <- s
	}
	for ctx.Err() == nil {
		if len(d.doubt)+len(d.guilty) > 0 || d.uncertain() {
			under.Wait()
			if !d.inTurn(ctx) {
				return
			}
			continue
		}
		var sender Sender
		select {
		case <-ctx.Done():
			return
		case sender = <-free:
		}
		batch := d.queue.gather(ctx, d.Spec.Batch, nil, d.load, d.uncertain)
		if len(batch) == 0 || ctx.Err() != nil {
			free <- sender
			continue
		}
		under.Go(func() {
			began := time.Now()
			a := d.send(ctx, sender, batch)
			if a.Outcome == delivery.Accepted {
				d.fine()
				d.queue.settle(batch, false)
			} else {
				d.mu.Lock()
				d.unsure = append(d.unsure, unsure{batch, began})
				d.mu.Unlock()
				if a.Outcome == delivery.Again && ctx.Err() == nil {
					d.trouble(a.Code, a.Why, began)
				}
			}
			d.queue.release(batch)
			free <- sender
		})
	}
}

// uncertain tells whether a delivery failed.
func (d *Destination) uncertain() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return len(d.unsure) > 0
}

// inTurn sends one delivery after the other, those first that failed, until the destination takes records again. False
// when ctx ended first.
func (d *Destination) inTurn(ctx context.Context) bool {
	d.mu.Lock()
	failed := d.unsure
	d.unsure = nil
	d.mu.Unlock()
	for _, f := range failed {
		if !d.deliver(ctx, f.batch, f.began) {
			return false
		}
	}
	for len(d.doubt)+len(d.guilty) > 0 { // something must be sent, to know who is to blame
		t := time.NewTimer(d.Spec.Retry.Pause(1, 1))
		batch := d.queue.gather(ctx, d.Spec.Batch, t.C, d.load, func() bool { return false })
		t.Stop()
		ok := ctx.Err() == nil
		switch {
		case !ok:
		case len(batch) == 0: // only what is in doubt
			d.acquit()
			ok = d.hold(ctx)
		default:
			ok = d.deliver(ctx, batch, time.Now())
			d.queue.release(batch)
		}
		if !ok {
			return false
		}
	}
	return true
}

// load brings records from disk into memory.
func (d *Destination) load() {
	if err := d.queue.load(d.transcode); err != nil {
		d.log.Error("a buffer on disk cannot be read", "error", err)
	}
}

// transcode brings records into the form of this destination.
func (d *Destination) transcode(e *record.Encoded) bool {
	if e.Encoding == d.Encoding() {
		return true
	}
	out, err := record.Transcode(*e, d.Encoding())
	if err != nil {
		d.log.Error("records of another form cannot be read", "error", err)
		return false
	}
	*e = out
	return true
}
