package run

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"math"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/open-telemetry/opamp-go/protobufs"
	"google.golang.org/protobuf/proto"

	"synaxis/internal/agent/control"
	"synaxis/internal/agent/look"
	"synaxis/internal/agent/peek"
	"synaxis/internal/agent/position"
	"synaxis/internal/agent/preflight"
	"synaxis/internal/agent/trial"
	"synaxis/internal/core/footprint"
	"synaxis/internal/core/hostconfig"
	"synaxis/internal/core/wire"
)

// Options of an agent.
type Options struct {
	Service   string
	JoinToken string
	TokenFile string // holds the join token, and is removed once it was used
	Pin       string
	StateDir  string
	Name      string // default the system's host name
	HostID    string // default made from the system's machine id
	Report    time.Duration
	Reread    bool // damaged positions are begun anew: every file is read from its start
	Version   string
	Log       *slog.Logger
	Alone     bool // the process is this agent's own, so that it may bound its memory and threads
}

// Agent is one agent.
type Agent struct {
	o       Options
	engine  *Engine
	client  *control.Client
	started time.Time
	lock    *os.File
	trials  trial.Trials
	peeks   peek.Peeks

	applying sync.Mutex // one config at a time
	unwatch  func()     // ends watching the config that was applied last

	mu      sync.Mutex
	text    []byte // of the config that runs
	secrets []byte
	status  *protobufs.RemoteConfigStatus
	told    string // the sender that was told of last, where not all are at once
}

// New opens the state and starts from the last good config, if there is one.
func New(o Options) (*Agent, error) {
	if o.Name == "" {
		name, err := os.Hostname()
		if err != nil {
			return nil, fmt.Errorf("no --name, and the system does not tell its host name: %w", err)
		}
		o.Name = name
	}
	if o.HostID == "" {
		o.HostID = machineID(o.Name)
	}
	if o.Report <= 0 {
		o.Report = 30 * time.Second
	}
	if o.Log == nil {
		o.Log = slog.Default()
	}
	if err := os.MkdirAll(o.StateDir, 0o700); err != nil {
		return nil, fmt.Errorf("state folder: %w", err)
	}
	dir, err := filepath.Abs(o.StateDir)
	if err != nil {
		return nil, fmt.Errorf("state folder: %w", err)
	}
	if o.StateDir, err = filepath.EvalSymlinks(dir); err != nil { // once: what it is called later decides nothing
		return nil, fmt.Errorf("state folder: %w", err)
	}
	lock, err := lockDir(o.StateDir)
	if err != nil {
		return nil, err
	}
	a := &Agent{o: o, started: time.Now(), lock: lock}
	if a.engine, err = NewEngine(o.StateDir, o.HostID, o.Reread, o.Log); err != nil {
		lock.Close()
		return nil, err
	}
	if a.client, err = control.New(control.Options{Service: o.Service, JoinToken: o.JoinToken, TokenFile: o.TokenFile,
		Pin: o.Pin, StateDir: o.StateDir,
		HostID: o.HostID, Report: o.Report, Log: o.Log}, a); err != nil {
		a.engine.Stop()
		lock.Close()
		return nil, err
	}
	a.engine.newest, a.engine.certify = a.client.NewestSecret, a.client.Certificate
	if a.client.Copied() {
		o.Log.Warn(
			"the state folder was copied from another machine; nothing is collected until the service has said who " +
				"this host is",
		)
		return a, nil
	}
	a.resume()
	return a, nil
}

// lastGood is the file that holds the config that ran last, with its secrets.
const lastGood = "last-good.json"

// copied are the parts of the state folder that belong to the host that it was copied from.
var copied = []string{lastGood, "positions*", "rejects", "buffers", partingFile}

// Forget stops collecting and throws away config, positions and buffers, which are those of another host.
func (a *Agent) Forget() error {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.engine.Stop()
	for _, pattern := range copied {
		names, err := filepath.Glob(filepath.Join(a.o.StateDir, pattern))
		if err != nil {
			return err
		}
		for _, name := range names {
			if err := os.RemoveAll(name); err != nil {
				return err
			}
		}
	}
	engine, err := NewEngine(a.o.StateDir, a.o.HostID, false, a.o.Log)
	if err != nil {
		return err
	}
	engine.newest, engine.certify = a.client.NewestSecret, a.client.Certificate
	a.engine, a.text, a.status = engine, nil, nil
	return nil
}

