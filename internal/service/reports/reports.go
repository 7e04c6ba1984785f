// Package reports keeps what each host said last: its system, the states of its parts, the config that it runs, and
// its numbers. It writes them to state.db now and then.
package reports

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"log/slog"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/open-telemetry/opamp-go/protobufs"

	"synaxis/internal/core/check"
	"synaxis/internal/core/expect"
	"synaxis/internal/core/health"
	"synaxis/internal/core/hostconfig"
	core "synaxis/internal/core/inventory"
	"synaxis/internal/core/rollout"
	"synaxis/internal/core/series"
	"synaxis/internal/core/wire"
	"synaxis/internal/service/inventory"
	"synaxis/internal/service/numbers"
	"synaxis/internal/service/store"
)

// Component is a part of an agent's health tree.
type Component struct {
	Code   health.Code `json:"code,omitempty"`
	Reason string      `json:"reason,omitempty"`
	Since  time.Time   `json:"since"`
}

// Complaint is what is wrong with the part.
func (c Component) Complaint() health.Complaint {
	if c.Code == "" {
		return health.Complaint{Since: c.Since}
	}
	return health.Complaint{Code: c.Code, Reason: c.Reason, Since: c.Since}
}

// Live is what an agent last reported, as it is kept in state.db.
type Live struct {
	Transport    string               `json:"transport"` // websocket, polling
	LastSeen     time.Time            `json:"lastSeen"`
	Version      string               `json:"version"`
	Observed     map[string]string    `json:"observed"`
	Components   map[string]Component `json:"components"` // "source/NAME"
	ConfigState  health.ConfigState   `json:"configState"`
	ConfigHash   string               `json:"configHash"`
	ConfigReason string               `json:"configReason,omitempty"`
	ConfigSince  time.Time            `json:"configSince"`
	Running      string               `json:"running"`             // hash of the config that it reports as effective
	Effective    string               `json:"effective,omitempty"` // its text
	Counting     time.Time            `json:"counting,omitzero"`   // since when its numbers count
	// when the agent of a retired host had taken its config back
	Emptied time.Time `json:"emptied,omitzero"`
}

// Said is all that a host said. It and all that it holds is never changed: what is said next makes another one.
type Said struct {
	Live
	Numbers map[string]wire.Numbers // by source
	// what became of each source's records at each destination, as the agent said last: unlike Numbers it is never
	// lifted to what was said before, so that it balances
	Books        map[string]map[string]wire.DeliveryCounts
	Destinations map[string]wire.Destination // how destinations are
	// records that each acknowledged in a second, between the last two reports
	Rates  map[string]float64
	booked time.Time
	told   time.Time          // when that came, by our own clock
	skew   time.Duration      // by which its clock is ahead
	recent map[string]*window // by source
	facts  inventory.Facts
	used   usage
}

// Facts are what definitions see of the host.
func (s *Said) Facts() inventory.Facts { return s.facts }

// Recent are the counts of a source in the last minutes, and those of its latest records.
func (s *Said) Recent(source string, now time.Time) (recent, latest health.Recent) {
	return s.recent[source].counts(now), s.recent[source].latest(now)
}

// Fields tell how often fields of a source were there in the last minutes.
func (s *Said) Fields(source string, of []expect.Filled, now time.Time) []health.Filled {
	return s.recent[source].fields(of, now)
}

// Offset is by how much the times of a source's records are ahead of when they were written, and how many reports
// agree.
func (s *Said) Offset(source string) (offset time.Duration, reports int) {
	return s.recent[source].offset()
}

// Told is when the host's numbers came last, by our own clock; zero for never. Skew is by how much its clock is ahead.
func (s *Said) Told() (at time.Time, skew time.Duration) { return s.told, s.skew }

// nothing is what a host said that has said nothing.
var nothing = &Said{}

