package rollouts

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"synaxis/internal/core/health"
	"synaxis/internal/core/rollout"
	"synaxis/internal/service/hosts"
	"synaxis/internal/service/reports"
)

// lookEvery is how often the hosts of a rollout are looked at for its gate.
const lookEvery = 2 * time.Second

// fewest is how many records make a share or ratio known.
const fewest = 20

// enoughPast is how long a host must have been known before its change for its rates to be of use.
const enoughPast = 5 * time.Minute

// mark is how a host was before it changed, and what it had said when it had changed.
type mark struct {
	hash   string // that it was told
	before health.State
	past   reports.Past
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
			e := d.known(i, list, s.Plan.Soak, now)
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

// known is what is known of hosts of a wave.
func (d *Driver) known(wave int, list []rollout.Host, soak time.Duration, now time.Time) rollout.Evidence {
	n := map[string]float64{"failing": 0, "degraded": 0, "silent": 0, "refused": 0, "timed_out": 0}
	var sums, past reports.Sums
	var expected, expectedAcks, pastRead float64
	var lacks, wrong []string
	confirmed, quiet, sources := 0, true, 0
	for _, h := range list {
		switch h.State {
		case rollout.Refused:
			n["refused"]++
		case rollout.TimedOut:
			n["timed_out"]++
		}
		m, ok := d.marks[h.Name]
		if !ok || m.hash != h.Hash {
			d.mark(h.Name, h.Hash)
			m = d.marks[h.Name]
		}
		v, ok := d.hosts.Get(h.Name)
		if !ok {
			continue
		}
		verdict := d.hosts.Health(h.Name).Worst
		worst := verdict.State
		if worst == health.Failing && m.before != health.Failing && v.Connected {
			n["failing"]++
			wrong = append(wrong, h.Name+": "+verdict.Reason)
		}
		if worst == health.Degraded && m.before != health.Degraded && d.since(verdict.Code, h, m, v, now) {
			n["degraded"]++
			wrong = append(wrong, h.Name+": "+verdict.Reason)
		}
		if h.State != rollout.Confirmed {
			continue
		}
		if !v.Connected {
			lacks = append(lacks, h.Name+" is away")
			continue
		}
		if m.said == nil {
			m.at, m.said = now, v.Said
			d.marks[h.Name] = m
		}
		confirmed++
		elapsed := now.Sub(m.at)
		got := v.Total(m.said)
		sums.Read += got.Read
		sums.Unparsed += got.Unparsed
		sums.Rejected += got.Rejected
		sums.Acknowledged += got.Acknowledged
		sources += len(v.Sources())
		known := m.past.Span >= enoughPast
		if known {
			past.Read += m.past.Read
			past.Unparsed += m.past.Unparsed
			past.Rejected += m.past.Rejected
			should := float64(m.past.Read) * elapsed.Seconds() / m.past.Span.Seconds()
			expected += should
			expectedAcks += float64(m.past.Acknowledged) * elapsed.Seconds() / m.past.Span.Seconds()
			pastRead += float64(m.past.Read) * soak.Seconds() / m.past.Span.Seconds()
			if should >= fewest && got.Read == 0 {
				n["silent"]++
			}
		}
		switch {
		case v.Said == m.said || !v.Reported().After(m.said.Reported()):
			lacks = append(lacks, h.Name+" has not reported since it changed")
		case worst == health.Waiting:
			lacks = append(lacks, h.Name+" waits: "+d.hosts.Health(h.Name).Worst.Reason)
		case got.Read == 0 && len(v.Sources()) > 0 && !known:
			lacks = append(lacks, h.Name+" has read no record, and what it usually reads is not known")
			quiet = false
		}
	}
	for _, name := range []string{"failing", "degraded", "silent", "refused", "timed_out"} {
		n[name+"_share"] = n[name] / float64(len(list))
	}
	share := func(name string, part, whole, pastPart, pastWhole int64) {
		if whole > 0 && (whole >= fewest || pastRead < fewest) {
			before := 0.0
			if pastWhole > 0 {
				before = float64(pastPart) / float64(pastWhole)
			}
			n[name] = max(0, float64(part)/float64(whole)-before)
		} else if whole == 0 && quiet && pastRead < 1 && confirmed > 0 || sources == 0 && confirmed > 0 {
			n[name] = 0 // there is nothing to be read
		}
	}
	share("unparsed_share", sums.Unparsed, sums.Read, past.Unparsed, past.Read)
	share("rejected_share", sums.Rejected, sums.Read, past.Rejected, past.Read)
	if expected >= fewest {
		n["read_ratio"] = float64(sums.Read) / expected
	}
	if expectedAcks >= fewest {
		n["delivered_ratio"] = float64(sums.Acknowledged) / expectedAcks
	}
	if pastRead >= 1 && sums.Read == 0 && confirmed > 0 {
		lacks = append(lacks, fmt.Sprintf("no record was read yet; about %.0f usually are in %s", pastRead, soak))
	}
	if confirmed == 0 {
		lacks = append(lacks, "no host has it yet")
	}
	e := rollout.Evidence{Wave: wave, Numbers: n, Enough: len(lacks) == 0}
	e.Missing, e.Wrong = some(lacks), some(wrong)
	return e
}

// since tells whether what is wrong with a host is so since it changed. What is judged over the last minutes may be of
// before: then the records since the change decide.
func (d *Driver) since(code health.Code, h rollout.Host, m mark, v hosts.View, now time.Time) bool {
	if !slices.Contains([]health.Code{health.RecordsRefused, health.ReadsTooFew, health.StampsWithoutZone}, code) {
		return true
	}
	switch {
	case h.State != rollout.Confirmed || m.said == nil:
		return false
	case now.Sub(m.at) >= health.Window:
		return true
	}
	got := v.Total(m.said)
	return got.Rejected > 0 || got.Read >= health.Fewest && max(got.Unparsed, got.NoZone)*20 > got.Read
}

// some are the first of many texts.
func some(all []string) string {
	const most = 3
	if slices.Sort(all); len(all) > most {
		all = append(all[:most:most], fmt.Sprintf("and %d more", len(all)-most))
	}
	return strings.Join(all, "; ")
}
