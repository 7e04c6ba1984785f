package numbers

import (
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/series"
	"synaxis/internal/core/wire"
	"synaxis/internal/service/store"
)

// world is a store, and a clock that a test moves.
type world struct {
	t   *testing.T
	st  *store.Store
	at  time.Time
	now *Numbers
}

func newWorld(t *testing.T, at time.Time) *world {
	st, err := store.Open(context.Background(), t.TempDir())
	require.NoError(t, err)
	w := &world{t: t, st: st, at: at}
	t.Cleanup(func() { require.NoError(t, w.st.Close()) })
	w.start()
	return w
}

func (w *world) start() {
	n, err := New(context.Background(), w.st, slog.New(slog.DiscardHandler), func() time.Time { return w.at })
	require.NoError(w.t, err)
	n.Labels(func(host string) map[string]string { return map[string]string{"site": host[:1], "lane": host[1:]} })
	w.now = n
}

func (w *world) take(host string, deltas, all map[string]wire.Numbers) {
	w.now.Take(w.at, host, w.now.Site(host), deltas, all)
}

func (w *world) flush(all bool) error {
	return w.now.Write(context.Background(), w.now.Unwritten(w.at, all), nil)
}

func (w *world) ask(q Question) Answer {
	w.t.Helper()
	if q.To.IsZero() {
		q.To = w.at.Add(time.Second)
	}
	q.Label = func(host string) string { return map[string]string{"site": host[:1], "lane": host[1:]}[q.By] }
	a, err := w.now.Ask(context.Background(), q)
	require.NoError(w.t, err)
	return a
}

func counted(read, acknowledged, waiting int64) map[string]wire.Numbers {
	return map[string]wire.Numbers{"gates": {Read: read, Deliveries: map[string]wire.DeliveryCounts{
		"archive": {Acknowledged: acknowledged, InMemory: waiting}}}}
}

// TestSumsAgree: over two days of random reports of four hosts, with restarts and merges at random moments, each
// number comes to what was counted, at each length of step and by each way to part it.
func TestSumsAgree(t *testing.T) {
	t.Parallel()
	rnd := rand.New(rand.NewPCG(3, 1))
	begin := time.Date(2031, 3, 10, 22, 0, 0, 0, time.UTC)
	w := newWorld(t, begin)
	ctx := context.Background()
	hosts := []string{"na", "nb", "sa", "sb"}
	total, read := map[string]int64{}, int64(0)
	for w.at.Before(begin.Add(50 * time.Hour)) {
		for _, h := range hosts {
			if h == "sb" && w.at.Hour() == 3 { // away
				continue
			}
			n := int64(rnd.IntN(100))
			w.take(h, counted(n, n, 0), counted(n, n, int64(len(h))))
			total[h] += n
			read += n
		}
		w.at = w.at.Add(time.Duration(20+rnd.IntN(20)) * time.Second)
		switch rnd.IntN(200) {
		case 0:
			require.NoError(t, w.flush(true))
			w.start()
		case 1, 2, 3:
			require.NoError(t, w.flush(false))
		case 4:
			require.NoError(t, w.flush(false))
			require.NoError(t, w.now.Merge(ctx))
		}
	}
	for _, step := range []time.Duration{0, 5 * time.Minute, time.Hour, 24 * time.Hour} {
		q := Question{From: begin, Step: step, Numbers: []string{series.Read, series.Acknowledged}}
		a := w.ask(q)
		require.Len(t, a.Lines, 2)
		for _, l := range a.Lines {
			require.Equal(t, read, l.Sum(), "all, steps of %s", step)
		}
		q.By = "host"
		for _, l := range w.ask(q).Lines {
			require.Equal(t, total[l.Group], l.Sum(), "%s, steps of %s", l.Group, step)
		}
		q.By = "lane"
		for _, l := range w.ask(q).Lines {
			require.Equal(t, total["n"+l.Group]+total["s"+l.Group], l.Sum())
		}
		q.By = "site"
		for _, l := range w.ask(q).Lines {
			require.Equal(t, total[l.Group+"a"]+total[l.Group+"b"], l.Sum())
		}
		got, err := w.now.Edges(ctx, begin, w.at.Add(time.Second))
		require.NoError(t, err)
		require.Len(t, got, 4, "two sites, with a source and a destination each")
		for _, e := range got {
			sum := total[e.Site+"a"] + total[e.Site+"b"]
			require.Equal(t, map[bool]map[string]int64{true: {series.Acknowledged: sum},
				false: {series.Read: sum}}[e.Destination != ""],
				e.Sums, e)
		}
		q.By, q.Hosts = "source", map[string]bool{"na": true, "sb": true}
		for _, l := range w.ask(q).Lines {
			require.Equal(t, total["na"]+total["sb"], l.Sum())
			require.Equal(t, "gates", l.Group)
		}
	}
	away := w.ask(Question{From: time.Date(2031, 3, 12, 2, 0, 0, 0, time.UTC), Step: 5 * time.Minute,
		Numbers: []string{series.Read}, Hosts: map[string]bool{"sb": true}})
	require.Len(t, away.Lines, 1)
	for i, heard := range away.Lines[0].Heard {
		at := away.Start.Add(time.Duration(i) * away.Step)
		if at.Hour() == 3 && at.Minute() > 5 && at.Minute() < 55 {
			require.False(t, heard, "a gap is a gap: %s", at)
		} else if at.Hour() != 3 && at.Before(w.at.Add(-10*time.Minute)) {
			require.True(t, heard, "%s", at)
		}
	}
}

