// Package health turns what is known of a host and a source into one of five states, with a reason and what to do.
package health

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"synaxis/internal/core/expect"
)

// State is how well a host or a source is. Any may follow any.
type State string

// The states.
const (
	Healthy  State = "healthy"  // it does what it should
	Waiting  State = "waiting"  // nothing is wrong; something has to come first, and the reason says what
	Degraded State = "degraded" // it works, and something of it does not
	Failing  State = "failing"  // it does not do what it should
	Offline  State = "offline"  // nothing is known of it now
)

// Verdict is a state with its reason. Until is set for waiting: by when it should be over.
type Verdict struct {
	State  State
	Code   Code // empty for healthy
	Reason string
	Todo   string
	Since  time.Time
	Until  time.Time
}

// Holder is the destination that holds a source, or "".
func (v Verdict) Holder() string {
	held, ok := strings.CutPrefix(v.Reason, "held by ")
	if !ok || v.Code != HeldBy {
		return ""
	}
	to, _, _ := strings.Cut(held, ":")
	return to
}

// Harmless tells whether a destination takes records in spite of what is wrong with it.
func Harmless(code Code) bool {
	return code == NotVerified || code == CertificateExpiring || code == BufferFilling || code == RecordsDiscarded
}

// About is the destination that the verdict of a source tells of, or "": the one that holds it, or one with which
// something is wrong although it takes the records.
func (v Verdict) About() string {
	if to := v.Holder(); to != "" || !Harmless(v.Code) {
		return to
	}
	to, _, ok := strings.Cut(v.Reason, ": ")
	if !ok || strings.Contains(to, " ") {
		return ""
	}
	return to
}

// rank is the order of severity, for a person who must choose where to look first.
var rank = map[State]int{Healthy: 0, Waiting: 1, Degraded: 2, Offline: 3, Failing: 4}

// Rank tells how soon a state should be looked at: the larger, the sooner.
func Rank(state State) int { return rank[state] }

// Worse tells whether a should be looked at before b.
func Worse(a, b State) bool { return rank[a] > rank[b] }

// ConfigState is what an agent says of the config that it was offered last; "" for nothing.
type ConfigState string

// The states of a config.
const (
	ConfigApplying ConfigState = "applying" // it has taken it and is at work: then applied or failed
	ConfigApplied  ConfigState = "applied"  // it runs it
	ConfigFailed   ConfigState = "failed"   // it cannot run it, and keeps the one before
)

// Host is what is known of a host.
type Host struct {
	Joined       bool
	Connected    bool
	LastSeen     time.Time
	ConfigState  ConfigState
	ConfigReason string
	ConfigSince  time.Time
	Assigned     string    // hash
	Running      string    // hash
	LeftOut      string    // why a source was left out of its config, or ""
	Restarted    time.Time // when the service itself began
	Retired      time.Time
	Emptied      time.Time     // when the agent of a retired host had stopped to collect and had deleted its secrets
	Agent        Complaint     // about the agent's own files
	Skew         time.Duration // by how much its clock is ahead of the service's
	Away         time.Duration // so long an absence is normal for it
	Lacks        []string      // what its agent cannot run of what this service knows
	Version      string        // of its agent
}

// Complaint is what an agent says is wrong, with its reason code; without Code all is well.
type Complaint struct {
	Code   Code
	Reason string
	Since  time.Time
}

// settling is how long a host may take for what usually takes seconds.
const settling = 2 * time.Minute

// comeBack is how long agents take to come back after the service restarted: they spread over a minute, so that a
// fleet does not come all at once.
const comeBack = 90 * time.Second

