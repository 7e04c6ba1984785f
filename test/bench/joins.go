package main

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/open-telemetry/opamp-go/protobufs"
	"google.golang.org/protobuf/proto"

	"synaxis/internal/agent/control"
	"synaxis/internal/core/hostconfig"
	"synaxis/internal/core/rollout"
	"synaxis/internal/core/wire"
	"synaxis/internal/service/store"
)

// Aims of the fleet that joins and is rolled out to.
const (
	eventAim   = 20 * time.Microsecond
	rolloutAim = 5 * time.Second
	join3Aim   = 15 * time.Second
	join10Aim  = 50 * time.Second
)

// verdict adds whether an aim was met to what something took.
func verdict(took, aim time.Duration, missed *int) string {
	if took > aim {
		*missed++
		return fmt.Sprintf("%s (missed %s)", round(took), aim)
	}
	return fmt.Sprintf("%s (met %s)", round(took), aim)
}

func round(d time.Duration) time.Duration {
	if d < time.Millisecond {
		return d.Round(100 * time.Nanosecond)
	}
	return d.Round(time.Millisecond)
}

// rolloutTable measures one event of a rollout, without its commit, at fleets of three sizes, and a whole rollout
// through a real store.
func rolloutTable() (missed int, err error) {
	fmt.Printf(
		"\na rollout: one event without its commit, and all hosts assigned, offered, applied and confirmed through " +
			"a store\n\n",
	)
	t := newTable(table.Row{"hosts", "an event", "a whole rollout"})
	for _, n := range []int{1000, 10_000, 50_000} {
		whole, err := wholeRollout(n)
		if err != nil {
			return missed, err
		}
		shown := round(whole).String()
		if n == 10_000 {
			shown = verdict(whole, rolloutAim, &missed)
		}
		t.AppendRow(table.Row{show(float64(n)), verdict(rolloutEvent(n), eventAim, &missed), shown})
	}
	t.Render()
	return missed, nil
}

func targets(n int) (out []rollout.Target) {
	for i := range n {
		out = append(
			out,
			rollout.Target{Host: fmt.Sprintf("host-%05d", i), Hash: fmt.Sprintf("%064x", i), Connected: true},
		)
	}
	return out
}

// through are the events of a host that takes its config.
var through = []rollout.EventKind{rollout.Sent, rollout.Taken, rollout.RunsIt, rollout.Reported}

// rolloutEvent is the mean of what an event takes to be decided and applied, with a tick after each.
func rolloutEvent(n int) time.Duration {
	now := time.Now()
	all := targets(n)
	s := rollout.From(rollout.Start(rollout.Head{ID: 1, Plan: rollout.OneWave()}, all, now))
	began, events := time.Now(), 0
	for i := range 1000 {
		h := all[i*(n/1000)]
		for _, kind := range through {
			s.Apply(s.Decide([]rollout.Event{{Kind: kind, Host: h.Host, Hash: h.Hash}, {Kind: rollout.Tick}}, now))
			events++
		}
	}
	return time.Since(began) / time.Duration(events)
}

