// Package rollout is the state machine that brings hosts to a revision.
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
)

// Status of a rollout.
type Status string

// A rollout is running until no present host is waited for; then it is done or stopped, and stays so.
const (
	Running Status = "running"
	Done    Status = "done"
	Stopped Status = "stopped" // hosts refused, or did not answer in time
)

// HostState is where one host stands.
type HostState string

// States of a host, with what may follow. Any of them but Confirmed may become LeftOut.
const (
	Waiting HostState = "waiting" // it has not been told: Offered, Applying, Applied, Refused, TimedOut, Deferred
	Offered HostState = "offered" // sent, no answer yet: Applying, Applied, Refused, TimedOut, Deferred, Waiting
	// the agent has taken it and is at work: Applied, Refused, TimedOut, Deferred, Waiting
	Applying HostState = "applying"
	// the agent says that it runs it: Confirmed, Refused, TimedOut, Deferred, Waiting
	Applied   HostState = "applied"
	Confirmed HostState = "confirmed" // and what it reports as running is what was sent: nothing
	Refused   HostState = "refused"   // the agent cannot run it and keeps the old one: Applied
	TimedOut  HostState = "timed out" // no answer in time: Waiting, Applying, Applied, Refused
	Deferred  HostState = "deferred"  // away; it catches up when it comes back: Waiting, Applied, Refused
	LeftOut   HostState = "left out"  // retired or taken over: nothing
)

// open tells whether a state still waits for the host.
func (s HostState) open() bool {
	return s == Waiting || s == Offered || s == Applying || s == Applied
}

// Host is where one host of a rollout stands. Deadline is zero when nothing is waited for.
type Host struct {
	Name     string
	Wave     int // from 0
	State    HostState
	Hash     string // of the config that it is brought to
	Reason   string
	Since    time.Time
	Deadline time.Time
}

// Decision is something that the rollout decided, with its reason.
type Decision struct {
	At        time.Time
	What, Why string
}

// State is a rollout. Only Apply changes it.
type State struct {
	ID, Revision   int
	Author         string
	Status         Status
	Wave, Waves    int // the one at work, from 0, and how many there are
	Started, Ended time.Time
	Decisions      []Decision

	hosts     map[string]*Host
	counts    map[HostState]int
	deadlines deadlines
}

// Delta is how a rollout moves on.
type Delta struct {
	Rollout        int
	New            bool // it begins
	Revision       int  // of a new one, like Author and Started
	Author         string
	Status         Status
	Wave, Waves    int
	Started, Ended time.Time
	Hosts          []Host // that change, as they are then
	Decisions      []Decision
	Decided        int // how many decisions there were before
	Commands       []Command
}

// Empty tells whether nothing changes and nothing is to be done.
func (d Delta) Empty() bool { return !d.Changes() && len(d.Commands) == 0 }

// Changes tells whether there is anything to write down.
func (d Delta) Changes() bool { return d.New || len(d.Hosts) > 0 || len(d.Decisions) > 0 }

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
	Tick EventKind = iota // time went on
	Connected
	Disconnected
	Sent     // the offer went out
	Taken    // the agent reports that it is applying Hash
	RunsIt   // the agent reports that it applied Hash
	Reported // the effective config reported by the agent has Hash
	CannotRun
	Gone // the host was retired, or another rollout took it over
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

