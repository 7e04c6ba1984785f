package api

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"sync"

	"synaxis/internal/contract"
	"synaxis/internal/core/wire"
	"synaxis/internal/service/store"
)

// Bounds of probes.
const (
	probeHosts   = 2000
	probeSeconds = 30
)

type probeStream struct{ stream[contract.ProbeEvent] }

// VisitProbeResponse writes the stream.
func (s probeStream) VisitProbeResponse(w http.ResponseWriter) error { return s.write(w) }

// Probe sends a marked record along the path of a source on the chosen hosts.
func (a *API) Probe(ctx context.Context, r contract.ProbeRequestObject) (contract.ProbeResponseObject, error) {
	q := *r.Body
	seconds := value(q.Seconds)
	if seconds == 0 {
		seconds = probeSeconds
	}
	switch {
	case value(q.Host) == "" && value(q.Hosts) == "":
		return nil, usage{"host: say on which host, or hosts: all"}
	case seconds < 1 || seconds > wire.MaxProbeSeconds:
		return nil, usage{fmt.Sprintf("seconds: a probe takes from 1 to %d", wire.MaxProbeSeconds)}
	case value(q.Line) != "" && q.Fields != nil:
		return nil, usage{"line: a probe has a line or fields, not both"}
	case strings.ContainsAny(value(q.Line), "\r\n"):
		return nil, usage{"line: it is one line"}
	}
	runs, err := a.running(q.Source, value(q.Host), value(q.Hosts), "probed")
	if err != nil {
		return nil, err
	}
	if n := len(runs.there); n > probeHosts {
		return nil, usage{fmt.Sprintf("hosts: %d run %s; a probe goes to %d at most", n, q.Source, probeHosts)}
	}
	who, now, id := person(ctx), a.Now(), rand.Text()[:8]
	if err := a.Store.Update(ctx, func(t *store.Tx) error {
		return t.Audit(who, now, "source probe", q.Source, nil, map[string]any{"id": id,
			"hosts": runs.there[:min(len(runs.there), manyHosts)]})
	}); err != nil {
		return nil, err
	}
	ask := wire.ProbeAsk{ID: id, Source: q.Source, Line: value(q.Line), Seconds: seconds, Fields: value(q.Fields)}
	begin := contract.ProbeEvent{Kind: contract.ProbeEventKindBegin, Id: &id, Hosts: &runs.there,
		Away: optional(runs.away)}
	return probeStream{stream[contract.ProbeEvent]{ctx: ctx, ends: a.Events.ends, run: func(ctx context.Context,
		tell func(contract.ProbeEvent) error) {
		if tell(begin) == nil {
			a.probe(ctx, runs.there, ask, tell)
		}
	}}}, nil
}

// probe follows the records of all hosts to their ends.
func (a *API) probe(
	ctx context.Context, names []string, ask wire.ProbeAsk, tell func(contract.ProbeEvent) error,
) {
	events := make(chan contract.ProbeEvent)
	free := make(chan struct{}, askedAtOnce)
	var wait sync.WaitGroup
	go func() {
		defer close(events)
		for _, name := range names {
			select {
			case free <- struct{}{}:
			case <-ctx.Done():
				wait.Wait()
				return
			}
			wait.Go(func() {
				defer func() { <-free }()
				a.probeOn(ctx, name, ask, func(e contract.ProbeEvent) {
					select {
					case events <- e:
					case <-ctx.Done():
					}
				})
			})
		}
		wait.Wait()
	}()
	arrived, stuck := 0, 0
	gone := false
	for e := range events {
		switch *e.State {
		case contract.ProbeEventStateArrived:
			arrived++
		case contract.ProbeEventStateStuck, contract.ProbeEventStateDropped:
			stuck++
		}
		gone = gone || tell(e) != nil
	}
	if !gone {
		_ = tell(contract.ProbeEvent{Kind: contract.ProbeEventKindEnd, Arrived: &arrived, Stuck: &stuck})
	}
}

// probeOn follows the record of one host.
func (a *API) probeOn(ctx context.Context, host string, ask wire.ProbeAsk, tell func(contract.ProbeEvent)) {
	hops := []contract.ProbeHop{}
	told := func(state contract.ProbeEventState, reason string) {
		all := append([]contract.ProbeHop{}, hops...)
		tell(contract.ProbeEvent{Kind: contract.ProbeEventKindHost, Host: &host, State: &state,
			Reason: optional(reason),
			Hops:   &all})
	}
	last, err := a.Agents.Probe(ctx, host, ask, func(r wire.Probe) {
		for _, h := range r.Hops {
			hops = append(hops, shownHop(h))
		}
		if !r.Ended {
			told(contract.ProbeEventStateUnderWay, "")
		}
	})
	switch {
	case ctx.Err() != nil:
	case err != nil:
		told(contract.ProbeEventStateStuck, err.Error())
	case last.Stuck != "" || !last.Ended:
		told(contract.ProbeEventStateStuck, last.Stuck)
	default:
		told(outcome(hops), "")
	}
}

// outcome is how a record ended that is through.
func outcome(hops []contract.ProbeHop) contract.ProbeEventState {
	state := contract.ProbeEventStateArrived
	for _, h := range hops {
		switch wire.Hop(h.Hop) {
		case wire.HopDropped:
			return contract.ProbeEventStateDropped
		case wire.HopRefused, wire.HopDiscarded, wire.HopMissing:
			state = contract.ProbeEventStateStuck
		}
	}
	return state
}

func shownHop(h wire.ProbeHop) contract.ProbeHop {
	out := contract.ProbeHop{Hop: contract.ProbeHopHop(h.Hop), At: h.At.UTC(), Destination: optional(h.Destination),
		Words: optional(h.Words)}
	var record contract.TriedRecord
	if len(h.Record) > 0 && json.Unmarshal(h.Record, &record) == nil {
		out.Record = &record
	}
	return out
}
