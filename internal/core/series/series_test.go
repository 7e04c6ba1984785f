package series

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// random makes a block like those of hosts: sources that read steadily, in bursts or not at all, and destinations that
// take what was read.
func random(rnd *rand.Rand, n int) *Block {
	b := New(int64(rnd.IntN(1000))*300, []int64{30, 300, 3600}[rnd.IntN(3)], n)
	for i := range b.Heard {
		b.Heard[i] = rnd.IntN(20) > 0
	}
	for s := range rnd.IntN(6) {
		k := Key{Source: fmt.Sprintf("source-%d", s), Number: Read}
		for i := range n {
			if !b.Heard[i] || s == 3 && rnd.IntN(10) > 0 {
				continue
			}
			v := int64(rnd.IntN(50))
			b.Add(k, i, v)
			b.Add(Key{k.Source, "", Bytes}, i, v*97)
			b.Add(Key{k.Source, "archive", Acknowledged}, i, v)
			b.Add(Key{k.Source, "archive", Lag}, i, int64(rnd.IntN(3)))
			b.Add(Key{k.Source, "", Dropped + ":limit"}, i, int64(rnd.IntN(2)*math.MaxInt32))
		}
	}
	return b
}

func TestPackAndUnpack(t *testing.T) {
	t.Parallel()
	rnd := rand.New(rand.NewPCG(5, 6))
	for range 300 {
		b := random(rnd, rnd.IntN(300))
		packed := b.Pack()
		back, err := Unpack(packed, nil)
		require.NoError(t, err)
		require.Equal(t, b.Start, back.Start)
		require.Equal(t, b.Step, back.Step)
		require.Equal(t, b.Heard, back.Heard)
		for k, col := range back.Cols {
			require.Equal(t, b.Cols[k], col)
		}
		for k, col := range b.Cols {
			if back.Cols[k] == nil {
				require.Zero(t, Sum(k.Number, col), "only columns of zeros are left out")
			}
		}
		some, err := Unpack(packed, func(k Key) bool { return k.Source == "source-1" && k.Number == Read })
		require.NoError(t, err)
		require.LessOrEqual(t, len(some.Cols), 1)
		for range 20 { // no part of it is taken for the whole
			_, err := Unpack(packed[:rnd.IntN(len(packed))], nil)
			require.ErrorIs(t, err, ErrDamaged)
		}
	}
}

// TestPackedSize: a value that changes takes less than three bytes, and one that does not takes nothing.
func TestPackedSize(t *testing.T) {
	t.Parallel()
	rnd := rand.New(rand.NewPCG(1, 2))
	const steps, sources = 288, 20
	b := New(0, 300, steps)
	values := 0
	for s := range sources {
		for i := range steps {
			b.Heard[i] = true
			v := int64(200 + rnd.IntN(4000))
			for _, k := range []Key{{Number: Read}, {Number: Bytes}, {Destination: "archive", Number: Acknowledged}} {
				k.Source = fmt.Sprintf("source-%02d", s)
				n := v
				if k.Number == Bytes {
					n = v * int64(90+rnd.IntN(5))
				}
				b.Add(k, i, n)
				values++
			}
		}
	}
	size := len(b.Pack())
	assert.Less(t, float64(size)/float64(values), 3.0, "%d bytes for %d values", size, values)
	still := New(0, 300, steps)
	for i := range steps {
		still.Heard[i] = true
		still.Add(Key{Source: "source-01", Number: Read}, i, 12345)
	}
	assert.Less(t, len(still.Pack()), 60)
}

