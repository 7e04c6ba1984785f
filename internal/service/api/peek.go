package api

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"sync"
	"time"

	"synaxis/internal/contract"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/wire"
	"synaxis/internal/service/agents"
	"synaxis/internal/service/store"
)

// Bounds of one look.
const (
	peekHosts   = 100
	peekSeconds = 60
	peekRate    = 20
	peekMost    = 100 // records a second
)

// stream writes events as lines of JSON until what they are of is over.
type stream[E any] struct {
	ctx  context.Context
	run  func(ctx context.Context, tell func(E) error)
	ends <-chan struct{} // when the service stops
}

type peekStream struct{ stream[contract.PeekEvent] }

// VisitPeekResponse writes the stream.
func (s peekStream) VisitPeekResponse(w http.ResponseWriter) error { return s.write(w) }

// VisitPeekUnmaskedResponse writes the stream.
func (s peekStream) VisitPeekUnmaskedResponse(w http.ResponseWriter) error { return s.write(w) }

func (s stream[E]) write(w http.ResponseWriter) error {
	w.Header().Set("Content-Type", "application/x-ndjson")
	w.Header().Set("X-Accel-Buffering", "no")
	ctx, cancel := context.WithCancel(s.ctx)
	defer cancel()
	go func() {
		select {
		case <-s.ends:
			cancel()
		case <-ctx.Done():
		}
	}()
	out, control := json.NewEncoder(w), http.NewResponseController(w)
	s.run(ctx, func(e E) error {
		err := control.SetWriteDeadline(time.Now().Add(peekPatience))
		if err == nil {
			err = out.Encode(e)
		}
		if err == nil {
			err = control.Flush()
		}
		if err != nil {
			cancel()
		}
		return err
	})
	return nil
}

// peekPatience is how long a reader may take nothing.
const peekPatience = 10 * time.Second

// Peek looks at records of a source as they come.
func (a *API) Peek(ctx context.Context, r contract.PeekRequestObject) (contract.PeekResponseObject, error) {
	return a.peek(ctx, *r.Body, false)
}

// PeekUnmasked shows private data too.
func (a *API) PeekUnmasked(
	ctx context.Context, r contract.PeekUnmaskedRequestObject,
) (contract.PeekUnmaskedResponseObject, error) {
	return a.peek(ctx, *r.Body, true)
}

func (a *API) peek(ctx context.Context, q contract.PeekRequest, clear bool) (peekStream, error) {
	if _, err := pipeline.NewWhere(value(q.Where)); err != nil {
		return peekStream{}, usage{"where: " + err.Error()}
	}
	seconds, rate := value(q.Seconds), float64(value(q.Rate))
	if seconds == 0 {
		seconds = peekSeconds
	}
	if seconds < 1 || seconds > wire.MaxPeekSeconds {
		return peekStream{}, usage{fmt.Sprintf("seconds: a look takes from 1 to %d", wire.MaxPeekSeconds)}
	}
	if rate <= 0 {
		rate = peekRate
	}
	rate = min(rate, peekMost)
	runs, err := a.running(q.Source, value(q.Host), value(q.Hosts), "looked at")
	if err != nil {
		return peekStream{}, err
	}
	there, begin := runs.there, contract.PeekEvent{Kind: contract.PeekEventKindBegin, Away: optional(runs.away)}
	if n := len(there); n > peekHosts { // some from all over the list
		some := make([]string, 0, peekHosts)
		for i := range peekHosts {
			some = append(some, there[i*n/peekHosts])
		}
		there, begin.Left = some, optional(n-peekHosts)
	}
	begin.Hosts = &there
	who, now := person(ctx), a.Now()
	if err := a.Store.Update(ctx, func(t *store.Tx) error {
		return t.Audit(who, now, "source peek", q.Source, nil, map[string]any{"hosts": there, "where": value(q.Where), "seconds": seconds, "unmasked": clear})
	}); err != nil {
		return peekStream{}, err
	}
	begin.Until = optional(now.UTC().Add(time.Duration(seconds) * time.Second))
	ask := wire.PeekAsk{ID: rand.Text(), Source: q.Source, Where: value(q.Where), Seconds: seconds, Clear: clear,
		Rate: rate / float64(max(1, len(there)))}
	return peekStream{stream[contract.PeekEvent]{ctx: ctx, ends: a.Events.ends, run: func(ctx context.Context,
		tell func(contract.PeekEvent) error) {
		if tell(begin) == nil {
			a.look(ctx, there, ask, tell)
		}
	}}}, nil
}

// runners are the hosts that run a source.
type runners struct {
	there []string // that can be asked now
	away  int
}

// running are the chosen hosts that run a source. It fails when none of them can be asked; verb says what cannot be
// done.
func (a *API) running(source, host, hosts, verb string) (r runners, err error) {
	chosen, err := a.chosen(hosts)
	if err != nil {
		return r, err
	}
	if host != "" {
		if _, ok := a.Hosts.Get(host); !ok {
			return r, a.noHost(host)
		}
		chosen = func(name string) bool { return name == host }
	}
	for _, v := range a.Hosts.All() {
		if !chosen(v.Name) || !slices.Contains(v.Sources(), source) {
			continue
		}
		if a.Links.MayAsk(v.UID) != nil {
			r.away++
			continue
		}
		r.there = append(r.there, v.Name)
	}
	switch {
	case len(r.there) > 0:
		return r, nil
	case r.away == 0:
		return r, store.Missingf("none of the hosts that are chosen runs a source %s", source)
	case r.away == 1:
		return r, agents.Unreachable{Words: fmt.Sprintf("the host that runs %s cannot be %s now: it is away, or polls", source,
			verb)}
	}
	return r, agents.Unreachable{Words: fmt.Sprintf(
		"%d hosts run %s, and none of them can be %s now: they are away, or poll", r.away, source, verb)}
}

// look asks the hosts again and again until the time is over, and tells what they show in the order in which it comes.
func (a *API) look(
	ctx context.Context, names []string, ask wire.PeekAsk, tell func(contract.PeekEvent) error,
) {
	events := make(chan contract.PeekEvent)
	end := contract.PeekEvent{Kind: contract.PeekEventKindEnd}
	var mu sync.Mutex
	var passed, looked, met, shown int64
	var wait sync.WaitGroup
	for _, name := range names {
		wait.Go(func() {
			say := func(e contract.PeekEvent) bool {
				e.Host = &name
				select {
				case events <- e:
					return true
				case <-ctx.Done():
					return false
				}
			}
			last, err := a.Agents.Peek(ctx, name, ask, func(x wire.PeekRecord) bool {
				e := contract.PeekEvent{Kind: contract.PeekEventKindRecord, File: optional(x.File),
					Record: &contract.TriedRecord{}}
				return json.Unmarshal(x.Record, e.Record) != nil || say(e)
			})
			if err != nil {
				say(contract.PeekEvent{Kind: contract.PeekEventKindHost, Reason: optional(err.Error())})
			}
			mu.Lock()
			defer mu.Unlock()
			passed, looked, met = passed+last.Passed, looked+last.Looked, met+last.Met
		})
	}
	go func() {
		wait.Wait()
		close(events)
	}()
	for e := range events {
		if e.Kind == contract.PeekEventKindRecord {
			shown++
		}
		if tell(e) != nil {
			break
		}
	}
	for range events { // those that are on their way see that nobody reads
	}
	end.Passed, end.Looked, end.Met, end.Shown = &passed, &looked, &met, &shown
	_ = tell(end) // a reader that left is told nothing
}