// EvaluateHost gives the state of a host. It is pure.
func EvaluateHost(h Host, now time.Time) Verdict {
	switch {
	case !h.Retired.IsZero():
		v := Verdict{
			State:  Offline,
			Code:   Retired,
			Reason: "retired " + ago(now, h.Retired) + "; its history stays",
			Todo:   "a token made for it brings it back: synaxis join-token create --host NAME",
			Since:  h.Retired,
		}
		switch {
		case !h.Joined:
		case !h.Emptied.IsZero():
			v.Reason = "retired " + ago(
				now,
				h.Retired,
			) + "; its agent has stopped to collect and has deleted its secrets, its history stays"
		default:
			v.Reason = "retired " + ago(
				now,
				h.Retired,
			) + "; its agent has not been reached since, so it still collects what it was told, and holds its secrets"
			v.Todo = "it is told when it calls again; where it never will, stop it on the host and rotate the " +
				"secrets that it had"
		}
		return v
	case !h.Joined:
		return Verdict{
			State:  Waiting,
			Code:   NotJoined,
			Reason: "no agent has joined under this name yet",
			Todo:   "start an agent with a join token",
		}
	case !h.Connected && h.LastSeen.Before(h.Restarted) && h.Restarted.Sub(h.LastSeen) < comeBack && now.Sub(
		h.Restarted) < comeBack:
		return Verdict{
			State: Waiting,
			Code:  ComingBack,
			Reason: "the service restarted " + ago(
				now,
				h.Restarted,
			) + "; its agents come back within a minute and collect meanwhile",
			Since: h.Restarted,
			Until: h.Restarted.Add(comeBack),
		}
	case !h.Connected && now.Sub(h.LastSeen) < h.Away:
		return Verdict{
			State: Waiting,
			Code:  AwayAsUsual,
			Reason: fmt.Sprintf("away since %s, as it may be: up to %s are normal for it", clock(h.LastSeen),
				spell(h.Away)),
			Since: h.LastSeen,
			Until: h.LastSeen.Add(h.Away),
		}
	case !h.Connected:
		return Verdict{
			State:  Offline,
			Code:   AgentAway,
			Reason: "the agent is not connected; it was seen last at " + clock(h.LastSeen),
			Todo:   "look whether the host is up and reaches the service; it keeps collecting and catches up by itself",
			Since:  h.LastSeen,
		}
	case h.ConfigState == ConfigFailed:
		return Verdict{
			State:  Failing,
			Code:   ConfigRefused,
			Reason: "the agent refused its config and keeps the old one: " + h.ConfigReason,
			Todo:   "mend the definition it names, or the host, and roll out again",
			Since:  h.ConfigSince,
		}
	case h.Assigned == "":
		return Verdict{
			State:  Waiting,
			Code:   NoConfig,
			Reason: "no revision is in force yet, so there is nothing to run",
			Todo:   "publish a draft and start a rollout",
		}
	case h.Assigned != h.Running:
		if !h.ConfigSince.IsZero() && now.Sub(h.ConfigSince) > settling {
			return Verdict{
				State:  Degraded,
				Code:   ConfigDrifted,
				Reason: "it runs another config than the one assigned to it",
				Todo:   "compare the two under its config; a new rollout offers it again",
				Since:  h.ConfigSince,
			}
		}
		return Verdict{
			State:  Waiting,
			Code:   ConfigOnItsWay,
			Reason: "its config is on its way; usually takes a few seconds",
			Since:  h.ConfigSince,
			Until:  h.ConfigSince.Add(settling),
		}
	case h.Agent.Code != "":
		return Verdict{
			State:  Degraded,
			Code:   h.Agent.Code,
			Reason: h.Agent.Reason,
			Todo:   Todo(h.Agent.Code),
			Since:  h.Agent.Since,
		}
	case h.Skew.Abs() > ClockTolerance:
		return Verdict{
			State: Degraded,
			Code:  ClockOff,
			Reason: fmt.Sprintf("its clock is %s %s that of the service", spell(h.Skew.Abs()),
				map[bool]string{true: "ahead of", false: "behind"}[h.Skew > 0]),
			Todo: "let the host take its time from the network; records without a time of their own have a wrong one " +
				"until then",
		}
	case h.LeftOut != "":
		return Verdict{State: Degraded, Code: SourceLeftOut, Reason: h.LeftOut, Todo: "define the value and roll out"}
	case len(h.Lacks) > 0:
		return Verdict{State: Degraded, Code: AgentOld, Reason: fmt.Sprintf("its agent (%s) is older than the service: it cannot "+
			"run %s", h.Version, strings.Join(h.Lacks[:min(len(h.Lacks), lacksShown)], ", ")), Todo: "install the agent of this " +
			"service on the host; what it collects goes on meanwhile"}
	}
	return Verdict{State: Healthy}
}

