// Package rollout is the state machine that brings hosts to a revision.
//
// Step is pure: it takes a state, an event and the time, and gives the next state and what is to be done. The driver
// writes the state down before it carries out a command, so that a restart goes on where it was. Today a rollout has
// one wave; Waves is a list so that more of them, and gates between them, change nothing in its shape.
package rollout

import (
	"fmt"
	"maps"
	"slices"
	"time"
)

// Status of a rollout.
const (
	Running = "running"
	Done    = "done"
	Stopped = "stopped"
)

// States of a host in a rollout.
const (
	Waiting   = "waiting"   // its wave has not begun, or it has not been told
	Offered   = "offered"   // sent, no answer yet
	Applying  = "applying"  // the agent has taken it and is at work
	Applied   = "applied"   // the agent says that it runs it
	Confirmed = "confirmed" // and what it reports as running is what was sent
	Refused   = "refused"   // the agent cannot run it; it keeps the old one
	TimedOut  = "timed out" // no answer in time
	Deferred  = "deferred"  // away; it catches up when it comes back
	LeftOut   = "left out"  // retired or taken out
)

// HostState is where one host stands. Deadline is zero when nothing is waited for.
type HostState struct {
	State    string    `json:"state"`
	Hash     string    `json:"hash"`
	Reason   string    `json:"reason,omitempty"`
	Since    time.Time `json:"since"`
	Deadline time.Time `json:"deadline"`
}

// Decision is something that the rollout decided, with its reason.
type Decision struct {
	At   time.Time `json:"at"`
	What string    `json:"what"`
	Why  string    `json:"why"`
}

// State is a rollout. It is kept as JSON.
type State struct {
	ID        int                  `json:"id"`
	Revision  int                  `json:"revision"`
	Status    string               `json:"status"`
	Waves     [][]string           `json:"waves"`
	Wave      int                  `json:"wave"` // the one at work, from 0
	Hosts     map[string]HostState `json:"hosts"`
	Started   time.Time            `json:"started"`
	Ended     time.Time            `json:"ended"`
	Decisions []Decision           `json:"decisions"`
}

// Target is a host that a rollout is for.
type Target struct {
	Host, Hash string
	Connected  bool
	Running    string // the hash that the host is known to run, or ""
	Patience   time.Duration
}

// Event is something that happened. Host is empty for Tick.
type Event struct {
	Kind     EventKind
	Host     string
	Hash     string
	Reason   string
	Patience time.Duration // for Connected: how long an answer may take; 0 is DefaultPatience
}

// EventKind names an event.
type EventKind uint8

// The events.
const (
	Tick EventKind = iota
	Connected
	Disconnected
	Sent     // the offer went out
	Taken    // the agent reports that it is applying Hash
	RunsIt   // the agent reports that it applied Hash
	Reported // the effective config reported by the agent has Hash
	CannotRun
	Gone // the host was retired, or another rollout took it over
)

// Command is what the driver must do: offer the host its config.
type Command struct{ Host, Hash string }

// DefaultPatience is how long a connected host may take to answer.
const DefaultPatience = 90 * time.Second

// Start makes a rollout over the targets, in one wave.
func Start(id, revision int, targets []Target, now time.Time) (State, []Command) {
	s := State{ID: id, Revision: revision, Status: Running, Hosts: map[string]HostState{}, Started: now}
	var wave []string
	for _, t := range targets {
		wave = append(wave, t.Host)
	}
	slices.Sort(wave)
	s.Waves = [][]string{wave}
	s.decide(now, "started", fmt.Sprintf("one wave of %d hosts", len(wave)))
	var cmds []Command
	for _, t := range targets {
		h := HostState{State: Waiting, Hash: t.Hash, Since: now}
		switch {
		case t.Running == t.Hash && t.Connected:
			h.State, h.Reason = Confirmed, "runs it already"
		case !t.Connected:
			h.State, h.Reason = Deferred, "away; catches up when it comes back"
		default:
			h.Deadline = now.Add(patience(t.Patience))
			cmds = append(cmds, Command{t.Host, t.Hash})
		}
		s.Hosts[t.Host] = h
	}
	s.settle(now)
	return s, cmds
}

