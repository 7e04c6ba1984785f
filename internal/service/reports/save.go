package reports

import (
	"context"
	"encoding/json"
	"time"

	"synaxis/internal/core/wire"
	"synaxis/internal/service/store"
)

// seenEvery is how often it is written when hosts were seen.
const seenEvery = 30 * time.Second

// seenRow holds when hosts were seen, as JSON of Unix seconds by host: no host has such a name.
const seenRow = "*"

// Flush writes everything that hosts said since the last time.
func (r *Reports) Flush(ctx context.Context) { r.flush(ctx, true) }

// FlushDue writes what is due: states at once, when hosts were seen now and then, and what they have counted with the
// five minutes in which they did. Agents report sums, so that nothing is lost with what is not written.
func (r *Reports) FlushDue(ctx context.Context) { r.flush(ctx, false) }

// counts are what a host had counted.
type counts struct {
	host    string
	since   time.Time
	numbers map[string]wire.Numbers
}

// flush writes. Nothing waits for it but the next flush: what was said is encoded outside the lock.
func (r *Reports) flush(ctx context.Context, all bool) {
	r.saving.Lock()
	defer r.saving.Unlock()
	now := r.now()
	states, seen := map[string]Live{}, map[string]int64(nil)
	var strange []counts
	r.mu.Lock()
	if all || now.Sub(r.seen) >= seenEvery {
		r.seen, seen = now, make(map[string]int64, len(r.hosts))
		for name, e := range r.hosts {
			if !e.said.LastSeen.IsZero() {
				seen[name] = e.said.LastSeen.Unix()
			}
		}
	}
	for name := range r.dirty {
		e := r.hosts[name]
		if e.dirty {
			states[name] = e.said.Live
		}
		if e.strange {
			strange = append(strange, counts{name, e.since, e.base})
		}
		e.dirty, e.strange = false, false
	}
	clear(r.dirty)
	unwritten := r.numbers.Unwritten(now, all)
	var sums []counts
	if unwritten.Any() {
		sums = r.counted(unwritten.Until)
	}
	r.mu.Unlock()
	r.save(ctx, states, seen, strange)
	if !unwritten.Any() {
		return
	}
	if err := r.numbers.Write(ctx, unwritten, rows(sums)); err != nil {
		r.log.Error("numbers over time are not written", "error", err)
		r.mu.Lock()
		defer r.mu.Unlock()
		for _, x := range sums {
			r.hosts[x.host].counted = true
		}
	}
}

// counted are what hosts had counted until a time, the begin of the five minutes that are open, or zero for now, where
// that was not written. r is locked.
func (r *Reports) counted(until time.Time) (out []counts) {
	for name, e := range r.hosts {
		if !e.counted {
			continue
		}
		x := counts{name, e.said.Counting, e.said.Numbers}
		if !until.IsZero() && e.bucket >= until.Unix() {
			x.since, x.numbers = e.since, e.base
		} else {
			e.counted = false
		}
		if len(x.numbers) > 0 {
			out = append(out, x)
		}
	}
	return out
}

// save writes states. What is not written is written with the next ones.
func (r *Reports) save(ctx context.Context, states map[string]Live, seen map[string]int64, strange []counts) {
	if len(states)+len(seen)+len(strange) == 0 {
		return
	}
	texts := make(map[string]string, len(states)+1)
	for name, l := range states {
		texts[name] = encode(l)
	}
	if len(seen) > 0 {
		texts[seenRow] = encode(seen)
	}
	err := r.store.SaveStates(ctx, texts, rows(strange))
	if err == nil {
		return
	}
	r.log.Error("what agents reported is not written", "error", err)
	r.mu.Lock()
	defer r.mu.Unlock()
	for name := range states {
		r.hosts[name].dirty, r.dirty[name] = true, true
	}
	for _, x := range strange {
		r.hosts[x.host].strange, r.dirty[x.host] = true, true
	}
}

func rows(of []counts) []store.Sums {
	out := make([]store.Sums, 0, len(of))
	for _, x := range of {
		row := store.Sums{Host: x.host, Numbers: encode(x.numbers)}
		if !x.since.IsZero() {
			row.Since = x.since.UnixNano()
		}
		out = append(out, row)
	}
	return out
}

func encode(v any) string {
	text, err := json.Marshal(v)
	if err != nil {
		return ""
	}
	return string(text)
}
