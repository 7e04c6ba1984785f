package api

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"synaxis/internal/contract"
	core "synaxis/internal/core/trial"
	"synaxis/internal/core/wire"
	"synaxis/internal/service/agents"
	"synaxis/internal/service/store"
)

// Bounds of trials.
const (
	trialHosts   = 50
	trialSome    = 5 // hosts, where none are chosen
	trialSeconds = 60
	trialsKept   = 20
	trialEvery   = 3 * time.Second // hosts are asked
	trialGrace   = 10 * time.Second
)

// trials are those of this run of the service, oldest first. Their hosts end them by themselves when nobody asks.
type trials struct {
	mu   sync.Mutex
	all  []*trial
	last int
}

// trial is one, with what its hosts said last.
type trial struct {
	id, draft      int
	by             string
	started, until time.Time
	stop           context.CancelFunc

	mu    sync.Mutex
	ended bool
	hosts map[string]*trialHost
}

type trialHost struct {
	report wire.Trial
	reason string
}

// StartTrial starts a trial of a draft.
func (a *API) StartTrial(
	ctx context.Context, r contract.StartTrialRequestObject,
) (contract.StartTrialResponseObject, error) {
	names, err := a.rehearsing(ctx, r.Body.Draft, value(r.Body.Hosts))
	if err != nil {
		return nil, err
	}
	if value(r.Body.Hosts) == "" { // some of those that it changes, which are there
		names = slices.DeleteFunc(names, func(n string) bool { v, ok := a.Hosts.Get(n); return !ok || !v.Connected })
		names = names[:min(len(names), trialSome)]
	}
	switch {
	case len(names) == 0:
		return nil, usage{"hosts: none is chosen that has joined, or none would change"}
	case len(names) > trialHosts:
		return nil, usage{fmt.Sprintf("hosts: %d are chosen; a trial runs on %d at most", len(names), trialHosts)}
	}
	configs, err := a.Changes.Configs(ctx, r.Body.Draft, names)
	if err != nil {
		return nil, err
	}
	seconds := value(r.Body.Seconds)
	if seconds == 0 {
		seconds = trialSeconds
	}
	if seconds < 1 || seconds > 3600 {
		return nil, usage{"seconds: a trial takes from a second to an hour"}
	}
	who, now := person(ctx), a.Now().UTC()
	t := &trial{draft: r.Body.Draft, by: who.Name, started: now, hosts: map[string]*trialHost{}}
	t.until = now.Add(time.Duration(seconds) * time.Second)
	// It goes on when the request has ended.
	runs, stop := context.WithTimeout(context.WithoutCancel(ctx), time.Duration(seconds)*time.Second+trialGrace)
	t.stop = stop
	a.trials.mu.Lock()
	a.trials.last++
	t.id = a.trials.last
	a.trials.all = append(a.trials.all, t)
	if len(a.trials.all) > trialsKept {
		a.trials.all = a.trials.all[1:]
	}
	a.trials.mu.Unlock()
	for _, name := range names {
		t.hosts[name] = &trialHost{}
	}
	var wait sync.WaitGroup
	for _, name := range names {
		wait.Go(func() { a.tryOn(runs, t, who, name, configs[name], seconds) })
	}
	go func() {
		wait.Wait()
		stop()
		t.mu.Lock()
		t.ended = true
		t.mu.Unlock()
		a.Events.Note("trials")
	}()
	return contract.StartTrial201JSONResponse(t.shown()), nil
}

