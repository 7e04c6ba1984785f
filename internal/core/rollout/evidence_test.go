package rollout

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"synaxis/internal/core/health"
)

func TestMeasure(t *testing.T) {
	t.Parallel()
	hour := Past{Sums{Read: 3600, Unparsed: 36, Acknowledged: 3600}, time.Hour} // one a second
	well := Seen{Host: "a", State: Confirmed, Connected: true, Before: health.Healthy,
		Now: health.Verdict{State: health.Healthy}, Past: hour, Since: 2 * time.Minute,
		Got: Sums{Read: 120, Unparsed: 1, Acknowledged: 120}, Reported: true, Sources: 1}
	but := func(change func(*Seen)) Seen { s := well; change(&s); return s }
	is := func(state health.State, code health.Code) func(*Seen) {
		return func(s *Seen) { s.Now = health.Verdict{State: state, Code: code, Reason: "why"} }
	}
	for name, c := range map[string]struct {
		hosts   []Seen
		numbers map[string]float64 // of them; below 0 for what must not be known
		missing string
		wrong   string
	}{
		"all well": {hosts: []Seen{well}, numbers: map[string]float64{"failing": 0, "degraded": 0, "silent": 0,
			"unparsed_share": 0, "rejected_share": 0, "read_ratio": 1, "delivered_ratio": 1, "cpu_share": -1}},
		"uses more": {hosts: []Seen{but(func(s *Seen) {
			s.Past.CPU, s.Past.Over = 36*time.Second, time.Hour
			s.Got.CPU, s.Got.Over = 3*time.Second, time.Minute
		}), but(func(s *Seen) {
			s.Past.CPU, s.Past.Over = 36*time.Second, time.Hour
			s.Got.CPU, s.Got.Over = 600*time.Millisecond, time.Minute
		})}, numbers: map[string]float64{"cpu_share": 0.02}},
		"uses less": {hosts: []Seen{but(func(s *Seen) {
			s.Past.CPU, s.Past.Over = 36*time.Second, time.Hour
			s.Got.CPU, s.Got.Over = 0, time.Minute
		})}, numbers: map[string]float64{"cpu_share": 0}},
		"uses what is not known yet": {hosts: []Seen{but(func(s *Seen) {
			s.Past.CPU, s.Past.Over = 36*time.Second, time.Hour
			s.Got.CPU, s.Got.Over = time.Second, 19*time.Second
		})}, numbers: map[string]float64{"cpu_share": -1}},
		"one of two does not tell what it uses": {hosts: []Seen{well, but(func(s *Seen) {
			s.Past.CPU, s.Past.Over = 36*time.Second, time.Hour
			s.Got.CPU, s.Got.Over = 3*time.Second, time.Minute
		})}, numbers: map[string]float64{"cpu_share": -1}},
		"fails now": {hosts: []Seen{well, but(is(health.Failing, ""))}, wrong: "a: why",
			numbers: map[string]float64{"failing": 1, "failing_share": 0.5}},
		"failed before": {hosts: []Seen{but(func(s *Seen) {
			is(health.Failing, "")(s)
			s.Before = health.Failing
		})}, numbers: map[string]float64{"failing": 0}},
		"away is not failing": {hosts: []Seen{but(func(s *Seen) { is(health.Failing, "")(s); s.Connected = false })},
			numbers: map[string]float64{"failing": 0, "unparsed_share": -1}, missing: "a is away; no host has it yet"},
		"degraded by something new": {hosts: []Seen{but(is(health.Degraded, health.NotReadable))}, wrong: "a: why",
			numbers: map[string]float64{"degraded": 1, "degraded_share": 1}},
		"degraded by what came before": {hosts: []Seen{but(is(health.Degraded, health.ReadsTooFew))},
			numbers: map[string]float64{"degraded": 0, "unparsed_share": 0}},
		"degraded by what came since": {hosts: []Seen{but(func(s *Seen) {
			is(health.Degraded, health.ReadsTooFew)(s)
			s.Got.Unparsed = 60
		})}, numbers: map[string]float64{"degraded": 1, "unparsed_share": 0.49}, wrong: "a: why"},
		"degraded for longer than the window": {hosts: []Seen{but(func(s *Seen) {
			is(health.Degraded, health.ReadsTooFew)(s)
			s.Since = health.Window
		})}, numbers: map[string]float64{"degraded": 1}, wrong: "a: why"},
		"refused and late": {hosts: []Seen{well, but(func(s *Seen) { s.State = Refused }), but(func(s *Seen) {
			s.State = TimedOut
		}), well}, numbers: map[string]float64{"refused": 1, "refused_share": 0.25, "timed_out": 1,
			"timed_out_share": 0.25}},
		"silent": {hosts: []Seen{but(func(s *Seen) { s.Got = Sums{} })}, numbers: map[string]float64{"silent": 1,
			"unparsed_share": -1, "read_ratio": 0}, missing: "no record was read yet; about 120 usually are in 2m0s"},
		"quiet at this hour": {hosts: []Seen{but(func(s *Seen) {
			s.Got, s.Past.Sums = Sums{}, Sums{}
		})}, numbers: map[string]float64{"silent": 0, "unparsed_share": 0, "read_ratio": -1}},
		"new, and nothing read": {hosts: []Seen{but(func(s *Seen) { s.Got, s.Past = Sums{}, Past{} })},
			numbers: map[string]float64{"unparsed_share": -1},
			missing: "a has read no record, and what it usually reads is not known"},
		"new, and records read": {hosts: []Seen{but(func(s *Seen) { s.Past = Past{}; s.Got.Unparsed = 12 })},
			numbers: map[string]float64{"unparsed_share": 0.1, "read_ratio": -1}},
		"few records of many": {hosts: []Seen{but(func(s *Seen) { s.Got = Sums{Read: 5, Unparsed: 5} })},
			numbers: map[string]float64{"unparsed_share": -1}},
		"few records, as usual": {hosts: []Seen{but(func(s *Seen) {
			s.Got, s.Past.Sums = Sums{Read: 2, Unparsed: 1}, Sums{Read: 60}
		})}, numbers: map[string]float64{"unparsed_share": 0.5}},
		"no sources": {hosts: []Seen{but(func(s *Seen) { s.Got, s.Past, s.Sources = Sums{}, Past{}, 0 })},
			numbers: map[string]float64{"unparsed_share": 0}},
		"no report yet": {hosts: []Seen{but(func(s *Seen) { s.Reported = false })},
			missing: "a has not reported since it changed"},
		"waits":         {hosts: []Seen{but(is(health.Waiting, ""))}, missing: "a waits: why"},
		"nobody has it": {hosts: []Seen{but(func(s *Seen) { s.State = Offered })}, missing: "no host has it yet"},
		"refused records": {hosts: []Seen{but(func(s *Seen) { s.Got.Rejected = 30 })},
			numbers: map[string]float64{"rejected_share": 0.25}},
		"many that lack": {hosts: []Seen{but(func(s *Seen) { s.Reported = false }), but(func(s *Seen) {
			s.Host, s.Reported = "b", false
		}), but(func(s *Seen) {
			s.Host, s.Connected = "c", false
		}), but(func(s *Seen) { s.Host, s.Connected = "d", false })},
			missing: "a has not reported since it changed; b has not reported since it changed; c is away; and 1 more"},
	} {
		e := Measure(2, c.hosts, 2*time.Minute)
		assert.Equal(t, 2, e.Wave)
		assert.Equal(t, c.missing, e.Missing, name)
		assert.Equal(t, c.missing == "", e.Enough, name)
		assert.Equal(t, c.wrong, e.Wrong, name)
		for number, want := range c.numbers {
			v, known := e.Numbers[number]
			if want < 0 {
				assert.False(t, known, "%s: %s", name, number)
			} else if assert.True(t, known, "%s: %s", name, number) {
				assert.InDelta(t, want, v, 0.001, "%s: %s", name, number)
			}
		}
		for number := range e.Numbers {
			assert.Contains(t, GateNames, number)
		}
	}
}
