package settle

import (
	"encoding/binary"
	"maps"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/wire"
)

// TestContiguousPrefix: a position moves over the contiguous run of settled batches only, and the settled numbers fit
// it.
func TestContiguousPrefix(t *testing.T) {
	t.Parallel()
	b := NewBook(wire.Numbers{Read: 5, Pending: 3, Acknowledged: 5,
		Deliveries: map[string]wire.DeliveryCounts{"x": {Read: 5, Acknowledged: 5}}})
	l := b.Ledger(Cursor("page 100"), nil)
	at := func() (Settled, wire.Numbers) {
		s, n := b.Snapshot([]*Ledger{l})
		return s[0], n
	}
	first := l.Add(Cursor("page 110"), []Way{{"x", 1}, {"y", 1}}, wire.Numbers{Read: 1})
	second := l.Add(Cursor("page 120"), []Way{{"x", 2}, {"y", 0}}, wire.Numbers{Read: 3, Dropped: 1})
	l.Add(Cursor("page 130"), nil, wire.Numbers{Read: 0, Blank: 4})
	second.Done("x", wire.DeliveryCounts{Acknowledged: 2})
	s, n := at()
	assert.Equal(t, Settled{All: Cursor("page 100")}, s)
	assert.Equal(t, int64(5), n.Read)
	live := b.Live()
	assert.Equal(t, int64(9), live.Read)
	assert.Equal(t, int64(1), live.Pending, "of the first, at each destination")
	assert.Equal(t, wire.DeliveryCounts{Read: 9, Dropped: 1, Acknowledged: 7, InMemory: 1}, live.Deliveries["x"])
	first.Done("x", wire.DeliveryCounts{Acknowledged: 1})
	s, n = at()
	assert.Equal(t, Settled{Cursor("page 100"), map[string]Cursor{"x": Cursor("page 130")}}, s,
		"one way of the first is open")
	assert.Equal(t, wire.DeliveryCounts{Read: 9, Dropped: 1, Acknowledged: 8}, n.Deliveries["x"])
	assert.False(t, l.Idle())
	first.Done("y", wire.DeliveryCounts{Refused: 1})
	s, n = at()
	assert.Equal(t, Settled{All: Cursor("page 130")}, s)
	assert.True(t, l.Idle())
	assert.Equal(t, wire.Numbers{Read: 9, Dropped: 1, Blank: 4, Acknowledged: 7,
		Deliveries: map[string]wire.DeliveryCounts{
			"x": {Read: 9, Dropped: 1, Acknowledged: 8},
			"y": {Read: 4, Dropped: 1, Elsewhere: 2, Refused: 1},
		}}, n)
	assert.Zero(t, b.Live().Pending)
}

