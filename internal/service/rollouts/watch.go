package rollouts

import (
	"time"

	"synaxis/internal/core/health"
	"synaxis/internal/core/rollout"
	"synaxis/internal/service/reports"
)

// lookEvery is how often the hosts of a rollout are looked at for its gate.
const lookEvery = 2 * time.Second

// mark is how a host was before it changed, and what it had said when it had changed.
type mark struct {
	hash   string // that it was told
	before health.State
	past   rollout.Past
	at     time.Time     // when it had changed
	said   *reports.Said // by then; nil before
}

// look is what is known of the hosts that the running rollout has changed, where its plan has a gate.
func (d *Driver) look() (out []rollout.Event) {
	now := d.now()
	d.watching.Lock()
	defer d.watching.Unlock()
	d.mu.RLock()
	s := d.rollouts[d.running]
	if s == nil || s.Plan.StopWhen == "" || s.Status != rollout.Running {
		d.mu.RUnlock()
		clear(d.marks)
		d.evidence.Store(nil)
		return nil
	}
	if now.Sub(d.looked) < lookEvery {
		d.mu.RUnlock()
		return nil
	}
	d.looked = now
	waves := make([][]rollout.Host, s.Wave+1)
	for i := range waves {
		waves[i] = s.Watched(i)
	}
	d.mu.RUnlock()
	for i, list := range waves {
		if len(list) > 0 {
			e := rollout.Measure(i, d.seen(list, now), s.Plan.Soak)
			out = append(out, rollout.Event{Kind: rollout.Measured, Evidence: &e})
			if i == s.Wave {
				d.evidence.Store(&e)
			}
		}
	}
	return out
}

// newest is what was known last of the wave at work.
func (d *Driver) newest() rollout.Evidence {
	if e := d.evidence.Load(); e != nil {
		return *e
	}
	return rollout.Evidence{}
}

// markTold notes how hosts are that are about to be offered a config, where a gate will ask.
func (d *Driver) markTold(deltas []rollout.Delta) {
	d.watching.Lock()
	defer d.watching.Unlock()
	for _, x := range deltas {
		if x.Plan.StopWhen == "" {
			continue
		}
		for _, h := range x.Hosts {
			if h.Told && h.State == rollout.Waiting {
				d.mark(h.Name, h.Hash)
			}
		}
	}
}

// mark notes how a host is before it is told. A host that was told before the service began is taken as having been
// well, so that what is wrong with it counts.
func (d *Driver) mark(host, hash string) {
	m := mark{hash: hash, past: d.reports.Past(host)}
	if v, ok := d.hosts.Get(host); ok && v.Running != hash {
		m.before = d.hosts.Health(host).Worst.State
	}
	d.marks[host] = m
}

// seen is what is known of hosts that were told.
func (d *Driver) seen(list []rollout.Host, now time.Time) []rollout.Seen {
	out := make([]rollout.Seen, 0, len(list))
	for _, h := range list {
		m, ok := d.marks[h.Name]
		if !ok || m.hash != h.Hash {
			d.mark(h.Name, h.Hash)
			m = d.marks[h.Name]
		}
		v, ok := d.hosts.Get(h.Name)
		if !ok {
			continue
		}
		s := rollout.Seen{Host: h.Name, State: h.State, Connected: v.Connected, Before: m.before,
			Now: d.hosts.Health(h.Name).Worst, Past: m.past, Sources: len(v.Sources())}
		if h.State == rollout.Confirmed && v.Connected {
			if m.said == nil {
				m.at, m.said = now, v.Said
				d.marks[h.Name] = m
			}
			s.Since, s.Got, s.Reported = now.Sub(m.at), v.Total(m.said), v.Reported().After(m.said.Reported())
		}
		out = append(out, s)
	}
	return out
}
