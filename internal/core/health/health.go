// Package health turns what is known of a host and a source into one of five states, with a reason and what to do.
package health

import (
	"fmt"
	"time"
)

// The states, best first.
const (
	Healthy  = "healthy"
	Waiting  = "waiting"
	Degraded = "degraded"
	Failing  = "failing"
	Offline  = "offline"
)

// Verdict is a state with its reason. Until is set for waiting: by when it should be over.
type Verdict struct {
	State  string
	Code   string // reason code, empty for healthy
	Reason string
	Todo   string
	Since  time.Time
	Until  time.Time
}

// rank is the order of severity, for a person who must choose where to look first.
var rank = map[string]int{Healthy: 0, Waiting: 1, Degraded: 2, Offline: 3, Failing: 4}

// Worse tells whether a should be looked at before b.
func Worse(a, b string) bool { return rank[a] > rank[b] }

// Host is what is known of a host.
type Host struct {
	Joined       bool
	Connected    bool
	LastSeen     time.Time
	ConfigState  string // applied, applying, failed, or ""
	ConfigReason string
	ConfigSince  time.Time
	Assigned     string    // hash
	Running      string    // hash
	LeftOut      string    // why a source was left out of its config, or ""
	Restarted    time.Time // when the service itself began
	Retired      time.Time
}

// settling is how long a host may take for what usually takes seconds.
const settling = 2 * time.Minute

// comeBack is how long agents take to come back after the service restarted: they spread over a minute, so that a fleet
// does not come all at once.
const comeBack = 90 * time.Second

// EvaluateHost gives the state of a host. It is pure.
func EvaluateHost(h Host, now time.Time) Verdict {
	switch {
	case !h.Retired.IsZero():
		return Verdict{State: Offline, Code: "retired", Reason: "retired " + ago(now, h.Retired) + "; its credential has ended, its history stays",
			Todo: "a join token brings it back under its name", Since: h.Retired}
	case !h.Joined:
		return Verdict{State: Waiting, Code: "not-joined", Reason: "no agent has joined under this name yet", Todo: "start an agent with a join token"}
	case !h.Connected && h.LastSeen.Before(h.Restarted) && h.Restarted.Sub(h.LastSeen) < comeBack && now.Sub(h.Restarted) < comeBack:
		return Verdict{State: Waiting, Code: "coming-back", Reason: "the service restarted " + ago(now, h.Restarted) + "; its agents come back within a minute and collect meanwhile",
			Since: h.Restarted, Until: h.Restarted.Add(comeBack)}
	case !h.Connected:
		return Verdict{State: Offline, Code: "agent-away", Reason: "the agent is not connected; last seen " + ago(now, h.LastSeen),
			Todo: "look whether the host is up and reaches the service; it keeps collecting and catches up by itself", Since: h.LastSeen}
	case h.ConfigState == "failed":
		return Verdict{State: Failing, Code: "config-refused", Reason: "the agent refused its config and keeps the old one: " + h.ConfigReason,
			Todo: "mend the definition it names, or the host, and roll out again", Since: h.ConfigSince}
	case h.Assigned == "":
		return Verdict{State: Waiting, Code: "no-config", Reason: "no revision is in force yet, so there is nothing to run",
			Todo: "publish a draft and start a rollout"}
	case h.Assigned != h.Running:
		if !h.ConfigSince.IsZero() && now.Sub(h.ConfigSince) > settling {
			return Verdict{State: Degraded, Code: "config-drifted", Reason: "it runs another config than the one assigned to it",
				Todo: "compare the two under its config; a new rollout offers it again", Since: h.ConfigSince}
		}
		return Verdict{State: Waiting, Code: "config-on-its-way", Reason: "its config is on its way; usually takes a few seconds",
			Since: h.ConfigSince, Until: h.ConfigSince.Add(settling)}
	case h.LeftOut != "":
		return Verdict{State: Degraded, Code: "source-left-out", Reason: h.LeftOut, Todo: "define the value and roll out"}
	}
	return Verdict{State: Healthy}
}

// Source is what is known of a source on a host.
type Source struct {
	Host       Verdict
	Reported   bool   // the agent has reported on it
	Code       string // the agent's own complaint: a reason code, or ""
	Reason     string
	Since      time.Time // when the agent's word last changed, or it began
	Read       int64
	Unparsed   int64
	Refused    int64
	Pending    int64 // read and not settled yet
	LastRecord time.Time
}

// todo says what to do about a complaint of the agent.
var todo = map[string]string{
	"path-matches-nothing":   "check the path on the host, or whether the program that writes it is there",
	"not-readable":           "let the agent's user read the file, for instance by its group",
	"destination-unwritable": "let the agent's user write there, or choose another path",
	"held-by":                "look at the destination: it does not take records now; nothing is lost, reading waits",
	"delivery-failing":       "look at the destination's address, its name and what it answers",
}

// fewest is how many records must have been read before a share says anything.
const fewest = 20

// EvaluateSource gives the state of a source on a host. It is pure.
func EvaluateSource(s Source, now time.Time) Verdict {
	if s.Host.State == Offline || s.Host.Code == "config-on-its-way" || s.Host.Code == "no-config" || s.Host.State == Waiting {
		v := s.Host
		if v.State == Offline {
			v.Reason = "its host is offline: " + v.Reason
		}
		return v
	}
	if !s.Reported {
		return Verdict{State: Waiting, Code: "no-report", Reason: "the agent has not reported on it yet", Since: s.Since, Until: s.Since.Add(settling)}
	}
	switch s.Code {
	case "":
	case "held-by", "path-matches-nothing":
		return Verdict{State: Degraded, Code: s.Code, Reason: s.Reason, Todo: todo[s.Code], Since: s.Since}
	default:
		return Verdict{State: Failing, Code: s.Code, Reason: s.Reason, Todo: todo[s.Code], Since: s.Since}
	}
	if s.Refused > 0 {
		return Verdict{State: Degraded, Code: "records-refused", Reason: fmt.Sprintf("a destination refused %d records for good; they are kept on the host", s.Refused),
			Todo: "look into the agent's rejects folder for what it answered", Since: s.Since}
	}
	if s.Read >= fewest && s.Unparsed*20 > s.Read {
		return Verdict{State: Degraded, Code: "reads-too-few", Reason: fmt.Sprintf("the format could not read %d %% of the records", s.Unparsed*100/s.Read),
			Todo: "compare some lines with the format's template", Since: s.Since}
	}
	if s.Read == 0 {
		return Verdict{State: Waiting, Code: "no-records", Reason: "nothing has been written since it began to read", Since: s.Since}
	}
	return Verdict{State: Healthy}
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
