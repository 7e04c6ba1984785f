package reports

import (
	"slices"
	"time"

	"synaxis/internal/core/expect"
	"synaxis/internal/core/health"
	"synaxis/internal/core/wire"
)

// sample is what a source had counted at a time.
type sample struct {
	at     time.Time
	counts health.Recent
	offset time.Duration // of the times of records; 0 for not known
	filled map[string]int64
}

// window are the samples of a source within health.Window, oldest first, and the one before them.
type window struct{ samples []sample }

// SampleEvery bounds how many samples there are, however often an agent reports.
const SampleEvery = 10 * time.Second

// add takes what a source has counted by now. A sum that fell began anew. The window that was is left as it is, since
// it is read: the next one may lie in the same memory, and goes on behind it. A window is added to once.
func (w *window) add(n wire.Numbers, now time.Time) *window {
	s := sample{at: now, counts: health.Recent{Read: n.Read, Unparsed: n.Unparsed, NoZone: n.NoZone},
		offset: time.Duration(n.TimeOffset) * time.Millisecond, filled: n.Filled}
	for _, d := range n.Deliveries {
		s.counts.Refused += d.Refused
	}
	next := &window{}
	if w != nil {
		next.samples = w.samples
	}
	if k := len(next.samples); k > 0 && s.counts.Read < next.samples[k-1].counts.Read {
		next.samples = nil
	}
	for len(next.samples) > 1 && now.Sub(next.samples[1].at) >= health.Window {
		next.samples = next.samples[1:]
	}
	if k := len(next.samples); k > 1 && now.Sub(next.samples[k-2].at) < SampleEvery {
		next.samples = append(slices.Clone(next.samples[:k-1]), s)
	} else {
		next.samples = append(next.samples, s)
	}
	return next
}

// counts are what was counted in the window that ends now. Before there are two samples nothing is known.
func (w *window) counts(now time.Time) (r health.Recent) {
	if w == nil || len(w.samples) < 2 {
		return r
	}
	from, to := w.samples[w.first(now)].counts, w.samples[len(w.samples)-1].counts
	return health.Recent{
		Read:     to.Read - from.Read,
		Unparsed: to.Unparsed - from.Unparsed,
		Refused:  max(0, to.Refused-from.Refused),
		NoZone:   to.NoZone - from.NoZone,
	}
}

// first is the sample with which the window that ends now begins.
func (w *window) first(now time.Time) (i int) {
	for i < len(w.samples)-1 && now.Sub(w.samples[i+1].at) >= health.Window {
		i++
	}
	return i
}

// fields tell how often fields were there in the window that ends now.
func (w *window) fields(of []expect.Filled, now time.Time) (out []health.Filled) {
	if w == nil || len(w.samples) < 2 {
		return nil
	}
	from, to := w.samples[w.first(now)], w.samples[len(w.samples)-1]
	n := to.counts.Read - from.counts.Read - to.counts.Unparsed + from.counts.Unparsed
	if n <= 0 || from.filled == nil && to.filled == nil { // nothing, or by an agent that does not watch
		return nil
	}
	for _, f := range of {
		there := to.filled[f.Field] - from.filled[f.Field]
		out = append(out, health.Filled{Field: f.Field, Of: f.Share, Records: n, Share: float64(there) / float64(n)})
	}
	return out
}

// latest are the counts of the latest records in the window, health.Fewest of them at least where there are so many.
func (w *window) latest(now time.Time) (r health.Recent) {
	if w == nil || len(w.samples) < 2 {
		return r
	}
	to := w.samples[len(w.samples)-1].counts
	for i := len(w.samples) - 2; i >= 0 && now.Sub(w.samples[i].at) <= health.Window+SampleEvery; i-- {
		from := w.samples[i].counts
		if r = (health.Recent{Read: to.Read - from.Read,
			Unparsed: to.Unparsed - from.Unparsed}); r.Read >= health.Fewest {
			break
		}
	}
	return r
}

// volume is how much a source reads, as an average over up to a day of five minutes each.
type volume struct {
	perDay float64
	n      int
}

// fiveMinutesInADay is how many rows of numbers a day has.
const fiveMinutesInADay = 288

// learn takes what sources have read in five minutes into their averages.
func (h *entry) learn(read map[string]wire.Numbers) {
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

// deltas are the sums that grew, and by how much.
func deltas(from, to map[string]wire.Numbers) map[string]wire.Numbers {
	out := map[string]wire.Numbers{}
	for name, n := range to {
		if d, any := n.Since(from[name]); any {
			out[name] = d
		}
	}
	return out
}

// agreeing is by how much offsets may differ that are taken as one.
const agreeing = 3 * time.Minute

// offset is by how much the times of records are ahead of when they were written, and how many of the latest reports
// in which something was read agree on it.
func (w *window) offset() (offset time.Duration, reports int) {
	if w == nil {
		return 0, 0
	}
	for i := len(w.samples) - 1; i > 0; i-- {
		x := w.samples[i]
		if x.offset == 0 || x.counts.Read == w.samples[i-1].counts.Read {
			continue
		}
		if reports == 0 {
			offset = x.offset
		}
		if (x.offset - offset).Abs() > agreeing {
			break
		}
		reports++
	}
	return offset, reports
}
