// Package hosts shows each host as a whole: what its owners know of it, put together, with its health. It owns nothing
// but the health, which it keeps: a host is judged when something of it changes, or when time alone may change the
// verdict, and not when somebody asks.
package hosts

import (
	"container/heap"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"synaxis/internal/core/check"
	"synaxis/internal/core/health"
	"synaxis/internal/core/hostconfig"
	core "synaxis/internal/core/inventory"
	"synaxis/internal/core/wire"
	"synaxis/internal/service/desired"
	"synaxis/internal/service/inventory"
	"synaxis/internal/service/links"
	"synaxis/internal/service/reports"
	"synaxis/internal/service/revisions"
	"synaxis/internal/service/store"
)

// View is all that is known of one host. What it holds is never changed.
type View struct {
	store.Host
	*reports.Said
	Connected bool
	Restarted time.Time // when the service itself began
	rules     *rules    // what definitions say of its health
	hour      func(host, source string) (records int64, full bool)
	usually   time.Duration // within which the first report on a source comes
	Assigned  store.Assignment
	Pending   string // why it should run something else than it is assigned: "inventory", or ""
}

// Inventory is the host as definitions see it.
func (v *View) Inventory() core.Host {
	f := v.Facts()
	return core.Host{
		Name:     v.Name,
		Labels:   v.Labels,
		Settings: v.Settings,
		OS:       f.OS,
		Arch:     f.Arch,
		System:   f.System,
		Observed: f.Seen,
	}
}

// Program is the service name of its agent.
func (v *View) Program() string {
	if v.ServiceName != "" {
		return v.ServiceName
	}
	return v.Observed["service.name"]
}

// Verdict is the health of the host.
func (v *View) Verdict(now time.Time) health.Verdict {
	since := v.ConfigSince
	if v.Assigned.AssignedAt.After(since) {
		since = v.Assigned.AssignedAt
	}
	state := v.ConfigState
	if v.ConfigHash != v.Assigned.Hash { // what the agent said of another config does not count
		state = ""
	}
	return health.EvaluateHost(
		health.Host{Joined: v.UID != "", Connected: v.Connected, LastSeen: v.LastSeen, ConfigState: state,
			ConfigReason: v.ConfigReason, ConfigSince: since, Assigned: v.Assigned.Hash, Running: v.Running,
			LeftOut:   v.Assigned.LeftOut,
			Restarted: v.Restarted, Retired: v.RetiredAt, Emptied: v.Emptied, Skew: v.skew(), Away: v.rules.away(v),
			Agent: v.Components["agent/state"].Complaint(), Lacks: v.lacks(), Version: v.Version},
		now,
	)
}

// lacks is what the agent cannot run of what this service knows; nothing of one that has not told what it can, or is
// another program.
func (v *View) lacks() (out []string) {
	seen := v.Facts().Seen
	if seen == nil || len(seen.Parts) <= len(hostconfig.Baseline) || &seen.Parts[0] == &hostconfig.Runs[0] {
		return nil
	}
	for _, p := range hostconfig.Runs {
		if !slices.Contains(seen.Parts, p) {
			out = append(out, p)
		}
	}
	return out
}

// SourceVerdict is the health of a source on the host.
func (v *View) SourceVerdict(name string, now time.Time) health.Verdict {
	return v.source(name, v.Verdict(now), now)
}

func (v *View) source(name string, host health.Verdict, now time.Time) health.Verdict {
	c, reported := v.Components["source/"+name]
	n := v.Numbers[name]
	s := health.Source{Host: host, Reported: reported, Agent: c.Complaint(), Read: n.Read, Unread: n.Unread}
	if !reported {
		s.Agent.Since, s.Usually = v.ConfigSince, v.usually
	}
	s.Recent, s.Latest = v.Recent(name, now)
	if n.Oldest > 0 {
		s.Oldest = time.Unix(0, n.Oldest)
	}
	if to := (health.Verdict{Code: c.Code, Reason: c.Reason}).Holder(); to != "" {
		s.Delivery = v.Components["destination/"+to].Code
	}
	for to := range n.Deliveries {
		if d := v.Components["destination/"+to]; d.Code == "" && d.Reason != "" && s.Recent.Refused > 0 {
			s.Answer = d.Reason
		}
	}
	v.expect(&s, name, n, now)
	return health.EvaluateSource(s, now)
}

// skew is by how much the clock of the host is ahead, as far as it is known.
func (v *View) skew() time.Duration {
	_, skew := v.Told()
	return skew
}

// expect adds what is expected of a source, and what is known of its times.
func (v *View) expect(s *health.Source, name string, n wire.Numbers, now time.Time) {
	told, skew := v.Told()
	s.Told, s.Began = told, s.Agent.Since
	if n.LastRecord > 0 {
		s.Last = time.Unix(0, n.LastRecord).Add(-skew)
	}
	s.Offset, s.Offsets = v.Offset(name)
	of := v.rules.source(name)
	if of == nil {
		return
	}
	s.Expect, s.Zone = of.Expect, v.rules.zones[name]
	if len(s.Expect.Filled) > 0 {
		s.Filled = v.Fields(name, s.Expect.Filled, now)
	}
	if s.Expect.AtLeast > 0 && v.hour != nil {
		s.Hour, s.HourFull = v.hour(v.Name, name)
	}
}

