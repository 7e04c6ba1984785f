package notice

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/expect"
	"synaxis/internal/core/expr"
	"synaxis/internal/core/health"
)

func rule(t *testing.T, when string) *Rule {
	c, err := expr.ParseTrouble(when)
	require.NoError(t, err)
	return &Rule{Name: "n", When: c}
}

var t0 = time.Date(2031, 4, 2, 6, 0, 0, 0, time.UTC)

func TestMatching(t *testing.T) {
	t.Parallel()
	held := health.Trouble{Host: "gate-a", Site: "northpier", Source: "gates", Destination: "archive",
		Answer: health.ReceiverFailing, Oldest: t0.Add(-time.Hour), FullIn: 5 * time.Hour,
		Verdict: health.Verdict{State: health.Degraded, Code: health.HeldBy, Reason: "held by archive: 503",
			Since: t0.Add(-2 * time.Hour)}}
	away := health.Trouble{Host: "dunlin", Site: "fleet",
		Verdict: health.Verdict{State: health.Offline, Code: health.AgentAway, Reason: "away"}}
	labels := func(host string) map[string]string {
		return map[string]map[string]string{"gate-a": {"role": "gate"}, "dunlin": {"role": "vessel"}}[host]
	}
	for when, want := range map[string]int{
		`true`:                       2,
		`state == "degraded"`:        1,
		`code == "receiver-failing"`: 1,
		`code == "held-by"`:          0,
		`labels.role == "vessel"`:    1,
		`labels.tide == ""`:          2,
		`destination == "archive" && oldest > 1800.0`: 1,
		`oldest > 7200.0`:                          0,
		`full_in > 0.0 && full_in < 6.0 * 3600.0`:  1,
		`age >= 7200.0`:                            1,
		`source.startsWith("gate") || host == "x"`: 1,
		`reason.contains("503")`:                   1,
	} {
		assert.Len(t, rule(t, when).Matching([]health.Trouble{held, away}, labels, t0), want, when)
	}
	for _, bad := range []string{"stat == 'failing'", "age", "state > 3", "", "labels"} {
		_, err := expr.ParseTrouble(bad)
		assert.Error(t, err, bad)
	}
}

func cause(id string) health.Cause {
	return health.Cause{ID: id, State: health.Failing, Kind: "source", Name: id, Reason: "broken", Hosts: []string{"h"}}
}

