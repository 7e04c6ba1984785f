package notice

import (
	"maps"
	"slices"
	"time"

	"synaxis/internal/core/health"
)

// Change is when something became wrong, or other than it was; a trouble in a good state ends it.
type Change struct {
	At      time.Time
	Trouble health.Trouble
}

// lookedAt is how often a condition over seconds is asked in a replay while nothing changes.
const lookedAt = 5 * time.Minute

// Replay tells what the rule would have told in a span, from all changes in their order. Those from before the span
// say how things stood. It decides once a minute, which is how often a notice tells something at most.
func (r *Rule) Replay(changes []Change, labels func(host string) map[string]string, from, to time.Time) []Message {
	type key struct{ host, source string }
	now := map[key]health.Trouble{}
	var alerts map[string]Alert
	var causes []health.Cause
	var spoken, looked time.Time
	var out []Message
	at, stale := from, true
	for i, last := 0, false; !last; at = at.Add(time.Minute) {
		if last = !at.Before(to); last {
			at = to
		}
		for ; i < len(changes) && !changes[i].At.After(at); i++ {
			t := changes[i].Trouble
			k := key{t.Host, t.Source}
			if stale = true; health.Rank(t.Verdict.State) < health.Rank(health.Degraded) {
				delete(now, k)
			} else {
				now[k] = t
			}
		}
		if len(now)+len(alerts) == 0 {
			if i == len(changes) {
				break
			}
			at = at.Add(max(0, changes[i].At.Sub(at).Truncate(time.Minute)-time.Minute)) // to just before the next
			continue
		}
		if stale || r.When.Seconds() && at.Sub(looked) >= lookedAt {
			causes, looked, stale = r.Matching(slices.Collect(maps.Values(now)), labels, at), at, false
		}
		var m *Message
		if alerts, m = r.Decide(alerts, causes, spoken, at); m != nil {
			spoken = at
			out = append(out, *m)
		}
	}
	return out
}