// TestBooksBalance reads, settles, spills, crashes and starts again in random order: at every moment the books of each
// destination balance, and after each crash a record that a destination had settled is not brought to it again.
func TestBooksBalance(t *testing.T) {
	t.Parallel()
	destinations := []string{"a", "b", "c"}
	at := func(n int) Cursor { return binary.BigEndian.AppendUint64(nil, uint64(n)) }
	for seed := range uint64(500) {
		rnd := rand.New(rand.NewPCG(seed, 2))
		b := NewBook(wire.Numbers{})
		l := b.Ledger(at(0), nil)
		read := 0
		type open struct {
			e            *Entry
			name, sender string
			records      int64
		}
		senders := []string{"bridge-a", "bridge-b"}
		acknowledged, refused := map[string]int64{}, map[string]int64{} // of each sender
		var waits []open
		disk := map[string]int64{} // of each sender
		onDisk := func(name string) (sum int64, senders map[string]*Waits) {
			senders = map[string]*Waits{}
			for at, n := range disk {
				if to, sender := wire.CutSenderOf(at); to == name && n > 0 {
					sum += n
					senders[sender] = &Waits{}
					senders[sender].Add(time.Unix(1, 0), n)
				}
			}
			return sum, senders
		}
		balance := func() {
			t.Helper()
			live := b.Live()
			require.Equal(t, acknowledged, counted(live.SenderAcknowledged), "seed %d", seed)
			require.Equal(t, refused, counted(live.SenderRefused), "seed %d", seed)
			for name, c := range live.Deliveries {
				require.Zero(t, c.Difference(), "seed %d: %s: %+v", seed, name, c)
				all, _ := onDisk(name)
				require.Equal(t, all, c.OnDisk, "seed %d: %s", seed, name)
			}
			waiting := maps.Clone(disk)
			for _, w := range waits {
				waiting[wire.SenderOf(w.name, w.sender)] += w.records
			}
			none := func(_ string, n int64) bool { return n == 0 }
			maps.DeleteFunc(waiting, none)
			maps.DeleteFunc(live.SenderWaiting, none)
			require.Equal(t, waiting, counted(live.SenderWaiting), "seed %d", seed)
			require.Len(t, live.SenderOldest, len(waiting), "seed %d", seed)
			_, n := b.Snapshot([]*Ledger{l})
			for name, c := range n.Deliveries {
				require.Zero(t, c.Difference(), "seed %d: settled of %s: %+v", seed, name, c)
				got := wire.DeliveryCounts{}
				for _, s := range senders {
					got.Acknowledged += n.SenderAcknowledged[wire.SenderOf(name, s)]
					got.Sent += n.SenderSent[wire.SenderOf(name, s)]
					got.Refused += n.SenderRefused[wire.SenderOf(name, s)]
				}
				want := wire.DeliveryCounts{Acknowledged: c.Acknowledged, Sent: c.Sent, Refused: c.Refused}
				require.Equal(t, want, got, "seed %d: settled of all senders", seed)
			}
		}
		for range 80 {
			switch rnd.IntN(5) {
			case 0, 1:
				size := 1 + rnd.IntN(5)
				if next := l.Boundary(at(read)); next != nil {
					size = min(size, int(binary.BigEndian.Uint64(next))-read)
				}
				kept := int64(rnd.IntN(size + 1))
				end := at(read + size)
				var ways []Way
				for _, name := range destinations {
					if !l.Ahead(name, end) {
						ways = append(ways, Way{name, rnd.Int64N(kept + 1)})
					}
				}
				sender := senders[rnd.IntN(2)]
				e := l.Add(end, ways, wire.Numbers{Read: int64(size), Dropped: int64(size) - kept,
					Senders: map[string]int64{sender: int64(size)}})
				for _, w := range ways {
					if w.Records > 0 {
						waits = append(waits, open{e, w.Destination, sender, w.Records})
					}
				}
				read += size
			case 2:
				if len(waits) > 0 {
					i := rnd.IntN(len(waits))
					w := waits[i]
					waits = append(waits[:i], waits[i+1:]...)
					var c wire.DeliveryCounts
					switch rnd.IntN(4) {
					case 0:
						c.Acknowledged, c.Sent = w.records, 10*w.records
						acknowledged[wire.SenderOf(w.name, w.sender)] += w.records
					case 1:
						c.Refused = w.records
						refused[wire.SenderOf(w.name, w.sender)] += w.records
					case 2:
						c.Discarded = w.records
					case 3:
						c.OnDisk = w.records
						disk[wire.SenderOf(w.name, w.sender)] += w.records
					}
					w.e.Done(w.name, c)
				}
			case 3:
				name, sender := destinations[rnd.IntN(3)], senders[rnd.IntN(2)]
				of := wire.SenderOf(name, sender)
				if n := disk[of]; n > 0 {
					n = 1 + rnd.Int64N(n)
					disk[of] -= n
					b.FromDisk(name, sender, wire.DeliveryCounts{Acknowledged: n, Sent: 7})
					acknowledged[of] += n
				}
			case 4:
				if rnd.IntN(3) > 0 {
					break
				}
				s, n := b.Snapshot([]*Ledger{l})
				b = NewBook(n)
				acknowledged, refused = counted(n.SenderAcknowledged), counted(n.SenderRefused)
				for of, records := range maps.Clone(disk) {
					if rnd.IntN(4) == 0 {
						disk[of] = rnd.Int64N(records + 3)
					}
				}
				for _, name := range destinations {
					all, of := onDisk(name)
					b.OnDisk(name, all, of)
				}
				l = b.Ledger(s[0].All, s[0].Ahead)
				read, waits = int(binary.BigEndian.Uint64(s[0].All)), nil
				for name, end := range s[0].Ahead {
					require.True(t, l.Ahead(name, end), "seed %d", seed)
				}
			}
			balance()
		}
	}
}

// counted is a map that is never nil.
func counted(of map[string]int64) map[string]int64 {
	out := map[string]int64{}
	maps.Copy(out, of)
	return out
}

// TestNobodyKnowsWhose: of records that were given up and whose sender is not known, none seems to wait for ever.
func TestNobodyKnowsWhose(t *testing.T) {
	t.Parallel()
	b := NewBook(wire.Numbers{})
	l := b.Ledger(Cursor("0"), nil)
	for i, sender := range []string{"bridge-a", "bridge-b"} {
		e := l.Add(Cursor{byte('1' + i)}, []Way{{"lake", 5}},
			wire.Numbers{Read: 5, Senders: map[string]int64{sender: 5}})
		e.Done("lake", wire.DeliveryCounts{OnDisk: 5})
	}
	b.FromDisk("lake", "", wire.DeliveryCounts{Discarded: 3})
	b.FromDisk("lake", "bridge-a", wire.DeliveryCounts{Acknowledged: 4})
	assert.Equal(t, map[string]int64{"lake/bridge-a": 1, "lake/bridge-b": 5}, b.Live().SenderWaiting)
	b.FromDisk("lake", "bridge-b", wire.DeliveryCounts{Acknowledged: 3})
	assert.Equal(t, map[string]int64{"lake/bridge-a": 0, "lake/bridge-b": 0}, b.Live().SenderWaiting)
	assert.Empty(t, b.Live().SenderOldest)
}
