package deliver

import (
	"context"
	"fmt"
	"time"

	"synaxis/internal/core/delivery"
	"synaxis/internal/core/health"
	"synaxis/internal/core/record"
)

// Sender brings deliveries to one kind of receiver; each kind has a file of its own. Queue, batches, retry, the search
// for records to blame and rejects stand before it once, for all.
type Sender interface {
	// Encoding is the form in which it wants records.
	Encoding() record.Encoding
	// Send makes one attempt. It belongs to one goroutine.
	Send(ctx context.Context, records []delivery.Segment) Answer
	// Close gives back what it holds.
	Close()
}

// Answer is what came of one attempt.
type Answer struct {
	Outcome delivery.Outcome
	Code    health.Code   // of the trouble, unless it was accepted
	Why     string        // in words
	Pause   time.Duration // what the other side asked to wait, or 0
	Kind    string        // of the answer in short, such as "503"; empty where Code says it
}

// senders are the kinds of destinations that an agent delivers to.
var senders = map[delivery.Kind]func(delivery.Spec, Deps) (Sender, error){
	delivery.HTTP:    newHTTP,
	delivery.OTLP:    newOTLP,
	delivery.File:    newFile,
	delivery.Discard: newDiscard,
	delivery.Syslog:  newSyslog,
}

// newSender makes a sender. Those of one destination share connections, by the first of them.
func newSender(spec delivery.Spec, deps Deps, first []Sender) (Sender, error) {
	if len(first) > 0 {
		if s, ok := first[0].(interface{ another() (Sender, error) }); ok {
			return s.another()
		}
	}
	make, ok := senders[spec.Kind]
	if !ok {
		return nil, fmt.Errorf("this agent cannot deliver by %s", spec.Kind)
	}
	return make(spec, deps)
}

// send makes one attempt. When no answer comes for a while that is said, before the attempt ends.
func (d *Destination) send(ctx context.Context, sender Sender, batch []piece) Answer {
	records := make([]delivery.Segment, len(batch))
	for i, p := range batch {
		records[i] = delivery.Segment{Origin: p.item.Encoded.Origin, Bytes: p.bytes()}
	}
	if d.limit != nil {
		size := 0
		for _, r := range records {
			size += len(r.Bytes)
		}
		if err := d.limit.WaitN(ctx, min(size, d.limit.Burst())); err != nil {
			return Answer{delivery.Again, health.NotReachable, err.Error(), 0, ""}
		}
	}
	began := time.Now()
	silent := time.AfterFunc(d.said, func() {
		d.trouble(
			health.NoAnswer,
			fmt.Sprintf("%s has not answered for %d s", d.Spec.Where(), int(time.Since(began).Seconds())),
			began,
		)
	})
	defer silent.Stop()
	a := sender.Send(ctx, records)
	if ctx.Err() == nil {
		d.answered(a, time.Now())
	}
	return a
}