// entry is what is kept of a host.
type entry struct {
	said    *Said
	dirty   bool  // more than numbers is to be written to state.db
	counted bool  // numbers are, with the five minutes that they are counted in
	strange bool  // it counted before it was heard of: from where is to be written at once
	bucket  int64 // of five minutes
	// when these five minutes began
	base    map[string]wire.Numbers
	since   time.Time // since when they were counted
	used    usage
	volumes map[string]volume // by source
	hour    []row             // of the last hour, oldest first
	first   int64             // the bucket of the first of them that there was
	began   int64             // Unix seconds, when its numbers came first
}

// Reports is what all hosts said. It is safe for concurrent use.
type Reports struct {
	store   *store.Store
	numbers *numbers.Numbers
	log     *slog.Logger
	now     func() time.Time
	note    func(topic string)

	mu     sync.RWMutex
	hosts  map[string]*entry
	dirty  map[string]bool // hosts
	saving sync.Mutex
	seen   time.Time // when it was written last when hosts were seen
	first  atomic.Int64
}

// New reads what hosts said last.
func New(
	ctx context.Context,
	st *store.Store,
	over *numbers.Numbers,
	log *slog.Logger,
	now func() time.Time,
	note func(topic string),
) (*Reports, error) {
	r := &Reports{store: st, numbers: over, log: log, now: now, note: note, hosts: map[string]*entry{},
		dirty: map[string]bool{}}
	states, sums, err := st.HostStates(ctx)
	if err != nil {
		return nil, err
	}
	read := func(host, text, what string, into func(*Said) any) {
		e := r.entry(host)
		if err := json.Unmarshal([]byte(text), into(e.said)); err != nil {
			log.Warn(what+" of a host are damaged and begin anew", "host", host, "error", err)
			e.said = &Said{}
		}
	}
	delete(states, "") // written to notice whether anything can be
	var seen map[string]int64
	_ = json.Unmarshal([]byte(states[seenRow]), &seen) // without it hosts were seen when their state was written
	delete(states, seenRow)
	for host, text := range states {
		read(host, text, "reports", func(s *Said) any { return &s.Live })
	}
	for _, x := range sums {
		read(x.Host, x.Numbers, "numbers", func(s *Said) any { return &s.Numbers })
		if s := r.hosts[x.Host].said; x.Since != 0 {
			s.Counting = time.Unix(0, x.Since)
		}
	}
	for name, e := range r.hosts {
		if e.said.Numbers == nil { // what was counted since then is not known
			e.said.Counting = time.Time{}
		}
		e.said.facts = facts(e.said.Observed)
		if at := time.Unix(seen[name], 0); at.After(e.said.LastSeen) {
			e.said.LastSeen = at
		}
	}
	recent, err := numbers.Since(ctx, st, now().Add(-time.Hour))
	if err != nil {
		return nil, err
	}
	for _, c := range recent {
		bytes, total, read := map[string]wire.Numbers{}, rollout.Sums{}, map[string]int64{}
		for k, v := range c.Sums {
			switch k.Number {
			case series.Read:
				total.Read += v
				read[k.Source] = v
			case series.Unparsed:
				total.Unparsed += v
			case series.NoZone:
				total.NoZone += v
			case series.Acknowledged:
				total.Acknowledged += v
			case series.Rejected:
				total.Rejected += v
			case series.Bytes:
				bytes[k.Source] = wire.Numbers{Bytes: v}
			}
		}
		r.entry(c.Host).learn(bytes)
		r.entry(c.Host).passed(c.Start, total, read)
	}
	return r, nil
}

func (r *Reports) entry(host string) *entry {
	e := r.hosts[host]
	if e == nil {
		e = &entry{said: &Said{}}
		r.hosts[host] = e
	}
	return e
}

// everyPart is what an agent says that runs all that this service knows.
var everyPart = strings.Join(hostconfig.Runs, ",")

