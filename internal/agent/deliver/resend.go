package deliver

import (
	"context"
	"fmt"
	"time"

	"synaxis/internal/core/delivery"
	"synaxis/internal/core/record"
)

// Resent is what came of sending rejects again.
type Resent struct {
	Sent   int64  // that the destination took now; they are rejects no more
	Left   bool   // there are others that were not tried
	Answer string // why it ended, or empty
}

// firstResent is how many rejects are tried before the others.
const firstResent = 10

// Resend sends rejects again, ten first: when one is refused again, or the destination does not take records now, it
// ends and says why. It goes on until ctx ends, or until most were sent; 0 is for all.
func (d *Destination) Resend(ctx context.Context, f RejectFilter, most int64) (r Resent, err error) {
	sender, err := newSender(d.Spec, d.deps, d.senders)
	if err != nil {
		return r, err
	}
	if _, shared := sender.(*httpSender); !shared {
		defer sender.Close()
	}
	next := firstResent
	for {
		if most > 0 {
			next = min(next, int(most-r.Sent))
		}
		list, more, err := d.deps.Rejects.List(d.Spec.Name, f, next, d.Spec.Batch.Bytes)
		if err != nil || len(list) == 0 {
			return r, err
		}
		var batch []piece
		numbers := make([]int64, len(list))
		for i, x := range list {
			numbers[i] = x.Number
			it, err := x.item(d.Encoding())
			if err != nil {
				return r, fmt.Errorf("reject %d cannot be read: %w", x.Number, err)
			}
			batch = append(batch, piece{it, 0, len(it.Encoded.Ends)})
		}
		a := d.send(ctx, sender, batch)
		if a.Outcome != delivery.Accepted {
			r.Left, r.Answer = true, a.Why
			return r, nil
		}
		n, err := d.deps.Rejects.Remove(d.Spec.Name, RejectFilter{Numbers: numbers})
		r.Sent += n
		if err != nil {
			return r, err
		}
		if !more || most > 0 && r.Sent >= most || ctx.Err() != nil || time.Until(deadlineOf(ctx)) < 2*time.Second {
			r.Left = more
			return r, nil
		}
		next = d.Spec.Batch.Records
	}
}

func deadlineOf(ctx context.Context) time.Time {
	if t, ok := ctx.Deadline(); ok {
		return t
	}
	return time.Now().Add(time.Hour)
}

// item is a reject as it is delivered.
func (x Reject) item(enc record.Encoding) (*Item, error) {
	e := record.Encoded{Encoding: record.NDJSON}
	if x.OTLP != nil {
		o, records, err := record.ReadOrigin(x.OTLP)
		if err != nil {
			return nil, err
		}
		e.Encoding, e.Origin = record.OTLP, o
		for _, text := range records {
			e.Bytes = append(e.Bytes, text...)
			e.Ends = append(e.Ends, uint32(len(e.Bytes)))
		}
	} else {
		o, err := record.ReadNDJSONOrigin(x.Record)
		if err != nil {
			return nil, err
		}
		e.Origin = o
		e.Bytes = append(append(e.Bytes, x.Record...), '\n')
		e.Ends = []uint32{uint32(len(e.Bytes))}
	}
	if e.Encoding != enc {
		var err error
		if e, err = record.Transcode(e, enc); err != nil {
			return nil, err
		}
	}
	return &Item{Encoded: e}, nil
}
