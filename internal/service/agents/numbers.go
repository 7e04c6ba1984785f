package agents

import (
	"synaxis/internal/core/check"
	"synaxis/internal/core/wire"
)

// volume is how much a source reads, as an average over up to a day of five minutes each.
type volume struct {
	perDay float64
	n      int
}

// fiveMinutesInADay is how many rows of numbers a day has.
const fiveMinutesInADay = 288

// learn takes what sources have read in five minutes into their averages.
func (h *host) learn(read map[string]wire.Numbers) {
	if h.volumes == nil {
		h.volumes = map[string]volume{}
	}
	for name, n := range read {
		v := h.volumes[name]
		v.n = min(v.n+1, fiveMinutesInADay)
		v.perDay += (float64(n.Bytes)*fiveMinutesInADay - v.perDay) / float64(v.n)
		h.volumes[name] = v
	}
}

// Volumes tells what sources have really read on each host, as bytes in a day.
func (f *Fleet) Volumes() []check.Volume {
	f.mu.RLock()
	defer f.mu.RUnlock()
	var out []check.Volume
	for name, h := range f.hosts {
		for source, v := range h.volumes {
			if h.view.RetiredAt.IsZero() && v.perDay > 0 {
				out = append(out, check.Volume{Host: name, Source: source, Bytes: v.perDay})
			}
		}
	}
	return out
}

// deltas are the sums that grew, and by how much.
func deltas(from, to map[string]wire.Numbers) map[string]wire.Numbers {
	out := map[string]wire.Numbers{}
	for name, n := range to {
		was := from[name]
		d := wire.Numbers{Read: max(0, n.Read-was.Read), Bytes: max(0, n.Bytes-was.Bytes), Unparsed: max(0, n.Unparsed-was.Unparsed),
			Dropped: max(0, n.Dropped-was.Dropped), Blank: max(0, n.Blank-was.Blank), Truncated: max(0, n.Truncated-was.Truncated),
			Failed: max(0, n.Failed-was.Failed), Masked: max(0, n.Masked-was.Masked)}
		for reason, c := range n.Drops {
			if c > was.Drops[reason] {
				if d.Drops == nil {
					d.Drops = map[string]int64{}
				}
				d.Drops[reason] = c - was.Drops[reason]
			}
		}
		for dest, c := range n.Deliveries {
			w := was.Deliveries[dest]
			if c != w {
				if d.Deliveries == nil {
					d.Deliveries = map[string]wire.DeliveryCounts{}
				}
				d.Deliveries[dest] = wire.DeliveryCounts{Acknowledged: max(0, c.Acknowledged-w.Acknowledged), Refused: max(0, c.Refused-w.Refused)}
			}
		}
		if d.Read != 0 || d.Blank != 0 || d.Truncated != 0 || d.Deliveries != nil {
			out[name] = d
		}
	}
	return out
}
