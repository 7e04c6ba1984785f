// Package rollout is the state machine that brings hosts to a revision, in waves.
//
// A plan divides the hosts that change into waves, which stay as they are. A wave begins when the one before has
// soaked and the gate has let it pass by what is known of its hosts; what is not known is never good. A host is told
// only by a command, when its wave has begun.
//
// Its cost follows the events and not the fleet. Decide reads a State and tells, as a Delta, which hosts change, what
// the rollout decides, and which commands follow. The driver commits the delta, a row for each host that changes; then
// Apply moves the state; then the commands are carried out. So a restart goes on where it was, and a commit that fails
// changes nothing.
package rollout

import (
	"container/heap"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"synaxis/internal/core/expr"
)

// Status of a rollout.
type Status string

// A rollout is running until no present host is waited for; then it is done or stopped, and stays so unless a person
// resumes it.
const (
	Running Status = "running"
	Paused  Status = "paused" // by a person: hosts that were told go on, no other is told
	Done    Status = "done"
	Stopped Status = "stopped" // by its gate, by a person, or since hosts refused or did not answer in time
)

// Phase is what a rollout does for the wave at work.
type Phase string

// The phases. Each but Asking is left by itself.
const (
	Changing Phase = "changing" // hosts are told and waited for
	Soaking  Phase = "soaking"  // all have it; they are watched
	Proving  Phase = "proving"  // the soak is over, and too little is known of them
	Asking   Phase = "asking"   // a person must let it go on
	Closed   Phase = "closed"   // the window of the plan is not open
)

// HostState is where one host stands.
type HostState string

// States of a host, with what may follow. Any of them but Confirmed may become LeftOut.
const (
	// its wave has not begun, or too many change at once, or it is about to be sent: Offered, Applying, Applied,
	// Refused, TimedOut, Deferred
	Waiting HostState = "waiting"
	Offered HostState = "offered" // sent, no answer yet: Applying, Applied, Refused, TimedOut, Deferred, Waiting
	// the agent has taken it and is at work: Applied, Refused, TimedOut, Deferred, Waiting
	Applying HostState = "applying"
	// the agent says that it runs it: Confirmed, Refused, TimedOut, Deferred, Waiting
	Applied HostState = "applied"
	// and what it reports as running is what was sent: Refused, when it goes back by itself
	Confirmed HostState = "confirmed"
	Refused   HostState = "refused"   // the agent cannot run it and keeps the old one: Applied, Waiting
	TimedOut  HostState = "timed out" // no answer in time: Waiting, Applying, Applied, Refused
	Deferred  HostState = "deferred"  // away; it catches up when it comes back: Waiting, Applied, Refused
	LeftOut   HostState = "left out"  // retired, taken over, or not to be changed: nothing
)

// HostStates are all of them.
var HostStates = []HostState{Waiting, Offered, Applying, Applied, Confirmed, Refused, TimedOut, Deferred, LeftOut}

// unsettled tells whether a host in the state is at work once it was told.
func (s HostState) unsettled() bool {
	return s == Waiting || s == Offered || s == Applying || s == Applied
}

// Host is where one host of a rollout stands. Deadline is zero when nothing is waited for.
type Host struct {
	Name     string
	Wave     int // from 0
	State    HostState
	Told     bool   // it was assigned the config by this rollout
	Hash     string // of the config that it is brought to
	Reason   string
	Since    time.Time
	Deadline time.Time
	Patience time.Duration // how long an answer may take; 0 is DefaultPatience
}

// open tells whether the host was told and is waited for.
func (h Host) open() bool { return h.Told && h.State.unsettled() }

// Same tells whether the host ran the config already, so that it is in no wave.
func (h Host) Same() bool { return !h.Told && h.State == Confirmed }

// queued tells whether the host is there and was not told yet.
func (h Host) queued() bool { return !h.Told && h.State == Waiting }

// Decision is something that the rollout decided, with its reason, the person who decided it, and the numbers that
// made it.
type Decision struct {
	At        time.Time
	What, Why string
	Who       string
	Numbers   map[string]float64
}

// Head is what a rollout is, beside its hosts.
type Head struct {
	ID, Revision   int
	Author         string
	Plan           Plan
	Before         int    // the revision that the hosts had before: what going back goes to
	TakesBack      int    // the rollout that this one takes back, or 0
	Chosen         string // the choice of hosts that it is for, which keep it when others go on; "" for all
	Started, Ended time.Time
	Status         Status
	Phase          Phase
	Since, Until   time.Time // of the phase
	Wave           int       // the one at work, from 0
	Waves          int
	Asks           string // what it waits for, while it proves or asks
	TakenBackBy    int    // the rollout that takes this one back, or 0
}

