package rollouts

import (
	"bytes"
	"context"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/open-telemetry/opamp-go/protobufs"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"google.golang.org/protobuf/proto"

	"synaxis/internal/core/rollout"
	"synaxis/internal/core/wire"
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

func (d *desk) tell(events ...any) {
	d.handle(context.Background(), events)
	require.Empty(d.t, d.again)
}

// join lets a polling agent in under a name, as a real one comes, and leaves it connected.
func (d *desk) join(name string) {
	ctx, who := context.Background(), store.Person{Name: "ada"}
	_, token, err := d.fleet.CreateJoinToken(ctx, who, store.JoinToken{Uses: 1, Host: name}, time.Hour)
	require.NoError(d.t, err)
	uid := wire.NewUID(d.now)
	poll := func(bearer string) *protobufs.ServerToAgent {
		body, err := proto.Marshal(&protobufs.AgentToServer{InstanceUid: uid[:], Capabilities: wire.AgentCapabilities, AgentDescription: &protobufs.AgentDescription{
			IdentifyingAttributes: []*protobufs.KeyValue{wire.TextAttribute("service.name", wire.ServiceName), wire.TextAttribute("host.name", name), wire.TextAttribute("host.id", "machine of "+name)}}})
		require.NoError(d.t, err)
		r := httptest.NewRequest(http.MethodPost, wire.OpAMPPath, bytes.NewReader(body))
		r.Header.Set("Authorization", "Bearer "+bearer)
		w := httptest.NewRecorder()
		d.fleet.ServeOpAMP(w, r)
		require.Equal(d.t, http.StatusOK, w.Code, w.Body.String())
		answer := &protobufs.ServerToAgent{}
		require.NoError(d.t, proto.Unmarshal(w.Body.Bytes(), answer))
		return answer
	}
	credential := poll(token).GetConnectionSettings().GetOpamp().GetHeaders().GetHeaders()[0].GetValue()
	d.drain()
	poll(strings.TrimPrefix(credential, "Bearer "))
	d.drain()
}

// drain takes the events that wait.
func (d *desk) drain() {
	for {
		select {
		case e := <-d.events:
			d.tell(e)
		default:
			return
		}
	}
}

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
	require.NoError(t, d.fleet.Edit(ctx, who, "a", "settings", map[string]string{"unused": "x"}, nil, nil))
	d.tell(<-d.events)
	assert.Empty(t, pending(), "a setting that nothing reads changes nothing")
	require.NoError(t, d.fleet.Edit(ctx, who, "a", "labels", map[string]string{"site": "np"}, nil, nil))
	d.tell(<-d.events)
	assert.Equal(t, "inventory", pending(), "labels go on the records")
	require.NoError(t, d.fleet.Edit(ctx, who, "a", "labels", nil, []string{"site"}, nil))
	d.tell(<-d.events)
	assert.Empty(t, pending(), "taken back")
	require.NoError(t, d.fleet.Edit(ctx, who, "a", "labels", map[string]string{"site": "np"}, nil, nil))
	d.tell(<-d.events)
	_, err = d.Start(ctx, who, 1)
	require.NoError(t, err)
	assert.Empty(t, pending())
}

// TestFullDisk: while nothing can be written, a rollout stands still and loses nothing; then it goes on to its end.
func TestFullDisk(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	d := newDesk(t, dir, time.Now())
	defer d.store.Close()
	ctx, who := context.Background(), store.Person{Name: "ada"}
	d.publish(text)
	for _, h := range []string{"a", "b", "c"} {
		d.join(h)
	}
	full := false
	d.store.FailFor(func() bool { return full })
	full = true
	_, err := d.Start(ctx, who, 0)
	require.Error(t, err)
	assert.Empty(t, d.All(), "what could not be written did not begin")
	full = false
	state, err := d.Start(ctx, who, 0)
	require.NoError(t, err)
	for i, h := range []string{"a", "b", "c"} {
		hash := state.Hosts[h].Hash
		for k, kind := range []rollout.EventKind{rollout.Connected, rollout.Sent, rollout.Taken, rollout.RunsIt, rollout.Reported} {
			full = (i+k)%2 == 0
			e := rollout.Event{Kind: kind, Host: h, Hash: hash}
			if kind == rollout.Connected {
				e.Hash = ""
			}
			before, _ := d.Get(1)
			d.handle(ctx, []any{e})
			if after, _ := d.Get(1); full {
				assert.Equal(t, before.State, after.State, "memory stays as the store is")
			}
		}
	}
	assert.NotEmpty(t, d.again)
	full = false
	d.handle(ctx, []any{rollout.Event{Kind: rollout.Tick}})
	assert.Empty(t, d.again)
	r, _ := d.Get(1)
	assert.Equal(t, rollout.Done, r.Status)
	assert.Equal(t, map[string]int{rollout.Confirmed: 3}, r.Counts())
	assert.Equal(t, 1, d.InForce())
	assert.Empty(t, d.store.Trouble().Reason)
	require.NoError(t, d.store.Close())
	again := newDesk(t, dir, time.Now())
	kept, err := again.Get(1)
	require.NoError(t, err)
	assert.Equal(t, r.Counts(), kept.Counts(), "what memory has is what was written")
	d.store = again.store
}

// TestWhoJoinsLate: a retired host that joins again gets what is in force, not what it had; and a host that joins while an earlier revision
// is being rolled out gets that when it is in force.
func TestWhoJoinsLate(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	d := newDesk(t, dir, time.Now())
	defer d.store.Close()
	ctx, who := context.Background(), store.Person{Name: "ada"}
	d.join("a")
	d.join("b")
	roll := func(revision int) { // to its end
		state, err := d.Start(ctx, who, revision)
		require.NoError(t, err)
		for h, s := range state.Hosts {
			if s.State != rollout.Deferred {
				d.tell(rollout.Event{Kind: rollout.RunsIt, Host: h, Hash: s.Hash}, rollout.Event{Kind: rollout.Reported, Host: h, Hash: s.Hash})
			}
		}
	}
	revision := func(h string) int { v, _ := d.fleet.Get(h); return v.Assigned.Revision }
	d.publish(text)
	roll(0)
	require.NoError(t, d.fleet.Retire(ctx, who, "b"))
	d.drain()
	d.publish(text + "---\ndestination: two\ndeliver: {discard: {}}\n")
	d.publish(text + "---\ndestination: three\ndeliver: {discard: {}}\n")
	roll(0)
	require.Equal(t, 3, d.InForce())
	d.join("b")
	assert.Equal(t, 3, revision("b"))
	assert.Len(t, d.fleet.Former(), 1, "the retired one is kept")

	state, err := d.Start(ctx, who, 2)
	require.NoError(t, err)
	require.Equal(t, rollout.Running, state.Status)
	d.join("c")
	assert.Equal(t, 3, revision("c"), "that is in force as yet")
	for h, s := range state.Hosts {
		d.tell(rollout.Event{Kind: rollout.RunsIt, Host: h, Hash: s.Hash}, rollout.Event{Kind: rollout.Reported, Host: h, Hash: s.Hash})
	}
	require.Equal(t, 2, d.InForce())
	assert.Equal(t, 2, revision("c"))
}
