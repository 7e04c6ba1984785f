package wire

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"google.golang.org/protobuf/proto"
)

// ofSenders are numbers of a source with so many senders, whose records go to so many destinations.
func ofSenders(senders, destinations int) map[string]Numbers {
	n := Numbers{Read: int64(senders)}
	for i := range senders {
		sender := fmt.Sprintf("weighbridge-%05d", i)
		for _, p := range Parts {
			if p.Senders() && !p.AtDestinations {
				put(p.Of(&n), sender, 1<<40+int64(i))
			}
		}
		for d := range destinations {
			for _, p := range Parts {
				if p.AtDestinations {
					put(p.Of(&n), SenderAt(fmt.Sprint("harbour-archive-", d), sender), 1<<40+int64(i))
				}
			}
		}
	}
	return map[string]Numbers{"weighbridges": n, "other": {Read: 1, Senders: map[string]int64{"tide-gauge": 5}}}
}

// TestSomeSenders: however many senders there are, a report is within its bounds, leaves other numbers as they are,
// and after some reports all were told, each as often as another.
func TestSomeSenders(t *testing.T) {
	t.Parallel()
	for _, senders := range []int{1, SendersTold - 1, SendersTold, SendersTold + 1, 1000, 4321} {
		told, reports := map[string]int{}, (senders+SendersTold)/SendersTold
		last := ""
		for range reports {
			all := ofSenders(senders, 6)
			last = SomeSenders(all, last)
			data, err := proto.Marshal(EncodeNumbers("h", time.Unix(1, 0), time.Unix(2, 0), all))
			require.NoError(t, err)
			assert.LessOrEqual(t, len(data), MaxMetrics*9/10, "%d senders", senders)
			r, err := ReadReport(data)
			require.NoError(t, err)
			assert.Equal(t, all, r.Sources)
			assert.EqualValues(t, senders, r.Sources["weighbridges"].Read)
			for source, n := range all {
				for name := range n.Senders {
					told[source+name]++
				}
				assert.Len(t, n.SenderAcknowledged, 6*len(n.SenderBytes))
			}
		}
		assert.Len(t, told, senders+1, "%d senders in %d reports", senders, reports)
		for name, n := range told {
			assert.LessOrEqual(t, n, 2, name)
		}
	}
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
