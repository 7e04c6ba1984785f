package main

import (
	"fmt"
	"slices"
	"time"

	"synaxis/internal/agent/peek"
	"synaxis/internal/core/format"
	"synaxis/internal/core/health"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/record"
)

// The bounds that knowing must keep.
const (
	healthAim = 0.1  // of a core, for 10,000 hosts with 20 sources that report every 30 s
	peekAim   = 0.01 // of a core of a host that is looked at together with a hundred others
)

// knowingTable measures what it takes to know how a large fleet is, and what a live look costs a host.
func knowingTable() (missed int, err error) {
	row := func(what, aim, seen string, met bool) {
		mark := "●"
		if !met {
			mark, missed = "✖", missed+1
		}
		fmt.Printf("%s %-58s aim: %-22s seen: %s\n", mark, what, aim, seen)
	}
	const hosts, sources, every = 10_000, 20, 30
	now := time.Date(2031, 4, 2, 12, 0, 0, 0, time.UTC)
	healthy := 0
	began := time.Now()
	for range hosts {
		h := health.EvaluateHost(health.Host{Joined: true, Connected: true, LastSeen: now, Assigned: "a", Running: "a"}, now)
		for i := range sources {
			s := health.Source{Host: h, Reported: true, Read: 1e7, Recent: health.Recent{Read: int64(1000 + i)},
				Latest: health.Recent{Read: 200}, Told: now, Last: now.Add(-time.Second), Began: now.Add(-time.Hour)}
			if v := health.EvaluateSource(s, now); v.State == health.Healthy {
				healthy++
			}
		}
	}
	share := time.Since(began).Seconds() / every
	row(fmt.Sprintf("health of %d hosts x %d sources, each %d s", hosts, sources, every),
		fmt.Sprintf("%.0f %% of a core", 100*healthAim), fmt.Sprintf("%.2f %%, %d healthy", 100*share, healthy),
		share < healthAim)

	data := webLog()
	spec, _ := format.BuiltIn("web-combined")
	src := pipeline.Source{Name: "booking-web", Guards: []string{"email", "payment-card"}}
	// A source of some hundred lines a second, for a minute of its own clock.
	run := func(looks bool) (time.Duration, error) {
		t, err := pipeline.Compile(src, spec, pipeline.Parts{})
		if err != nil {
			return 0, err
		}
		t.Tap = &pipeline.Tap{}
		if looks { // one of a hundred hosts that show 20 records a second together
			each := 5 * time.Second
			t.Tap.Open(&pipeline.Look{Most: 1, Every: each, Take: func(r []pipeline.Tried, _ *record.Origin) {
				for i := range r {
					peek.Encode(&r[i])
				}
			}})
		}
		b := &record.Batch{Origin: record.NewOrigin("booking-1", "", "booking-web", "/srv/web/access.log", nil)}
		at, clock := 0, now
		began := time.Now()
		for range 600 {
			clock = clock.Add(100 * time.Millisecond)
			b.Reset()
			b.Arena = append(b.Arena[:0], data[at:min(len(data), at+10_000)]...)
			used, _ := t.Run(b, int64(at), clock.UnixNano(), 1000, false)
			if at += used; used == 0 || at+10_000 > len(data) {
				at = 0
			}
		}
		return time.Since(began), nil
	}
	var without, with []time.Duration
	for range rounds {
		for _, looks := range []bool{false, true} {
			took, err := run(looks)
			if err != nil {
				return missed, err
			}
			if looks {
				with = append(with, took)
			} else {
				without = append(without, took)
			}
		}
	}
	more := (middle(with) - middle(without)).Seconds() / 60
	row("a live look at a hundred hosts, on one of them", fmt.Sprintf("%.0f %% of a core", 100*peekAim),
		fmt.Sprintf("%.4f %%; it takes %.3f %% to treat what comes", 100*max(0, more),
			100*middle(without).Seconds()/60),
		more < peekAim)
	return missed, nil
}

// middle is the median.
func middle(of []time.Duration) time.Duration {
	slices.Sort(of)
	return of[len(of)/2]
}