// TestLevels: of what waits the most in a step counts, hosts add up, and of lags the longest counts; a host that waits
// no more counts no more.
func TestLevels(t *testing.T) {
	t.Parallel()
	w := newWorld(t, time.Date(2031, 3, 10, 6, 0, 0, 0, time.UTC))
	begin := w.at
	lagging := func(waiting int64, since time.Duration) map[string]wire.Numbers {
		n := counted(0, 0, waiting)
		d := n["gates"].Deliveries["archive"]
		d.Oldest = w.at.Add(-since).UnixNano()
		n["gates"].Deliveries["archive"] = d
		gates := n["gates"]
		gates.SenderWaiting = map[string]int64{"archive/bridge-a": waiting, "lake/bridge-a": 0}
		gates.SenderOldest = map[string]int64{"archive/bridge-a": d.Oldest}
		n["gates"] = gates
		return n
	}
	for minute, c := range []struct{ na, sa, lag int64 }{
		{10, 0, 60}, {10, 5, 120}, {3, 5, 90}, {0, 0, 0}, {0, 7, 30},
	} {
		w.at = begin.Add(time.Duration(minute)*time.Minute + 10*time.Second)
		w.take("na", nil, lagging(c.na, time.Duration(c.lag)*time.Second))
		w.at = w.at.Add(25 * time.Second)
		w.take("sa", nil, lagging(c.sa, time.Duration(c.lag)*time.Second))
	}
	for by, names := range map[string][]string{"": {""}, "source": {"gates"}, "destination": {"archive"},
		BySender: {"bridge-a"}} {
		a := w.ask(Question{From: begin, Step: time.Minute, Numbers: []string{series.Waiting, series.Lag},
			Destination: "archive", By: by})
		require.Len(t, a.Lines, 2*len(names))
		assert.Equal(t, []int64{10, 15, 8, 5, 7}, a.Lines[0].Points[:5],
			"in the fourth minute what the second host had told waited until it told otherwise")
		assert.Equal(t, []int64{60, 120, 90, 0, 30}, a.Lines[1].Points[:5])
	}
	a := w.ask(Question{From: begin, Step: time.Hour, Numbers: []string{series.Waiting}})
	assert.Equal(t, int64(15), a.Lines[0].Points[0])
}

// TestSpans: what is not kept is a gap, steps fit the span, and nothing comes of nothing.
func TestSpans(t *testing.T) {
	t.Parallel()
	for span, step := range map[time.Duration]time.Duration{time.Hour: 30 * time.Second, 5 * time.Hour: time.Minute,
		24 * time.Hour: 5 * time.Minute, 72 * time.Hour: 15 * time.Minute, 30 * 24 * time.Hour: 3 * time.Hour,
		390 * 24 * time.Hour: 24 * time.Hour} {
		assert.Equal(t, step, StepFor(span), span.String())
	}
	w := newWorld(t, time.Date(2031, 3, 10, 6, 0, 0, 0, time.UTC))
	assert.Empty(t, w.ask(Question{From: w.at.Add(-time.Hour), Numbers: []string{series.Read}}).Lines)
	w.take("na", counted(1, 1, 0), counted(1, 1, 0))
	assert.Empty(t, w.ask(Question{From: w.at.Add(-time.Hour), Numbers: []string{series.Read},
		Hosts: map[string]bool{}}).Lines)
	got := w.ask(Question{From: w.at.Add(-time.Hour), Numbers: []string{series.Read, series.Unparsed}, Source: "gates"})
	require.Len(t, got.Lines, 2)
	assert.Zero(t, got.Lines[1].Sum(), "what was not counted is nothing, where the host was heard")
}

// BenchmarkMonth is the size of a month of 10,000 hosts with 20 sources, from one host's month, and how long one
// source's month over all hosts takes.
func BenchmarkMonth(b *testing.B) {
	rnd := rand.New(rand.NewPCG(4, 4))
	of := series.New(0, Middle, middleBlock/Middle)
	for s := range 20 {
		source := fmt.Sprintf("source-%02d", s)
		for i := range of.Heard {
			of.Heard[i] = true
			v := int64(rnd.IntN(3000))
			for _, c := range columns(nil, source, wire.Numbers{Read: v, Bytes: v * 120,
				Deliveries: map[string]wire.DeliveryCounts{"archive": {Acknowledged: v, Sent: v * 250}}}) {
				of.Add(c.key, i, c.value)
			}
		}
	}
	size := len(of.Pack())
	b.ReportMetric(float64(size)*30*10_000/1e9, "GB/month")
	b.ReportMetric(float64(size)/float64(20*3*len(of.Heard)), "B/value") // one of four columns is the same as another
	for range b.N {
		_, _ = series.Unpack(of.Pack(), nil)
	}
}

