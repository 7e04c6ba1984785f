package rollouts_test

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
	"synaxis/internal/service/assemble"
	"synaxis/internal/service/rollouts"
	"synaxis/internal/service/store"
)

// desk is the service without a network and without its loops, with a clock of its own.
type desk struct {
	t   *testing.T
	now time.Time
	*assemble.Owners
}

func newDesk(t *testing.T, dir string, now time.Time) *desk {
	ctx := context.Background()
	d := &desk{t: t, now: now}
	st, err := store.Open(ctx, dir)
	require.NoError(t, err)
	w := assemble.World{
		Data: dir,
		Log:  slog.New(slog.DiscardHandler),
		Now:  func() time.Time { return d.now },
		Note: func(string) {},
	}
	d.Owners, err = assemble.New(ctx, st, w)
	require.NoError(t, err)
	return d
}

func (d *desk) publish(text string) {
	ctx, who := context.Background(), store.Person{Name: "ada"}
	draft, _, err := d.Changes.Load(ctx, who, "", true, []store.File{{Path: "a.yaml", Text: text}})
	require.NoError(d.t, err)
	_, _, err = d.Changes.Publish(ctx, who, draft.ID, "", -1)
	require.NoError(d.t, err)
}

func (d *desk) tell(events ...any) {
	d.Rollouts.Handle(context.Background(), events...)
	require.Empty(d.t, d.Rollouts.Again())
}

// join lets a polling agent in under a name, as a real one comes, and leaves it connected.
func (d *desk) join(name string) {
	ctx, who := context.Background(), store.Person{Name: "ada"}
	_, token, err := d.Membership.CreateJoinToken(ctx, who, store.JoinToken{Uses: 1, Host: name}, time.Hour)
	require.NoError(d.t, err)
	uid := wire.NewUID()
	poll := func(bearer string) *protobufs.ServerToAgent {
		body, err := proto.Marshal(
			&protobufs.AgentToServer{
				InstanceUid:  uid[:],
				Capabilities: wire.AgentCapabilities,
				AgentDescription: &protobufs.AgentDescription{
					IdentifyingAttributes: []*protobufs.KeyValue{
						wire.TextAttribute("service.name", wire.ServiceName),
						wire.TextAttribute("host.name", name),
						wire.TextAttribute("host.id", "machine of "+name),
					}},
			},
		)
		require.NoError(d.t, err)
		r := httptest.NewRequest(http.MethodPost, wire.OpAMPPath, bytes.NewReader(body))
		r.Header.Set("Authorization", "Bearer "+bearer)
		w := httptest.NewRecorder()
		d.Agents.ServeOpAMP(w, r)
		require.Equal(d.t, http.StatusOK, w.Code, w.Body.String())
		answer := &protobufs.ServerToAgent{}
		require.NoError(d.t, proto.Unmarshal(w.Body.Bytes(), answer))
		return answer
	}
	credential := poll(token).GetConnectionSettings().GetOpamp().GetHeaders().GetHeaders()[0].GetValue()
	d.tell()
	poll(strings.TrimPrefix(credential, "Bearer "))
	d.tell()
}

func hosts(t *testing.T, dir string, names ...string) {
	st, err := store.Open(context.Background(), dir)
	require.NoError(t, err)
	require.NoError(t, st.Update(context.Background(), func(tx *store.Tx) error {
		for _, n := range names {
			if err := tx.PutHost(store.Host{Name: n, UID: "uid-" + n, ServiceName: "synaxis-agent",
				Labels: map[string]string{}, Settings: map[string]string{}}); err != nil {
				return err
			}
		}
		return nil
	}))
	require.NoError(t, st.Close())
}

func hostOf(r rollouts.Rollout, name string) rollout.Host {
	for _, h := range r.Hosts {
		if h.Name == name {
			return h
		}
	}
	return rollout.Host{}
}

const text = "source: ss\nhosts: all\nread: {files: [/a]}\nformat: raw\nsend: [{to: one}]\n---\ndestination: " +
	"one\ndeliver: {discard: {}}\n"

