package health

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

var now = time.Date(2031, 4, 2, 6, 0, 0, 0, time.UTC)

func TestHost(t *testing.T) {
	t.Parallel()
	ok := Host{Joined: true, Connected: true, LastSeen: now, ConfigState: "applied", Assigned: "h", Running: "h"}
	with := func(change func(*Host)) Host {
		h := ok
		change(&h)
		return h
	}
	for _, c := range []struct {
		name  string
		state State
		code  Code
		host  Host
	}{
		{"all well", Healthy, "", ok},
		{"not joined", Waiting, "not-joined", Host{}},
		{"away", Offline, "agent-away", with(func(h *Host) { h.Connected = false; h.LastSeen = now.Add(-time.Hour) })},
		{"service restarted", Waiting, "coming-back", with(func(h *Host) {
			h.Connected = false
			h.LastSeen = now.Add(-40 * time.Second)
			h.Restarted = now.Add(-30 * time.Second)
		})},
		{"away before the restart", Offline, "agent-away", with(func(h *Host) {
			h.Connected = false
			h.LastSeen = now.Add(-time.Hour)
			h.Restarted = now.Add(-30 * time.Second)
		})},
		{"did not come back", Offline, "agent-away", with(func(h *Host) {
			h.Connected = false
			h.LastSeen = now.Add(-140 * time.Second)
			h.Restarted = now.Add(-120 * time.Second)
		})},
		{"left since the restart", Offline, "agent-away", with(func(h *Host) {
			h.Connected = false
			h.LastSeen = now.Add(-10 * time.Second)
			h.Restarted = now.Add(-30 * time.Second)
		})},
		{"retired", Offline, "retired", with(func(h *Host) { h.Retired = now.Add(-time.Hour) })},
		{"retired and emptied", Offline, "retired", with(func(h *Host) {
			h.Retired, h.Emptied = now.Add(-time.Hour),
				now
		})},
		{"positions not saved", Degraded, "state-not-writable", with(func(h *Host) {
			h.Agent = Complaint{
				Code: "state-not-writable", Reason: "full"}
		})},
		{"refused", Failing, "config-refused", with(func(h *Host) { h.ConfigState = "failed" })},
		{"nothing in force", Waiting, "no-config", with(func(h *Host) { h.Assigned = "" })},
		{"on its way", Waiting, "config-on-its-way", with(func(h *Host) {
			h.Running = "g"
			h.ConfigSince = now.Add(
				-time.Second)
		})},
		{"drifted", Degraded, "config-drifted", with(func(h *Host) {
			h.Running = "g"
			h.ConfigSince = now.Add(
				-time.Hour)
		})},
		{"left out", Degraded, "source-left-out", with(func(h *Host) { h.LeftOut = "x" })},
		{"old agent", Degraded, "agent-old", with(func(h *Host) { h.Lacks = []string{"a", "b", "c", "d", "e", "f"} })},
		{"old agent, and worse", Failing, "config-refused", with(func(h *Host) {
			h.Lacks, h.ConfigState = []string{"a"}, "failed"
		})},
	} {
		v := EvaluateHost(c.host, now)
		assert.Equal(t, c.state, v.State, c.name)
		assert.Equal(t, c.code, v.Code, c.name)
		if c.state != Healthy {
			assert.NotEmpty(t, v.Reason, c.name)
		}
		if c.code == "config-on-its-way" {
			assert.Equal(t, now.Add(-time.Second).Add(settling), v.Until, "waiting says until when")
		}
	}
}