// Start makes a rollout over the targets, in one wave. Each of them is assigned its config; those that are there and
// do not run it yet are offered it.
func Start(id, revision int, author string, targets []Target, now time.Time) Delta {
	s := &State{ID: id, Status: Running, Waves: 1, hosts: map[string]*Host{}, counts: map[HostState]int{}}
	s.Decisions = []Decision{{now, "started", fmt.Sprintf("one wave of %d hosts", len(targets))}}
	m := moves{State: s, counts: map[HostState]int{}}
	d := Delta{Rollout: id, New: true, Revision: revision, Author: author, Waves: 1, Started: now}
	for _, t := range targets {
		h := Host{Name: t.Host, State: Waiting, Hash: t.Hash, Since: now}
		d.Commands = append(d.Commands, Command{Assign, t.Host, t.Hash})
		switch {
		case t.Running == t.Hash && t.Connected:
			h.State, h.Reason = Confirmed, "runs it already"
		case !t.Connected:
			h.State, h.Reason = Deferred, "away; catches up when it comes back"
		default:
			h.Deadline = now.Add(patience(t.Patience))
			d.Commands = append(d.Commands, Command{Offer, t.Host, t.Hash})
		}
		m.counts[h.State]++
		d.Hosts = append(d.Hosts, h)
	}
	slices.SortFunc(d.Hosts, func(a, b Host) int { return strings.Compare(a.Name, b.Name) })
	m.status = Running
	m.settle(now)
	d.Status, d.Ended, d.Decisions = m.status, m.ended, append(s.Decisions, m.decisions...)
	return d
}

func patience(d time.Duration) time.Duration {
	if d <= 0 {
		return DefaultPatience
	}
	return d
}

// From makes the state that a first delta describes.
func From(first Delta) *State {
	s := &State{
		ID:       first.Rollout,
		Revision: first.Revision,
		Author:   first.Author,
		Started:  first.Started,
		Waves:    first.Waves,
		hosts:    make(map[string]*Host, len(first.Hosts)),
		counts:   map[HostState]int{},
	}
	s.Apply(first)
	return s
}