// Sources are the sources that the host reports.
func (v *View) Sources() []string {
	var out []string
	for name := range v.Components {
		if s, ok := strings.CutPrefix(name, "source/"); ok {
			out = append(out, s)
		}
	}
	slices.Sort(out)
	return out
}

// Judgement is the health of a host with that of its sources, and what its sources have counted.
type Judgement struct {
	Host               health.Verdict // of the host alone
	Worst              health.Verdict
	By                 map[string]health.Verdict // of each source
	Sources            map[health.State]int
	Read, Acknowledged int64
	LastRecord         int64 // Unix nanoseconds
}

// Judge evaluates a host. until is when time alone may change the judgement; zero for never.
func (v *View) Judge(now time.Time) (j Judgement, until time.Time) {
	j, until, _ = v.judge(now, nil)
	j.roll()
	return j, until
}

// judge is Judge, with nothing summed up. same tells that each source is as it was before.
func (v *View) judge(now time.Time, before map[string]health.Verdict) (j Judgement, until time.Time, same bool) {
	sooner := func(t time.Time) {
		if t.After(now) && (until.IsZero() || t.Before(until)) {
			until = t
		}
	}
	host := v.Verdict(now)
	sooner(host.Until)
	j.Host = host
	type judged struct {
		source string
		health.Verdict
	}
	sources := make([]judged, 0, 8)
	for part := range v.Components {
		name, is := strings.CutPrefix(part, "source/")
		if !is {
			continue
		}
		s := v.source(name, host, now)
		sooner(s.Until)
		sources = append(sources, judged{name, s})
		n := v.Numbers[name]
		j.Read += n.Read
		j.LastRecord = max(j.LastRecord, n.LastRecord)
		j.Acknowledged += n.Acknowledged
		if n.Oldest > 0 {
			sooner(time.Unix(0, n.Oldest).Add(health.Behind + time.Second))
		}
		if r, _ := v.Recent(name, now); r.Unparsed > 0 || r.Refused > 0 || r.NoZone > 0 {
			sooner(now.Add(reports.SampleEvery)) // the window moves on
		}
	}
	same = before != nil && len(before) == len(sources)
	for _, s := range sources {
		same = same && before[s.source] == s.Verdict
	}
	if same { // nearly always: nothing is made anew
		j.By = before
		return j, until, same
	}
	j.By = make(map[string]health.Verdict, len(sources))
	for _, s := range sources {
		j.By[s.source] = s.Verdict
	}
	return j, until, same
}

// roll counts the states of the sources, and finds what should be looked at first.
func (j *Judgement) roll() {
	j.Worst, j.Sources = j.Host, map[health.State]int{}
	worst := ""
	for name, s := range j.By {
		j.Sources[s.State]++
		first := worst != "" && name < worst && s.State == j.Worst.State // by name, of those that are equally bad
		if s.State != health.Waiting && (first || health.Worse(s.State, j.Worst.State)) {
			j.Worst, worst = s, name
		}
	}
	if worst != "" {
		j.Worst.Reason = "source " + worst + ": " + j.Worst.Reason
	}
}

// kept is the health of one host as it was judged last.
type kept struct {
	Judgement
	until time.Time
	falls map[string][]time.Time // when each source, or the host as "", turned worse, the last two times
}

// Hosts is all hosts. It is safe for concurrent use.
type Hosts struct {
	store     *store.Store
	inventory *inventory.Inventory
	reports   *reports.Reports
	links     *links.Links
	desired   *desired.Desired
	revisions *revisions.Revisions
	log       *slog.Logger
	rules     atomic.Pointer[rules]
	now       func() time.Time
	restarted time.Time

	mu     sync.Mutex
	health map[string]kept // of hosts that are not retired
	due    dueHeap
	turns  []store.Turn // that are to be written
	judged int64        // how many were judged, ever
}

// New judges all hosts, and from then on those that the store says have changed.
func New(
	st *store.Store,
	inv *inventory.Inventory,
	rep *reports.Reports,
	l *links.Links,
	des *desired.Desired,
	rev *revisions.Revisions,
	log *slog.Logger,
	now func() time.Time,
) *Hosts {
	h := &Hosts{
		store:     st,
		revisions: rev,
		log:       log,
		inventory: inv,
		reports:   rep,
		links:     l,
		desired:   des,
		now:       now,
		restarted: now(),
		health:    map[string]kept{},
	}
	h.rules.Store(&rules{})
	h.read()
	for _, row := range inv.All(false) {
		h.Touch(row.Name)
	}
	st.Follow(h.follow)
	return h
}

// follow judges the hosts that a commit changed. It must come after the followers that it asks.
func (h *Hosts) follow(changes []store.Change) {
	touched := map[string]bool{}
	for _, c := range changes {
		switch c := c.(type) {
		case store.HostPut:
			touched[c.Name] = true
		case store.Assigned:
			touched[c.Host] = true
		case store.Unassigned:
			touched[c.Host] = true
		}
	}
	for name := range touched {
		h.Touch(name)
	}
}

