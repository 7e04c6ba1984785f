package rollout

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
)

// moves are the changes of one decision over a state.
type moves struct {
	*State
	hosts     map[string]Host
	order     []string
	waves     []wave // counts as they will be
	status    Status
	phase     Phase
	wave      int
	since     time.Time
	until     time.Time
	ended     time.Time
	asks      string
	takenBack int
	evidence  Evidence // newest of this turn
	decisions []Decision
	commands  []Command
}

func (s *State) moves() *moves {
	m := &moves{State: s, waves: slices.Clone(s.waves), status: s.Status, phase: s.Phase, wave: s.Wave, since: s.Since,
		until: s.Until, ended: s.Ended, asks: s.Asks, takenBack: s.TakenBackBy,
		hosts: map[string]Host{}}
	for i := range m.waves {
		m.waves[i].counts = maps.Clone(s.waves[i].counts)
	}
	return m
}

// delta is what the moves come to.
func (m *moves) delta() Delta {
	d := Delta{Head: m.Head, Decisions: m.decisions, Decided: len(m.State.Decisions), Commands: m.commands}
	d.Status, d.Phase, d.Wave, d.Since, d.Until = m.status, m.phase, m.wave, m.since, m.until
	d.Ended, d.Asks, d.TakenBackBy = m.ended, m.asks, m.takenBack
	d.head = d.Status != m.Status || d.Phase != m.Phase || d.Wave != m.Wave || d.Asks != m.Asks ||
		!d.Since.Equal(m.Since) || !d.Until.Equal(m.Until) || d.TakenBackBy != m.TakenBackBy
	for _, name := range m.order {
		if h := m.hosts[name]; h != *m.State.hosts[name] {
			d.Hosts = append(d.Hosts, h)
		}
	}
	return d
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
		h.State, h.Since = state, now
	}
	if h == was {
		return
	}
	m.waves[h.Wave].count(was, -1)
	m.waves[h.Wave].count(h, 1)
	if _, ok := m.hosts[h.Name]; !ok {
		m.order = append(m.order, h.Name)
	}
	m.hosts[h.Name] = h
}

// Decide tells what follows from events, in their order. It changes nothing. Hosts of a rollout that has ended still
// move on: one that was away catches up, and one that answers late is confirmed late.
func (s *State) Decide(events []Event, now time.Time) Delta { return s.decide(events, now).delta() }

func (s *State) decide(events []Event, now time.Time) *moves {
	m := s.moves()
	for _, e := range events {
		switch {
		case e.Kind == Tick:
			m.tick(0, now)
		case e.Kind == Measured:
			m.measured(*e.Evidence, now)
		case e.Kind >= Pause:
			m.person(e, now)
		default:
			m.take(e, now)
		}
		m.advance(now)
	}
	return m
}

