package agents

import (
	"context"
	"time"

	"synaxis/internal/core/wire"
)

// How a host is followed that is asked again and again: it answers when it has something to say, or after a moment.
const (
	followPause = 100 * time.Millisecond // after nothing, so that one that answers at once is not asked in a circle
	followGrace = 10 * time.Second       // beyond the time that was asked for
)

// Peek looks at records of a host to the end of the look, or until take takes no more or ctx ends, and answers what
// the host said last. That somebody looks is in the audit already.
func (a *Agents) Peek(
	ctx context.Context, host string, q wire.PeekAsk, take func(wire.PeekRecord) bool,
) (last wire.Peek, err error) {
	ask := func(ctx context.Context) (wire.Peek, error) {
		r, err := a.again(ctx, host, wire.AskPeek, wire.Ask{Peek: &q})
		if err == nil && r.Peek == nil {
			err = Refused{"the agent answered something else than records"}
		}
		if err != nil {
			return wire.Peek{}, err
		}
		r.Peek.Records = r.Peek.Records[:min(len(r.Peek.Records), wire.MaxPeekRecords)]
		return *r.Peek, nil
	}
	deadline := time.Now().Add(time.Duration(q.Seconds)*time.Second + followGrace)
	wanted := true
	for wanted && ctx.Err() == nil {
		r, err := ask(ctx)
		if ctx.Err() != nil {
			break
		}
		if err != nil {
			return last, err
		}
		last = r
		for i := 0; wanted && i < len(r.Records); i++ {
			wanted = take(r.Records[i])
		}
		if r.Ended || time.Now().After(deadline) {
			return last, nil
		}
		if len(r.Records) == 0 {
			rest(ctx)
		}
	}
	q.Stop = true // so that its place is free at once
	stop, cancel := context.WithTimeout(context.WithoutCancel(ctx), followGrace)
	defer cancel()
	if r, err := ask(stop); err == nil {
		last = r
	}
	return last, nil
}

// Probe sends a marked record along the path of a source on a host and follows it until it is through, or its time is
// over. take gets what happened since it was told last; last is the whole of what the host said last. That it is sent
// is in the audit already.
func (a *Agents) Probe(
	ctx context.Context, host string, q wire.ProbeAsk, take func(wire.Probe),
) (last wire.Probe, err error) {
	deadline := time.Now().Add(time.Duration(q.Seconds)*time.Second + followGrace)
	for {
		r, err := a.again(ctx, host, wire.AskProbe, wire.Ask{Probe: &q})
		switch {
		case ctx.Err() != nil:
			return last, ctx.Err()
		case err == nil && r.Probe == nil:
			err = Refused{"the agent answered something else than hops"}
		}
		if err != nil {
			return last, err
		}
		last = *r.Probe
		last.Hops = last.Hops[:min(len(last.Hops), wire.MaxProbeHops)]
		if q.Seen += len(last.Hops); len(last.Hops) > 0 {
			take(last)
		}
		if last.Ended || time.Now().After(deadline) {
			return last, nil
		}
		if len(last.Hops) == 0 {
			rest(ctx)
		}
	}
}

func rest(ctx context.Context) {
	select {
	case <-ctx.Done():
	case <-time.After(followPause):
	}
}
