package assemble

import (
	"bytes"
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/open-telemetry/opamp-go/protobufs"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"google.golang.org/protobuf/proto"

	"synaxis/internal/core/inventory"
	"synaxis/internal/core/rollout"
	"synaxis/internal/core/wire"
	"synaxis/internal/service/changes"
	"synaxis/internal/service/rollouts"
	"synaxis/internal/service/store"
)

// The whole of what the owners hold, in plain maps: what a reader of the audit, in its order, must come to.
type plain struct {
	Hosts     map[string]plainHost
	Tokens    map[string]int // uses by id; revoked ones are -1
	Secrets   map[string]int
	Revisions int
	Rollouts  map[int]int // revision by number
}

type plainHost struct {
	UID              string
	Labels, Settings map[string]string
	Retired          bool
}

// what an audited call did, by its name as the author of the call.
type call struct {
	what   string
	host   string
	uid    string
	set    map[string]string
	remove []string
}

func (p *plain) host(name string) plainHost {
	h := p.Hosts[name]
	h.Labels, h.Settings = maps.Clone(h.Labels), maps.Clone(h.Settings)
	if h.Labels == nil {
		h.Labels = map[string]string{}
	}
	if h.Settings == nil {
		h.Settings = map[string]string{}
	}
	return h
}

// replay takes one line of the audit.
func (p *plain) replay(t *testing.T, e store.AuditEntry, calls map[string]call) {
	switch c := calls[e.Who]; e.Action {
	case "host labels", "host settings":
		h := p.host(c.host)
		into := h.Labels
		if e.Action == "host settings" {
			into = h.Settings
		}
		maps.Copy(into, c.set)
		for _, k := range c.remove {
			delete(into, k)
		}
		p.Hosts[c.host] = h
	case "host import":
		h := p.host(c.host)
		maps.Copy(h.Labels, c.set)
		p.Hosts[c.host] = h
	case "host retire":
		h := p.host(c.host)
		h.Retired = true
		p.Hosts[c.host] = h
	case "host join":
		h := p.host(e.Object)
		var after struct {
			Labels map[string]string `json:"labels"`
		}
		require.NoError(t, json.Unmarshal([]byte(e.After), &after))
		h.UID, h.Retired, h.Labels = calls["join "+e.Object].uid, false, after.Labels
		p.Hosts[e.Object] = h
	case "join-token create":
		p.Tokens[e.Object] = 0
	case "join-token revoke":
		p.Tokens[e.Object] = -1
	case "secret set":
		p.Secrets[e.Object]++
	case "secret remove":
		delete(p.Secrets, e.Object)
	case "draft publish":
		p.Revisions++
	case "rollout start":
		var n int
		var after struct{ Revision int }
		_, _ = fmt.Sscan(e.Object, &n)
		require.NoError(t, json.Unmarshal([]byte(e.After), &after))
		revision := after.Revision
		require.Equal(t, len(p.Rollouts)+1, n, "rollouts are numbered without a gap")
		require.LessOrEqual(t, revision, p.Revisions)
		p.Rollouts[n] = revision
	}
}

// held is what the owners hold, as plain has it.
func held(o *Owners) *plain {
	p := &plain{
		Hosts:    map[string]plainHost{},
		Tokens:   map[string]int{},
		Secrets:  maps.Clone(o.Secrets.Versions()),
		Rollouts: map[int]int{},
	}
	for _, retired := range []bool{false, true} {
		for _, h := range o.Inventory.All(retired) {
			p.Hosts[h.Name] = plainHost{h.UID, h.Labels, h.Settings, retired}
		}
	}
	tokens, _ := o.Membership.JoinTokens(context.Background())
	for _, j := range tokens {
		p.Tokens[j.ID] = 0
		if !j.RevokedAt.IsZero() {
			p.Tokens[j.ID] = -1
		}
	}
	head, _ := o.Changes.Head(context.Background())
	p.Revisions = head.Revision.Number
	for _, r := range o.Rollouts.All() {
		p.Rollouts[r.ID] = r.Revision
	}
	return p
}