// State is a rollout. Only Apply changes it.
type State struct {
	Head
	Decisions []Decision

	hosts     map[string]*Host
	waves     []wave
	same      wave // hosts that ran it already: they are in no wave
	deadlines deadlines
	gate      *expr.NumberCondition
}

// wave is how the hosts of one wave stand.
type wave struct {
	order  []string
	at     map[string]int // places in order
	from   int            // no host before it in order is queued
	counts map[HostState]int
	queued int // that are there and were not told
	open   int // that were told and are waited for
}

// Delta is how a rollout moves on.
type Delta struct {
	Head
	New       bool   // it begins
	Hosts     []Host // that change, as they are then
	Decisions []Decision
	Decided   int // how many decisions there were before
	Commands  []Command
	head      bool // something of Head changes
}

// Empty tells whether nothing changes and nothing is to be done.
func (d Delta) Empty() bool { return !d.Changes() && len(d.Commands) == 0 }

// Changes tells whether there is anything to write down.
func (d Delta) Changes() bool { return d.New || d.head || len(d.Hosts) > 0 || len(d.Decisions) > 0 }

// Target is a host that a rollout is for.
type Target struct {
	Host, Hash string
	Wave       int // from 0
	Connected  bool
	Running    string // the hash that the host is known to run, or ""
	Patience   time.Duration
}

// Event is something that happened. Host is empty for those of the whole rollout.
type Event struct {
	Kind     EventKind
	Host     string
	Hash     string
	Reason   string
	Patience time.Duration // for Connected: how long an answer may take; 0 is DefaultPatience
	Who      string        // of what a person decides
	Evidence *Evidence     // for Measured
	By       int           // for TakenBack
}

// EventKind names an event.
type EventKind uint8

// The events. From Pause on a person decides them; Why tells whether they can be.
const (
	Tick EventKind = iota // time went on
	Connected
	Disconnected
	Sent     // the offer went out
	Taken    // the agent reports that it is applying Hash
	RunsIt   // the agent reports that it applied Hash
	Reported // the effective config reported by the agent has Hash
	CannotRun
	Gone     // the host was retired, or another rollout took it over
	Changed  // the host should be brought to Hash now, if it was not told yet
	Measured // Evidence of a wave

	Pause
	Resume
	Stop
	TakenBack // another rollout takes back what this one did
	SkipSoak
	Approve // lets the wave that asks begin, or pass
	Retry   // refused and timed out hosts, or Host alone, are told again
	Skip    // Host is left out
)

// CommandKind is what the driver must do.
type CommandKind uint8

// The commands, each of one host.
const (
	Assign   CommandKind = iota // write down that the host should run the config
	Offer                       // send it
	Withdraw                    // send it no more
)

// Command is something to do for one host, with the hash of its config.
type Command struct {
	Kind       CommandKind
	Host, Hash string
}

// DefaultPatience is how long a connected host may take to answer.
const DefaultPatience = 90 * time.Second

const awayReason = "away; catches up when it comes back"

// Start makes a rollout over the targets. h says what it is; the rest of it follows. A host that runs the config
// already is assigned it and is in no wave; the others are told when their wave begins.
func Start(h Head, targets []Target, now time.Time) Delta {
	h.Status, h.Phase, h.Wave, h.Waves = Running, Changing, -1, max(1, len(h.Plan.Waves))
	h.Started, h.Since, h.Ended, h.Until = now, now, time.Time{}, time.Time{}
	d := Delta{Head: h, New: true}
	changing := 0
	for _, t := range targets {
		x := Host{Name: t.Host, Wave: t.Wave, State: Waiting, Hash: t.Hash, Since: now, Patience: t.Patience}
		switch {
		case t.Running == t.Hash && t.Connected:
			x.State, x.Reason = Confirmed, "runs it already"
			d.Commands = append(d.Commands, Command{Assign, t.Host, t.Hash})
		case !t.Connected:
			x.State, x.Reason = Deferred, awayReason
		}
		if t.Running != t.Hash {
			changing++
		}
		d.Hosts = append(d.Hosts, x)
	}
	slices.SortFunc(d.Hosts, func(a, b Host) int { return strings.Compare(a.Name, b.Name) })
	why := fmt.Sprintf("%s in %s", hostsWord(changing), wavesWord(h.Waves))
	if h.Plan.Name != "" {
		why += " by plan " + h.Plan.Name
	}
	d.Decisions = []Decision{{At: now, What: "started", Why: why, Who: h.Author}}
	// The first wave begins at once: the delta of a state that has just begun, on top of it.
	s := From(d)
	m := s.moves()
	m.next(Decision{}, now)
	m.advance(now)
	then := m.delta()
	d.Head, d.Decisions, d.Commands = then.Head, append(d.Decisions, then.Decisions...), append(d.Commands,
		then.Commands...)
	for i, x := range d.Hosts {
		if moved, ok := m.hosts[x.Name]; ok {
			d.Hosts[i] = moved
		}
	}
	return d
}

