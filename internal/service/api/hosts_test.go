package api

import (
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/contract"
	"synaxis/internal/core/health"
	"synaxis/internal/core/wire"
	"synaxis/internal/service/hosts"
	"synaxis/internal/service/store"
)

// TestPagesInAnyOrder: pages of any size, one after the other by their cursors, are the whole list in its order,
// whatever hosts have in common.
func TestPagesInAnyOrder(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(7, 7))
	states := []health.State{health.Healthy, health.Waiting, health.Degraded, health.Offline, health.Failing}
	for _, by := range []string{"", "name", "state", "revision", "read", "acknowledged", "lastRecord", "lastSeen"} {
		for _, reverse := range []bool{false, true} {
			order := hostOrder{by, reverse}
			var all []hostRow
			for i := range 200 {
				kept := hosts.Judgement{
					Worst:        health.Verdict{State: states[r.IntN(len(states))]},
					Read:         int64(r.IntN(5)),
					Acknowledged: int64(r.IntN(5)),
					LastRecord:   int64(r.IntN(5)),
				}
				row := hostRow{Name: fmt.Sprintf("h%03d", i), Num: int64(r.IntN(4))}
				if by != "revision" && by != "lastSeen" { // these are read of the host itself
					row.Num = order.number("", kept, nil)
				}
				all = append(all, row)
			}
			want := slices.Clone(all)
			slices.SortFunc(want, order.compare)
			for _, limit := range []int{1, 7, 200} {
				var got []string
				cursor := ""
				for {
					after, err := readCursor(cursor, by)
					require.NoError(t, err)
					var page []hostRow
					for _, row := range all {
						if after == nil || order.compare(row, *after) > 0 {
							page = append(page, row)
						}
					}
					slices.SortFunc(page, order.compare)
					page = page[:min(limit, len(page))]
					for _, row := range page {
						got = append(got, row.Name)
					}
					if len(page) < limit || len(got) == len(all) {
						break
					}
					cursor = page[len(page)-1].cursor(by)
				}
				var names []string
				for _, row := range want {
					names = append(names, row.Name)
				}
				require.Equal(t, names, got, "by %q, reverse %v, %d at a time", by, reverse, limit)
			}
		}
	}
	for _, bad := range []string{"x", "%%", "e30x"} {
		_, err := readCursor(bad, "state")
		assert.Error(t, err, bad)
	}
}

// TestNumbersAndNotes: every number of a source has its place in the answer, and what is left out is said.
func TestNumbersAndNotes(t *testing.T) {
	t.Parallel()
	n := wire.Numbers{
		Read:         10,
		Acknowledged: 6,
		Unparsed:     1,
		Dropped:      2,
		Failed:       3,
		Masked:       4,
		NoZone:       5,
		Blank:        6,
		Truncated:    7,
		Zeros:        8,
		Packed:       9,
		Pending:      1,
		Unread:       11,
		FirstRead:    12,
		Oldest:       1e9,
		LastRecord:   2e9,
		Bytes:        99,
		Missed:       4,
		TurnedAway:   map[string]int64{"tls": 2},
		Deliveries: map[string]wire.DeliveryCounts{
			"b": {Acknowledged: 3, Refused: 1},
			"a": {Acknowledged: 6, Refused: 1},
		},
	}
	out := numbers(n)
	assert.Equal(
		t,
		[]int64{10, 6, 1, 2, 3, 4, 5, 6, 7, 8, 9, 1, 11, 12, 99, 2},
		[]int64{
			out.Read,
			out.Acknowledged,
			out.Unparsed,
			out.Dropped,
			out.Failed,
			out.Masked,
			out.NoZone,
			out.Blank,
			out.Truncations,
			out.Zeros,
			out.Packed,
			out.Pending,
			out.Unread,
			out.FirstRead,
			out.Bytes,
			out.Refused,
		},
	)
	assert.Equal(t, []string{"a", "b"}, []string{out.Destinations[0].Destination, out.Destinations[1].Destination})
	assert.Equal(t, time.Unix(1, 0).UTC(), *out.Oldest)
	assert.Nil(t, numbers(wire.Numbers{}).Oldest)
	said := strings.Join(notes(n), "\n")
	for _, want := range []string{"9 packed files cannot be unpacked, and are not read", "4 messages were lost", "2 turned away: tls", "12 bytes", "8 NUL bytes",
		"7 truncations"} {
		assert.Contains(t, said, want)
	}
	assert.Empty(t, notes(wire.Numbers{Read: 5}))
	assert.Equal(t, []string{"1 packed file cannot be unpacked, and is not read"}, notes(wire.Numbers{Packed: 1}))
}

// TestEveryCounterIsShown: each counter has its place in the contract, and the contract has no number that nobody
// counts.
func TestEveryCounterIsShown(t *testing.T) {
	t.Parallel()
	left := maps.Clone(fieldsOf)
	for i, c := range wire.Counters {
		_, ok := left[c.Key]
		require.True(t, ok, c.Key)
		delete(left, c.Key)
		var n wire.Numbers
		*c.Of(&n) = int64(i + 1)
		text, err := json.Marshal(numbers(n))
		require.NoError(t, err)
		var shown map[string]any
		require.NoError(t, json.Unmarshal(text, &shown))
		if c.Unit == "ns" {
			at, err := time.Parse(time.RFC3339Nano, shown[c.Key].(string))
			require.NoError(t, err)
			assert.EqualValues(t, i+1, at.UnixNano(), c.Key)
		} else {
			assert.EqualValues(t, i+1, shown[c.Key], c.Key)
		}
	}
	assert.ElementsMatch(
		t,
		[]string{"dropReasons", "masks", "turnedAway", "filled", "senders", "destinations", "refused"},
		slices.Collect(maps.Keys(left)),
		"these are by reason and by destination",
	)
}

// TestEditsAreChecked before anything is written.
func TestEditsAreChecked(t *testing.T) {
	t.Parallel()
	edit := func(set map[string]string, remove ...string) *contract.MapEdit {
		return &contract.MapEdit{Set: &set, Remove: &remove}
	}
	assert.NoError(t, checkEdit(edit(map[string]string{"site": "np"}, "role")))
	for _, bad := range []*contract.MapEdit{nil, {}, edit(map[string]string{"": "x"}), edit(
		map[string]string{"a b": "x"}), edit(map[string]string{"a": "x\ny"})} {
		assert.Error(t, checkEdit(bad), "%+v", bad)
	}
	a := hostTag(store.Host{Name: "h", Labels: map[string]string{"a": "1", "b": "2"}})
	assert.Equal(
		t,
		a,
		hostTag(store.Host{Name: "other", Labels: map[string]string{"b": "2", "a": "1"}}),
		"by what is edited alone",
	)
	assert.NotEqual(
		t,
		a,
		hostTag(store.Host{Labels: map[string]string{"a": "1"}, Settings: map[string]string{"b": "2"}}),
	)
}
