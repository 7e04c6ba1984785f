package health

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestOneReceiverIsOneCause: a receiver that refuses everything on three hundred hosts is one cause, whatever order
// the troubles come in; another one that answers otherwise is another.
func TestOneReceiverIsOneCause(t *testing.T) {
	t.Parallel()
	began := now.Add(-72 * time.Minute)
	var list []Trouble
	for i := range 312 {
		for s := range 3 {
			list = append(list, Trouble{Host: fmt.Sprintf("gate-%03d", i), Site: "northpier", Source: fmt.Sprintf("s%d", s),
				Destination: "archive", Answer: ReceiverFailing, Oldest: began.Add(time.Duration(i) * time.Second),
				FullIn: time.Duration(5+i) * time.Hour, Verdict: Verdict{State: Degraded, Code: HeldBy,
					Reason: "held by archive: it answers 503", Todo: "look there", Since: began.Add(time.Duration(i) *
						time.Second)}})
		}
	}
	list = append(list, Trouble{Host: "gate-007", Site: "northpier", Source: "s1", Destination: "archive",
		Answer: NoAnswer, Verdict: Verdict{State: Failing, Code: HeldBy, Reason: "held by archive: no answer"}})
	rnd := rand.New(rand.NewPCG(1, 1))
	rnd.Shuffle(len(list), func(i, j int) { list[i], list[j] = list[j], list[i] })
	got := Group(list)
	require.Len(t, got, 2)
	assert.Equal(t, Failing, got[0].State, "the worst comes first")
	c := got[1]
	assert.Len(t, c.Hosts, 312)
	assert.Equal(t, []string{"s0", "s1", "s2"}, c.Sources)
	assert.Equal(t, ReceiverFailing, c.Code)
	assert.Equal(t, began, c.Since)
	assert.Equal(t, "312 hosts of northpier", c.Where())
	assert.Equal(t, "archive: it answers 503; 3 sources wait; the oldest record that waits is 1 h 12 min old; a buffer "+
		"is full in 5 h", c.Words(now))
	rnd.Shuffle(len(list), func(i, j int) { list[i], list[j] = list[j], list[i] })
	assert.Equal(t, got, Group(list), "the order does not matter")
}

// TestWhatHoldsNothing: a destination that takes records, and with which something is wrong, is one cause for all of
// its sources.
func TestWhatHoldsNothing(t *testing.T) {
	t.Parallel()
	for code, words := range map[Code]string{BufferFilling: "3 sources wait", NotVerified: "3 sources send there",
		CertificateExpiring: "3 sources send there", RecordsDiscarded: "3 sources send there"} {
		var list []Trouble
		for _, host := range []string{"gate-a", "gate-b"} {
			for _, source := range []string{"s1", "s2", "s3"} {
				v := Verdict{State: Degraded, Code: code, Reason: "archive: it is as it is"}
				list = append(list, Trouble{Host: host, Source: source, Destination: v.About(), Answer: code,
					Verdict: v})
			}
		}
		got := Group(list)
		require.Len(t, got, 1, code)
		assert.Equal(t, "archive: it is as it is; "+words, got[0].Words(now))
		one := "sends there"
		if code == BufferFilling {
			one = "waits"
		}
		assert.Equal(t, "archive: it is as it is; 1 source "+one, Group(list[:1])[0].Words(now))
	}
	for _, v := range []Verdict{{Code: Silent, Reason: "archive: nothing came"}, {Code: NotVerified, Reason: "its own"},
		{Code: CertificateExpiring, Reason: "its certificate ends: soon"}} {
		assert.Empty(t, v.About(), v.Reason)
	}
	assert.Equal(t, "archive", Verdict{Code: HeldBy, Reason: "held by archive: no answer"}.About())
}

func TestGroup(t *testing.T) {
	t.Parallel()
	of := func(host, site, source string, code Code, reason string) Trouble {
		return Trouble{Host: host, Site: site, Source: source, Verdict: Verdict{State: Degraded, Code: code,
			Reason: reason}}
	}
	for name, c := range map[string]struct {
		list  []Trouble
		where []string
	}{
		"silent at other times": {[]Trouble{of("a", "np", "gates", Silent, "the last record came at 04:12"),
			of("b", "sm", "gates", Silent, "the last record came at 05:00")}, []string{"2 hosts of 2 sites"}},
		"other sources": {[]Trouble{of("a", "np", "gates", Silent, "x"), of("a", "np", "cranes", Silent, "x")},
			[]string{"a", "a"}},
		"the same path with the host's name in it": {[]Trouble{of("a1", "", "gates", NotReadable, "/var/log/a1/x: denied"),
			of("b2", "", "gates", NotReadable, "/var/log/b2/x: denied")}, []string{"2 hosts"}},
		"other paths": {[]Trouble{of("a1", "", "gates", NotReadable, "/var/log/x: denied"),
			of("b2", "", "gates", NotReadable, "/srv/log/x: denied")}, []string{"a1", "b2"}},
		"away at a site": {[]Trouble{of("a", "np", "", AgentAway, "last seen 3 h ago"),
			of("b", "np", "", AgentAway, "last seen 4 h ago"), of("c", "sm", "", AgentAway, "last seen 4 h ago")},
			[]string{"2 hosts of np", "c"}},
		"nothing": {nil, nil},
	} {
		var where []string
		for _, x := range Group(c.list) {
			where = append(where, x.Where())
		}
		assert.ElementsMatch(t, c.where, where, name)
	}
}

// TestOwnNames: where hosts tell of the same with their own names in it, the cause says what they have in common.
func TestOwnNames(t *testing.T) {
	t.Parallel()
	list := func(reason func(host string) string) (out []Trouble) {
		for i := range 60 {
			host := fmt.Sprintf("crane-%d", i+1)
			out = append(out, Trouble{Host: host, Source: "crane-log", Verdict: Verdict{State: Degraded,
				Code: PathMatchesNothing, Reason: reason(host)}})
		}
		return out
	}
	for name, x := range map[string]struct {
		reason func(host string) string
		want   string
	}{
		"their own":         {func(h string) string { return "no file matches /var/log/" + h + "/*.log" }, "no file matches /var/log/${host.name}/*.log"},
		"none":              {func(string) string { return "no file matches" }, "no file matches"},
		"their own numbers": {func(h string) string { return "lane " + h[6:] + " is not there" }, "lane 1 is not there"},
	} {
		got := Group(list(x.reason))
		require.Len(t, got, 1, name)
		assert.Equal(t, x.want, got[0].Reason, name)
		assert.Len(t, got[0].Hosts, 60)
	}
	one := list(func(h string) string { return "no file matches /var/log/" + h + "/*.log" })[:1]
	assert.Equal(t, "no file matches /var/log/crane-1/*.log", Group(one)[0].Reason, "one host says it as it is")
}
