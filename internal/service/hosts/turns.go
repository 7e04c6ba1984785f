package hosts

import (
	"context"
	"encoding/json"
	"maps"
	"time"

	"synaxis/internal/core/health"
	"synaxis/internal/service/store"
)

// Turn is a change of the state of a host, or of one of its sources.
type Turn struct {
	At     time.Time    `json:"-"`
	Host   string       `json:"-"`
	Source string       `json:"-"`
	From   health.State `json:"from"`
	To     health.State `json:"to"`
	Code   health.Code  `json:"code,omitempty"`
	Reason string       `json:"reason,omitempty"`
}

// steady is how long a state is kept that has changed back and forth within such a time.
const steady = 2 * time.Minute

// mostTurns bounds the state changes that wait to be written.
const mostTurns = 100_000

// bad tells whether a state is one that somebody should look at.
func bad(s health.State) bool { return health.Rank(s) >= health.Rank(health.Degraded) }

// settle keeps states from flapping, and notes those that change; same tells that the sources are judged as before. A
// state that has turned worse twice within two minutes does not turn better before two minutes have passed since. h is
// locked.
func (h *Hosts) settle(host string, old kept, next *kept, same bool, now time.Time) {
	one := func(source string, was, is health.Verdict) health.Verdict {
		falls := old.falls[source]
		keep := func() {
			if next.falls == nil {
				next.falls = map[string][]time.Time{}
			}
			next.falls[source] = falls
		}
		if len(falls) > 0 && now.Sub(falls[len(falls)-1]) < steady {
			keep()
		}
		if was.State == "" || was.State == is.State && was.Code == is.Code {
			return is
		}
		switch {
		case bad(is.State) && health.Worse(is.State, was.State):
			if falls = append(falls, now); len(falls) > 2 {
				falls = falls[1:]
			}
			keep()
		case source != "" && is.Code != "" && is.Code == next.Host.Code: // it follows its host at once
		case bad(was.State) && health.Worse(was.State, is.State) && len(falls) == 2 &&
			falls[1].Sub(falls[0]) < steady && now.Sub(falls[1]) < steady:
			was.Until = falls[1].Add(steady)
			if next.until.IsZero() || was.Until.Before(next.until) {
				next.until = was.Until
			}
			return was
		}
		if bad(is.State) || bad(was.State) {
			h.turns = append(h.turns, turned(host, source, was, is, now))
		}
		return is
	}
	next.Host = one("", old.Host, next.Host)
	mine := !same // the judgements of before are read
	for source, is := range next.By {
		if s := one(source, old.By[source], is); s != is {
			if !mine {
				next.By, mine = maps.Clone(next.By), true
			}
			next.By[source] = s
		}
	}
	if !mine && next.Host == old.Host {
		next.Worst, next.Sources = old.Worst, old.Sources
	} else {
		next.roll()
	}
	if len(h.turns) > mostTurns {
		h.turns = h.turns[len(h.turns)-mostTurns:]
	}
}

func turned(host, source string, was, is health.Verdict, now time.Time) store.Turn {
	text, _ := json.Marshal(Turn{From: was.State, To: is.State, Code: is.Code, Reason: is.Reason})
	return store.Turn{At: now, Host: host, Source: source, Turn: string(text)}
}

// keepTurns is how long state changes are kept.
const keepTurns = 400 * 24 * time.Hour

// FlushTurns writes the state changes that were noted.
func (h *Hosts) FlushTurns(ctx context.Context) {
	h.mu.Lock()
	list := h.turns
	h.turns = nil
	h.mu.Unlock()
	if len(list) == 0 {
		return
	}
	if err := h.store.SaveTurns(ctx, list); err != nil {
		h.log.Error("state changes are not written", "error", err)
		h.mu.Lock()
		h.turns = append(list, h.turns...)
		h.mu.Unlock()
	}
}

// PruneTurns removes state changes of long ago.
func (h *Hosts) PruneTurns(ctx context.Context) error {
	return h.store.PruneTurns(ctx, h.now().Add(-keepTurns))
}

// Turns are the state changes in a span, oldest first, of one host or, with "", of all; at most so many, the newest.
func (h *Hosts) Turns(ctx context.Context, host string, from, to time.Time, most int) (out []Turn, err error) {
	h.FlushTurns(ctx)
	list, err := h.store.Turns(ctx, host, from, to, most)
	for _, x := range list {
		t := Turn{}
		if json.Unmarshal([]byte(x.Turn), &t) == nil {
			t.At, t.Host, t.Source = x.At, x.Host, x.Source
			out = append(out, t)
		}
	}
	return out, err
}