// tick looks through the deadlines that have passed: in a heap, what lies below one that has not passed has not
// either.
func (m *moves) tick(i int, now time.Time) {
	if i >= len(m.deadlines) || !now.After(m.deadlines[i].at) {
		return
	}
	if x := m.deadlines[i]; m.holds(x) {
		if was, _ := m.host(x.host); was.open() && !was.Deadline.IsZero() && now.After(was.Deadline) {
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
	if !ok || e.Hash != "" && e.Hash != was.Hash && e.Kind != Changed { // about another config
		return
	}
	h := was
	switch e.Kind {
	case Connected:
		h.Patience = e.Patience
		switch {
		case h.State == Deferred && !h.Told:
			h.Reason = ""
			m.set(was, h, Waiting, now)
			if h, _ := m.host(e.Host); m.catchesUp(h) {
				m.tell(h, now)
			}
		case h.Told && (h.State == Deferred || h.State == TimedOut || h.State.unsettled()):
			h.Reason, h.Deadline = "", now.Add(patience(e.Patience))
			m.set(was, h, Waiting, now)
			m.commands = append(m.commands, Command{Offer, e.Host, h.Hash})
		}
	case Disconnected:
		if h.State.unsettled() {
			h.Reason, h.Deadline = "went away; catches up when it comes back", time.Time{}
			if !h.Told {
				h.Reason = awayReason
			}
			m.set(was, h, Deferred, now)
		}
	case Sent:
		if h.Told && h.State == Waiting {
			m.set(was, h, Offered, now)
		}
	case Taken:
		if h.Told && (h.State == Waiting || h.State == Offered || h.State == TimedOut) {
			h.Reason, h.Deadline = "", h.atWork(now)
			m.set(was, h, Applying, now)
		}
	case RunsIt:
		if h.Told && h.State != Confirmed && h.State != LeftOut {
			h.Reason, h.Deadline = "", h.atWork(now)
			m.set(was, h, Applied, now)
		}
	case Reported:
		if h.State == Applied {
			h.Reason, h.Deadline = "", time.Time{}
			m.set(was, h, Confirmed, now)
		}
	case CannotRun: // also when it ran it, and went back by itself
		if h.Told && h.State != LeftOut {
			h.Reason, h.Deadline = e.Reason, time.Time{}
			m.set(was, h, Refused, now)
		}
	case Gone:
		m.leaveOut(was, e.Reason, now)
	case Changed:
		if !h.Told && h.State != LeftOut && h.State != Confirmed {
			h.Hash = e.Hash
			m.set(was, h, h.State, now)
		}
	}
}

// catchesUp tells whether a host that comes back is told now: its wave has begun, and what was decided since then does
// not speak against it.
func (m *moves) catchesUp(h Host) bool {
	switch {
	case m.takenBack > 0:
		return false
	case m.status == Done:
		return true
	case m.status != Running || h.Wave > m.wave || m.phase == Closed || !m.mayTell():
		return false
	}
	return h.Wave < m.wave || m.phase != Asking || m.told(m.wave) > 0 // else it asks whether the wave may begin
}

// mayTell tells whether one more host may change now.
func (m *moves) mayTell() bool {
	if m.Plan.AtOnce <= 0 {
		return true
	}
	n := 0
	for _, w := range m.waves {
		n += w.open
	}
	return n < m.Plan.AtOnce
}

// tell assigns and offers a host its config.
func (m *moves) tell(was Host, now time.Time) {
	h := was
	h.Told, h.Reason, h.Deadline = true, "", now.Add(patience(h.Patience))
	h.State, h.Since = Waiting, now
	m.set(was, h, Waiting, now)
	m.commands = append(m.commands, Command{Assign, h.Name, h.Hash}, Command{Offer, h.Name, h.Hash})
}

// leaveOut takes a host out that has not confirmed.
func (m *moves) leaveOut(was Host, why string, now time.Time) {
	if was.State == Confirmed || was.State == LeftOut {
		return
	}
	h := was
	h.Reason, h.Deadline = why, time.Time{}
	m.set(was, h, LeftOut, now)
	if h.Told {
		m.commands = append(m.commands, Command{Withdraw, h.Name, h.Hash})
	}
}

// atWork is the deadline of a host that has answered: a late answer gets new patience.
func (h Host) atWork(now time.Time) time.Time {
	if h.Deadline.After(now) {
		return h.Deadline
	}
	return now.Add(DefaultPatience)
}

func (m *moves) to(p Phase, until, now time.Time) {
	m.phase, m.since, m.until, m.asks = p, now, until, ""
}

// advance goes as far as it can without something else happening.
func (m *moves) advance(now time.Time) {
	for m.status == Running {
		wave, phase := m.wave, m.phase
		switch m.phase {
		case Closed:
			if !now.Before(m.until) {
				m.to(Changing, time.Time{}, now)
			}
		case Changing:
			m.change(now)
		case Soaking, Proving:
			m.judge(now)
		}
		if wave == m.wave && phase == m.phase {
			return
		}
	}
}

// change tells hosts of the waves that have begun, and goes on to the soak when none is waited for.
func (m *moves) change(now time.Time) {
	if queued := m.queued(); queued > 0 {
		if w, err := ParseWindow(m.Plan.Window); err == nil && !w.Open(now) {
			if m.open() == 0 {
				m.to(Closed, w.Next(now), now)
				m.asks = "the window of the plan: " + m.Plan.Window
			}
			return
		}
		for i := 0; i <= m.wave && m.mayTell(); i++ {
			w := &m.waves[i]
			for ; w.queued > 0 && w.from < len(w.order) && m.mayTell(); w.from++ {
				if h, _ := m.host(w.order[w.from]); h.queued() {
					m.tell(h, now)
				}
			}
		}
	}
	if m.open()+m.queued() > 0 {
		return
	}
	w := m.waves[m.wave]
	refused, late := w.counts[Refused], w.counts[TimedOut]
	if refused > 0 && !m.looksAt(refusals) || late > 0 && !m.looksAt(timeouts) {
		m.stop(Decision{At: now, What: string(Stopped), Why: fmt.Sprintf("%d refused, %d timed out", refused,
			late)}, now)
		return
	}
	m.evidence = Evidence{Wave: m.wave}
	if m.told(m.wave) == 0 { // nobody is there, or nobody was to be changed
		m.passEmpty(now)
		return
	}
	m.to(Soaking, now.Add(m.Plan.Soak), now)
}

// open is how many hosts of the waves that have begun were told and are waited for.
func (m *moves) open() (n int) {
	for _, w := range m.waves[:m.wave+1] {
		n += w.open
	}
	return n
}

// queued is how many hosts of the waves that have begun are there and were not told.
func (m *moves) queued() (n int) {
	for _, w := range m.waves[:m.wave+1] {
		n += w.queued
	}
	return n
}

// told is how many hosts of a wave were told and are not left out.
func (m *moves) told(wave int) (n int) {
	w := m.waves[wave]
	for _, name := range w.order {
		if h, _ := m.host(name); h.Told && h.State != LeftOut {
			n++
		}
	}
	return n
}

// passEmpty goes on from a wave in which nobody was changed. When its hosts are all away and others are there, a
// person decides whether the others change without it.
func (m *moves) passEmpty(now time.Time) {
	later := 0
	for _, w := range m.waves[m.wave+1:] {
		later += w.queued
	}
	if away := m.waves[m.wave].counts[Deferred]; away > 0 && later > 0 && m.gateOf() != nil {
		m.ask(fmt.Sprintf("none of its %s is there, so nothing is known of it", hostsWord(away)), now)
		return
	}
	m.next(Decision{}, now)
}

// next begins the next wave, or ends the rollout after the last. The decision that led there is kept, when it says
// something.
func (m *moves) next(why Decision, now time.Time) {
	if why.What != "" {
		m.decisions = append(m.decisions, why)
	}
	if m.wave+1 >= m.Waves {
		m.finish(now)
		return
	}
	if m.wave++; m.Plan.Absent == LeaveOut {
		for _, name := range m.waves[m.wave].order {
			if h, _ := m.host(name); h.State == Deferred && !h.Told {
				m.leaveOut(h, "it was away when its wave began", now)
			}
		}
	}
	m.to(Changing, time.Time{}, now)
	w := m.waves[m.wave]
	if slices.Contains(m.Plan.Approve, m.wave+1) && w.queued > 0 {
		m.ask(fmt.Sprintf("the plan wants wave %d approved; it changes %s", m.wave+1, hostsWord(w.queued)), now)
		return
	}
	if w.queued > 0 && m.Waves > 1 {
		m.decisions = append(m.decisions, Decision{At: now, What: "wave",
			Why: fmt.Sprintf("wave %d begins: %s", m.wave+1, hostsWord(w.queued))})
	}
}

func (m *moves) finish(now time.Time) {
	m.status, m.ended = Done, now
	m.to(Changing, time.Time{}, now)
	c := maps.Clone(m.same.counts)
	for _, w := range m.waves {
		for s, n := range w.counts {
			c[s] += n
		}
	}
	why := fmt.Sprintf("%d confirmed", c[Confirmed])
	for _, x := range []struct {
		state HostState
		words string
	}{{Refused, "refused"}, {TimedOut, "timed out"}, {Deferred, "away and catching up later"}} {
		if c[x.state] > 0 {
			why += fmt.Sprintf(", %d %s", c[x.state], x.words)
		}
	}
	m.decisions = append(m.decisions, Decision{At: now, What: string(Done), Why: why})
}

func (m *moves) stop(why Decision, now time.Time) {
	m.status, m.ended = Stopped, now
	m.until, m.asks = time.Time{}, ""
	m.decisions = append(m.decisions, why)
}

// ErrNot says why a person's decision cannot be taken.
var ErrNot = errors.New("it cannot be done")

// May tells why an event that a person decides cannot be taken now; nil when it can.
func (s *State) May(e Event) error {
	not := func(format string, args ...any) error {
		return fmt.Errorf("%w: rollout %d %s", ErrNot, s.ID, fmt.Sprintf(format, args...))
	}
	is := "is " + string(s.Status)
	for _, d := range slices.Backward(s.Decisions) {
		if d.Who != "" {
			is += fmt.Sprintf("; %s: %s by %s at %s", d.What, d.Why, d.Who, d.At.UTC().Format("15:04:05"))
			break
		}
	}
	running := s.Status == Running
	switch e.Kind {
	case Pause:
		if !running {
			return not("%s, so there is nothing to pause", is)
		}
	case Resume:
		if s.TakenBackBy > 0 {
			return not("is taken back by rollout %d", s.TakenBackBy)
		}
		if s.Status != Paused && s.Status != Stopped {
			return not("%s, so there is nothing to resume", is)
		}
	case Stop:
		if !running && s.Status != Paused {
			return not("%s, so there is nothing to stop", is)
		}
	case TakenBack:
		if s.TakenBackBy > 0 {
			return not("is taken back by rollout %d already", s.TakenBackBy)
		}
	case SkipSoak:
		if !running || s.Phase != Soaking && s.Phase != Proving {
			return not("does not soak: it %s, and %s", is, s.Phase)
		}
	case Approve:
		if !running || s.Phase != Asking {
			return not("asks for nothing: it %s, and %s", is, s.Phase)
		}
	case Retry:
		if s.TakenBackBy > 0 {
			return not("is taken back by rollout %d", s.TakenBackBy)
		}
		if h, ok := s.Host(e.Host); e.Host != "" && (!ok || h.State != Refused && h.State != TimedOut) {
			return not("has not been refused by %s, nor has that timed out", e.Host)
		}
		if c := s.Counts(); c[Refused]+c[TimedOut] == 0 {
			return not("has no host that refused or timed out")
		}
	case Skip:
		h, ok := s.Host(e.Host)
		if !ok {
			return not("has no host %s", e.Host)
		}
		if h.State == Confirmed || h.State == LeftOut {
			return not("cannot leave out %s: it is %s", e.Host, h.State)
		}
	}
	return nil
}

// person takes what a person decided.
func (m *moves) person(e Event, now time.Time) {
	if len(m.decisions) == 0 && m.May(e) != nil { // else what came before in the same turn decides
		return
	}
	d := Decision{At: now, Who: e.Who, Why: e.Reason}
	add := func(what, why string) {
		d.What = what
		d.Why = strings.TrimSuffix(why+": "+e.Reason, ": ")
		m.decisions = append(m.decisions, d)
	}
	switch e.Kind {
	case Pause:
		m.status = Paused
		add("paused", "no more host is told")
	case Resume:
		if m.status == Stopped {
			m.ended = time.Time{}
			m.to(Changing, time.Time{}, now)
		}
		m.status = Running
		add("resumed", "it goes on")
	case Stop:
		m.status, m.ended, m.until, m.asks = Stopped, now, time.Time{}, ""
		add(string(Stopped), "by a person")
	case TakenBack:
		m.takenBack = e.By
		if m.status == Running || m.status == Paused {
			m.status, m.ended = Stopped, now
		}
		m.until, m.asks = time.Time{}, ""
		add("taken back", fmt.Sprintf("rollout %d brings the hosts that changed back", e.By))
		for _, name := range m.names() {
			if h, _ := m.host(name); h.State != Confirmed {
				m.leaveOut(h, fmt.Sprintf("taken back by rollout %d", e.By), now)
			}
		}
	case SkipSoak:
		add("soak skipped", fmt.Sprintf("wave %d", m.wave+1))
		m.next(Decision{}, now)
	case Approve:
		add("approved", fmt.Sprintf("wave %d", m.wave+1))
		if m.told(m.wave) == 0 && m.waves[m.wave].queued > 0 { // it asked before the wave began
			m.to(Changing, time.Time{}, now)
		} else {
			m.next(Decision{}, now)
		}
	case Retry:
		n := 0
		for _, name := range m.names() {
			if h, _ := m.host(name); (h.State == Refused || h.State == TimedOut) && (e.Host == "" || e.Host == name) {
				m.tell(h, now)
				n++
			}
		}
		if m.status == Stopped {
			m.status, m.ended = Running, time.Time{}
		}
		m.to(Changing, time.Time{}, now)
		add("retried", hostsWord(n))
	case Skip:
		h, _ := m.host(e.Host)
		m.leaveOut(h, strings.TrimSuffix("left out: "+e.Reason, ": "), now)
		add("left out", e.Host)
	}
}

// names are all hosts, in the order of their waves.
func (m *moves) names() (out []string) {
	for _, w := range m.waves {
		out = append(out, w.order...)
	}
	return out
}