// facts reads what definitions see of a host. Of another program than our agent they see no more than the system: it
// runs no config of ours.
func facts(attributes map[string]string) inventory.Facts {
	f := inventory.Facts{
		OS:     attributes["os.type"],
		Arch:   attributes["host.arch"],
		System: attributes["os.description"],
	}
	if attributes["service.name"] != wire.ServiceName {
		return f
	}
	f.Seen = &core.Observed{
		Version:  attributes["service.version"],
		LowPorts: attributes[wire.LowPortsAttribute] == "true",
		Parts:    hostconfig.Baseline,
	}
	switch text := attributes[wire.PartsAttribute]; text {
	case "":
	case everyPart: // as nearly all agents say
		f.Seen.Parts = hostconfig.Runs
	default:
		f.Seen.Parts = strings.Split(text, ",")
	}
	for _, p := range wire.ParsePorts(attributes[wire.PortsAttribute]) {
		f.Seen.Ports = append(f.Seen.Ports, core.Port(p))
	}
	f.Seen.FreeDisk, _ = strconv.ParseInt(attributes[wire.FreeDiskAttribute], 10, 64)
	return f
}

// Of returns what a host said last.
func (r *Reports) Of(host string) *Said {
	r.mu.RLock()
	defer r.mu.RUnlock()
	if e := r.hosts[host]; e != nil {
		return e.said
	}
	return nothing
}

// Facts are what definitions see of a host.
func (r *Reports) Facts(host string) inventory.Facts { return r.Of(host).facts }

// change makes what a host said into what it says now.
func (r *Reports) change(host string, f func(e *entry, s *Said)) *Said {
	r.mu.Lock()
	defer r.mu.Unlock()
	e := r.entry(host)
	s := *e.said
	f(e, &s)
	e.said = &s
	if e.dirty || e.strange {
		r.dirty[host] = true
	}
	return &s
}

// Seen notes that an agent is there.
func (r *Reports) Seen(host, transport string) {
	r.change(host, func(e *entry, s *Said) {
		s.LastSeen, e.dirty = r.now(), true
		if transport != "" {
			s.Transport = transport
		}
	})
}

// Emptied notes that the agent of a retired host runs nothing any more.
func (r *Reports) Emptied(host string) {
	r.change(host, func(e *entry, s *Said) { s.Emptied, s.Running, e.dirty = r.now(), "", true })
}

// BroughtBack notes that a retired host is one of the fleet again.
func (r *Reports) BroughtBack(host string) {
	r.change(host, func(e *entry, s *Said) { s.Emptied, e.dirty = time.Time{}, true })
}

// Took is what came out of a message.
type Took struct {
	Events    []rollout.Event
	Changed   bool // something that a page may show
	Described bool // what definitions see may have changed
	// how long a source took to be told of for the first time, from when the host had its config; 0 where none was
	First time.Duration
}

// mostFirst bounds how long a first report may take that is learned from.
const mostFirst = 10 * time.Minute

// learnFirst keeps within how long the first report on a source usually comes: the longest of the latest ones, which
// are forgotten little by little.
func (r *Reports) learnFirst(took time.Duration) {
	if took <= 0 || took > mostFirst {
		return
	}
	for {
		was := r.first.Load()
		next := max(int64(took), was-was/10+int64(took)/10)
		if r.first.CompareAndSwap(was, next) {
			return
		}
	}
}

// FirstReport is within how long the first report on a source usually comes; 0 where it is not known yet.
func (r *Reports) FirstReport() time.Duration { return time.Duration(r.first.Load()) }

// Take takes what a message of an agent says. running is the hash of the config that it reports as effective, if that
// is known here.
func (r *Reports) Take(host, transport string, msg *protobufs.AgentToServer, running string) (took Took) {
	r.change(host, func(e *entry, s *Said) {
		if s.Transport != transport || msg.GetAgentDescription() != nil || msg.GetHealth() != nil ||
			msg.GetEffectiveConfig() != nil || msg.GetRemoteConfigStatus() != nil {
			e.dirty = true
		}
		s.LastSeen, s.Transport = r.now(), transport
		took = s.take(host, msg, running, r.now())
	})
	r.learnFirst(took.First)
	return took
}

