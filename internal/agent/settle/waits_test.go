package settle

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWaits: whatever comes and goes, the sum is right, and the oldest is never younger than it says; of few moments
// it is exactly that, and of many it is off by a small share of its age.
func TestWaits(t *testing.T) {
	t.Parallel()
	for seed := range uint64(300) {
		rnd := rand.New(rand.NewPCG(seed, 3))
		var w Waits
		var each []int64 // when each was read
		now := int64(1_000_000)
		moments := 1 + rnd.IntN(400)
		for range moments {
			now += rnd.Int64N(30)
			switch rnd.IntN(3) {
			case 0:
				n := rnd.IntN(len(each) + 2)
				w.Take(int64(n))
				each = each[min(n, len(each)):]
			default:
				n := rnd.IntN(20)
				w.Add(time.Unix(now, rnd.Int64N(1e9)), int64(n))
				for range n {
					each = append(each, now)
				}
			}
			require.EqualValues(t, len(each), w.Records, "seed %d", seed)
			if len(each) == 0 {
				require.Zero(t, w.Oldest(), "seed %d", seed)
				continue
			}
			said, is := w.Oldest()/int64(time.Second), each[0]
			require.LessOrEqual(t, said, is, "seed %d", seed)
			if moments < mostMarks {
				require.Equal(t, is, said, "seed %d", seed)
			}
			require.Less(t, float64(is-said), 60+float64(now-said)/4, "seed %d: %d s ago, said %d", seed, now-is,
				now-said)
			require.LessOrEqual(t, len(w.marks), mostMarks)
		}
		var other, none Waits
		other.Add(time.Unix(now-5000, 0), 3)
		sum := w.Records + 3
		w.merge(&other)
		w.merge(&none)
		assert.Equal(t, sum, w.Records)
		assert.Zero(t, other.Records)
		w.Take(1 << 40)
		assert.Equal(t, Waits{}, w)
	}
}
