// Package agents knows the hosts: who is in the inventory, which agent is connected, and what it reports. It speaks
// OpAMP with them, over WebSocket and by polling, and takes their numbers.
package agents

import (
	"context"
	"encoding/json"
	"log/slog"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"synaxis/internal/core/health"
	"synaxis/internal/core/hostconfig"
	"synaxis/internal/core/inventory"
	"synaxis/internal/core/rollout"
	"synaxis/internal/core/wire"
	"synaxis/internal/service/store"
)

// Desk decides what hosts should run. It hears what happens to them.
type Desk interface {
	// HostEvent tells of an event; the desk may offer a config in answer.
	HostEvent(e rollout.Event)
	// HostChanged says that a host's labels or settings changed, or that it joined.
	HostChanged(name string)
}

// Component is a part of an agent's health tree.
type Component struct {
	Code   string    `json:"code,omitempty"`
	Reason string    `json:"reason,omitempty"`
	Since  time.Time `json:"since"`
}

// Live is what an agent last reported.
type Live struct {
	Transport    string               `json:"transport"` // websocket, polling
	LastSeen     time.Time            `json:"lastSeen"`
	Version      string               `json:"version"`
	Observed     map[string]string    `json:"observed"`
	Components   map[string]Component `json:"components"` // "source/NAME"
	ConfigState  string               `json:"configState"`
	ConfigHash   string               `json:"configHash"`
	ConfigReason string               `json:"configReason,omitempty"`
	ConfigSince  time.Time            `json:"configSince"`
	Running      string               `json:"running"`             // hash of the config that it reports as effective
	Effective    string               `json:"effective,omitempty"` // its text
	Counting     time.Time            `json:"counting,omitzero"`   // since when its numbers count
	Emptied      time.Time            `json:"emptied,omitzero"`    // when the agent of a retired host had taken its config back
}

// View is a copy of all that is known of one host.
type View struct {
	store.Host
	Live
	Connected bool
	Restarted time.Time // when the service itself began
	Assigned  store.Assignment
	Pending   string // why it should run something else than it is assigned: "inventory", or ""
	Numbers   map[string]wire.Numbers
	recent    map[string]*window // by source
	seen      *inventory.Observed
}

// Inventory is the host as definitions see it.
func (v View) Inventory() inventory.Host {
	return inventory.Host{Name: v.Name, Labels: v.Labels, Settings: v.Settings, OS: v.Observed["os.type"], Arch: v.Observed["host.arch"], System: v.Observed["os.description"], Observed: v.seen}
}

// observed reads what our agent says of its host; nil for another program, which runs no config of ours.
func observed(serviceName string, attributes map[string]string) *inventory.Observed {
	if len(attributes) == 0 || serviceName != wire.ServiceName {
		return nil
	}
	o := &inventory.Observed{Version: attributes["service.version"], LowPorts: attributes[wire.LowPortsAttribute] == "true", Parts: hostconfig.Baseline}
	if text := attributes[wire.PartsAttribute]; text != "" {
		o.Parts = strings.Split(text, ",")
	}
	for _, p := range wire.ParsePorts(attributes[wire.PortsAttribute]) {
		o.Ports = append(o.Ports, inventory.Port(p))
	}
	o.FreeDisk, _ = strconv.ParseInt(attributes[wire.FreeDiskAttribute], 10, 64)
	return o
}

// Verdict is the health of the host.
func (v View) Verdict(now time.Time) health.Verdict {
	since := v.ConfigSince
	if v.Assigned.AssignedAt.After(since) {
		since = v.Assigned.AssignedAt
	}
	return health.EvaluateHost(health.Host{Joined: v.UID != "", Connected: v.Connected, LastSeen: v.LastSeen, ConfigState: v.configState(),
		ConfigReason: v.ConfigReason, ConfigSince: since, Assigned: v.Assigned.Hash, Running: v.Running, LeftOut: v.Assigned.LeftOut, Restarted: v.Restarted, Retired: v.RetiredAt,
		Emptied: v.Emptied, Agent: v.Components["agent/state"].complaint()}, now)
}

// configState is the state of the assigned config; what the agent said of another one does not count.
func (v View) configState() string {
	if v.ConfigHash != v.Assigned.Hash {
		return ""
	}
	return v.ConfigState
}

// SourceVerdict is the health of a source on the host.
func (v View) SourceVerdict(name string, now time.Time) health.Verdict {
	c, reported := v.Components["source/"+name]
	n := v.Numbers[name]
	s := health.Source{Host: v.Verdict(now), Reported: reported, Agent: c.complaint(), Read: n.Read, Unread: n.Unread, Recent: v.recent[name].counts(now), Latest: v.recent[name].latest(now)}
	if n.Oldest > 0 {
		s.Oldest = time.Unix(0, n.Oldest)
	}
	if held, ok := strings.CutPrefix(c.Reason, "held by "); ok {
		to, _, _ := strings.Cut(held, ":")
		s.Delivery = v.Components["destination/"+to].Code
	}
	for to := range n.Deliveries {
		if d := v.Components["destination/"+to]; d.Code == "" && d.Reason != "" && s.Recent.Refused > 0 {
			s.Answer = d.Reason
		}
	}
	return health.EvaluateSource(s, now)
}

