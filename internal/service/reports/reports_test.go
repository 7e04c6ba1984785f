package reports

import (
	"context"
	"fmt"
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/health"
	"synaxis/internal/core/series"
	"synaxis/internal/core/wire"
	"synaxis/internal/service/numbers"
	"synaxis/internal/service/store"
)

func TestDeltas(t *testing.T) {
	t.Parallel()
	from := map[string]wire.Numbers{
		"a": {Read: 5, Bytes: 10, Deliveries: map[string]wire.DeliveryCounts{"x": {Acknowledged: 5}}},
		"b": {Read: 3},
	}
	to := map[string]wire.Numbers{
		"a": {
			Read:       8,
			Bytes:      16,
			LastRecord: 9,
			Deliveries: map[string]wire.DeliveryCounts{"x": {Acknowledged: 7, Refused: 1}, "y": {Acknowledged: 8}},
		},
		"b": {Read: 3, LastRecord: 4},
		"c": {Blank: 2},
		"d": {},
	}
	assert.Equal(t, map[string]wire.Numbers{
		"a": {
			Read:       3,
			Bytes:      6,
			Deliveries: map[string]wire.DeliveryCounts{"x": {Acknowledged: 2, Refused: 1}, "y": {Acknowledged: 8}},
		},
		"c": {Blank: 2},
	}, deltas(from, to), "only what grew is kept")
	assert.Empty(
		t,
		deltas(map[string]wire.Numbers{"a": {Read: 5}}, map[string]wire.Numbers{"a": {Read: 2}}),
		"an agent that began anew gives nothing negative",
	)
}

// begin goes on with what a service has written.
func begin(t *testing.T, st *store.Store, clock func() time.Time) (*numbers.Numbers, *Reports) {
	log := slog.New(slog.DiscardHandler)
	over, err := numbers.New(context.Background(), st, log, clock)
	require.NoError(t, err)
	r, err := New(context.Background(), st, over, log, clock, func(string) {})
	require.NoError(t, err)
	return over, r
}

// TestSendersInTurn: of senders that are told in turn nothing is lost, nor counted twice.
func TestSendersInTurn(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	st, err := store.Open(ctx, t.TempDir())
	require.NoError(t, err)
	defer st.Close()
	now := noon
	over, r := begin(t, st, func() time.Time { return now })
	const senders = wire.SendersTold + 3007
	last := ""
	for report := range int64(10) {
		counted := map[string]int64{}
		if report > 6 { // nothing comes any more
			report = 6
		}
		for i := range int64(senders) {
			counted[fmt.Sprintf("bridge-%04d", i)] = 100 + report*i
		}
		all := map[string]wire.Numbers{"bridges": {Read: 1, Senders: counted}}
		last = wire.SomeSenders(all, last)
		r.TakeReport("h", wire.Report{Start: noon, At: now, Sources: all})
		now = now.Add(30 * time.Second)
	}
	assert.Len(t, r.Of("h").Numbers["bridges"].Senders, senders)
	got, err := over.Ask(ctx, numbers.Question{From: noon, To: now, By: numbers.BySender,
		Numbers: []string{series.Read}})
	require.NoError(t, err)
	require.Len(t, got.Lines, senders)
	for i, l := range got.Lines {
		assert.EqualValues(t, 100+6*i, l.Sum(), l.Group)
	}
}

// TestInventedNames: an agent that tells other names in each report fills no memory, and what it told before goes on.
func TestInventedNames(t *testing.T) {
	t.Parallel()
	st, err := store.Open(context.Background(), t.TempDir())
	require.NoError(t, err)
	defer st.Close()
	now := noon
	_, r := begin(t, st, func() time.Time { return now })
	for report := range 12 {
		n := wire.Numbers{Read: 1, Deliveries: map[string]wire.DeliveryCounts{"lake": {Acknowledged: int64(report)}}}
		for _, p := range wire.Parts {
			of := map[string]int64{}
			known := "a"
			if p.With != "" {
				known = wire.SenderOf("a", "a")
			}
			of[known] = int64(report + 1)
			for i := range mostOf(p) / 10 {
				name := fmt.Sprintf("b%d-%d", report, i)
				if p.With != "" {
					name = wire.SenderOf(name, "b")
				}
				of[name] = 1
			}
			*p.Of(&n) = of
		}
		for i := range 100 {
			n.Deliveries[fmt.Sprintf("m%d-%d", report, i)] = wire.DeliveryCounts{Acknowledged: 1}
		}
		r.TakeReport("h", wire.Report{Start: noon, At: now, Sources: map[string]wire.Numbers{"s": n}})
		now = now.Add(30 * time.Second)
		have := r.Of("h").Numbers["s"]
		assert.GreaterOrEqual(t, room(r.Of("h").Numbers), 0)
		for _, p := range wire.Parts {
			of := *p.Of(&have)
			assert.LessOrEqual(t, len(of), mostOf(p), p.Metric)
			assert.EqualValues(t, report+1, max(of["a"], of["a/a"]), p.Metric)
		}
		assert.LessOrEqual(t, len(have.Deliveries), maxNames)
		assert.EqualValues(t, report, have.Deliveries["lake"].Acknowledged)
	}
}

var noon = time.Date(2031, 4, 2, 12, 0, 0, 0, time.UTC)

// TestWindows: shares are of the last minutes; what came before is history, and a sum that falls begins anew.
func TestWindows(t *testing.T) {
	t.Parallel()
	var w *window
	now := noon
	report := func(read, unparsed, refused int64) {
		now = now.Add(30 * time.Second)
		w = w.add(
			wire.Numbers{
				Read:       read,
				Unparsed:   unparsed,
				Deliveries: map[string]wire.DeliveryCounts{"x": {Refused: refused}},
			},
			now,
		)
	}
	report(10_000_000, 5, 1)
	assert.Zero(t, w.counts(now), "one report says nothing of the last minutes")
	report(10_000_100, 5, 2)
	assert.Equal(t, health.Recent{Read: 100, Refused: 1}, w.counts(now))
	for i := range int64(20) {
		report(10_000_200+i*100, 5, 2)
	}
	assert.Equal(t, health.Recent{Read: 1000}, w.counts(now), "one refused record is history after five minutes")
	report(10_002_200, 65, 2)
	assert.Equal(
		t,
		health.Recent{Read: 100, Unparsed: 60},
		w.latest(now),
		"a format that breaks is seen in its next records",
	)
	assert.LessOrEqual(t, len(w.samples), 14)
	report(50, 0, 0)
	assert.Zero(t, w.counts(now))
	report(80, 1, 0)
	assert.Equal(t, health.Recent{Read: 30, Unparsed: 1}, w.counts(now))
	before := w
	report(90, 1, 0)
	assert.Equal(
		t,
		health.Recent{Read: 30, Unparsed: 1},
		before.counts(now.Add(-30*time.Second)),
		"who reads an older one sees no change",
	)
	for range 100 { // an agent that reports often
		now = now.Add(time.Second)
		w = w.add(wire.Numbers{Read: 100}, now)
	}
	assert.LessOrEqual(t, len(w.samples), 40)
	assert.Zero(t, w.counts(now.Add(10*time.Minute)).Read, "what is old says nothing")
}