// full is all that memory holds, for comparing it with what another process reads from the same database.
func full(o *Owners) map[string]any {
	out := map[string]any{
		"in force":  o.Rollouts.InForce(),
		"former":    o.Inventory.Former(),
		"newcomers": o.Membership.Newcomers(),
	}
	for _, v := range append(o.Hosts.All(), o.Hosts.Retired()...) {
		out["host "+v.Name] = []any{v.Host, v.Assigned, v.Pending, v.Live, v.Numbers}
	}
	for _, r := range o.Rollouts.All() {
		r, _ = o.Rollouts.Get(r.ID)
		r.Evidence = rollout.Evidence{} // it is looked at, and not kept
		out[fmt.Sprint("rollout ", r.ID)] = r
	}
	for _, h := range o.Inventory.Index().Hosts {
		out["index "+h.Name] = []any{h.Labels, h.Settings, h.OS, h.Arch, h.System}
	}
	return out
}

func asJSON(t *testing.T, v any) string {
	text, err := json.MarshalIndent(v, "", " ")
	require.NoError(t, err)
	return string(text)
}

// machine is an agent that polls.
type machine struct {
	name       string
	uid        wireUID
	credential string
	sequence   uint64
	running    string
}

type wireUID [16]byte

// poll sends a message and answers what came, and whether it was let in.
func (m *machine) poll(o *Owners, bearer string, msg *protobufs.AgentToServer) (*protobufs.ServerToAgent, bool) {
	msg.InstanceUid, msg.SequenceNum, msg.Capabilities = m.uid[:], m.sequence, wire.AgentCapabilities
	body, _ := proto.Marshal(msg)
	r := httptest.NewRequest(http.MethodPost, wire.OpAMPPath, bytes.NewReader(body))
	r.Header.Set("Authorization", "Bearer "+bearer)
	w := httptest.NewRecorder()
	o.Agents.ServeOpAMP(w, r)
	answer := &protobufs.ServerToAgent{}
	if w.Code != http.StatusOK || proto.Unmarshal(w.Body.Bytes(), answer) != nil {
		return nil, false
	}
	m.sequence++
	return answer, true
}

func (m *machine) describe() *protobufs.AgentToServer {
	return &protobufs.AgentToServer{
		AgentDescription: &protobufs.AgentDescription{IdentifyingAttributes: []*protobufs.KeyValue{
			wire.TextAttribute(
				"service.name",
				wire.ServiceName,
			), wire.TextAttribute("host.name", m.name), wire.TextAttribute("host.id", "machine of "+m.name)},
			NonIdentifyingAttributes: []*protobufs.KeyValue{wire.TextAttribute("os.type", "linux")}},
	}
}

// live polls as an agent does, and runs what it is offered, or refuses it.
func (m *machine) live(o *Owners, r *rand.Rand) {
	answer, ok := m.poll(o, m.credential, &protobufs.AgentToServer{})
	for range 4 {
		if !ok || answer.GetRemoteConfig() == nil {
			return
		}
		rc := answer.GetRemoteConfig()
		status := &protobufs.RemoteConfigStatus{
			LastRemoteConfigHash: rc.GetConfigHash(),
			Status:               protobufs.RemoteConfigStatuses_RemoteConfigStatuses_APPLIED,
		}
		text := wire.ConfigOf(rc.GetConfig())
		if r.IntN(6) == 0 && len(text) > 0 {
			status.Status, status.ErrorMessage = protobufs.RemoteConfigStatuses_RemoteConfigStatuses_FAILED, "no room"
			text = []byte(m.running)
		}
		m.running = string(text)
		answer, ok = m.poll(
			o,
			m.credential,
			&protobufs.AgentToServer{
				RemoteConfigStatus: status,
				EffectiveConfig:    &protobufs.EffectiveConfig{ConfigMap: wire.ConfigMap(text)},
			},
		)
	}
}

const catalogueText = "source: ss\nhosts: all\nread: {files: [/var/%d/a]}\nformat: raw\nsend: " +
	"[one]\n---\ndestination: one\ndeliver: {discard: {}}\n"

// TestParallelCalls: people edit, import, retire, publish, set secrets and start rollouts, and agents join, report and
// are offered configs, all at once and while commits fail at random. In the end memory is what the database holds, and
// both are what a plain model comes to that goes through the audit line by line.
func TestParallelCalls(t *testing.T) {
	t.Parallel()
	seeds := uint64(4)
	if testing.Short() {
		seeds = 1
	}
	for seed := range seeds {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			parallelCalls(t, seed)
		})
	}
}