func patience(d time.Duration) time.Duration {
	if d <= 0 {
		return DefaultPatience
	}
	return d
}

func (s *State) decide(now time.Time, what, why string) {
	s.Decisions = append(slices.Clone(s.Decisions), Decision{now, what, why})
}

// open tells whether a state still waits for the host.
func open(state string) bool {
	return state == Waiting || state == Offered || state == Applying || state == Applied
}

// Step takes one event. The given state is not changed. Hosts of a rollout that has ended still move on: one that was
// away catches up, and one that answers late is confirmed late.
func Step(s State, e Event, now time.Time) (State, []Command) {
	s.Hosts = maps.Clone(s.Hosts)
	var cmds []Command
	if e.Kind == Tick {
		for _, name := range slices.Sorted(maps.Keys(s.Hosts)) {
			h := s.Hosts[name]
			if open(h.State) && !h.Deadline.IsZero() && now.After(h.Deadline) {
				h.Reason = fmt.Sprintf("no answer in %s; it was %s", now.Sub(h.Since).Round(time.Second), h.State)
				s.set(name, h, TimedOut, now)
			}
		}
		s.settle(now)
		return s, nil
	}
	h, ok := s.Hosts[e.Host]
	if !ok {
		return s, nil
	}
	if e.Hash != "" && e.Hash != h.Hash {
		return s, nil // about another config
	}
	switch e.Kind {
	case Connected:
		if h.State == Deferred || h.State == TimedOut || open(h.State) {
			h.Reason, h.Deadline = "", now.Add(patience(e.Patience))
			s.set(e.Host, h, Waiting, now)
			cmds = append(cmds, Command{e.Host, h.Hash})
		}
	case Disconnected:
		if open(h.State) {
			h.Reason, h.Deadline = "went away; catches up when it comes back", time.Time{}
			s.set(e.Host, h, Deferred, now)
		}
	case Sent:
		if h.State == Waiting {
			s.set(e.Host, h, Offered, now)
		}
	case Taken:
		if h.State == Waiting || h.State == Offered || h.State == TimedOut {
			h.Reason = ""
			s.set(e.Host, h, Applying, now)
		}
	case RunsIt:
		if h.State != Confirmed && h.State != LeftOut {
			h.Reason = ""
			s.set(e.Host, h, Applied, now)
		}
	case Reported:
		if h.State == Applied {
			h.Reason, h.Deadline = "", time.Time{}
			s.set(e.Host, h, Confirmed, now)
		}
	case CannotRun:
		if h.State != Confirmed && h.State != LeftOut {
			h.Reason, h.Deadline = e.Reason, time.Time{}
			s.set(e.Host, h, Refused, now)
		}
	case Gone:
		if h.State != Confirmed {
			h.Reason, h.Deadline = e.Reason, time.Time{}
			s.set(e.Host, h, LeftOut, now)
		}
	}
	s.settle(now)
	return s, cmds
}

func (s *State) set(name string, h HostState, state string, now time.Time) {
	if h.State != state {
		h.State, h.Since = state, now
	}
	s.Hosts[name] = h
}

// settle ends the rollout when no present host is waited for any more.
func (s *State) settle(now time.Time) {
	if s.Status != Running {
		return
	}
	counts := s.Counts()
	if counts[Waiting]+counts[Offered]+counts[Applying]+counts[Applied] > 0 {
		return
	}
	s.Ended = now
	if bad := counts[Refused] + counts[TimedOut]; bad > 0 {
		s.Status = Stopped
		s.decide(now, Stopped, fmt.Sprintf("%d refused, %d timed out", counts[Refused], counts[TimedOut]))
		return
	}
	s.Status = Done
	why := fmt.Sprintf("%d confirmed", counts[Confirmed])
	if counts[Deferred] > 0 {
		why += fmt.Sprintf(", %d away and catching up later", counts[Deferred])
	}
	s.decide(now, Done, why)
}

// Counts tells how many hosts are in each state.
func (s State) Counts() map[string]int {
	out := map[string]int{}
	for _, h := range s.Hosts {
		out[h.State]++
	}
	return out
}