func TestDecide(t *testing.T) {
	t.Parallel()
	type step struct {
		at     time.Duration // after t0
		causes string        // ids, a letter each
		told   string        // what is told of them, in order
	}
	for name, c := range map[string]struct {
		rule  Rule
		ack   time.Duration
		steps []step
	}{
		"told once, and when it is over": {Rule{}, 0, []step{{0, "a", "begins a"}, {time.Minute, "a", ""},
			{time.Hour, "a", ""}, {61 * time.Minute, "", ""}, {62 * time.Minute, "", "ends a"}, {63 * time.Minute, "", ""}}},
		"after so long": {Rule{For: 5 * time.Minute}, 0, []step{{0, "a", ""}, {4 * time.Minute, "a", ""},
			{5 * time.Minute, "a", "begins a"}}},
		"over before": {Rule{For: 5 * time.Minute}, 0, []step{{0, "a", ""}, {4 * time.Minute, "", ""},
			{6 * time.Minute, "a", ""}, {10 * time.Minute, "a", ""}, {11 * time.Minute, "a", "begins a"}}},
		"back at once": {Rule{}, 0, []step{{0, "a", "begins a"}, {2 * time.Minute, "", ""},
			{2*time.Minute + 30*time.Second, "a", ""}, {9 * time.Minute, "a", ""}}},
		"repeated": {Rule{Repeat: time.Hour}, 0, []step{{0, "a", "begins a"}, {59 * time.Minute, "a", ""},
			{time.Hour, "a", "still a"}, {2 * time.Hour, "a", "still a"}, {121 * time.Minute, "", ""},
			{122 * time.Minute, "", "ends a"}}},
		"acknowledged": {Rule{Repeat: time.Hour}, 30 * time.Minute, []step{{0, "a", "begins a"}, {31 * time.Minute, "a", ""},
			{2 * time.Hour, "a", ""}, {3 * time.Hour, "", ""}, {182 * time.Minute, "", "ends a"}}},
		"no more than one message a minute": {Rule{}, 0, []step{{0, "a", "begins a"}, {10 * time.Second, "ab", ""},
			{20 * time.Second, "abc", ""}, {time.Minute, "abc", "begins b, begins c"}}},
		"in quiet hours": {Rule{Quiet: expect.Hours{From: 5 * 60, To: 8 * 60}}, 0, []step{{0, "a", ""},
			{time.Hour, "a", ""}, {2 * time.Hour, "a", "begins a"}}},
		"over in quiet hours": {Rule{Quiet: expect.Hours{From: 5 * 60, To: 8 * 60}}, 0, []step{{0, "a", ""},
			{time.Hour, "", ""}, {2 * time.Hour, "", ""}}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var alerts map[string]Alert
			spoken := time.Time{}
			for i, s := range c.steps {
				var causes []health.Cause
				for _, id := range strings.Split(s.causes, "") {
					causes = append(causes, cause(id))
				}
				now := t0.Add(s.at)
				if c.ack > 0 && s.at >= c.ack {
					for id, a := range alerts {
						a.Acknowledged = &Acknowledgement{By: "ines"}
						alerts[id] = a
					}
				}
				next, m := c.rule.Decide(alerts, causes, spoken, now)
				alerts = next
				var told []string
				if m != nil {
					spoken = now
					for _, x := range m.Items {
						told = append(told, x.What+" "+x.Cause)
					}
				}
				require.Equal(t, s.told, strings.Join(told, ", "), "step %d, after %s", i, s.at)
			}
		})
	}
}

// TestRandomNotices: over a day of random causes, messages are a minute apart at least, a cause is told to begin
// before it is told to be still there or over, never twice, and what has begun and is gone for good is told to be
// over.
func TestRandomNotices(t *testing.T) {
	t.Parallel()
	rnd := rand.New(rand.NewPCG(8, 8))
	for range 12 {
		r := Rule{For: time.Duration(rnd.IntN(3)) * time.Minute, Repeat: time.Duration(rnd.IntN(2)) * time.Hour}
		if rnd.IntN(2) == 0 {
			r.Quiet = expect.Hours{From: rnd.IntN(1440), To: rnd.IntN(1440)}
		}
		there, begun := map[string]bool{}, map[string]bool{}
		var alerts map[string]Alert
		spoken := time.Time{}
		now := t0
		step := func() {
			var causes []health.Cause
			for id := range there {
				causes = append(causes, cause(id))
			}
			next, m := r.Decide(alerts, causes, spoken, now)
			again, _ := r.Decide(alerts, causes, spoken, now)
			require.Equal(t, next, again, "deciding changes nothing")
			alerts = next
			if m == nil {
				return
			}
			require.True(t, spoken.IsZero() || now.Sub(spoken) >= time.Minute)
			require.False(t, r.quiet(now))
			require.LessOrEqual(t, len(m.Items), most)
			spoken = now
			for _, x := range m.Items {
				require.Equal(t, x.What != Begins, begun[x.Cause], "%s %s", x.What, x.Cause)
				begun[x.Cause] = x.What != Ends
				require.Contains(t, m.Text(), x.Words)
			}
			require.LessOrEqual(t, len(m.Subject()), 200)
		}
		for range 1500 {
			now = now.Add(time.Duration(5+rnd.IntN(50)) * time.Second)
			if id := fmt.Sprint("c", rnd.IntN(40)); rnd.IntN(10) == 0 {
				if there[id] {
					delete(there, id)
				} else {
					there[id] = true
				}
			}
			step()
		}
		clear(there)
		r.Quiet = expect.Hours{}
		for range 10 {
			now = now.Add(2 * time.Minute)
			step()
		}
		for id, still := range begun {
			require.False(t, still, id)
		}
		require.Empty(t, alerts)
	}
}