// machineID is a stable id of the machine that does not give its own id away.
func machineID(name string) string {
	text, err := os.ReadFile("/etc/machine-id")
	if err != nil {
		text = []byte(name)
	}
	sum := sha256.Sum256(append([]byte("synaxis-agent "), text...))
	return hex.EncodeToString(sum[:16])
}

func (a *Agent) lastGoodPath() string { return filepath.Join(a.o.StateDir, lastGood) }

// kept is what a start without the service needs. It is one file, so that no crash leaves a config without its
// secrets.
type kept struct {
	Config  string          `json:"config"`
	Secrets json.RawMessage `json:"secrets,omitempty"`
}

// keep writes down what runs from now on, for the agent's eyes only. Without a config there is nothing to keep.
func (a *Agent) keep(text, secrets []byte) error {
	if len(text) == 0 {
		if err := os.Remove(a.lastGoodPath()); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return nil
	}
	k := kept{Config: string(text)}
	if len(secrets) > 0 {
		k.Secrets = secrets
	}
	all, err := json.Marshal(k)
	if err != nil {
		return errors.New("the secrets beside the config cannot be read") // what is wrong would show them
	}
	return position.WriteFile(a.lastGoodPath(), all, 0o600)
}

// resume runs the last good config without waiting for the service.
func (a *Agent) resume() {
	all, err := os.ReadFile(a.lastGoodPath())
	if errors.Is(err, fs.ErrNotExist) {
		return
	}
	var k kept
	if err == nil {
		err = json.Unmarshal(all, &k)
	}
	if err != nil {
		a.o.Log.Error(
			"the last good config cannot be read; the service will give it again",
			"file",
			a.lastGoodPath(),
			"error",
			err,
		)
		return
	}
	c, err := a.read([]byte(k.Config), k.Secrets)
	if err == nil {
		err = a.engine.Apply(c)
	}
	hash, _ := hex.DecodeString(c.Hash)
	if err == nil {
		a.within(c.Footprint)
	}
	if err != nil {
		a.o.Log.Error("the last good config does not run any more", "error", err)
		a.status = failed(hash, err)
		return
	}
	a.text, a.secrets = []byte(k.Config), k.Secrets
	a.status = &protobufs.RemoteConfigStatus{
		LastRemoteConfigHash: hash,
		Status:               protobufs.RemoteConfigStatuses_RemoteConfigStatuses_APPLIED,
	}
	a.o.Log.Info("started from the last good config", "sources", len(c.Sources))
}

// Run reports to the service and follows it until ctx ends, then stops the engine.
func (a *Agent) Run(ctx context.Context) {
	a.client.Run(ctx)
	a.applying.Lock()
	if a.unwatch != nil {
		a.unwatch()
	}
	a.applying.Unlock()
	a.engine.Stop()
	a.lock.Close()
}