func (c Component) complaint() health.Complaint {
	if c.Code == "" {
		return health.Complaint{Since: c.Since}
	}
	return health.Complaint{Code: c.Code, Reason: c.Reason, Since: c.Since}
}

// host is the live entry.
type host struct {
	view    View
	conn    *conn // of a WebSocket
	offer   *offer
	streams streams
	dirty   bool  // to be written to state.db
	bucket  int64 // of five minutes
	base    map[string]wire.Numbers
	volumes map[string]volume // by source
}

// offer is a config that waits to be sent or polled.
type offer struct {
	hash, text string
	secrets    []string // NAME@VERSION
}

// Fleet is all hosts.
type Fleet struct {
	store  *store.Store
	log    *slog.Logger
	now    func() time.Time
	desk   Desk
	note   func(topic string)
	secret func(ctx context.Context, name string, version int) (string, error)

	editing   sync.Mutex // around a change of hosts and what memory makes of it; taken before mu
	mu        sync.RWMutex
	hosts     map[string]*host
	names     []string // of hosts, ordered; made when it is asked for
	byUID     map[string]*host
	creds     map[string]store.Credential // by id
	newcomers map[string]*newcomer        // by uid
	joiners   map[*conn]string            // the ids of the join tokens that connections were made with
	former    []store.Host                // retired hosts whose names others have
	bucket    tokenBucket
	requests  crowd // over plain HTTP
	sockets   crowd
	saving    sync.Mutex

	touch    sync.Mutex // for what changed since index was made
	touched  map[string]bool
	reshaped bool
	indexing sync.Mutex
	index    *inventory.Index
	places   map[string]int // of hosts in index
}

// New reads the inventory. note is called when something changed that a page may show.
func New(ctx context.Context, st *store.Store, log *slog.Logger, now func() time.Time, note func(topic string)) (*Fleet, error) {
	f := &Fleet{store: st, log: log, now: now, note: note, hosts: map[string]*host{}, byUID: map[string]*host{}, creds: map[string]store.Credential{}, newcomers: map[string]*newcomer{}, joiners: map[*conn]string{}}
	f.bucket = tokenBucket{rate: 300, full: 300, left: 300}
	f.requests.members, f.requests.joiners = 4, 32
	f.sockets.members, f.sockets.joiners = 8, 256 // dead ones are noticed within 35 s
	list, err := st.Hosts(ctx)
	if err != nil {
		return nil, err
	}
	states, numbers, err := st.HostStates(ctx)
	if err != nil {
		return nil, err
	}
	assigned, err := st.Assignments(ctx)
	if err != nil {
		return nil, err
	}
	for _, h := range list {
		e := &host{view: View{Host: h, Restarted: now()}}
		if s, ok := states[h.Name]; ok {
			if err := json.Unmarshal([]byte(s), &e.view.Live); err != nil {
				log.Warn("state of a host is damaged and begins anew", "host", h.Name, "error", err)
			}
		}
		if s, ok := numbers[h.Name]; ok {
			if err := json.Unmarshal([]byte(s), &e.view.Numbers); err != nil {
				log.Warn("numbers of a host are damaged and begin anew", "host", h.Name, "error", err)
			}
		}
		e.view.seen = observed(h.ServiceName, e.view.Live.Observed)
		f.hosts[h.Name] = e
		if h.UID != "" && h.RetiredAt.IsZero() {
			f.byUID[h.UID] = e
		}
	}
	for _, a := range assigned {
		if e := f.hosts[a.Host]; e != nil {
			e.view.Assigned = a
		}
	}
	recent, err := st.NumbersSince(ctx, now().Add(-time.Hour))
	if err != nil {
		return nil, err
	}
	for _, r := range recent {
		var read map[string]wire.Numbers
		if e := f.hosts[r.Host]; e != nil && json.Unmarshal([]byte(r.Numbers), &read) == nil {
			e.learn(read)
		}
	}
	creds, err := st.Credentials(ctx)
	if err != nil {
		return nil, err
	}
	for _, c := range creds {
		f.creds[c.ID] = c
	}
	if f.former, err = st.FormerHosts(ctx); err != nil {
		return nil, err
	}
	came, err := st.Newcomers(ctx)
	if err != nil {
		return nil, err
	}
	for _, n := range came {
		f.newcomers[n.UID] = &newcomer{Newcomer: n}
	}
	return f, nil
}

// SetDesk connects the desk; it must be called before agents are let in.
func (f *Fleet) SetDesk(d Desk) { f.desk = d }

// Run writes what agents reported to state.db now and then, and notices pollers that went away, until ctx ends.
func (f *Fleet) Run(ctx context.Context) {
	t := time.NewTicker(time.Second)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			f.flush(context.WithoutCancel(ctx))
			return
		case <-t.C:
			f.missing()
			f.flush(ctx)
		}
	}
}

