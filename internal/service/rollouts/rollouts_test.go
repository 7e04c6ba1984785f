package rollouts

import (
	"context"
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/rollout"
	"synaxis/internal/service/agents"
	"synaxis/internal/service/changes"
	"synaxis/internal/service/store"
)

// desk is a driver with a clock of its own and without a network.
type desk struct {
	t     *testing.T
	now   time.Time
	store *store.Store
	fleet *agents.Fleet
	chg   *changes.Service
	*Driver
}

type noSecrets struct{}

func (noSecrets) Versions() map[string]int { return nil }

func newDesk(t *testing.T, dir string, now time.Time) *desk {
	ctx := context.Background()
	d := &desk{t: t, now: now}
	clock := func() time.Time { return d.now }
	var err error
	d.store, err = store.Open(ctx, dir)
	require.NoError(t, err)
	log := slog.New(slog.DiscardHandler)
	d.fleet, err = agents.New(ctx, d.store, log, clock, func(string) {})
	require.NoError(t, err)
	d.chg = changes.New(d.store, d.fleet, noSecrets{}, clock, func(string) {})
	d.Driver, err = New(ctx, d.store, d.fleet, d.chg, log, clock, func(string) {})
	require.NoError(t, err)
	d.fleet.SetDesk(d.Driver)
	return d
}

func (d *desk) publish(text string) {
	ctx, who := context.Background(), store.Person{Name: "ada"}
	draft, _, err := d.chg.Load(ctx, who, "", true, []store.File{{Path: "a.yaml", Text: text}})
	require.NoError(d.t, err)
	_, _, err = d.chg.Publish(ctx, who, draft.ID, "", -1)
	require.NoError(d.t, err)
}

func (d *desk) tell(events ...any) { require.NoError(d.t, d.handle(context.Background(), events)) }

func hosts(t *testing.T, dir string, names ...string) {
	st, err := store.Open(context.Background(), dir)
	require.NoError(t, err)
	require.NoError(t, st.Update(context.Background(), func(tx *store.Tx) error {
		for _, n := range names {
			if err := tx.PutHost(store.Host{Name: n, UID: "uid-" + n, ServiceName: "synaxis-agent", Labels: map[string]string{}, Settings: map[string]string{}}); err != nil {
				return err
			}
		}
		return nil
	}))
	require.NoError(t, st.Close())
}

const text = "source: ss\nhosts: all\nread: {files: [/a]}\nformat: raw\nsend: [{to: one}]\n---\ndestination: one\ndeliver: {discard: {}}\n"

// TestGoesOnAfterARestart: a rollout, its assignments and what is in force survive; who was away catches up; and one that
// never answers times out by the clock.
func TestGoesOnAfterARestart(t *testing.T) {
	t.Parallel()
	dir, start := t.TempDir(), time.Date(2031, 4, 2, 6, 0, 0, 0, time.UTC)
	hosts(t, dir, "a", "b")
	d := newDesk(t, dir, start)
	d.publish(text)
	_, err := d.Start(context.Background(), store.Person{Name: "ada"}, 0)
	require.NoError(t, err)
	r, err := d.Get(1)
	require.NoError(t, err)
	assert.Equal(t, map[string]int{rollout.Deferred: 2}, r.Counts(), "both are away")
	assert.Equal(t, rollout.Done, r.Status)
	hash := r.Hosts["a"].Hash
	d.tell(rollout.Event{Kind: rollout.Connected, Host: "a"}, rollout.Event{Kind: rollout.Sent, Host: "a", Hash: hash}, rollout.Event{Kind: rollout.Taken, Host: "a", Hash: hash})
	require.NoError(t, d.store.Close())

	d = newDesk(t, dir, start.Add(time.Minute))
	r, err = d.Get(1)
	require.NoError(t, err)
	assert.Equal(t, rollout.Applying, r.Hosts["a"].State)
	assert.Equal(t, 1, d.InForce(), "nobody who is there is missing, so it is done")
	d.tell(rollout.Event{Kind: rollout.RunsIt, Host: "a", Hash: hash}, rollout.Event{Kind: rollout.Reported, Host: "a", Hash: hash})
	v, _ := d.fleet.Get("b")
	assert.Equal(t, 1, v.Assigned.Revision)
	d.tell(rollout.Event{Kind: rollout.Connected, Host: "b"})
	d.now = d.now.Add(rollout.DefaultPatience + time.Second)
	d.tell(rollout.Event{Kind: rollout.Tick})
	r, _ = d.Get(1)
	assert.Equal(t, rollout.Waiting, r.Hosts["b"].State, "an ended rollout is not timed any more")
	assert.Equal(t, rollout.Done, r.Status)

	d.publish(text + "---\ndestination: two\ndeliver: {discard: {}}\n")
	_, err = d.Start(context.Background(), store.Person{Name: "ada"}, 0)
	require.NoError(t, err)
	r, _ = d.Get(1)
	assert.Equal(t, rollout.LeftOut, r.Hosts["b"].State)
	assert.Equal(t, "taken over by rollout 2", r.Hosts["b"].Reason)
	d.tell(hostChanged{"a"}, hostChanged{"nobody"}, rollout.Event{Kind: rollout.Connected, Host: "nobody"})
	_, err = d.Get(9)
	require.ErrorIs(t, err, store.ErrNotFound)
	assert.Len(t, d.All(), 2)
	require.NoError(t, d.store.Close())
}

// TestPending: a changed label that a definition reads makes the host pending; a rollout clears it.
func TestPending(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	hosts(t, dir, "a")
	d := newDesk(t, dir, time.Now())
	defer d.store.Close()
	ctx, who := context.Background(), store.Person{Name: "ada"}
	_, err := d.Start(ctx, who, 0)
	require.ErrorContains(t, err, "nothing has been published yet")
	d.publish(text)
	_, err = d.Start(ctx, who, 0)
	require.NoError(t, err)
	pending := func() string { v, _ := d.fleet.Get("a"); return v.Pending }
	require.NoError(t, d.fleet.Edit(ctx, who, "a", "settings", map[string]string{"unused": "x"}, nil))
	d.tell(<-d.events)
	assert.Empty(t, pending(), "a setting that nothing reads changes nothing")
	require.NoError(t, d.fleet.Edit(ctx, who, "a", "labels", map[string]string{"site": "np"}, nil))
	d.tell(<-d.events)
	assert.Equal(t, "inventory", pending(), "labels go on the records")
	require.NoError(t, d.fleet.Edit(ctx, who, "a", "labels", nil, []string{"site"}))
	d.tell(<-d.events)
	assert.Empty(t, pending(), "taken back")
	require.NoError(t, d.fleet.Edit(ctx, who, "a", "labels", map[string]string{"site": "np"}, nil))
	d.tell(<-d.events)
	_, err = d.Start(ctx, who, 1)
	require.NoError(t, err)
	assert.Empty(t, pending())
}