// Answer answers what the desk wants to see of the host, in the words of wire.
func (a *Agent) Answer(ctx context.Context, kind string, ask wire.Ask) wire.Reply {
	if !slices.Contains([]string{wire.AskPeek, wire.AskProbe, wire.AskUnclaimed, wire.AskSenders},
		kind) { // which are asked often
		a.o.Log.Info("the desk looks at this host", "what", kind, "path", ask.Path)
	}
	a.mu.Lock()
	engine := a.engine
	a.mu.Unlock()
	if reply, ok := engine.answerRejects(ctx, kind, ask); ok {
		return reply
	}
	if kind == wire.AskPreflight {
		return wire.Reply{ID: ask.ID, Preflight: preflight.Rehearsal{State: a.o.StateDir, Check: engine.Check,
			Secret: engine.secret, SendTest: ask.SendTest, Desk: ask.Desk, Now: time.Now}.Run(ctx, []byte(ask.Config))}
	}
	if kind == wire.AskTrial {
		r, err := a.trials.Answer(ask, engine.tried(), func(text []byte) (hostconfig.Config, error) {
			return preflight.Read(text, engine.secret)
		})
		if err != nil {
			return wire.Reply{ID: ask.ID, Error: err.Error()}
		}
		return wire.Reply{ID: ask.ID, Trial: r}
	}
	if kind == wire.AskSenders {
		return wire.Reply{ID: ask.ID, Senders: engine.Senders(ask.Source)}
	}
	if kind == wire.AskUnclaimed {
		return wire.Reply{ID: ask.ID, Unclaimed: engine.Unclaimed(ask.Source)}
	}
	if kind == wire.AskProbe {
		r, err := engine.probes.Answer(ctx, ask.Probe, engine.probed())
		if err != nil {
			return wire.Reply{ID: ask.ID, Error: err.Error()}
		}
		return wire.Reply{ID: ask.ID, Probe: r}
	}
	if kind == wire.AskPeek {
		r, err := a.peeks.Answer(ctx, ask.Peek, engine.Tap)
		if err != nil {
			return wire.Reply{ID: ask.ID, Error: err.Error()}
		}
		return wire.Reply{ID: ask.ID, Peek: r}
	}
	return look.Looker{
		State:   a.o.StateDir,
		Takes:   engine.Takes,
		Folders: engine.Folders,
		Now:     time.Now,
	}.Answer(
		ctx,
		kind,
		ask,
	)
}

// Engine gives access to the running engine, for tests and the demo.
func (a *Agent) Engine() *Engine { return a.engine }

func failed(hash []byte, err error) *protobufs.RemoteConfigStatus {
	return &protobufs.RemoteConfigStatus{
		LastRemoteConfigHash: hash,
		Status:               protobufs.RemoteConfigStatuses_RemoteConfigStatuses_FAILED,
		ErrorMessage:         err.Error(),
	}
}