// wholeRollout brings all hosts through a rollout. Events come in the batches in which the service takes them when
// they come at once.
func wholeRollout(n int) (time.Duration, error) {
	ctx := context.Background()
	dir, err := os.MkdirTemp("", "synaxis-bench-")
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(dir)
	st, err := store.Open(ctx, dir)
	if err != nil {
		return 0, err
	}
	defer st.Close()
	all := targets(n)
	text := strings.Repeat("x", 4096)
	began := time.Now()
	first := rollout.Start(rollout.Head{ID: 1, Revision: 1, Plan: rollout.OneWave()}, all, began)
	if err := st.Alone(ctx, func(t *store.Tx) error {
		for _, c := range first.Commands {
			if c.Kind == rollout.Assign {
				if err := t.Assign(store.Assignment{Host: c.Host, Hash: c.Hash, Revision: 1, Rollout: 1,
					AssignedAt: began},
					store.Manifest{Hash: c.Hash, Host: c.Host, Revision: 1, Text: text}); err != nil {
					return err
				}
			}
		}
		return t.MoveRollout(first)
	}); err != nil {
		return 0, err
	}
	s := rollout.From(first)
	const batch = 400
	for from := 0; from < n; from += batch {
		for _, kind := range through {
			var events []rollout.Event
			for _, h := range all[from:min(from+batch, n)] {
				events = append(events, rollout.Event{Kind: kind, Host: h.Host, Hash: h.Hash})
			}
			d := s.Decide(events, time.Now())
			if err := st.Alone(ctx, func(t *store.Tx) error { return t.MoveRollout(d) }); err != nil {
				return 0, err
			}
			s.Apply(d)
		}
	}
	took := time.Since(began)
	if s.Status != rollout.Done || s.Counts()[rollout.Confirmed] != n {
		return 0, fmt.Errorf("the rollout is %s with %v", s.Status, s.Counts())
	}
	return took, nil
}

// lightHost is an agent without a data path: what it is offered it says that it runs.
type lightHost struct {
	name string
	mu   sync.Mutex
	text []byte
}

func (h *lightHost) Describe() *protobufs.AgentDescription {
	return &protobufs.AgentDescription{
		IdentifyingAttributes: []*protobufs.KeyValue{
			wire.TextAttribute("service.name", wire.ServiceName),
			wire.TextAttribute("service.version", "1"),
		},
		NonIdentifyingAttributes: []*protobufs.KeyValue{
			wire.TextAttribute("host.name", h.name),
			wire.TextAttribute("host.id", "machine of "+h.name),
			wire.TextAttribute(
				"os.type",
				"linux",
			),
			wire.TextAttribute(wire.PartsAttribute, strings.Join(hostconfig.Runs, ",")),
		},
	}
}
func (h *lightHost) Health() *protobufs.ComponentHealth {
	return &protobufs.ComponentHealth{Healthy: true}
}
func (h *lightHost) Effective() []byte {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.text
}
func (h *lightHost) ConfigStatus() *protobufs.RemoteConfigStatus { return nil }
func (h *lightHost) Apply(text, _, hash []byte) *protobufs.RemoteConfigStatus {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.text = text
	return &protobufs.RemoteConfigStatus{
		LastRemoteConfigHash: hash,
		Status:               protobufs.RemoteConfigStatuses_RemoteConfigStatuses_APPLIED,
	}
}
func (h *lightHost) Forget() error { return nil }
func (h *lightHost) Metrics(now time.Time) proto.Message {
	return wire.EncodeNumbers(h.name, now, now, map[string]wire.Numbers{})
}
func (h *lightHost) Answer(context.Context, string, wire.Ask) wire.Reply { return wire.Reply{} }

// joinTable lets fleets of real clients, without a data path, join a real service that shares the machine with them,
// and then rolls a revision out to them.
func joinTable() (missed int, err error) {
	fmt.Printf("\nagents that join at once, on a machine that they share with the service, and then get a config\n\n")
	t := newTable(table.Row{"agents", "all have joined", "all run the config", "CPU of the service"})
	for _, x := range []struct {
		n   int
		aim time.Duration
	}{{3000, join3Aim}, {10_000, join10Aim}} {
		joined, ran, cpu, err := joinFleet(x.n)
		if err != nil {
			return missed, err
		}
		t.AppendRow(table.Row{show(float64(x.n)), verdict(joined, x.aim, &missed), round(ran), round(cpu)})
	}
	t.Render()
	return missed, nil
}

