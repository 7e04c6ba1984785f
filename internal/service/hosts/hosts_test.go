package hosts_test

import (
	"context"
	"encoding/hex"
	"fmt"
	"log/slog"
	"testing"
	"time"

	"github.com/open-telemetry/opamp-go/protobufs"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/health"
	"synaxis/internal/core/inventory"
	"synaxis/internal/core/wire"
	"synaxis/internal/service/assemble"
	"synaxis/internal/service/store"
)

// TestHealthIsKept: a host is judged when something of it changes or when time alone may change the verdict, and never
// because somebody asks; and what is kept is, at any time, what a judgement anew would give.
func TestHealthIsKept(t *testing.T) {
	t.Parallel()
	ctx, dir := context.Background(), t.TempDir()
	st, err := store.Open(ctx, dir)
	require.NoError(t, err)
	defer st.Close()
	now := time.Date(2031, 4, 2, 6, 0, 0, 0, time.UTC)
	o, err := assemble.New(
		ctx,
		st,
		assemble.World{
			Data: dir,
			Log:  slog.New(slog.DiscardHandler),
			Now:  func() time.Time { return now },
			Note: func(string) {},
		},
	)
	require.NoError(t, err)
	const n = 10_000
	var changes []inventory.Change
	for i := range n {
		changes = append(changes, inventory.Change{Host: fmt.Sprintf("h%05d", i)})
	}
	require.NoError(t, o.Inventory.Change(ctx, store.Person{}, "host import", changes))
	assert.EqualValues(t, n, o.Hosts.Judged())
	right := func(why string) {
		t.Helper()
		for _, v := range o.Hosts.All() {
			anew, _ := v.Judge(now)
			kept := o.Hosts.Health(v.Name)
			require.Equal(
				t,
				[]any{anew.Worst.State, anew.Worst.Code, anew.Sources},
				[]any{kept.Worst.State, kept.Worst.Code, kept.Sources},
				"%s: %s",
				why,
				v.Name,
			)
		}
	}
	right("listed")
	for range 100 {
		_ = o.Hosts.Health("h00007")
		o.Hosts.Pass()
	}
	assert.EqualValues(t, n, o.Hosts.Judged(), "asking judges nobody")
	require.NoError(
		t,
		o.Inventory.Edit(ctx, store.Person{}, "h00007", "labels", map[string]string{"a": "b"}, nil, nil),
	)
	assert.EqualValues(t, n+1, o.Hosts.Judged(), "an edit judges one")

	// One host joins, reports, and its format breaks; then nothing more is heard of it. Each second what is kept is
	// right.
	require.NoError(t, st.Update(ctx, func(tx *store.Tx) error {
		h, err := tx.Host("h00001")
		h.UID, h.ServiceName, h.JoinedAt = "11", wire.ServiceName, now
		if err != nil {
			return err
		}
		if err := tx.PutHost(h); err != nil {
			return err
		}
		return tx.Assign(
			store.Assignment{Host: h.Name, Hash: "x", Revision: 1, AssignedAt: now},
			store.Manifest{Hash: "x"},
		)
	}))
	o.Links.Hear("11", 0, nil, true)
	o.Reports.Take("h00001", "polling", running("x"), "x")
	o.Hosts.Touch("h00001")
	seen := map[health.Code]bool{}
	for second := range 900 {
		now = now.Add(time.Second)
		if second < 300 && second%10 == 0 {
			k := int64(second)
			counts := wire.Numbers{Read: 100 * k, Unparsed: max(0, 90*(k-150))}
			if second > 200 {
				counts.Oldest = now.Add(-30 * time.Second).UnixNano()
			}
			o.Reports.TakeNumbers("h00001", wire.Report{Sources: map[string]wire.Numbers{"gate": counts}, Start: t0,
				At: now})
			o.Hosts.Touch("h00001")
		}
		o.Hosts.Pass()
		v, _ := o.Hosts.Get("h00001")
		anew, _ := v.Judge(now)
		kept := o.Hosts.Health("h00001")
		require.Equal(
			t,
			[]any{anew.Worst.State, anew.Worst.Code},
			[]any{kept.Worst.State, kept.Worst.Code},
			"after %d s",
			second,
		)
		seen[kept.Worst.Code] = true
	}
	for _, code := range []health.Code{"", health.ReadsTooFew, health.FallsBehind} {
		assert.True(t, seen[code], "%q came up", code)
	}
	assert.Less(t, o.Hosts.Judged(), int64(n+400), "and not at each second")
	right("at last")
}

var t0 = time.Date(2031, 4, 1, 0, 0, 0, 0, time.UTC)

// running is the message of an agent that runs a config, and reads one source.
func running(hash string) *protobufs.AgentToServer {
	raw, _ := hex.DecodeString(hash + hash)
	return &protobufs.AgentToServer{
		RemoteConfigStatus: &protobufs.RemoteConfigStatus{
			LastRemoteConfigHash: raw,
			Status:               protobufs.RemoteConfigStatuses_RemoteConfigStatuses_APPLIED,
		},
		EffectiveConfig: &protobufs.EffectiveConfig{ConfigMap: wire.ConfigMap([]byte("x"))},
		Health: &protobufs.ComponentHealth{
			Healthy:            true,
			ComponentHealthMap: map[string]*protobufs.ComponentHealth{"source/gate": {Healthy: true}},
		},
	}
}