// Apply runs a config from the service. What runs is what a restart would run: a config that cannot be kept is
// refused. An empty text takes the config away: nothing is collected any more, what was read is still delivered, and
// the secrets are deleted.
func (a *Agent) Apply(text, secrets, hash []byte) *protobufs.RemoteConfigStatus {
	a.applying.Lock()
	defer a.applying.Unlock()
	if a.unwatch != nil {
		a.unwatch()
		a.unwatch = nil
	}
	a.mu.Lock()
	was, wasSecrets := a.text, a.secrets
	a.mu.Unlock()
	c, err := a.read(text, secrets)
	if err == nil {
		err = a.engine.Check(c)
	}
	risk := a.engine.atRisk(c)
	if err == nil {
		if err = a.keep(text, secrets); err != nil {
			err = fmt.Errorf(
				"it cannot be kept in the state folder, so that a restart would bring the old one: %w",
				err,
			)
		} else if err = a.engine.Apply(c); err != nil {
			if err := a.keep(was, wasSecrets); err != nil {
				a.o.Log.Error("the old config goes on and cannot be kept; the service will give it again after a "+
					"restart", "error", err)
			}
		}
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if err != nil {
		a.o.Log.Error("config refused, the old one goes on", "reason", err)
		a.status = failed(hash, err)
		return a.status
	}
	a.within(c.Footprint)
	if len(text) == 0 {
		a.o.Log.Warn(
			"this host was retired: nothing is collected any more, what was read is still delivered, the secrets " +
				"are deleted",
		)
	} else {
		a.o.Log.Info("config applied", "sources", len(c.Sources), "destinations", len(c.Destinations))
	}
	a.text, a.secrets = text, secrets
	a.status = &protobufs.RemoteConfigStatus{
		LastRemoteConfigHash: hash,
		Status:               protobufs.RemoteConfigStatuses_RemoteConfigStatuses_APPLIED,
	}
	ctx, unwatch := context.WithCancel(context.Background())
	a.unwatch = unwatch
	go a.watch(ctx, risk, hash, was, wasSecrets)
	return a.status
}

// read reads a config and the secrets that came beside it.
func (a *Agent) read(text, secrets []byte) (c hostconfig.Config, err error) {
	if len(text) == 0 {
		return c, nil
	}
	if c, err = hostconfig.Read(text, hostconfig.Runs); err != nil {
		return c, err
	}
	if len(secrets) > 0 && json.Unmarshal(secrets, &c.Secrets) != nil {
		err = errors.New("the secrets beside the config cannot be read") // what is wrong would show them
	}
	return c, err
}

// settled is how long after a new config memory is given back that is not needed any more.
const settled = 10 * time.Second

// within keeps the agent inside what it may use. The ceiling on processor time is the system's to hold; here it bounds
// how many threads compete.
func (a *Agent) within(f footprint.Spec) {
	if f.Every > 0 {
		a.client.ReportEvery(f.Every)
	}
	if !a.o.Alone {
		return
	}
	time.AfterFunc(settled, debug.FreeOSMemory) // what it took to read the config and to begin
	if f.Memory > 0 {
		debug.SetMemoryLimit(f.Memory * 9 / 10) // the rest is for what the runtime does not count
	} else {
		debug.SetMemoryLimit(math.MaxInt64)
	}
	if f.CPU > 0 {
		runtime.GOMAXPROCS(min(runtime.NumCPU(), max(1, int(math.Ceil(f.CPU)))))
	}
}

// Effective is the config that runs.
func (a *Agent) Effective() []byte {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.text
}

// ConfigStatus is what became of the last config that was offered.
func (a *Agent) ConfigStatus() *protobufs.RemoteConfigStatus {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.status
}

// Describe names the agent and what it observes of its host (OpenTelemetry resource conventions).
func (a *Agent) Describe() *protobufs.AgentDescription {
	return &protobufs.AgentDescription{
		IdentifyingAttributes: []*protobufs.KeyValue{
			wire.TextAttribute("service.name", wire.ServiceName),
			wire.TextAttribute("service.version", a.o.Version),
			wire.TextAttribute("host.name", a.o.Name),
			wire.TextAttribute("host.id", a.o.HostID),
		},
		NonIdentifyingAttributes: append([]*protobufs.KeyValue{
			wire.TextAttribute("os.type", runtime.GOOS),
			wire.TextAttribute("host.arch", runtime.GOARCH),
			wire.TextAttribute(wire.PartsAttribute, strings.Join(hostconfig.Runs, ",")),
		}, observe(a.o.StateDir)...),
	}
}

// Health is a tree: the agent, below it its sources and destinations. It holds no counters, so that it is equal as
// long as nothing changed.
func (a *Agent) Health() *protobufs.ComponentHealth {
	root := &protobufs.ComponentHealth{
		Healthy:            true,
		StartTimeUnixNano:  uint64(a.started.UnixNano()),
		ComponentHealthMap: map[string]*protobufs.ComponentHealth{},
	}
	add := func(kind string, list []Status) {
		for _, s := range list {
			h := &protobufs.ComponentHealth{Healthy: s.Code == "", Status: string(s.Code), LastError: s.Reason}
			if !s.Since.IsZero() {
				h.StatusTimeUnixNano = uint64(s.Since.UnixNano())
			}
			root.Healthy = root.Healthy && h.Healthy
			root.ComponentHealthMap[kind+"/"+s.Name] = h
		}
	}
	add("source", a.engine.Sources())
	add("destination", a.engine.Destinations())
	add("agent", []Status{a.engine.State()})
	return root
}

// Metrics are the agent's numbers.
func (a *Agent) Metrics(now time.Time) proto.Message {
	all, began := a.engine.Numbers()
	a.mu.Lock()
	a.told = wire.SomeSenders(all, a.told)
	a.mu.Unlock()
	req := wire.EncodeNumbers(a.o.Name, began, now, all)
	wire.AddDestinations(req, now, a.engine.DestinationNumbers())
	if used, err := cpuTime(); err == nil {
		wire.AddProcess(req, now, wire.Process{Started: processStart, CPU: used})
	}
	return req
}