// TestOfSenders: what came from each sender over time comes to what was counted, of sources apart and over merges, and
// sums of sources stay as they were.
func TestOfSenders(t *testing.T) {
	t.Parallel()
	rnd := rand.New(rand.NewPCG(5, 2))
	begin := time.Date(2031, 3, 10, 22, 0, 0, 0, time.UTC)
	w := newWorld(t, begin)
	want, read := map[string]int64{}, int64(0)
	for w.at.Before(begin.Add(30 * time.Hour)) {
		for _, h := range []string{"na", "nb"} {
			all := map[string]wire.Numbers{}
			for _, source := range []string{"bridges", "radar"} {
				var n wire.Numbers
				for _, sender := range []string{"bridge-a", "bridge-b"} {
					k := int64(rnd.IntN(50))
					n.Read += k + 1 // and one of who is not known
					add := func(of *map[string]int64, number, destination string, v int64) {
						name := sender
						if destination != "" {
							name = wire.SenderOf(destination, sender)
							want[destination+" "+source+" "+sender+" "+number] += v
						}
						wire.Count(of, name, v)
						want[source+" "+sender+" "+number] += v
					}
					add(&n.Senders, series.Read, "", k)
					add(&n.SenderBytes, series.Bytes, "", 90*k)
					add(&n.SenderUnparsed, series.Unparsed, "", k/10)
					add(&n.SenderDropped, series.Dropped, "", k/5)
					add(&n.SenderMasked, series.Masked, "", k/3)
					wire.Count(&n.SenderDrops, wire.SenderOf("keep", sender), k/5)
					want[source+" "+sender+" dropped:keep"] += k / 5
					wire.Count(&n.SenderMasks, wire.SenderOf("plates", sender), k/4)
					want[source+" "+sender+" masked:plates"] += k / 4
					for i, to := range []string{"archive", "lake"} {
						add(&n.SenderAcknowledged, series.Acknowledged, to, k+int64(i))
						add(&n.SenderSent, series.Sent, to, 100*k)
						add(&n.SenderRefused, series.Rejected, to, k/7)
					}
				}
				read += n.Read
				all[source] = n
			}
			w.take(h, all, all)
		}
		if w.at = w.at.Add(time.Minute); rnd.IntN(100) == 0 {
			require.NoError(t, w.flush(true))
			w.start()
		}
	}
	for _, step := range []time.Duration{30 * time.Second * 4, 5 * time.Minute, time.Hour} {
		for _, hosts := range []map[string]bool{nil, {"na": true, "nb": true}} {
			for _, source := range []string{"bridges", "radar"} {
				got := map[string]int64{}
				for _, l := range w.ask(Question{From: begin, Step: step, By: BySender, Source: source, Hosts: hosts,
					Numbers: append([]string{"dropped:keep", "masked:*"}, series.Senders...)}).Lines {
					got[source+" "+l.Group+" "+l.Number] = l.Sum()
				}
				for _, l := range w.ask(Question{From: begin, Step: step, By: BySender, Source: source, Hosts: hosts,
					Destination: "lake", Numbers: []string{series.Read, series.Acknowledged, series.Sent}}).Lines {
					if l.Number == series.Read {
						assert.Equal(t, got[source+" "+l.Group+" "+l.Number], l.Sum(), "which is of no destination")
					} else {
						got["lake "+source+" "+l.Group+" "+l.Number] = l.Sum()
					}
				}
				for k, v := range got {
					assert.Equal(t, want[k], v, "%s by steps of %s", k, step)
				}
				assert.Len(t, got, 2*(2+len(series.Senders))+4)
			}
			sum := int64(0)
			for _, l := range w.ask(Question{From: begin, Step: step, By: "source", Hosts: hosts,
				Numbers: []string{series.Read}}).Lines {
				sum += l.Sum()
			}
			assert.Equal(t, read, sum)
		}
	}
	one := w.ask(Question{From: begin, Step: time.Hour, Numbers: []string{series.OfSender(series.Read, "bridge-a")}})
	assert.Equal(t, want["bridges bridge-a read"]+want["radar bridge-a read"], one.Lines[0].Sum())
	one = w.ask(Question{From: begin, Step: time.Hour, Source: "radar", Numbers: []string{"masked:*@bridge-b", "read"}})
	require.Len(t, one.Lines, 2)
	assert.Equal(t, "masked:plates@bridge-b", one.Lines[0].Number)
	assert.Equal(t, want["radar bridge-b masked:plates"], one.Lines[0].Sum())
}