// lacksShown bounds the parts that are named.
const lacksShown = 5

// ClockTolerance is by how much the clock of a host may differ.
const ClockTolerance = 2 * time.Minute

// Window is how far back the shares of a source look. What was counted before is history.
const Window = 5 * time.Minute

// Source is what is known of a source on a host.
type Source struct {
	Host     Verdict
	Reported bool // the agent has reported on it
	// how long the first report usually takes from when a config runs; 0 for not known
	Usually  time.Duration
	Agent    Complaint // of the agent about it; Since is when its word last changed, or it began
	Delivery Code      // the reason code of the destination that holds it, or ""
	Answer   string    // the last answer that refused records of it
	Read     int64     // ever
	Recent   Recent    // within Window
	Filled   []Filled  // fields that are watched, within Window
	Latest   Recent    // the latest records of these, Fewest at least where there are so many
	Unread   int64     // bytes that wait
	Oldest   time.Time // when the oldest record was written that waits; zero for none

	Expect   expect.Expectation
	Began    time.Time     // since when it could have been read, by our own clock
	Last     time.Time     // when the last record was read, by our own clock; zero for never
	Told     time.Time     // when its numbers came last, by our own clock
	Hour     int64         // records of the last hour
	HourFull bool          // they are known of all of it
	Offset   time.Duration // by which times of records are ahead of when they were written
	Offsets  int           // how many reports agree on it
	Zone     string        // that the source says, or ""
}

// Recent are counts within Window.
type Recent struct{ Read, Unparsed, Refused, NoZone int64 }

// Filled is in which share of the records that a format read within Window a field was there, from 0 to 1.
type Filled struct {
	Field     string
	Share, Of float64 // as it is, and as it is expected
	Records   int64   // of which
}

// Bounds of judgement: how many records must have been read before a share says anything, and how old the oldest one
// that waits may be.
const (
	Fewest = 20
	Behind = time.Minute
)