// configStates are what an agent may say of a config that it was offered.
var configStates = map[protobufs.RemoteConfigStatuses]struct {
	name  health.ConfigState
	event rollout.EventKind
}{
	protobufs.RemoteConfigStatuses_RemoteConfigStatuses_APPLIED:  {health.ConfigApplied, rollout.RunsIt},
	protobufs.RemoteConfigStatuses_RemoteConfigStatuses_APPLYING: {health.ConfigApplying, rollout.Taken},
	protobufs.RemoteConfigStatuses_RemoteConfigStatuses_FAILED:   {health.ConfigFailed, rollout.CannotRun},
}

func (s *Said) take(host string, msg *protobufs.AgentToServer, running string, now time.Time) (took Took) {
	if d := msg.GetAgentDescription(); d != nil {
		took.Changed = true
		if now := attributes(d); !maps.Equal(now, s.Observed) { // a fleet that comes back says what it said before
			s.Observed, s.Version, s.facts, took.Described = now, now["service.version"], facts(now), true
		}
	}
	if tree := msg.GetHealth(); tree != nil {
		took.Changed = true
		before := s.Components
		s.Components = components(tree, before, now)
		if (s.ConfigState == health.ConfigApplied || s.ConfigState == health.ConfigApplying) &&
			newSource(before, s.Components) {
			took.First = max(time.Millisecond, now.Sub(s.ConfigSince))
		}
	}
	if st := msg.GetRemoteConfigStatus(); len(st.GetLastRemoteConfigHash()) > 0 &&
		len(st.GetLastRemoteConfigHash()) <= 64 {
		hash := hex.EncodeToString(st.GetLastRemoteConfigHash())
		state, known := configStates[st.GetStatus()]
		if state.name != s.ConfigState || hash != s.ConfigHash {
			s.ConfigSince, took.Changed = now, true
		}
		s.ConfigState, s.ConfigHash, s.ConfigReason = state.name, hash, clean(st.GetErrorMessage(), maxReason)
		if known {
			took.Events = append(
				took.Events,
				rollout.Event{Kind: state.event, Host: host, Hash: hash, Reason: s.ConfigReason},
			)
		}
	}
	if ec := msg.GetEffectiveConfig(); ec != nil {
		s.Running, s.Effective, took.Changed = running, "", true
		if running != "" {
			took.Events = append(took.Events, rollout.Event{Kind: rollout.Reported, Host: host, Hash: running})
		} else {
			s.Effective = cleanText(wire.ConfigOf(ec.GetConfigMap()), maxEffective)
		}
	}
	return took
}

// newSource tells whether a source is told of for the first time.
func newSource(before, now map[string]Component) bool {
	for name := range now {
		if _, had := before[name]; !had && strings.HasPrefix(name, "source/") {
			return true
		}
	}
	return false
}

func components(tree *protobufs.ComponentHealth, old map[string]Component, now time.Time) map[string]Component {
	out := map[string]Component{}
	for _, name := range slices.Sorted(maps.Keys(tree.GetComponentHealthMap())) {
		c := tree.GetComponentHealthMap()[name]
		if !componentName(name) || len(out) == maxComponents {
			continue
		}
		if c.GetHealthy() { // of a destination the last answer that refused records may stand beside it
			out[name] = Component{Reason: clean(c.GetLastError(), maxReason), Since: sinceOf(old[name], "", now)}
			continue
		}
		code := health.Code(c.GetStatus())
		if !health.Reported(code) {
			code = health.Unhealthy
		}
		out[name] = Component{
			Code:   code,
			Reason: clean(c.GetLastError(), maxReason),
			Since:  sinceOf(old[name], code, now),
		}
	}
	return out
}

func sinceOf(old Component, code health.Code, now time.Time) time.Time {
	if old.Code == code && !old.Since.IsZero() {
		return old.Since
	}
	return now
}

// Volumes tells what sources have really read on hosts, retired ones too, as bytes in a day.
func (r *Reports) Volumes() []check.Volume {
	r.mu.RLock()
	defer r.mu.RUnlock()
	var out []check.Volume
	for name, h := range r.hosts {
		for source, v := range h.volumes {
			if v.perDay > 0 {
				out = append(out, check.Volume{Host: name, Source: source, Bytes: v.perDay})
			}
		}
	}
	return out
}
