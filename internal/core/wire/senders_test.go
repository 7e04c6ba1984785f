package wire

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"google.golang.org/protobuf/proto"
)

// ofSenders are numbers of a source with so many senders, whose records go to so many destinations. Names are as long
// as that.
func ofSenders(senders, destinations, length int) map[string]Numbers {
	n := Numbers{Read: int64(senders)}
	long := func(text string) string { return text + strings.Repeat("x", max(0, length-len(text))) }
	for i := range senders {
		sender := long(fmt.Sprintf("weighbridge-%05d", i))
		for _, p := range Parts {
			switch {
			case !p.Senders():
			case p.With == "":
				put(p.Of(&n), sender, 1<<40+int64(i))
			default:
				for d := range destinations {
					put(p.Of(&n), SenderOf(long(fmt.Sprint("harbour-archive-", d)), sender), 1<<40+int64(i))
				}
			}
		}
	}
	return map[string]Numbers{
		long("weighbridges"): n,
		"other":              {Read: 1, Senders: map[string]int64{"tide-gauge": 5}},
	}
}

// TestSomeSenders: however many senders there are, and however long their names, a report is within its bounds, leaves
// other numbers as they are, and once it begins anew all were told, each as often as another.
func TestSomeSenders(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ senders, destinations, length int }{
		{1, 1, 0}, {1, 64, 63}, {100, 6, 63}, {300, 3, 20}, {400, 3, 20}, {1000, 1, 5}, {900, 6, 20}, {50, 40, 63},
	} {
		told, reports, last := map[string]int{}, 0, ""
		source := ""
		for ; reports == 0 || len(told) <= c.senders; reports++ {
			require.Less(t, reports, 2000)
			all := ofSenders(c.senders, c.destinations, c.length)
			last = SomeSenders(all, last)
			data, err := proto.Marshal(EncodeNumbers("h", time.Unix(1, 0), time.Unix(2, 0), all))
			require.NoError(t, err)
			assert.LessOrEqual(t, len(data), MaxMetrics*9/10, "%+v", c)
			r, err := ReadReport(data)
			require.NoError(t, err, "%+v", c)
			assert.Equal(t, all, r.Sources)
			for name, n := range all {
				for sender := range n.Senders {
					told[name+sender]++
				}
				if name != "other" {
					source = name
				}
				assert.Len(t, n.SenderAcknowledged, c.destinations*len(n.SenderBytes))
			}
			assert.EqualValues(t, c.senders, r.Sources[source].Read)
			if last == "" {
				assert.Len(t, told, c.senders+1, "all at once")
				break
			}
		}
		assert.Len(t, told, c.senders+1, "%+v", c)
		for name, n := range told {
			assert.LessOrEqual(t, n, 2, name)
		}
	}
}

// TestWaitingOfSenders: what waits is as it was told last, also 0, and of those that are not told it stays.
func TestWaitingOfSenders(t *testing.T) {
	t.Parallel()
	was := Numbers{Read: 9, SenderWaiting: map[string]int64{"lake/a": 5, "lake/b": 7, "lake/c": 0},
		SenderOldest: map[string]int64{"lake/a": 100, "lake/b": 200}}
	now := Numbers{Read: 9, SenderWaiting: map[string]int64{"lake/a": 0, "lake/c": 3},
		SenderOldest: map[string]int64{"lake/c": 300}}
	assert.Equal(t, Numbers{Read: 9, SenderWaiting: map[string]int64{"lake/a": 0, "lake/b": 7, "lake/c": 3},
		SenderOldest: map[string]int64{"lake/b": 200, "lake/c": 300}}, now.NotBelow(was))
	_, grew := now.Since(was)
	assert.False(t, grew, "what waits is no sum")
	assert.Equal(t, Numbers{Read: 9}, now.Settled())
}

// TestTakeSendersAt: of other numbers what became of records at one destination is taken, and nothing else.
func TestTakeSendersAt(t *testing.T) {
	t.Parallel()
	n := Numbers{SenderSent: map[string]int64{"archive/a": 1}}
	n.TakeSendersAt("lake", Numbers{Read: 7, Senders: map[string]int64{"a": 7},
		SenderSent:    map[string]int64{"lake/a": 5, "archive/a": 9},
		SenderRefused: map[string]int64{"lake/b": 2}})
	assert.Equal(t, Numbers{SenderSent: map[string]int64{"archive/a": 1, "lake/a": 5},
		SenderRefused: map[string]int64{"lake/b": 2}}, n)
}