// tryOn runs a trial on one host to its end.
func (a *API) tryOn(ctx context.Context, t *trial, who store.Person, name, config string, seconds int) {
	id := fmt.Sprintf("%d-%d", t.id, t.started.UnixNano())
	say := func(r wire.Trial, err error) bool {
		t.mu.Lock()
		defer t.mu.Unlock()
		h := t.hosts[name]
		if err != nil {
			h.reason, h.report.Ended = err.Error(), true
			return false
		}
		h.report = bounded(r)
		return !r.Ended
	}
	ask := wire.Ask{Config: config, Trial: &wire.TrialAsk{ID: id, Start: true, Seconds: seconds}}
	goes := say(a.Agents.Trial(ctx, who, name, ask))
	for goes {
		select {
		case <-ctx.Done():
			last, cancel := context.WithTimeout(context.WithoutCancel(ctx), trialGrace)
			say(a.Agents.Trial(last, who, name, wire.Ask{Trial: &wire.TrialAsk{ID: id, Stop: true}}))
			cancel()
			t.mu.Lock()
			t.hosts[name].report.Ended = true
			t.mu.Unlock()
			return
		case <-time.After(trialEvery):
		}
		r, err := a.Agents.Trial(ctx, who, name, wire.Ask{Trial: &wire.TrialAsk{ID: id}})
		if ctx.Err() != nil {
			continue // it is being ended, and what it found last is asked for
		}
		var away agents.Unreachable
		if errors.As(err, &away) {
			err = agents.Unreachable{Words: "it went away; what it had found by then stands"}
		}
		goes = say(r, err)
		a.Events.Note("trials")
	}
}

// bounded takes no more from a host than a trial may tell.
func bounded(r wire.Trial) wire.Trial {
	r.Sources = r.Sources[:min(len(r.Sources), wire.MaxTrialSources)]
	for i := range r.Sources {
		s := &r.Sources[i]
		s.Examples = s.Examples[:min(len(s.Examples), wire.MaxTrialExamples)]
		for k := range s.Examples {
			e := &s.Examples[k]
			e.Now, e.Then = e.Now[:min(len(e.Now), wire.MaxExampleBytes)], e.Then[:min(len(e.Then),
				wire.MaxExampleBytes)]
		}
		for _, side := range []*wire.TrialSide{s.Now, s.Then} {
			if side == nil {
				continue
			}
			for name := range side.Fields {
				if len(side.Fields) > wire.MaxTrialFields {
					delete(side.Fields, name)
				}
			}
		}
	}
	return r
}

// ListTrials lists trials.
func (a *API) ListTrials(
	_ context.Context, r contract.ListTrialsRequestObject,
) (contract.ListTrialsResponseObject, error) {
	a.trials.mu.Lock()
	all := slices.Clone(a.trials.all)
	a.trials.mu.Unlock()
	out := contract.ListTrials200JSONResponse{Items: []contract.Trial{}}
	for _, t := range slices.Backward(all) {
		if r.Params.Draft == nil || *r.Params.Draft == t.draft {
			out.Items = append(out.Items, t.shown())
		}
	}
	return out, nil
}

func (a *API) trial(id int) (*trial, error) {
	a.trials.mu.Lock()
	defer a.trials.mu.Unlock()
	for _, t := range a.trials.all {
		if t.id == id {
			return t, nil
		}
	}
	return nil, store.Missingf("there is no trial %d; those of before a restart of the service are not kept", id)
}

// GetTrial tells what a trial has found.
func (a *API) GetTrial(_ context.Context, r contract.GetTrialRequestObject) (contract.GetTrialResponseObject, error) {
	t, err := a.trial(r.Trial)
	if err != nil {
		return nil, err
	}
	return contract.GetTrial200JSONResponse(t.shown()), nil
}

// EndTrial ends a trial.
func (a *API) EndTrial(ctx context.Context, r contract.EndTrialRequestObject) (contract.EndTrialResponseObject,
	error) {
	t, err := a.trial(r.Trial)
	if err != nil {
		return nil, err
	}
	t.stop()
	for !t.over() {
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
	return contract.EndTrial200JSONResponse(t.shown()), nil
}

func (t *trial) over() bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.ended
}