// TestGoesOnAfterARestart: a rollout, its assignments and what is in force survive; who was away catches up; and one
// that never answers times out by the clock.
func TestGoesOnAfterARestart(t *testing.T) {
	t.Parallel()
	dir, start := t.TempDir(), time.Date(2031, 4, 2, 6, 0, 0, 0, time.UTC)
	hosts(t, dir, "a", "b")
	d := newDesk(t, dir, start)
	d.publish(text)
	_, err := d.Rollouts.Start(context.Background(), store.Person{Name: "ada"}, rollouts.Request{})
	require.NoError(t, err)
	r, err := d.Rollouts.Get(1)
	require.NoError(t, err)
	assert.Equal(t, map[rollout.HostState]int{rollout.Deferred: 2}, r.Counts, "both are away")
	assert.Equal(t, rollout.Done, r.Status)
	hash := hostOf(r, "a").Hash
	d.tell(
		rollout.Event{Kind: rollout.Connected, Host: "a"},
		rollout.Event{Kind: rollout.Sent, Host: "a", Hash: hash},
		rollout.Event{Kind: rollout.Taken, Host: "a", Hash: hash},
	)
	require.NoError(t, d.Store.Close())

	d = newDesk(t, dir, start.Add(time.Minute))
	r, err = d.Rollouts.Get(1)
	require.NoError(t, err)
	assert.Equal(t, rollout.Applying, hostOf(r, "a").State)
	assert.Equal(t, 1, d.Rollouts.InForce(), "nobody who is there is missing, so it is done")
	d.tell(
		rollout.Event{Kind: rollout.RunsIt, Host: "a", Hash: hash},
		rollout.Event{Kind: rollout.Reported, Host: "a", Hash: hash},
	)
	v, _ := d.Hosts.Get("b")
	assert.Equal(t, 1, v.Assigned.Revision)
	d.tell(rollout.Event{Kind: rollout.Connected, Host: "b"})
	d.now = d.now.Add(rollout.DefaultPatience + time.Second)
	d.tell(rollout.Event{Kind: rollout.Tick})
	r, _ = d.Rollouts.Get(1)
	assert.Equal(t, rollout.Waiting, hostOf(r, "b").State, "an ended rollout is not timed any more")
	assert.Equal(t, rollout.Done, r.Status)

	d.publish(text + "---\ndestination: two\ndeliver: {discard: {}}\n")
	_, err = d.Rollouts.Start(context.Background(), store.Person{Name: "ada"}, rollouts.Request{})
	require.NoError(t, err)
	r, _ = d.Rollouts.Get(1)
	assert.Equal(t, rollout.LeftOut, hostOf(r, "b").State)
	assert.Equal(t, "taken over by rollout 2", hostOf(r, "b").Reason)
	d.tell(
		rollouts.HostChanged("a"),
		rollouts.HostChanged("nobody"),
		rollout.Event{Kind: rollout.Connected, Host: "nobody"},
	)
	_, err = d.Rollouts.Get(9)
	require.ErrorIs(t, err, store.ErrNotFound)
	assert.Len(t, d.Rollouts.All(), 2)
	require.NoError(t, d.Store.Close())
}

// TestPending: a changed label that a definition reads makes the host pending; a rollout clears it.
func TestPending(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	hosts(t, dir, "a")
	d := newDesk(t, dir, time.Now())
	defer d.Store.Close()
	ctx, who := context.Background(), store.Person{Name: "ada"}
	_, err := d.Rollouts.Start(ctx, who, rollouts.Request{})
	require.ErrorContains(t, err, "nothing has been published yet")
	d.publish(text)
	_, err = d.Rollouts.Start(ctx, who, rollouts.Request{})
	require.NoError(t, err)
	pending := func() string { v, _ := d.Hosts.Get("a"); return v.Pending }
	require.NoError(t, d.Inventory.Edit(ctx, who, "a", "settings", map[string]string{"unused": "x"}, nil, nil))
	d.tell()
	assert.Empty(t, pending(), "a setting that nothing reads changes nothing")
	require.NoError(t, d.Inventory.Edit(ctx, who, "a", "labels", map[string]string{"site": "np"}, nil, nil))
	d.tell()
	assert.Equal(t, "labels", pending(), "labels go on the records")
	require.NoError(t, d.Inventory.Edit(ctx, who, "a", "labels", nil, []string{"site"}, nil))
	d.tell()
	assert.Empty(t, pending(), "taken back")
	require.NoError(t, d.Inventory.Edit(ctx, who, "a", "labels", map[string]string{"site": "np"}, nil, nil))
	d.tell()
	_, err = d.Rollouts.Start(ctx, who, rollouts.Request{Revision: 1})
	require.NoError(t, err)
	assert.Equal(t, "labels", pending(), "it is away, and is given nothing before it comes back")
	d.tell(rollout.Event{Kind: rollout.Connected, Host: "a"})
	assert.Empty(t, pending())
}