func joinFleet(n int) (joined, ran, cpu time.Duration, err error) {
	s, err := startService()
	if err != nil {
		return 0, 0, 0, err
	}
	defer s.stop()
	token, err := s.joinToken()
	if err != nil {
		return 0, 0, 0, err
	}
	dir, err := os.MkdirTemp(memoryFolder(), "synaxis-bench-")
	if err != nil {
		return 0, 0, 0, err
	}
	defer os.RemoveAll(dir)
	ctx, stop := context.WithCancel(context.Background())
	var running sync.WaitGroup
	defer running.Wait()
	defer stop()
	began := time.Now()
	for i := range n {
		h := &lightHost{name: fmt.Sprintf("host-%05d", i)}
		state := filepath.Join(dir, h.name)
		if err := os.Mkdir(state, 0o700); err != nil {
			return 0, 0, 0, err
		}
		c, err := control.New(
			control.Options{
				Service:   s.address,
				JoinToken: token,
				StateDir:  state,
				HostID:    "machine of " + h.name,
				Report:    time.Minute,
				Log:       slog.New(slog.DiscardHandler),
			},
			h,
		)
		if err != nil {
			return 0, 0, 0, err
		}
		running.Go(func() { c.Run(ctx) })
	}
	connected := func() (int, error) { return s.hostsConnected() }
	if joined, err = waitFor(began, n, 2*time.Minute, connected); err != nil {
		return 0, 0, 0, err
	}
	began = time.Now()
	if err := s.rollOut("source: ss\nhosts: all\nread: {files: [\"/var/log/${host.name}/a.log\"]}\nformat: " +
		"raw\nsend: [{to: one}]\n---\ndestination: one\ndeliver: {discard: {}}\n"); err != nil {
		return 0, 0, 0, err
	}
	if ran, err = waitFor(began, n, 3*time.Minute, s.hostsConfirmed); err != nil {
		return 0, 0, 0, err
	}
	return joined, ran, s.cpu(), nil
}

func waitFor(began time.Time, n int, most time.Duration, count func() (int, error)) (time.Duration, error) {
	for {
		have, err := count()
		took := time.Since(began)
		switch {
		case err != nil:
			return 0, err
		case have >= n:
			return took, nil
		case took > most:
			return 0, fmt.Errorf("%d of %d after %s", have, n, took)
		}
		time.Sleep(100 * time.Millisecond)
	}
}

// memoryFolder is a folder in memory, where there is one: what is measured is the service.
func memoryFolder() string {
	if info, err := os.Stat("/dev/shm"); err == nil && info.IsDir() {
		return "/dev/shm"
	}
	return ""
}

// realService is the built service in a process of its own.
type realService struct {
	cmd     *exec.Cmd
	dir     string
	address string
	token   string
}

func startService() (*realService, error) {
	bin := os.Getenv("SYNAXIS_BIN")
	if bin == "" {
		bin = "bin"
	}
	dir, err := os.MkdirTemp("", "synaxis-bench-")
	if err != nil {
		return nil, err
	}
	s := &realService{dir: dir}
	s.cmd = exec.Command(filepath.Join(bin, "synaxisd"), "--data", dir, "--listen", "127.0.0.1:0")
	out, err := s.cmd.StderrPipe()
	if err != nil {
		return nil, err
	}
	if err := s.cmd.Start(); err != nil {
		return nil, err
	}
	for lines := bufio.NewScanner(out); s.address == "" && lines.Scan(); {
		if strings.Contains(lines.Text(), "msg=listening") {
			s.address = listensOn.FindString(lines.Text())
		}
	}
	go func() { _, _ = io.Copy(io.Discard, out) }()
	token, err := os.ReadFile(filepath.Join(dir, "admin.token"))
	if err != nil || s.address == "" {
		s.stop()
		return nil, fmt.Errorf("the service did not start: %v", err)
	}
	s.token = strings.TrimSpace(string(token))
	return s, nil
}

func (s *realService) stop() {
	_ = s.cmd.Process.Kill()
	_ = s.cmd.Wait()
	_ = os.RemoveAll(s.dir)
}
