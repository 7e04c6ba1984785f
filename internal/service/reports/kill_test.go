package reports

import (
	"context"
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/series"
	"synaxis/internal/core/wire"
	"synaxis/internal/service/numbers"
	"synaxis/internal/service/store"
)

// told is an agent that counts.
type told struct {
	name  string
	start time.Time
	next  time.Time
	read  int64 // since then; not a few where it was not heard of from the begin
	ever  int64
	known bool
}

// TestKilledServiceLosesNoCount: whenever a service is killed or stopped and started anew, the numbers over time come
// to what the agents have read, no less and no more; also where an agent begins to count anew.
func TestKilledServiceLosesNoCount(t *testing.T) {
	t.Parallel()
	for seed := range uint64(12) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			ctx := context.Background()
			rnd := rand.New(rand.NewPCG(seed, 7))
			st, err := store.Open(ctx, t.TempDir())
			require.NoError(t, err)
			defer st.Close()
			now := noon.Add(time.Duration(rnd.IntN(300)) * time.Second)
			clock := func() time.Time { return now }
			over, r := begin(t, st, clock)
			agents := []*told{{name: "a"}, {name: "b"}, {name: "c"}, {name: "old", read: 5000}}
			for _, a := range agents {
				a.start, a.next = now, now.Add(time.Duration(rnd.IntN(30))*time.Second)
				if a.read > 0 {
					a.start = now.Add(-5 * time.Hour)
				}
			}
			report := func(a *told) {
				more := int64(rnd.IntN(1000))
				if a.read < 5000 || a.known { // what it had counted before it was heard of is of no time that is known
					a.ever += more
				}
				a.read, a.known = a.read+more, true
				r.TakeReport(a.name, wire.Report{Start: a.start, At: now, Sources: map[string]wire.Numbers{
					"gate": {Read: a.read, Bytes: 10 * a.read}}})
			}
			lost := int64(0)
			for range 3600 {
				now = now.Add(time.Second)
				for _, a := range agents {
					if !now.Before(a.next) {
						report(a)
						a.next = now.Add(30 * time.Second)
						if rnd.IntN(40) == 0 { // it has lost its state
							a.start, a.read, lost = now.Add(time.Second), 0, now.Unix()/300
						}
					}
				}
				r.FlushDue(ctx)
				switch rnd.IntN(300) {
				case 0:
					if lost != now.Unix()/300 { // what both the service and the agent have lost is lost
						over, r = begin(t, st, clock)
					}
				case 1:
					r.Flush(ctx)
					over, r = begin(t, st, clock)
				}
			}
			for _, a := range agents {
				report(a)
				got, err := over.Ask(ctx, numbers.Question{From: noon, To: now.Add(time.Second),
					Numbers: []string{series.Read}, Hosts: map[string]bool{a.name: true}})
				require.NoError(t, err)
				sum := int64(0)
				for _, l := range got.Lines {
					sum += l.Sum()
				}
				assert.Equal(t, a.ever, sum, a.name)
			}
		})
	}
}
