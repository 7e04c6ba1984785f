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
	for _, n := range deltas(since.Numbers, s.Numbers) {
		out.Add(sums(n))
	}
	return out
}

// Reported is when the host's numbers came last, by its own clock; zero for never.
func (s *Said) Reported() time.Time { return s.booked }

// passed keeps what was counted in five minutes.
func (e *entry) passed(bucket int64, numbers map[string]wire.Numbers) {
	x := row{bucket: bucket}
	for _, n := range numbers {
		x.sums.Add(sums(n))
	}
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
		for _, n := range deltas(e.base, e.said.Numbers) {
			p.Add(sums(n))
		}
		if first == 0 {
			first = e.began
		}
	}
	if first != 0 {
		p.Span = min(time.Hour, now.Sub(time.Unix(first, 0)))
	}
	return p
}
