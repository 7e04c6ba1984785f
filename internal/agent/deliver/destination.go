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

	"synaxis/internal/core/delivery"
	"synaxis/internal/core/health"
	"synaxis/internal/core/record"
)

// Destination delivers to one place: what waits in its queue it gathers into deliveries, hands them to the sender of
// its kind, and goes on until each record is settled. One goroutine sends; any may Put.
type Destination struct {
	Spec    delivery.Spec
	rejects *Rejects
	log     *slog.Logger
	sender  Sender
	queue   *queue

	mu      sync.Mutex
	failed  Trouble
	refusal string // the last answer that refused records
	refused time.Time

	cancel context.CancelFunc
	done   chan struct{}
	stay   []piece       // of deliveries that were interrupted
	doubt  []doubt       // deliveries that were refused as a whole, as long as nothing was accepted since
	guilty []doubt       // single records that were refused, as long as nothing was accepted after them
	inRow  int           // requests that were refused one after the other
	pace   *rate.Limiter // of requests that look for the records to blame
	probes int
	said   time.Duration // answerSaid, but in tests
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
func New(spec delivery.Spec, rejects *Rejects, log *slog.Logger) (*Destination, error) {
	log = log.With("destination", spec.Name)
	sender, err := newSender(spec, log)
	if err != nil {
		return nil, fmt.Errorf("destination %s: %w", spec.Name, err)
	}
	return &Destination{
		Spec:    spec,
		rejects: rejects,
		log:     log,
		sender:  sender,
		queue:   newQueue(),
		pace:    rate.NewLimiter(blamePerSecond, blameAtOnce),
		said:    answerSaid,
	}, nil
}

// Encoding is the form in which records wait for this destination.
func (d *Destination) Encoding() record.Encoding { return d.sender.Encoding() }

// Put hands over an item. When there is no room it waits, and calls waiting now and then; when ctx ends it queues the
// item all the same, since its records must be settled by somebody. It answers false when the destination was stopped:
// another of its name has taken over.
func (d *Destination) Put(ctx context.Context, it *Item, waiting func()) bool {
	return d.queue.put(ctx, it, waiting)
}

// Adopt takes over what another destination of this name left.
func (d *Destination) Adopt(items []*Item) { d.queue.adopt(items) }

// Drain waits until nothing is left to deliver, or the context ends.
func (d *Destination) Drain(ctx context.Context) { d.queue.drain(ctx) }

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
	if d.cancel != nil {
		d.cancel()
		<-d.done
	}
	d.sender.Close()
	waits := d.queue.stop()
	seen := map[*Item]bool{}
	var rest []*Item
	take := func(it *Item) {
		if seen[it] || it.left == 0 {
			return
		}
		seen[it] = true
		it.next = it.open
		rest = append(rest, it)
	}
	for _, p := range d.stay {
		take(p.item)
	}
	for _, x := range slices.Concat(d.doubt, d.guilty) {
		for _, p := range x.batch {
			take(p.item)
		}
	}
	d.doubt, d.guilty = nil, nil
	for _, it := range waits {
		take(it)
	}
	d.stay = nil
	return rest
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
	for {
		var deadline <-chan time.Time
		if len(d.doubt) > 0 { // something must be sent, to know who is to blame
			t := time.NewTimer(d.Spec.Retry.Pause(1, 1))
			deadline = t.C
		}
		batch := d.queue.gather(ctx, d.Spec.Batch, deadline)
		ok := ctx.Err() == nil
		switch {
		case !ok:
		case batch == nil: // only what is in doubt
			ok = d.hold(ctx)
		default:
			ok = d.deliver(ctx, batch)
		}
		if !ok {
			d.stay = append(d.stay, batch...)
			return
		}
	}
}