// EvaluateSource gives the state of a source on a host. It is pure.
func EvaluateSource(s Source, now time.Time) Verdict {
	if s.Host.State == Offline || s.Host.Code == ConfigOnItsWay || s.Host.Code == NoConfig || s.Host.State == Waiting {
		v := s.Host
		if v.State == Offline {
			v.Reason = "its host is offline: " + v.Reason
		}
		return v
	}
	since := s.Agent.Since
	if !s.Reported {
		v := Verdict{State: Waiting, Code: NoReport, Reason: "the agent has not reported on it yet", Since: since}
		switch {
		case since.IsZero():
		case s.Usually > 0:
			v.Reason += "; its first report usually comes within " + spell(max(time.Second, s.Usually))
			v.Until = since.Add(max(time.Second, s.Usually))
		default:
			v.Until = since.Add(settling)
		}
		if now.After(v.Until) && !v.Until.IsZero() {
			v.Reason += ", which is over"
		}
		return v
	}
	switch code := s.Agent.Code; code {
	case "":
	case HeldBy, PathMatchesNothing, FilesGone, TooFewDescriptors, NotVerified, BufferFilling, RecordsDiscarded,
		CertificateExpiring,
		FilesLost, Silent, MessagesMissed, SenderSilent, CommandComplains:
		v := Verdict{State: Degraded, Code: code, Reason: s.Agent.Reason, Todo: Todo(code), Since: since}
		if code == HeldBy && Todo(s.Delivery) != "" {
			v.Todo = Todo(s.Delivery)
		}
		return v
	default:
		return Verdict{State: Failing, Code: code, Reason: s.Agent.Reason, Todo: Todo(code), Since: since}
	}
	r := s.Recent
	switch {
	case r.Refused > 0:
		reason := fmt.Sprintf("in the last %d minutes a destination refused %s for good; they are kept on the host",
			int(Window.Minutes()), count(int(r.Refused), "record"))
		if s.Answer != "" {
			reason += "; it answered: " + s.Answer
		}
		return Verdict{
			State:  Degraded,
			Code:   RecordsRefused,
			Reason: reason,
			Todo:   "mend what the answer says: in the source's format or steps, or at the receiver",
			Since:  since,
		}
	// it has just broken, after however many good ones
	case s.Latest.Read >= Fewest && s.Latest.Unparsed*2 > s.Latest.Read:
		return Verdict{
			State: Degraded,
			Code:  ReadsTooFew,
			Reason: fmt.Sprintf(
				"the format could not read %d of the latest %d records",
				s.Latest.Unparsed,
				s.Latest.Read,
			),
			Todo:  "compare some lines with the format's template",
			Since: since,
		}
	case r.Read >= Fewest && r.Unparsed*20 > r.Read:
		return Verdict{
			State: Degraded,
			Code:  ReadsTooFew,
			Reason: fmt.Sprintf(
				"the format could not read %d %% of the last %d records",
				r.Unparsed*100/r.Read,
				r.Read,
			),
			Todo:  "compare some lines with the format's template",
			Since: since,
		}
	case r.Read >= Fewest && r.NoZone*20 > r.Read:
		return Verdict{
			State: Degraded,
			Code:  StampsWithoutZone,
			Reason: fmt.Sprintf(
				"%d %% of the last %d records have a time that says no zone; the time of reading stands in",
				r.NoZone*100/r.Read,
				r.Read,
			),
			Todo:  "give the source a zone: time: {zone: Europe/Lisbon}",
			Since: since,
		}
	case s.Offsets >= enoughOffsets && s.Offset.Abs() > offsetNoise:
		if v := times(s, now); v.Code != "" {
			v.Since = since
			return v
		}
	}
	for _, f := range s.Filled {
		if f.Records >= Fewest && f.Share < f.Of {
			return Verdict{
				State: Degraded,
				Code:  FieldSeldomFilled,
				Reason: fmt.Sprintf("the field %s is in %s of the last %d records; %s are expected", f.Field,
					percent(f.Share),
					f.Records, percent(f.Of)),
				Todo: "compare some lines with the format: what writes them may have changed their form; if so few are " +
					"normal, say so with expect: {filled: ...}",
				Since: since,
			}
		}
	}
	if v := Silence(s); v.Code != "" {
		return v
	}
	switch {
	case !s.Oldest.IsZero() && now.Sub(s.Oldest) > Behind:
		return Verdict{
			State: Degraded,
			Code:  FallsBehind,
			Reason: fmt.Sprintf(
				"the oldest record that waits was written %s; %s wait to be read",
				ago(now, s.Oldest),
				size(s.Unread),
			),
			Todo: "look whether the destination is slow, or more is written than one host can send; nothing is " +
				"lost, records wait",
			Since: s.Oldest,
		}
	case s.Read == 0:
		return Verdict{
			State:  Waiting,
			Code:   NoRecords,
			Reason: "nothing has been written since it began to read",
			Since:  since,
		}
	}
	return Verdict{State: Healthy}
}

// percent writes a share, never as more than it is.
func percent(share float64) string {
	return strconv.FormatFloat(math.Floor(share*1000+1e-9)/10, 'f', -1, 64) + " %"
}

func size(n int64) string {
	switch {
	case n < 1<<10:
		return fmt.Sprintf("%d bytes", n)
	case n < 1<<20:
		return fmt.Sprintf("%d KiB", n>>10)
	}
	return fmt.Sprintf("%d MiB", n>>20)
}

func ago(now, t time.Time) string {
	if t.IsZero() {
		return "never"
	}
	d := now.Sub(t)
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%d s ago", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h ago", int(d.Hours()))
	}
	return fmt.Sprintf("%d days ago", int(d.Hours()/24))
}

// clock writes a moment, in UTC.
func clock(t time.Time) string {
	if t.IsZero() {
		return "no time that is known"
	}
	return t.UTC().Format("2006-01-02 15:04:05 UTC")
}
