package deliver

import (
	"context"
	"fmt"
	"log/slog"
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
}

// senders are the kinds of destinations that an agent delivers to.
var senders = map[delivery.Kind]func(delivery.Spec, *slog.Logger) (Sender, error){
	delivery.HTTP:    newHTTP,
	delivery.OTLP:    newOTLP,
	delivery.File:    newFile,
	delivery.Discard: newDiscard,
}

func newSender(spec delivery.Spec, log *slog.Logger) (Sender, error) {
	make, ok := senders[spec.Kind]
	if !ok {
		return nil, fmt.Errorf("this agent cannot deliver by %s", spec.Kind)
	}
	return make(spec, log)
}

// send makes one attempt. When no answer comes for a while that is said, before the attempt ends.
func (d *Destination) send(ctx context.Context, batch []piece) Answer {
	records := make([]delivery.Segment, len(batch))
	for i, p := range batch {
		records[i] = delivery.Segment{Origin: p.item.Encoded.Origin, Bytes: p.bytes()}
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
	return d.sender.Send(ctx, records)
}