func TestSource(t *testing.T) {
	t.Parallel()
	ok := Source{Host: Verdict{State: Healthy}, Reported: true, Read: 10_000_000, Recent: Recent{Read: 100}}
	with := func(change func(*Source)) Source {
		s := ok
		change(&s)
		return s
	}
	for _, c := range []struct {
		name   string
		state  State
		code   Code
		source Source
	}{
		{"all well", Healthy, "", ok},
		{"host away", Offline, "agent-away", with(func(s *Source) {
			s.Host = Verdict{State: Offline,
				Code: "agent-away"}
		})},
		{"host refused its config", Healthy, "", with(func(s *Source) {
			s.Host = Verdict{State: Failing,
				Code: "config-refused"}
		})},
		{"not reported", Waiting, "no-report", with(func(s *Source) { s.Reported = false })},
		{"no file", Degraded, "path-matches-nothing", with(func(s *Source) { s.Agent.Code = "path-matches-nothing" })},
		{"held", Degraded, "held-by", with(func(s *Source) { s.Agent.Code = "held-by" })},
		{"not readable", Failing, "not-readable", with(func(s *Source) { s.Agent.Code = "not-readable" })},
		{"refused", Degraded, "records-refused", with(func(s *Source) { s.Recent.Refused = 1 })},
		{"reads too few", Degraded, "reads-too-few", with(func(s *Source) { s.Recent.Unparsed = 6 })},
		{"broke just now", Degraded, "reads-too-few", with(func(s *Source) {
			s.Recent, s.Latest = Recent{Read: 1_000_000, Unparsed: 60}, Recent{Read: 100, Unparsed: 60}
		})},
		{"a few of many", Healthy, "", with(func(s *Source) {
			s.Recent, s.Latest = Recent{Read: 1_000_000, Unparsed: 60}, Recent{Read: 100, Unparsed: 40}
		})},
		{"too few to say", Healthy, "", with(func(s *Source) { s.Recent = Recent{Read: 5, Unparsed: 5} })},
		{"few descriptors", Degraded, "too-few-descriptors", with(func(
			s *Source) {
			s.Agent.Code = "too-few-descriptors"
		})},
		{"no zone", Degraded, "stamps-without-zone", with(func(s *Source) { s.Recent.NoZone = 90 })},
		{"a little late", Healthy, "", with(func(s *Source) { s.Oldest = now.Add(-50 * time.Second) })},
		{"falls behind", Degraded, "falls-behind", with(func(s *Source) {
			s.Oldest, s.Unread = now.Add(-2*time.Minute),
				5<<20
		})},
		{"nothing yet", Waiting, "no-records", with(func(s *Source) { s.Read = 0 })},
	} {
		v := EvaluateSource(c.source, now)
		assert.Equal(t, c.state, v.State, c.name)
		assert.Equal(t, c.code, v.Code, c.name)
		if c.state == Degraded || c.state == Failing {
			assert.NotEmpty(t, v.Todo, c.name)
		}
	}
}

// TestAdviceFitsTheAnswer: of a source that a destination holds the advice is that for what the destination answers.
func TestAdviceFitsTheAnswer(t *testing.T) {
	t.Parallel()
	seen := map[string]bool{}
	for _, code := range []Code{"connection-refused", "name-not-found", "not-reachable", "tls-failed", "no-answer",
		"login-refused", "wrong-path", "receiver-busy", "receiver-failing", "refuses-everything"} {
		v := EvaluateSource(
			Source{
				Host:     Verdict{State: Healthy},
				Reported: true,
				Agent:    Complaint{Code: "held-by", Reason: "held by x"},
				Delivery: code,
			},
			now,
		)
		assert.NotEqual(t, Todo("held-by"), v.Todo, code)
		assert.False(t, seen[v.Todo], "%s has advice of its own", code)
		seen[v.Todo] = true
	}
	v := EvaluateSource(
		Source{Host: Verdict{State: Healthy}, Reported: true, Recent: Recent{Refused: 2}, Answer: "413 too large"},
		now,
	)
	assert.Contains(t, v.Reason, "413 too large")
}

func TestOrder(t *testing.T) {
	t.Parallel()
	order := []State{Healthy, Waiting, Degraded, Offline, Failing}
	for i := range order[1:] {
		assert.True(t, Worse(order[i+1], order[i]))
	}
	assert.False(t, Worse(Healthy, Healthy))
}

func TestAgo(t *testing.T) {
	t.Parallel()
	for d, want := range map[time.Duration]string{5 * time.Second: "5 s ago", 5 * time.Minute: "5 min ago",
		5 * time.Hour: "5 h ago", 72 * time.Hour: "3 days ago"} {
		assert.Equal(t, want, ago(now, now.Add(-d)))
	}
	assert.Equal(t, "never", ago(now, time.Time{}))
}

// TestCodes: what agents report has advice, what the service finds says in its verdict what to do, and no code is
// both.
func TestCodes(t *testing.T) {
	t.Parallel()
	for code, advice := range todo {
		assert.NotEmpty(t, advice, code)
		assert.True(t, Reported(code))
	}
	for _, code := range []Code{Retired, NotJoined, ComingBack, AgentAway, ConfigRefused, NoConfig, ConfigDrifted,
		ConfigOnItsWay, SourceLeftOut, NoReport, RecordsRefused,
		ReadsTooFew, StampsWithoutZone, FallsBehind, NoRecords} {
		assert.False(t, Reported(code), code)
		assert.Empty(t, Todo(code))
	}
}