// pollPatience is how long after its last poll a polling agent counts as connected.
const pollPatience = 90 * time.Second

// Close ends all connections of agents, which will come back.
func (f *Fleet) Close() {
	f.mu.RLock()
	var all []*conn
	for _, h := range f.hosts {
		if h.conn != nil {
			all = append(all, h.conn)
		}
	}
	for c := range f.joiners {
		all = append(all, c)
	}
	f.mu.RUnlock()
	for _, c := range all {
		c.ws.CloseNow()
	}
}

func (f *Fleet) missing() {
	var gone []string
	now := f.now()
	f.mu.Lock()
	for name, h := range f.hosts {
		if h.view.Connected && h.conn == nil && now.Sub(h.view.LastSeen) > pollPatience {
			h.view.Connected, h.dirty = false, true
			gone = append(gone, name)
		}
	}
	f.mu.Unlock()
	for _, name := range gone {
		f.desk.HostEvent(rollout.Event{Kind: rollout.Disconnected, Host: name})
		f.note("hosts")
	}
}

func (f *Fleet) flush(ctx context.Context) {
	f.saving.Lock()
	defer f.saving.Unlock()
	var updates []store.HostUpdate
	f.mu.Lock()
	for name, h := range f.hosts {
		if !h.dirty {
			continue
		}
		h.dirty = false
		u := store.HostUpdate{Host: name}
		if text, err := json.Marshal(h.view.Live); err == nil {
			u.State = string(text)
		}
		if h.view.Numbers != nil {
			if text, err := json.Marshal(h.view.Numbers); err == nil {
				u.Numbers = string(text)
			}
			if text, err := json.Marshal(deltas(h.base, h.view.Numbers)); err == nil && h.bucket != 0 {
				u.Bucket, u.Delta = h.bucket, string(text)
			}
		}
		updates = append(updates, u)
	}
	f.mu.Unlock()
	if len(updates) == 0 {
		return
	}
	if err := f.store.SaveStates(ctx, updates); err != nil {
		f.log.Error("what agents reported is not written", "error", err)
	}
}

// All returns a copy of every host that is not retired, ordered by name.
func (f *Fleet) All() []View { return f.list(false) }

// Retired returns a copy of every retired host, ordered by name.
func (f *Fleet) Retired() []View { return f.list(true) }

func (f *Fleet) list(retired bool) []View {
	var out []View
	f.Visit(retired, func(v *View) { out = append(out, *v) })
	return out
}

// Former returns the retired hosts whose names other hosts have by now.
func (f *Fleet) Former() []View {
	f.mu.RLock()
	defer f.mu.RUnlock()
	var out []View
	for _, h := range f.former {
		out = append(out, View{Host: h, Live: Live{Emptied: h.RetiredAt}})
	}
	return out
}

// Visit shows every host, retired ones or the others, ordered by name. A view must not be kept, nor the fleet called.
func (f *Fleet) Visit(retired bool, visit func(v *View)) {
	names := f.ordered()
	f.mu.RLock()
	defer f.mu.RUnlock()
	for _, name := range names {
		if h := f.hosts[name]; h != nil && h.view.RetiredAt.IsZero() != retired {
			visit(&h.view)
		}
	}
}

// ordered returns all names in order. Hosts only ever come, so the list is as old as its length.
func (f *Fleet) ordered() []string {
	f.mu.RLock()
	names, n := f.names, len(f.hosts)
	if len(names) == n {
		f.mu.RUnlock()
		return names
	}
	names = slices.Sorted(maps.Keys(f.hosts))
	f.mu.RUnlock()
	f.mu.Lock()
	f.names = names
	f.mu.Unlock()
	return names
}

// Get returns a copy of one host.
func (f *Fleet) Get(name string) (View, bool) {
	f.mu.RLock()
	defer f.mu.RUnlock()
	h, ok := f.hosts[name]
	if !ok {
		return View{}, false
	}
	return h.view, true
}

// SetSecrets tells how the secrets of configs are opened. It is called once, before any agent connects.
func (f *Fleet) SetSecrets(open func(ctx context.Context, name string, version int) (string, error)) {
	f.secret = open
}

// SetAssigned tells the fleet what the desk has written down for a host.
func (f *Fleet) SetAssigned(a store.Assignment) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if h := f.hosts[a.Host]; h != nil {
		h.view.Assigned = a
		h.view.Pending = ""
	}
}

// SetPending tells why a host should run something else than it is assigned.
func (f *Fleet) SetPending(name, why string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if h := f.hosts[name]; h != nil {
		h.view.Pending = why
	}
}

// Offer sends a config to a host, now or at its next poll. It answers false when no agent of ours is there to take it.
func (f *Fleet) Offer(name string, m store.Manifest) bool {
	f.mu.Lock()
	h := f.hosts[name]
	if h == nil || !h.view.Connected || h.view.ServiceName != wire.ServiceName {
		f.mu.Unlock()
		return false
	}
	h.offer = &offer{m.Hash, m.Text, m.Secrets}
	c := h.conn
	f.mu.Unlock()
	if c != nil {
		c.wake()
	}
	return true
}