// TestFullDisk: while nothing can be written, a rollout stands still and loses nothing; then it goes on to its end.
func TestFullDisk(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	d := newDesk(t, dir, time.Now())
	defer d.Store.Close()
	ctx, who := context.Background(), store.Person{Name: "ada"}
	d.publish(text)
	for _, h := range []string{"a", "b", "c"} {
		d.join(h)
	}
	full := false
	d.Store.FailFor(func() bool { return full })
	full = true
	_, err := d.Rollouts.Start(ctx, who, rollouts.Request{})
	require.Error(t, err)
	assert.Empty(t, d.Rollouts.All(), "what could not be written did not begin")
	full = false
	id, err := d.Rollouts.Start(ctx, who, rollouts.Request{})
	require.NoError(t, err)
	state, err := d.Rollouts.Get(id)
	require.NoError(t, err)
	for i, h := range []string{"a", "b", "c"} {
		hash := hostOf(state, h).Hash
		for k, kind := range []rollout.EventKind{rollout.Connected, rollout.Sent, rollout.Taken, rollout.RunsIt,
			rollout.Reported} {
			full = (i+k)%2 == 0
			e := rollout.Event{Kind: kind, Host: h, Hash: hash}
			if kind == rollout.Connected {
				e.Hash = ""
			}
			before, _ := d.Rollouts.Get(1)
			d.Rollouts.Handle(ctx, e)
			if after, _ := d.Rollouts.Get(1); full {
				assert.Equal(t, before, after, "memory stays as the store is")
			}
		}
	}
	assert.NotEmpty(t, d.Rollouts.Again())
	full = false
	d.Rollouts.Handle(ctx, rollout.Event{Kind: rollout.Tick})
	assert.Empty(t, d.Rollouts.Again())
	r, _ := d.Rollouts.Get(1)
	assert.Equal(t, rollout.Done, r.Status)
	assert.Equal(t, map[rollout.HostState]int{rollout.Confirmed: 3}, r.Counts)
	assert.Equal(t, 1, d.Rollouts.InForce())
	assert.Eventually(t, func() bool { return d.Store.Probe(ctx) == nil && d.Store.Trouble().Reason == "" },
		15*time.Second, 200*time.Millisecond, "trouble ends once commits have gone well for a while")
	again := newDesk(t, dir, time.Now())
	kept, err := again.Rollouts.Get(1)
	require.NoError(t, err)
	assert.Equal(t, r.Counts, kept.Counts, "what memory has is what was written")
	require.NoError(t, again.Store.Close())
}

// TestWhoJoinsLate: a retired host that joins again gets what is in force, not what it had; and a host that joins
// while an earlier revision is being rolled out gets that when it is in force.
func TestWhoJoinsLate(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	d := newDesk(t, dir, time.Now())
	defer d.Store.Close()
	ctx, who := context.Background(), store.Person{Name: "ada"}
	d.join("a")
	d.join("b")
	roll := func(revision int) { // to its end
		id, err := d.Rollouts.Start(ctx, who, rollouts.Request{Revision: revision})
		require.NoError(t, err)
		state, err := d.Rollouts.Get(id)
		require.NoError(t, err)
		for _, s := range state.Hosts {
			h := s.Name
			if s.State != rollout.Deferred {
				d.tell(
					rollout.Event{Kind: rollout.RunsIt, Host: h, Hash: s.Hash},
					rollout.Event{Kind: rollout.Reported, Host: h, Hash: s.Hash},
				)
			}
		}
	}
	revision := func(h string) int { v, _ := d.Hosts.Get(h); return v.Assigned.Revision }
	d.publish(text)
	roll(0)
	require.NoError(t, d.Inventory.Retire(ctx, who, "b"))
	d.tell()
	d.publish(text + "---\ndestination: two\ndeliver: {discard: {}}\n")
	d.publish(text + "---\ndestination: three\ndeliver: {discard: {}}\n")
	roll(0)
	require.Equal(t, 3, d.Rollouts.InForce())
	d.join("b")
	assert.Equal(t, 3, revision("b"))
	assert.Len(t, d.Hosts.Former(), 1, "the retired one is kept")

	id, err := d.Rollouts.Start(ctx, who, rollouts.Request{Revision: 2})
	require.NoError(t, err)
	state, err := d.Rollouts.Get(id)
	require.NoError(t, err)
	require.Equal(t, rollout.Running, state.Status)
	d.join("c")
	assert.Equal(t, 3, revision("c"), "that is in force as yet")
	for _, s := range state.Hosts {
		h := s.Name
		d.tell(
			rollout.Event{Kind: rollout.RunsIt, Host: h, Hash: s.Hash},
			rollout.Event{Kind: rollout.Reported, Host: h, Hash: s.Hash},
		)
	}
	require.Equal(t, 2, d.Rollouts.InForce())
	assert.Equal(t, 2, revision("c"))
}
