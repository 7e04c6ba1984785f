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
		name, state, code string
		host              Host
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
		{"refused", Failing, "config-refused", with(func(h *Host) { h.ConfigState = "failed" })},
		{"nothing in force", Waiting, "no-config", with(func(h *Host) { h.Assigned = "" })},
		{"on its way", Waiting, "config-on-its-way", with(func(h *Host) { h.Running = "g"; h.ConfigSince = now.Add(-time.Second) })},
		{"drifted", Degraded, "config-drifted", with(func(h *Host) { h.Running = "g"; h.ConfigSince = now.Add(-time.Hour) })},
		{"left out", Degraded, "source-left-out", with(func(h *Host) { h.LeftOut = "x" })},
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
	ok := Source{Host: Verdict{State: Healthy}, Reported: true, Read: 100}
	with := func(change func(*Source)) Source {
		s := ok
		change(&s)
		return s
	}
	for _, c := range []struct {
		name, state, code string
		source            Source
	}{
		{"all well", Healthy, "", ok},
		{"host away", Offline, "agent-away", with(func(s *Source) { s.Host = Verdict{State: Offline, Code: "agent-away"} })},
		{"host refused its config", Healthy, "", with(func(s *Source) { s.Host = Verdict{State: Failing, Code: "config-refused"} })},
		{"not reported", Waiting, "no-report", with(func(s *Source) { s.Reported = false })},
		{"no file", Degraded, "path-matches-nothing", with(func(s *Source) { s.Code = "path-matches-nothing" })},
		{"held", Degraded, "held-by", with(func(s *Source) { s.Code = "held-by" })},
		{"not readable", Failing, "not-readable", with(func(s *Source) { s.Code = "not-readable" })},
		{"refused", Degraded, "records-refused", with(func(s *Source) { s.Refused = 1 })},
		{"reads too few", Degraded, "reads-too-few", with(func(s *Source) { s.Unparsed = 6 })},
		{"too few to say", Healthy, "", with(func(s *Source) { s.Read = 5; s.Unparsed = 5 })},
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

func TestOrder(t *testing.T) {
	t.Parallel()
	order := []string{Healthy, Waiting, Degraded, Offline, Failing}
	for i := range order[1:] {
		assert.True(t, Worse(order[i+1], order[i]))
	}
	assert.False(t, Worse(Healthy, Healthy))
}

func TestAgo(t *testing.T) {
	t.Parallel()
	for d, want := range map[time.Duration]string{5 * time.Second: "5 s ago", 5 * time.Minute: "5 min ago", 5 * time.Hour: "5 h ago", 72 * time.Hour: "3 days ago"} {
		assert.Equal(t, want, ago(now, now.Add(-d)))
	}
	assert.Equal(t, "never", ago(now, time.Time{}))
}