// shown sums up what the hosts found.
func (t *trial) shown() contract.Trial {
	t.mu.Lock()
	defer t.mu.Unlock()
	out := contract.Trial{Id: t.id, Draft: t.draft, By: t.by, Started: t.started, Until: t.until, Ended: t.ended,
		Hosts: []contract.TrialHost{}, Sources: []contract.TrialSource{}}
	sums := map[string]*trialSums{}
	for _, name := range slices.Sorted(maps.Keys(t.hosts)) {
		h := t.hosts[name]
		out.Hosts = append(out.Hosts, contract.TrialHost{Host: name, Ended: h.report.Ended,
			Reason: optional(h.reason)})
		out.Skipped += h.report.Skipped
		for _, s := range h.report.Sources {
			x := sums[s.Name]
			if x == nil {
				x = &trialSums{}
				sums[s.Name] = x
			}
			x.add(name, s)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(sums)) {
		out.Sources = append(out.Sources, sums[name].shown(name))
	}
	slices.SortStableFunc(out.Sources, func(a, b contract.TrialSource) int { // what differs first
		return int(min(1, max(-1, b.Differ-a.Differ)))
	})
	return out
}

// trialSums are what all hosts found of a source.
type trialSums struct {
	hosts     int
	now, then *wire.TrialSide
	differ    int64
	examples  []contract.TrialExample
	notes     []string
}

func (x *trialSums) add(host string, s wire.TrialSource) {
	x.hosts++
	x.differ += s.Differ
	x.now, x.then = core.Add(x.now, s.Now), core.Add(x.then, s.Then)
	for _, e := range s.Examples {
		if len(x.examples) < wire.MaxTrialExamples {
			x.examples = append(x.examples, example(host, e))
		}
	}
	if s.Note != "" && !slices.Contains(x.notes, s.Note) {
		x.notes = append(x.notes, s.Note)
	}
}

// example is a record both ways, with what differs.
func example(host string, e wire.TrialExample) contract.TrialExample {
	out := contract.TrialExample{Host: host, Now: e.Now, Then: e.Then, Differs: []contract.TrialDifference{}}
	body, parts, ok := core.Differences(e.Now, e.Then)
	if !ok {
		return out
	}
	out.Body = &body
	for _, d := range parts {
		out.Differs = append(out.Differs, contract.TrialDifference{Part: d.Part, Now: d.Now, Then: d.Then})
	}
	return out
}

func (x *trialSums) shown(name string) contract.TrialSource {
	out := contract.TrialSource{Name: name, Hosts: x.hosts, Differ: x.differ, Now: trialSide(x.now),
		Then:   trialSide(x.then),
		Fields: []contract.TrialField{}, Examples: x.examples, Notes: x.notes}
	if out.Examples == nil {
		out.Examples = []contract.TrialExample{}
	}
	if out.Notes == nil {
		out.Notes = []string{}
	}
	if x.now == nil || x.then == nil {
		return out
	}
	counts := func(m map[wire.Type]int64) map[string]int64 {
		if m == nil {
			return map[string]int64{}
		}
		return m
	}
	for _, f := range core.Fields(x.now, x.then) {
		out.Fields = append(out.Fields, contract.TrialField{Name: f.Name, Change: contract.TrialFieldChange(f.Change),
			Now: counts(f.Now), Then: counts(f.Then)})
	}
	return out
}

func trialSide(s *wire.TrialSide) *contract.TrialSide {
	if s == nil {
		return nil
	}
	out := &contract.TrialSide{Read: s.Read, Unparsed: s.Unparsed, Dropped: s.Dropped, Drops: s.Drops,
		Masked: s.Masked,
		NoZone: s.NoZone, Failed: s.Failed, Destinations: map[string]contract.TrialSent{}, Levels: s.Levels}
	for to, d := range s.Destinations {
		out.Destinations[to] = contract.TrialSent{Records: d.Records, Bytes: d.Bytes}
	}
	if s.Read > 0 {
		out.MicrosecondsEach = float64(s.Nanoseconds) / 1000 / float64(s.Read)
	}
	return out
}