func parallelCalls(t *testing.T, seed uint64) {
	ctx, dir := context.Background(), t.TempDir()
	open := func() *Owners {
		st, err := store.Open(ctx, dir)
		require.NoError(t, err)
		o, err := New(
			ctx,
			st,
			World{Data: dir, Log: slog.New(slog.DiscardHandler), Now: time.Now, Note: func(string) {}},
		)
		require.NoError(t, err)
		return o
	}
	o := open()
	var failing atomic.Bool
	coin := rand.New(rand.NewPCG(seed, 99))
	var coins sync.Mutex
	o.Store.FailFor(func() bool {
		coins.Lock()
		defer coins.Unlock()
		return failing.Load() && coin.IntN(5) == 0
	})
	run, stop := context.WithCancel(ctx)
	var loops sync.WaitGroup
	loops.Go(func() { o.Rollouts.Run(run) })
	loops.Go(func() { o.Agents.Run(run) })

	names := []string{"amber", "birch", "cedar", "delta", "ember", "fjord"}
	var mu sync.Mutex
	calls := map[string]call{}
	failed := 0
	note := func(c call) store.Person {
		mu.Lock()
		defer mu.Unlock()
		who := fmt.Sprintf("%s %d", c.what, len(calls))
		calls[who] = c
		return store.Person{Name: who, Origin: "here"}
	}
	count := func(err error) {
		var refused changes.Conflict
		if err != nil && !errors.Is(err, store.ErrNotFound) && !errors.As(err, &refused) &&
			!errors.Is(err, rollouts.ErrBusy) {
			mu.Lock()
			failed++
			mu.Unlock()
		}
	}
	for _, n := range names {
		_, err := o.Membership.JoinTokens(ctx)
		require.NoError(t, err)
		require.NoError(
			t,
			o.Inventory.Change(ctx, note(call{what: "list", host: n}), "host import", []inventory.Change{{Host: n}}),
		)
	}
	failing.Store(true)
	var people sync.WaitGroup
	for g := range 6 {
		people.Go(func() {
			r := rand.New(rand.NewPCG(seed, uint64(g)))
			for range 60 {
				name := names[r.IntN(len(names))]
				switch r.IntN(9) {
				case 0, 1:
					c := call{what: "label", host: name, set: map[string]string{"site": fmt.Sprint("s", r.IntN(3))}}
					count(o.Inventory.Edit(ctx, note(c), name, "labels", c.set, nil, nil))
				case 2:
					c := call{what: "setting", host: name, remove: []string{"root"}}
					if r.IntN(2) == 0 {
						c.remove, c.set = nil, map[string]string{"root": fmt.Sprint("/r", r.IntN(3))}
					}
					count(o.Inventory.Edit(ctx, note(c), name, "settings", c.set, c.remove, nil))
				case 3:
					c := call{what: "import", host: name, set: map[string]string{"rack": fmt.Sprint("r", r.IntN(3))}}
					var deltas []inventory.Edit
					for k, v := range c.set {
						deltas = append(deltas, inventory.Edit{Key: k, After: v})
					}
					count(
						o.Inventory.Change(
							ctx,
							note(c),
							"host import",
							[]inventory.Change{{Host: name, Labels: deltas}},
						),
					)
				case 4:
					if r.IntN(3) == 0 {
						count(o.Inventory.Retire(ctx, note(call{what: "retire", host: name}), name))
					}
				case 5:
					d, _, err := o.Changes.Load(
						ctx,
						note(call{what: "load"}),
						"",
						true,
						[]store.File{{Path: "a.yaml", Text: fmt.Sprintf(catalogueText, r.IntN(50))}},
					)
					if count(err); err == nil && d.ID > 0 {
						_, _, err = o.Changes.Publish(ctx, note(call{what: "publish"}), d.ID, "", -1)
						count(err)
					}
				case 6:
					_, err := o.Rollouts.Start(ctx, note(call{what: "start"}), rollouts.Request{})
					count(err)
				case 7:
					if r.IntN(4) > 0 {
						_, err := o.Secrets.Set(
							ctx,
							note(call{what: "secret"}),
							fmt.Sprint("key", r.IntN(2)),
							"v",
							nil,
							nil,
							nil,
						)
						count(err)
					} else {
						count(o.Secrets.Remove(ctx, note(call{what: "secret"}), fmt.Sprint("key", r.IntN(2))))
					}
				case 8:
					j, _, err := o.Membership.CreateJoinToken(
						ctx,
						note(call{what: "token"}),
						store.JoinToken{},
						time.Hour,
					)
					if count(err); err == nil && r.IntN(2) == 0 {
						count(o.Membership.RevokeJoinToken(ctx, note(call{what: "token"}), j.ID))
					}
				}
			}
		})
	}
	var machines sync.WaitGroup
	done := make(chan struct{})
	for i, name := range names {
		machines.Go(func() { // the agent of the host, with a token made for it
			r := rand.New(rand.NewPCG(seed, uint64(100+i)))
			m := &machine{name: name, uid: wireUID(wire.NewUID())}
			mu.Lock()
			calls["join "+name] = call{uid: hex.EncodeToString(m.uid[:])}
			mu.Unlock()
			token := ""
			for {
				select {
				case <-done:
					return
				default:
				}
				if token == "" {
					_, text, err := o.Membership.CreateJoinToken(
						ctx,
						note(call{what: "token"}),
						store.JoinToken{Host: name},
						time.Hour,
					)
					if err != nil {
						continue
					}
					token = text
				}
				if m.credential == "" {
					if answer, ok := m.poll(o, token, m.describe()); ok {
						m.credential = strings.TrimPrefix(
							answer.GetConnectionSettings().GetOpamp().GetHeaders().GetHeaders()[0].GetValue(),
							"Bearer ",
						)
						_, _ = m.poll(o, m.credential, m.describe())
					}
					continue
				}
				if _, ok := m.poll(o, m.credential, m.describe()); !ok && r.IntN(4) == 0 {
					m.credential = "" // retired; it comes back
				}
				m.live(o, r)
				time.Sleep(time.Duration(r.IntN(5)) * time.Millisecond)
			}
		})
	}
	people.Wait()
	failing.Store(false)
	time.Sleep(1200 * time.Millisecond) // what could not be written is tried again every second
	close(done)
	machines.Wait()
	for _, name := range names { // the last word of each
		count(
			o.Inventory.Edit(
				ctx,
				note(call{what: "label", host: name, set: map[string]string{"last": "yes"}}),
				name,
				"labels",
				map[string]string{"last": "yes"},
				nil,
				nil,
			),
		)
	}
	require.Eventually(t, func() bool { return o.Queue.Idle() }, 5*time.Second, 5*time.Millisecond)
	stop()
	loops.Wait()
	o.Desired.Review(ctx)
	assert.Positive(t, failed, "some commits failed")

	entries, err := o.Store.AuditEntries(ctx, store.AuditFilter{Limit: 100_000})
	require.NoError(t, err)
	slices.Reverse(entries)
	model := &plain{
		Hosts:    map[string]plainHost{},
		Tokens:   map[string]int{},
		Secrets:  map[string]int{},
		Rollouts: map[int]int{},
	}
	kinds := map[string]int{}
	for _, e := range entries {
		model.replay(t, e, calls)
		kinds[e.Action]++
	}
	for _, kind := range []string{"host labels", "host settings", "host import", "host retire", "host join",
		"join-token create", "join-token revoke", "secret set", "draft publish", "rollout start"} {
		assert.Positive(t, kinds[kind], kind)
	}
	assert.Equal(t, asJSON(t, model), asJSON(t, held(o)), "memory is what the model comes to")
	for _, r := range o.Rollouts.All() {
		r, err := o.Rollouts.Get(r.ID)
		require.NoError(t, err)
		counts := map[rollout.HostState]int{}
		for _, h := range r.Hosts {
			counts[h.State]++
		}
		assert.Equal(t, counts, r.Counts)
	}
	before := full(o)
	require.NoError(t, o.Store.Close())
	again := open()
	assert.Equal(t, asJSON(t, before), asJSON(t, full(again)), "memory is what the database holds")
	assert.Equal(t, asJSON(t, model), asJSON(t, held(again)))
	require.NoError(t, again.Store.Close())
}
