package listen

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/pipeline"
)

// address is one of many.
func address(i int) netip.Addr {
	return netip.AddrFrom4([4]byte{198, byte(i >> 16), byte(i >> 8), byte(i)})
}

// TestShares: one that floods takes no more than half of the room, however long it goes on; each of many others finds
// room for something; and never more waits than there is room for.
func TestShares(t *testing.T) {
	t.Parallel()
	x, now := newInbox(), time.Now()
	put := func(p *peer, size int) bool {
		text := make([]byte, size)
		return x.put(p, size, 1, now, func(to *parcel) { to.add(text, false, nil) })
	}
	flood := &peer{}
	for put(flood, 1000) {
	}
	assert.LessOrEqual(t, flood.held, mostInbox/2+2000)
	found := 0
	for range 3000 {
		if put(&peer{}, 500) {
			found++
		}
	}
	assert.Equal(t, 3000, found)
	assert.False(t, put(flood, 1000), "it still has its share")
	bytes, oldest := x.waits()
	assert.LessOrEqual(t, bytes, int64(mostInbox+alwaysRoom))
	assert.Equal(t, now, oldest)
}

// TestInboxOrder: over random puts and takes each sender's messages come out in its order and as its own, senders take
// turns, and the count of what waits is right.
func TestInboxOrder(t *testing.T) {
	t.Parallel()
	for seed := range uint64(100) {
		r := rand.New(rand.NewPCG(seed, 6))
		x := newInbox()
		peers := make([]*peer, 1+r.IntN(8))
		put, took := make([]int, len(peers)), make([]int, len(peers))
		for i := range peers {
			peers[i] = &peer{name: fmt.Sprint(i)}
		}
		total := 0
		take := func() {
			p := x.take(context.Background())
			for _, m := range p.messages {
				var who, n int
				_, err := fmt.Sscanf(string(p.arena[m.Text.Off:m.Text.Off+m.Text.Len]), "%d/%d", &who, &n)
				require.NoError(t, err)
				require.Equal(t, p.peer.name, fmt.Sprint(who), "nobody else's")
				took[who]++
				require.Equal(t, took[who], n)
				total--
			}
			if r.IntN(2) == 0 {
				x.recycle(p)
			}
		}
		for range 2000 {
			if r.IntN(3) > 0 || total == 0 {
				i := r.IntN(len(peers))
				put[i]++
				total++
				text := fmt.Appendf(nil, "%d/%d", i, put[i])
				if r.IntN(10) == 0 { // as a request comes
					p := &parcel{peer: peers[i], at: time.Now(), done: func() {}}
					p.add(text, false, nil)
					require.True(t, x.deliver(p))
				} else {
					require.True(t, x.put(peers[i], len(text), 1, time.Now(), func(to *parcel) {
						to.add(text, false,
							nil)
					}))
				}
			} else {
				take()
			}
		}
		for total > 0 {
			take()
		}
		bytes, _ := x.waits()
		require.Zero(t, bytes)
		require.Equal(t, put, took)
	}
}

// TestManySenders: of fifty thousand that nobody knows a bounded number is kept, those that were heard last; those
// that are expected stay.
func TestManySenders(t *testing.T) {
	t.Parallel()
	from := netip.MustParsePrefix("203.0.113.7/32")
	r := &rules{listener: &pipeline.Listener{Unknown: "keep"},
		senders: (&pipeline.Listener{Senders: []pipeline.Sender{{Name: "bridge-a", From: "203.0.113.7"}}}).Known()}
	ps, at := newPeers(), time.Now()
	known := ps.heard(r, from.Addr(), at)
	for i := range 50_000 {
		p := ps.heard(r, address(i), at.Add(time.Duration(i)*time.Millisecond))
		require.Equal(t, address(i), p.addr)
		require.Empty(t, p.name)
	}
	assert.LessOrEqual(t, len(ps.of), mostPeers)
	assert.Equal(t, int64(50_001-len(ps.of)), ps.others)
	assert.Same(t, known, ps.heard(r, from.Addr(), at))
	assert.NotNil(t, ps.of[address(49_999)])
	assert.Nil(t, ps.of[address(0)])
}