// Touch says that something of a host has changed.
func (h *Hosts) Touch(name string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	v, ok := h.Get(name) // inside the lock, so that the newest is judged last
	switch {
	case !ok:
	case !v.RetiredAt.IsZero():
		delete(h.health, name)
	default:
		h.judged++
		now := h.now()
		before := h.health[name]
		j, until, same := v.judge(now, before.By)
		next := kept{Judgement: j, until: until}
		h.settle(name, before, &next, same, now)
		until = next.until
		h.health[name] = next
		if !until.IsZero() {
			heap.Push(&h.due, due{until, name})
		}
		if len(h.due) > 2*len(h.health)+64 { // most of them hold no more
			h.due = slices.DeleteFunc(h.due, func(d due) bool { return !h.health[d.host].until.Equal(d.at) })
			heap.Init(&h.due)
		}
	}
}

// Pass judges the hosts whose health time alone may have changed.
func (h *Hosts) Pass() {
	now := h.now()
	if h.read() {
		for _, row := range h.inventory.All(false) {
			h.Touch(row.Name)
		}
	}
	for {
		h.mu.Lock()
		name := ""
		for len(h.due) > 0 && name == "" && !h.due[0].at.After(now) {
			d := heap.Pop(&h.due).(due)
			if h.health[d.host].until.Equal(d.at) {
				name = d.host
			}
		}
		h.mu.Unlock()
		if name == "" {
			return
		}
		h.Touch(name)
	}
}

// Judged counts how many hosts were judged since the service began.
func (h *Hosts) Judged() int64 {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.judged
}

// ComingBack tells whether agents are still expected after the service began.
func (h *Hosts) ComingBack() bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, k := range h.health {
		if k.Host.Code == health.ComingBack {
			return true
		}
	}
	return false
}

// Health is the kept health of a host.
func (h *Hosts) Health(name string) Judgement {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.health[name].Judgement
}

// Get returns one host, retired or not.
func (h *Hosts) Get(name string) (View, bool) {
	row, ok := h.inventory.Get(name)
	if !ok {
		return View{}, false
	}
	return h.view(row), true
}

func (h *Hosts) view(row store.Host) View {
	v := View{Host: row, Said: h.reports.Of(row.Name), Restarted: h.restarted, rules: h.rules.Load(),
		usually: h.reports.FirstReport(), hour: h.reports.Hour}
	v.Assigned, v.Pending = h.desired.Of(row.Name)
	v.Connected = row.UID != "" && row.RetiredAt.IsZero() && h.links.Connected(row.UID)
	return v
}

// Each calls f with each host that is not retired, in the order of their names, with how it is judged, the revision
// that it is assigned, and why it would get another config: the little of each that sums over a fleet need. f may not
// ask for hosts.
func (h *Hosts) Each(f func(row store.Host, j Judgement, revision int, pending string)) {
	rows := h.inventory.All(false)
	h.mu.Lock()
	defer h.mu.Unlock()
	for i := range rows {
		assigned, pending := h.desired.Of(rows[i].Name)
		f(rows[i], h.health[rows[i].Name].Judgement, assigned.Revision, pending)
	}
}

// All returns every host that is not retired, ordered by name.
func (h *Hosts) All() []View { return h.list(h.inventory.All(false)) }

// Retired returns every retired host, ordered by name.
func (h *Hosts) Retired() []View { return h.list(h.inventory.All(true)) }

func (h *Hosts) list(rows []store.Host) []View {
	out := make([]View, 0, len(rows))
	for _, row := range rows {
		out = append(out, h.view(row))
	}
	return out
}

// Former returns the retired hosts whose names other hosts have by now.
func (h *Hosts) Former() []View {
	var out []View
	for _, row := range h.inventory.Former() {
		out = append(out, View{Host: row, Said: &reports.Said{Live: reports.Live{Emptied: row.RetiredAt}}})
	}
	return out
}

// Volumes tells what sources have really read on hosts that are not retired, as bytes in a day.
func (h *Hosts) Volumes() []check.Volume {
	return slices.DeleteFunc(h.reports.Volumes(), func(v check.Volume) bool {
		row, ok := h.inventory.Get(v.Host)
		return !ok || !row.RetiredAt.IsZero()
	})
}

// Ours tells whether the agent of a host is ours, and can be offered a config.
func (v *View) Ours() bool { return v.Program() == wire.ServiceName }

// due is when a host is to be judged again.
type due struct {
	at   time.Time
	host string
}

type dueHeap []due

func (d dueHeap) Len() int           { return len(d) }
func (d dueHeap) Less(i, j int) bool { return d[i].at.Before(d[j].at) }
func (d dueHeap) Swap(i, j int)      { d[i], d[j] = d[j], d[i] }
func (d *dueHeap) Push(x any)        { *d = append(*d, x.(due)) }
func (d *dueHeap) Pop() any {
	last := (*d)[len(*d)-1]
	*d = (*d)[:len(*d)-1]
	return last
}
