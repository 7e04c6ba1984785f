package rollout

import (
	"fmt"
	"maps"
	"slices"
	"time"
)

// plain is a rollout as one would write it down first: it goes through all hosts at each event. Decide and Apply must
// do the same.
type plain struct {
	status    Status
	hosts     map[string]Host
	decisions []Decision
	ended     time.Time
}

func (p *plain) count(of HostState) (n int) {
	for _, h := range p.hosts {
		if h.State == of {
			n++
		}
	}
	return n
}

func atWork(h Host, now time.Time) time.Time {
	if h.Deadline.After(now) {
		return h.Deadline
	}
	return now.Add(DefaultPatience)
}

func (p *plain) step(e Event, now time.Time) (cmds []Command) {
	tell := func(h Host) {
		h.Told, h.Reason, h.Deadline, h.State, h.Since = true, "", now.Add(DefaultPatience), Waiting, now
		p.hosts[h.Name] = h
		cmds = append(cmds, Command{Assign, h.Name, h.Hash}, Command{Offer, h.Name, h.Hash})
	}
	to := func(h Host, state HostState) {
		if h.State != state {
			h.State, h.Since = state, now
		}
		p.hosts[h.Name] = h
	}
	switch h, ok := p.hosts[e.Host]; {
	case e.Kind == Tick:
		for _, name := range slices.Sorted(maps.Keys(p.hosts)) {
			h := p.hosts[name]
			if slices.Contains([]HostState{Waiting, Offered, Applying, Applied}, h.State) && h.Told &&
				!h.Deadline.IsZero() &&
				now.After(h.Deadline) {
				h.Reason = fmt.Sprintf("no answer in %s; it was %s", now.Sub(h.Since).Round(time.Second), h.State)
				to(h, TimedOut)
			}
		}
	case !ok || e.Hash != "" && e.Hash != h.Hash:
	case e.Kind == Connected && !h.Told && h.State == Deferred:
		h.Reason = ""
		to(h, Waiting)
		if p.status != Stopped {
			tell(h)
		}
	case e.Kind == Connected && h.Told && !slices.Contains([]HostState{Confirmed, Refused, LeftOut}, h.State):
		h.Reason, h.Deadline = "", now.Add(DefaultPatience)
		to(h, Waiting)
		cmds = append(cmds, Command{Offer, e.Host, h.Hash})
	case e.Kind == Disconnected && slices.Contains([]HostState{Waiting, Offered, Applying, Applied}, h.State):
		h.Reason, h.Deadline = "went away; catches up when it comes back", time.Time{}
		if !h.Told {
			h.Reason = "away; catches up when it comes back"
		}
		to(h, Deferred)
	case e.Kind == Sent && h.Told && h.State == Waiting:
		to(h, Offered)
	case e.Kind == Taken && h.Told && slices.Contains([]HostState{Waiting, Offered, TimedOut}, h.State):
		h.Reason, h.Deadline = "", atWork(h, now)
		to(h, Applying)
	case e.Kind == RunsIt && h.Told && h.State != Confirmed && h.State != LeftOut:
		h.Reason, h.Deadline = "", atWork(h, now)
		to(h, Applied)
	case e.Kind == Reported && h.State == Applied:
		h.Reason, h.Deadline = "", time.Time{}
		to(h, Confirmed)
	case e.Kind == CannotRun && h.Told && h.State != LeftOut:
		h.Reason, h.Deadline = e.Reason, time.Time{}
		to(h, Refused)
	case e.Kind == Gone && h.State != Confirmed && h.State != LeftOut:
		h.Reason, h.Deadline = e.Reason, time.Time{}
		to(h, LeftOut)
		if h.Told {
			cmds = append(cmds, Command{Withdraw, e.Host, h.Hash})
		}
	}
	if p.status == Running && p.count(Waiting)+p.count(Offered)+p.count(Applying)+p.count(Applied) == 0 {
		p.ended = now
		if p.count(Refused)+p.count(TimedOut) > 0 {
			p.status = Stopped
			p.decisions = append(
				p.decisions,
				Decision{At: now, What: "stopped",
					Why: fmt.Sprintf("%d refused, %d timed out", p.count(Refused), p.count(TimedOut))},
			)
		} else {
			p.status = Done
			why := fmt.Sprintf("%d confirmed", p.count(Confirmed))
			if n := p.count(Deferred); n > 0 {
				why += fmt.Sprintf(", %d away and catching up later", n)
			}
			p.decisions = append(p.decisions, Decision{At: now, What: "done", Why: why})
		}
	}
	return cmds
}