// Apply moves the state on.
func (s *State) Apply(d Delta) {
	s.Status, s.Wave, s.Ended = d.Status, d.Wave, d.Ended
	s.Decisions = append(s.Decisions[:len(s.Decisions):len(s.Decisions)], d.Decisions...)
	for _, h := range d.Hosts {
		if was := s.hosts[h.Name]; was != nil {
			s.counts[was.State]--
			*was = h
		} else {
			s.hosts[h.Name] = &h
		}
		s.counts[h.State]++
		if h.State.open() && !h.Deadline.IsZero() {
			heap.Push(&s.deadlines, deadline{h.Deadline, h.Name})
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

// holds tells whether a deadline is still that of its host.
func (s *State) holds(x deadline) bool {
	h := s.hosts[x.host]
	return h.State.open() && h.Deadline.Equal(x.at)
}

// moves are the changes of one decision over a state.
type moves struct {
	*State
	hosts     map[string]Host
	order     []string
	counts    map[HostState]int // as they will be
	status    Status
	ended     time.Time
	decisions []Decision
	commands  []Command
}

func (m *moves) host(name string) (Host, bool) {
	if h, ok := m.hosts[name]; ok {
		return h, true
	}
	if h := m.State.hosts[name]; h != nil {
		return *h, true
	}
	return Host{}, false
}

func (m *moves) set(was, h Host, state HostState, now time.Time) {
	if h.State != state {
		m.counts[h.State]--
		m.counts[state]++
		h.State, h.Since = state, now
	}
	if h == was {
		return
	}
	if _, ok := m.hosts[h.Name]; !ok {
		if m.hosts == nil {
			m.hosts = map[string]Host{}
		}
		m.order = append(m.order, h.Name)
	}
	m.hosts[h.Name] = h
}

// Decide tells what follows from events, in their order. It changes nothing. Hosts of a rollout that has ended still
// move on: one that was away catches up, and one that answers late is confirmed late.
func (s *State) Decide(events []Event, now time.Time) Delta {
	m := moves{State: s, counts: maps.Clone(s.counts), status: s.Status, ended: s.Ended}
	for _, e := range events {
		if e.Kind == Tick {
			m.tick(0, now)
		} else {
			m.take(e, now)
		}
		m.settle(now)
	}
	d := Delta{
		Rollout:   s.ID,
		Status:    m.status,
		Wave:      s.Wave,
		Ended:     m.ended,
		Decisions: m.decisions,
		Decided:   len(s.Decisions),
		Commands:  m.commands,
	}
	for _, name := range m.order {
		if h := m.hosts[name]; h != *s.hosts[name] {
			d.Hosts = append(d.Hosts, h)
		}
	}
	return d
}

// tick looks through the deadlines that have passed: in a heap, what lies below one that has not passed has not
// either.
func (m *moves) tick(i int, now time.Time) {
	if i >= len(m.deadlines) || !now.After(m.deadlines[i].at) {
		return
	}
	if x := m.deadlines[i]; m.holds(x) {
		if was, _ := m.host(x.host); was.State.open() && !was.Deadline.IsZero() && now.After(was.Deadline) {
			h := was
			h.Reason = fmt.Sprintf("no answer in %s; it was %s", now.Sub(h.Since).Round(time.Second), h.State)
			m.set(was, h, TimedOut, now)
		}
	}
	m.tick(2*i+1, now)
	m.tick(2*i+2, now)
}

func (m *moves) take(e Event, now time.Time) {
	was, ok := m.host(e.Host)
	if !ok || e.Hash != "" && e.Hash != was.Hash { // about another config
		return
	}
	h := was
	switch e.Kind {
	case Connected:
		if h.State == Deferred || h.State == TimedOut || h.State.open() {
			h.Reason, h.Deadline = "", now.Add(patience(e.Patience))
			m.set(was, h, Waiting, now)
			m.commands = append(m.commands, Command{Offer, e.Host, h.Hash})
		}
	case Disconnected:
		if h.State.open() {
			h.Reason, h.Deadline = "went away; catches up when it comes back", time.Time{}
			m.set(was, h, Deferred, now)
		}
	case Sent:
		if h.State == Waiting {
			m.set(was, h, Offered, now)
		}
	case Taken:
		if h.State == Waiting || h.State == Offered || h.State == TimedOut {
			h.Reason, h.Deadline = "", h.atWork(now)
			m.set(was, h, Applying, now)
		}
	case RunsIt:
		if h.State != Confirmed && h.State != LeftOut {
			h.Reason, h.Deadline = "", h.atWork(now)
			m.set(was, h, Applied, now)
		}
	case Reported:
		if h.State == Applied {
			h.Reason, h.Deadline = "", time.Time{}
			m.set(was, h, Confirmed, now)
		}
	case CannotRun:
		if h.State != Confirmed && h.State != LeftOut {
			h.Reason, h.Deadline = e.Reason, time.Time{}
			m.set(was, h, Refused, now)
		}
	case Gone:
		if h.State != Confirmed {
			h.Reason, h.Deadline = e.Reason, time.Time{}
			m.set(was, h, LeftOut, now)
			m.commands = append(m.commands, Command{Withdraw, e.Host, h.Hash})
		}
	}
}

// atWork is the deadline of a host that has answered: a late answer gets new patience.
func (h Host) atWork(now time.Time) time.Time {
	if h.Deadline.After(now) {
		return h.Deadline
	}
	return now.Add(DefaultPatience)
}

// settle ends the rollout when no present host is waited for any more.
func (m *moves) settle(now time.Time) {
	c := m.counts
	if m.status != Running || c[Waiting]+c[Offered]+c[Applying]+c[Applied] > 0 {
		return
	}
	m.ended = now
	if c[Refused]+c[TimedOut] > 0 {
		m.status = Stopped
		m.decisions = append(
			m.decisions,
			Decision{now, string(Stopped), fmt.Sprintf("%d refused, %d timed out", c[Refused], c[TimedOut])},
		)
		return
	}
	m.status = Done
	why := fmt.Sprintf("%d confirmed", c[Confirmed])
	if c[Deferred] > 0 {
		why += fmt.Sprintf(", %d away and catching up later", c[Deferred])
	}
	m.decisions = append(m.decisions, Decision{now, string(Done), why})
}

// Counts tells how many hosts are in each state that has any.
func (s *State) Counts() map[HostState]int {
	out := maps.Clone(s.counts)
	maps.DeleteFunc(out, func(_ HostState, n int) bool { return n == 0 })
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
