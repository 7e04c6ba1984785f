package deliver

import (
	"context"
	"math/rand/v2"
	"time"

	"synaxis/internal/core/delivery"
	"synaxis/internal/core/health"
)

// deliver sends a batch until it is settled or in doubt; false when ctx ended first.
func (d *Destination) deliver(ctx context.Context, batch []piece, began time.Time) bool {
	a, ok := d.until(ctx, batch, began)
	switch {
	case !ok:
		return false
	case a.Outcome == delivery.Again: // for too long
		return d.giveUp(ctx, batch, a.Why)
	case a.Outcome == delivery.Refused:
		d.acquit()
		d.doubt = append(d.doubt, doubt{batch, a.Why, a.Kind, began})
		if len(d.doubt) > 1 {
			return d.hold(ctx)
		}
		return true // the next one will tell who is to blame
	}
	return d.accepted(ctx, batch) && d.blame(ctx)
}

// accepted settles what was accepted. What was found to blame before is now sure to be. False when ctx ended first.
func (d *Destination) accepted(ctx context.Context, batch []piece) bool {
	d.queue.settle(batch, false)
	d.inRow = 0
	for len(d.guilty) > 0 {
		x := d.guilty[0]
		if !d.reject(ctx, x.batch, x.cause, x.why) {
			return false
		}
		d.guilty = d.guilty[1:]
	}
	return true
}

// until sends a batch until the answer says what becomes of it, or it has been tried for too long; false when ctx
// ended first.
func (d *Destination) until(ctx context.Context, batch []piece, began time.Time) (Answer, bool) {
	for try := 1; ; try++ {
		a := d.send(ctx, d.senders[0], batch)
		if a.Outcome == delivery.Accepted {
			d.fine()
			return a, true
		}
		if ctx.Err() != nil {
			return a, false
		}
		if a.Outcome == delivery.Refused {
			d.mu.Lock()
			d.refusal, d.refused = a.Why, time.Now()
			d.mu.Unlock()
			return a, true
		}
		if time.Since(began) > d.Spec.Retry.GiveUp {
			return a, true
		}
		if try == 1 {
			d.log.Warn("delivery failed, will try again", "reason", a.Why)
		}
		d.trouble(a.Code, a.Why, began)
		d.queue.safeguardAll()
		if !pause(ctx, max(d.Spec.Retry.Pause(try, rand.Float64()), a.Pause)) {
			return a, false
		}
	}
}

// pause waits; false when ctx ended first.
func pause(ctx context.Context, d time.Duration) bool {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
		return false
	case <-t.C:
		return true
	}
}

// reject keeps records that are refused for good. It goes on until they are safely written, since a full disk must
// not lose them; false when ctx ended first.
func (d *Destination) reject(ctx context.Context, batch []piece, cause, why string) bool {
	for try := 1; ; try++ {
		err := d.deps.Rejects.Add(d.Spec, batch, cause, why)
		if err == nil {
			break
		}
		d.trouble(health.RejectsUnwritable, "the rejects cannot be written: "+err.Error(), time.Now())
		if !pause(ctx, d.Spec.Retry.Pause(try, rand.Float64())) {
			return false
		}
	}
	d.log.Warn("records refused for good, kept among the rejects", "reason", why)
	d.queue.settle(batch, true)
	return true
}
