package hosts_test

import (
	"context"
	"encoding/hex"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"google.golang.org/protobuf/proto"

	"synaxis/internal/core/inventory"
	"synaxis/internal/core/wire"
	"synaxis/internal/service/assemble"
	"synaxis/internal/service/store"
)

// BenchmarkReport takes the numbers of one of 10,000 hosts with a source that delivers, and judges it.
func BenchmarkReport(b *testing.B) {
	ctx, dir := context.Background(), b.TempDir()
	st, err := store.Open(ctx, dir)
	require.NoError(b, err)
	defer st.Close()
	now := time.Date(2031, 4, 2, 6, 0, 0, 0, time.UTC)
	o, err := assemble.New(ctx, st, assemble.World{Data: dir, Log: slog.New(slog.DiscardHandler),
		Now: func() time.Time { return now }, Note: func(string) {}})
	require.NoError(b, err)
	const n = 10_000
	var changes []inventory.Change
	uid := func(i int) string { return hex.EncodeToString([]byte(fmt.Sprintf("%016d", i))) }
	for i := range n {
		changes = append(changes, inventory.Change{Host: fmt.Sprintf("h%05d", i)})
	}
	require.NoError(b, o.Inventory.Change(ctx, store.Person{}, "host import", changes))
	require.NoError(b, st.Update(ctx, func(tx *store.Tx) error {
		for i := range n {
			h, err := tx.Host(fmt.Sprintf("h%05d", i))
			if err != nil {
				return err
			}
			h.UID, h.ServiceName, h.JoinedAt = uid(i), wire.ServiceName, now
			if err := tx.PutHost(h); err != nil {
				return err
			}
			if err := tx.Assign(store.Assignment{Host: h.Name, Hash: "x", Revision: 1, AssignedAt: now},
				store.Manifest{Hash: "x"}); err != nil {
				return err
			}
		}
		return nil
	}))
	for i := range n {
		o.Links.Hear(uid(i), 0, nil, true)
		o.Reports.Take(fmt.Sprintf("h%05d", i), "polling", running("x"), "x")
	}
	t0, read := now, int64(0)
	bodies := make([][]byte, 4*n)
	order := rand.New(rand.NewPCG(1, 1)).Perm(n)
	round := func(r int) {
		for k, i := range order {
			read = int64(300 * (r + 1))
			at := now.Add(time.Duration(r) * 30 * time.Second)
			gate := wire.Numbers{Read: read, Bytes: 100 * read, Acknowledged: read, LastRecord: at.UnixNano(),
				Deliveries: map[string]wire.DeliveryCounts{"out": {Read: read, Acknowledged: read, Sent: read}}}
			body, err := proto.Marshal(wire.EncodeNumbers(fmt.Sprintf("h%05d", i), t0, at,
				map[string]wire.Numbers{"gate": gate}))
			require.NoError(b, err)
			bodies[r*n+k] = body
		}
	}
	for r := range 4 {
		round(r)
	}
	b.ReportAllocs()
	b.ResetTimer()
	for j := range b.N {
		if j%n == 0 {
			now = now.Add(30 * time.Second)
		}
		i := j % (4 * n)
		h, _ := o.Inventory.ByUID(uid(order[i%n]))
		report, err := wire.ReadReport(bodies[i])
		if err != nil {
			b.Fatal(err)
		}
		o.Reports.TakeReport(h.Name, report)
		o.Hosts.Touch(h.Name)
	}
}