func hostsWord(n int) string {
	if n == 1 {
		return "1 host"
	}
	return fmt.Sprintf("%d hosts", n)
}

func wavesWord(n int) string {
	if n == 1 {
		return "one wave"
	}
	return fmt.Sprintf("%d waves", n)
}

func patience(d time.Duration) time.Duration {
	if d <= 0 {
		return DefaultPatience
	}
	return d
}

// From makes the state that a first delta describes.
func From(first Delta) *State {
	s := &State{hosts: make(map[string]*Host, len(first.Hosts)), waves: make([]wave, max(1, first.Waves))}
	s.same.counts, s.same.at = map[HostState]int{}, map[string]int{}
	for i := range s.waves {
		s.waves[i].counts, s.waves[i].at = map[HostState]int{}, map[string]int{}
	}
	s.Apply(first)
	return s
}

// Apply moves the state on.
func (s *State) Apply(d Delta) {
	s.Head = d.Head
	s.Decisions = append(s.Decisions[:len(s.Decisions):len(s.Decisions)], d.Decisions...)
	for _, h := range d.Hosts {
		w := &s.waves[h.Wave]
		if h.Same() {
			w = &s.same
		}
		if was := s.hosts[h.Name]; was != nil {
			w.count(*was, -1)
			*was = h
		} else {
			s.hosts[h.Name] = &h
			w.at[h.Name] = len(w.order)
			w.order = append(w.order, h.Name)
		}
		w.count(h, 1)
		if h.open() && !h.Deadline.IsZero() {
			heap.Push(&s.deadlines, deadline{h.Deadline, h.Name})
		}
	}
	for i := range s.waves {
		w := &s.waves[i]
		if w.queued == 0 {
			w.from = len(w.order)
		}
		for w.from < len(w.order) && !s.hosts[w.order[w.from]].queued() {
			w.from++
		}
	}
	for len(s.deadlines) > 0 && !s.holds(s.deadlines[0]) {
		heap.Pop(&s.deadlines)
	}
	if len(s.deadlines) > 2*len(s.hosts)+16 { // most of them hold no more
		s.deadlines = slices.DeleteFunc(s.deadlines, func(x deadline) bool { return !s.holds(x) })
		heap.Init(&s.deadlines)
	}
}

func (w *wave) count(h Host, n int) {
	w.counts[h.State] += n
	if h.queued() {
		w.queued += n
		w.from = min(w.from, w.at[h.Name])
	}
	if h.open() {
		w.open += n
	}
}

// holds tells whether a deadline is still that of its host.
func (s *State) holds(x deadline) bool {
	h := s.hosts[x.host]
	return h.open() && h.Deadline.Equal(x.at)
}

// Counts tells how many hosts are in each state that has any.
func (s *State) Counts() map[HostState]int {
	out := map[HostState]int{}
	for _, w := range append([]wave{s.same}, s.waves...) {
		for state, n := range w.counts {
			if n != 0 {
				out[state] += n
			}
		}
	}
	return out
}

// WaveCounts are the counts of each wave, without the hosts that ran it already.
func (s *State) WaveCounts() []map[HostState]int {
	out := make([]map[HostState]int, len(s.waves))
	for i, w := range s.waves {
		out[i] = maps.Clone(w.counts)
		maps.DeleteFunc(out[i], func(_ HostState, n int) bool { return n == 0 })
	}
	return out
}

// Watched are the hosts of a wave that the rollout has told, with when their state began.
func (s *State) Watched(wave int) []Host {
	var out []Host
	for _, name := range s.waves[wave].order {
		if h := s.hosts[name]; h.Told && h.State != LeftOut {
			out = append(out, *h)
		}
	}
	return out
}

// Host returns one host.
func (s *State) Host(name string) (Host, bool) {
	h := s.hosts[name]
	if h == nil {
		return Host{}, false
	}
	return *h, true
}

// Hosts returns all hosts, ordered by name.
func (s *State) Hosts() []Host {
	out := make([]Host, 0, len(s.hosts))
	for _, h := range s.hosts {
		out = append(out, *h)
	}
	slices.SortFunc(out, func(a, b Host) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// deadline is by when a host must have answered.
type deadline struct {
	at   time.Time
	host string
}

// deadlines is a heap, the nearest first. Some of them may hold no more.
type deadlines []deadline

func (d deadlines) Len() int           { return len(d) }
func (d deadlines) Less(i, j int) bool { return d[i].at.Before(d[j].at) }
func (d deadlines) Swap(i, j int)      { d[i], d[j] = d[j], d[i] }
func (d *deadlines) Push(x any)        { *d = append(*d, x.(deadline)) }
func (d *deadlines) Pop() any {
	last := (*d)[len(*d)-1]
	*d = (*d)[:len(*d)-1]
	return last
}
