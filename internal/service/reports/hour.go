package reports

import (
	"time"

	"synaxis/internal/core/rollout"
	"synaxis/internal/core/wire"
)

// pastHour is how many rows of five minutes an hour has.
const pastHour = 12

// row is what a host counted in five minutes.
type row struct {
	bucket int64
	sums   rollout.Sums
	read   map[string]int64 // by source
}

// sums are those of a source.
func sums(n wire.Numbers) rollout.Sums {
	s := rollout.Sums{Read: n.Read, Unparsed: n.Unparsed, NoZone: n.NoZone, Acknowledged: n.Acknowledged}
	for _, d := range n.Deliveries {
		s.Rejected += d.Refused
	}
	return s
}

// Total are the sums over all sources since an earlier saying of the same host.
func (s *Said) Total(since *Said) (out rollout.Sums) {
	return s.total(deltas(since.Numbers, s.Numbers), since.used)
}

// total sums up what was counted, with what the agent has used since then.
func (s *Said) total(counted map[string]wire.Numbers, used usage) (out rollout.Sums) {
	for _, n := range counted {
		out.Add(sums(n))
	}
	out.Add(s.used.since(used))
	return out
}

// Reported is when the host's numbers came last, by its own clock; zero for never.
func (s *Said) Reported() time.Time { return s.booked }

// usage is what an agent has used since the service began, over all its lives.
type usage struct {
	of        time.Time // when the present life began
	cpu       time.Duration
	at        time.Time
	sum, over time.Duration
	share     float64 // of a core, between the last two
	known     bool
}

// take adds what the agent says it has used until a moment, by the clock of its host.
func (u usage) take(p wire.Process, at time.Time) usage {
	switch {
	case !u.of.Equal(p.Started) && at.After(p.Started): // a new life, or the first that is heard of
		if !u.of.IsZero() {
			u = u.add(p.CPU, at.Sub(p.Started))
		}
	case at.After(u.at) && p.CPU >= u.cpu:
		u = u.add(p.CPU-u.cpu, at.Sub(u.at))
	default: // a clock was set back
		return u
	}
	u.of, u.cpu, u.at = p.Started, p.CPU, at
	return u
}

func (u usage) add(cpu, over time.Duration) usage {
	u.sum, u.over, u.share, u.known = u.sum+cpu, u.over+over, cpu.Seconds()/over.Seconds(), true
	return u
}

// CPUShare is what share of a core the agent used between its last two reports; false where it does not tell.
func (s *Said) CPUShare() (share float64, known bool) { return s.used.share, s.used.known }

func (u usage) since(was usage) rollout.Sums {
	return rollout.Sums{CPU: u.sum - was.sum, Over: u.over - was.over}
}

// passed keeps what was counted in five minutes.
func (e *entry) passed(bucket int64, counted rollout.Sums, read map[string]int64) {
	x := row{bucket, counted, read}
	if e.first == 0 || bucket < e.first {
		e.first = bucket
	}
	e.hour = append(e.hour, x)
	if len(e.hour) > pastHour {
		e.hour = e.hour[1:]
	}
}

// Past is what a host counted in the hour before now.
func (r *Reports) Past(host string) (p rollout.Past) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	e := r.hosts[host]
	if e == nil {
		return p
	}
	now := r.now()
	for _, x := range e.hour {
		if now.Unix()-x.bucket <= int64(time.Hour/time.Second) {
			p.Add(x.sums)
		}
	}
	first := e.first
	if e.bucket != 0 {
		p.Add(e.said.total(deltas(e.base, e.said.Numbers), e.used))
		if first == 0 {
			first = e.began
		}
	}
	if first != 0 {
		p.Span = min(time.Hour, now.Sub(time.Unix(first, 0)))
	}
	return p
}

// Hour is how many records of a source a host read in the hour before now; full is false where it is not known of all
// of it.
func (r *Reports) Hour(host, source string) (records int64, full bool) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	e := r.hosts[host]
	if e == nil {
		return 0, false
	}
	now := r.now()
	for _, x := range e.hour {
		if now.Unix()-x.bucket <= int64(time.Hour/time.Second) {
			records += x.read[source]
		}
	}
	first := e.first
	if e.bucket != 0 {
		records += max(0, e.said.Numbers[source].Read-e.base[source].Read)
		if first == 0 {
			first = e.began
		}
	}
	return records, first != 0 && now.Sub(time.Unix(first, 0)) >= time.Hour
}

// reads are the records of each source.
func reads(of map[string]wire.Numbers) map[string]int64 {
	out := map[string]int64{}
	for source, n := range of {
		if n.Read > 0 {
			out[source] = n.Read
		}
	}
	return out
}