// TestPut: coarser blocks hold what finer ones did, over all orders and places.
func TestPut(t *testing.T) {
	t.Parallel()
	rnd := rand.New(rand.NewPCG(9, 9))
	for range 100 {
		day := New(0, 300, 288)
		want := map[Key]int64{}
		for _, i := range rnd.Perm(288)[:rnd.IntN(288)] {
			fine := New(int64(i)*300, 30, 10)
			for range rnd.IntN(12) {
				k := Key{Source: fmt.Sprint("s", rnd.IntN(3)), Number: []string{Read, Lag}[rnd.IntN(2)]}
				at, v := rnd.IntN(10), int64(rnd.IntN(100))
				fine.Heard[at] = true
				fine.Add(k, at, v)
			}
			for k, col := range fine.Cols {
				if k.Number == Lag {
					want[k] = max(want[k], Sum(Lag, col))
				} else {
					want[k] += Sum(Read, col)
				}
			}
			day.Put(fine)
			require.Equal(t, len(fine.Cols) > 0 || day.Heard[i], day.Heard[i])
		}
		hours := New(0, 3600, 24)
		hours.Put(day)
		for k, v := range want {
			require.Equal(t, v, Sum(k.Number, day.Cols[k]))
			require.Equal(t, v, Sum(k.Number, hours.Cols[k]))
		}
	}
	outside := New(0, 30, 10)
	outside.Put(random(rnd, 50))
	b := New(7200, 300, 12)
	late := New(10500, 300, 12)
	late.Add(Key{Number: Read}, 0, 1)
	late.Add(Key{Number: Read}, 5, 1)
	b.Put(late)
	assert.Equal(t, int64(1), Sum(Read, b.Cols[Key{Number: Read}]), "what lies outside is left out")
}

func TestSumsStayAtTheBound(t *testing.T) {
	t.Parallel()
	b := New(0, 30, 1)
	b.Add(Key{Number: Read}, 0, math.MaxInt64-1)
	b.Add(Key{Number: Read}, 0, math.MaxInt64-1)
	assert.Equal(t, int64(math.MaxInt64-1), b.Cols[Key{Number: Read}][0])
}

func TestKnown(t *testing.T) {
	t.Parallel()
	for number, known := range map[string]bool{Read: true, "dropped:limit": true, "dropped:": false,
		"read@bridge-a": true, "sent@bridge-a": true, "masked@bridge-a": true, "masked:phone": true,
		"bytes@": false, "lag@x": true, "disk@x": false, "no-zone@x": false, "sent:x": false, "read:bridge-a": false,
		"dropped:limit@x": true, "dropped:@x": false, "dropped:limit@": false, "sent:x@y": false, "masked:*@x": true,
		"": false, "Read": false, Lag: true} {
		assert.Equal(t, known, Known(number), number)
	}
}

// TestManyColumns: whatever was added to a block, what is packed of it can be unpacked, also what ten thousand senders
// have at several destinations; beyond its bound a block takes no more columns.
func TestManyColumns(t *testing.T) {
	t.Parallel()
	b := New(0, 30, 2)
	for i := range 10_000 {
		for _, number := range Senders {
			for _, to := range []string{"archive", "lake"} {
				b.Add(Key{"weighbridges", to, OfSender(number, fmt.Sprint("bridge-", i))}, i%2, int64(i)+1)
			}
		}
	}
	require.Len(t, b.Cols, 200_000)
	back, err := Unpack(b.Pack(), nil)
	require.NoError(t, err)
	assert.Equal(t, b.Cols, back.Cols)
	for i := range 100_000 {
		b.Add(Key{"more", "", OfSender(Read, fmt.Sprint("bridge-", i))}, 0, 1)
	}
	assert.Len(t, b.Cols, MaxColumns)
	b.Add(Key{"weighbridges", "lake", OfSender(Read, "bridge-7")}, 0, 5)
	back, err = Unpack(b.Pack(), func(k Key) bool { return k.Source == "weighbridges" && k.Number == "read@bridge-7" })
	require.NoError(t, err)
	assert.Equal(t, []int64{5, 8}, back.Cols[Key{"weighbridges", "lake", "read@bridge-7"}])
}

func FuzzUnpack(f *testing.F) {
	rnd := rand.New(rand.NewPCG(5, 6))
	for range 5 {
		f.Add(random(rnd, 20).Pack())
	}
	f.Fuzz(func(t *testing.T, packed []byte) {
		b, err := Unpack(packed, nil)
		if err != nil {
			return
		}
		back, err := Unpack(b.Pack(), nil)
		require.NoError(t, err)
		for k, col := range b.Cols {
			if Sum(Read, col) != 0 && back.Cols[k] == nil {
				t.Fatalf("%v is gone", k)
			}
		}
	})
}
