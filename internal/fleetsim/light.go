package fleetsim

import (
	"bytes"
	"context"
	"log/slog"
	"math"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"time"

	"github.com/open-telemetry/opamp-go/protobufs"
	"google.golang.org/protobuf/proto"

	"synaxis/internal/agent/control"
	"synaxis/internal/core/hostconfig"
	"synaxis/internal/core/wire"
)

// Light is a host whose agent has the real connection to the service and a data path that only counts: each of its
// sources reads ten records a second, which all arrive. A config with the word Unreadable has a format that reads
// none of them; one with the word Unfit is refused.
type Light struct {
	Name   string
	client *control.Client

	mu      sync.Mutex
	text    []byte
	names   []string // of the sources in it
	reads   bool     // its format reads what comes
	began   time.Time
	status  *protobufs.RemoteConfigStatus
	counted map[string]wire.Numbers // up to when the config that runs was applied
	since   time.Time
	last    string   // hash of the config that it was offered last
	again   int      // how often it was offered the same one again
	saw     []string // words of simulation that its configs had
	odd     Odd
	parts   map[string]*protobufs.ComponentHealth // that are not well
	held    string                                // a destination that takes nothing

	stop context.CancelFunc
	done chan struct{}
}

// Odd is how a host harms, or tries to; "" for not at all.
type Odd string

// The odd ways of hosts.
const (
	Lies   Odd = "lies"   // says that it runs what it does not, and counts backwards
	Silent Odd = "silent" // takes a config and never says what became of it
	Floods Odd = "floods" // reports a thousand times a second
)

// Be makes it odd.
func (h *Light) Be(odd Odd) {
	h.mu.Lock()
	h.odd = odd
	h.mu.Unlock()
	if odd == Floods {
		h.client.ReportEvery(time.Millisecond)
	}
}

// Words of a config that change how light hosts behave.
const (
	Unreadable = "sim-unreadable"
	Unfit      = "sim-unfit"
)

// LightOptions say where a light host belongs.
type LightOptions struct {
	Service, JoinToken, Dir string
	Report                  time.Duration
}

// NewLight makes a host.
func NewLight(name string, o LightOptions) (*Light, error) {
	state := filepath.Join(o.Dir, name)
	if err := os.MkdirAll(state, 0o700); err != nil {
		return nil, err
	}
	h := &Light{Name: name, began: time.Now(), counted: map[string]wire.Numbers{}}
	var err error
	h.client, err = control.New(control.Options{
		Service:   o.Service,
		JoinToken: o.JoinToken,
		StateDir:  state,
		HostID:    "machine of " + name,
		Report:    o.Report,
		Log:       slog.New(slog.DiscardHandler),
	}, h)
	return h, err
}

// Start connects it.
func (h *Light) Start() {
	ctx, stop := context.WithCancel(context.Background())
	h.stop, h.done = stop, make(chan struct{})
	go func() {
		defer close(h.done)
		h.client.Run(ctx)
	}()
}

// Stop takes it away. It may be started again.
func (h *Light) Stop() {
	h.stop()
	<-h.done
}

// Describe is what is observed of it.
func (h *Light) Describe() *protobufs.AgentDescription {
	return &protobufs.AgentDescription{
		IdentifyingAttributes: []*protobufs.KeyValue{
			wire.TextAttribute("service.name", wire.ServiceName),
			wire.TextAttribute("service.version", "1"),
		},
		NonIdentifyingAttributes: []*protobufs.KeyValue{
			wire.TextAttribute("host.name", h.Name),
			wire.TextAttribute("host.id", "machine of "+h.Name),
			wire.TextAttribute("os.type", "linux"),
			wire.TextAttribute(wire.PartsAttribute, strings.Join(hostconfig.Runs, ",")),
		},
	}
}

// Health is that of its sources.
func (h *Light) Health() *protobufs.ComponentHealth {
	h.mu.Lock()
	defer h.mu.Unlock()
	out := &protobufs.ComponentHealth{Healthy: true, ComponentHealthMap: map[string]*protobufs.ComponentHealth{}}
	for _, name := range h.names {
		out.ComponentHealthMap["source/"+name] = &protobufs.ComponentHealth{Healthy: true}
	}
	for part, p := range h.parts {
		out.Healthy = false
		out.ComponentHealthMap[part] = p
	}
	return out
}

var sourceName = regexp.MustCompile(`(?m)^\s*- source: (\S+)`)

func sources(text []byte) (out []string) {
	for _, m := range sourceName.FindAllSubmatch(text, -1) {
		out = append(out, string(m[1]))
	}
	return out
}

// Effective is the config that it runs.
func (h *Light) Effective() []byte {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.text
}

// ConfigStatus is what became of the config that it was offered last.
func (h *Light) ConfigStatus() *protobufs.RemoteConfigStatus {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.status
}

// Apply takes a config.
func (h *Light) Apply(text, _, hash []byte) *protobufs.RemoteConfigStatus {
	h.mu.Lock()
	defer h.mu.Unlock()
	if string(hash) == h.last {
		h.again++
	}
	h.last = string(hash)
	for _, w := range []string{Unreadable, Unfit} {
		if strings.Contains(string(text), w) {
			h.saw = append(h.saw, w)
		}
	}
	if h.odd == Silent {
		return h.status
	}
	h.status = &protobufs.RemoteConfigStatus{LastRemoteConfigHash: hash,
		Status: protobufs.RemoteConfigStatuses_RemoteConfigStatuses_APPLIED}
	switch {
	case h.odd == Lies:
	case strings.Contains(string(text), Unfit):
		h.status.Status = protobufs.RemoteConfigStatuses_RemoteConfigStatuses_FAILED
		h.status.ErrorMessage = "this host cannot run it"
	default:
		h.counted = h.count(time.Now())
		h.text, h.since = text, time.Now()
		h.names, h.reads = sources(text), !strings.Contains(string(text), Unreadable)
	}
	return h.status
}

// count is what its sources have counted by now. The host is locked.
func (h *Light) count(now time.Time) map[string]wire.Numbers {
	out := map[string]wire.Numbers{}
	for _, name := range h.names {
		n := h.counted[name]
		more := int64(10 * now.Sub(h.since).Seconds())
		n.Read += more
		n.Bytes += 100 * more
		n.Acknowledged += more
		if !h.reads {
			n.Unparsed += more
		}
		n.LastRecord = now.UnixNano()
		if h.held != "" {
			n = heldBack(n, h.held, more, h.since)
		}
		if h.odd == Lies {
			n.Read, n.Bytes, n.Acknowledged = math.MaxInt64-n.Read, -n.Bytes, math.MinInt64+n.Acknowledged
		}
		out[name] = n
	}
	return out
}

// Forget throws everything away.
func (h *Light) Forget() error { return nil }

// Metrics are its numbers.
func (h *Light) Metrics(now time.Time) proto.Message {
	h.mu.Lock()
	defer h.mu.Unlock()
	return wire.EncodeNumbers(h.Name, h.began, now, h.count(now))
}

// Answer answers nothing.
func (h *Light) Answer(_ context.Context, _ string, ask wire.Ask) wire.Reply {
	return wire.Reply{ID: ask.ID, Error: "a light host looks at nothing"}
}

// Runs tells whether the config that it runs has a text in it, and how often it was offered a config again that it
// had.
func (h *Light) Runs(part string) (runs bool, again int) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return bytes.Contains(h.text, []byte(part)), h.again
}

// Saw tells whether it was ever offered a config with a word of the simulation.
func (h *Light) Saw(word string) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, w := range h.saw {
		if w == word {
			return true
		}
	}
	return false
}
