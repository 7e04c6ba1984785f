package fleetsim

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"synaxis/internal/agent/run"
)

// Running is a machine with its agent and its writers.
type Running struct {
	Machine
	Dir     string            // its own folder
	Ports   map[string]string // that its listeners have, by the settings that hold them
	Trust   *x509.CertPool    // what its devices trust
	written map[string]*atomic.Int64
	private atomic.Int64 // pieces of private data in them
	opts    run.Options

	links []*Link // a vessel's, to the shore

	mu     sync.Mutex
	agent  *run.Agent
	cancel context.CancelFunc
	done   chan struct{}
}

// Depart cuts the links of a vessel; its agent goes on.
func (m *Running) Depart() {
	for _, l := range m.links {
		l.Cut()
	}
}

// LoseReceivers cuts the link of a vessel to the receivers only.
func (m *Running) LoseReceivers() {
	if len(m.links) > 1 {
		m.links[1].Cut()
	}
}

// Arrive mends them.
func (m *Running) Arrive() {
	for _, l := range m.links {
		l.Mend()
	}
}

// Read tells how many records of a source the agent has read, and how many of them wait on its disk.
func (m *Running) Read(source string) (read, onDisk int64) {
	m.mu.Lock()
	a := m.agent
	m.mu.Unlock()
	if a == nil {
		return 0, 0
	}
	all, _ := a.Engine().Numbers()
	for _, d := range all[source].Deliveries {
		onDisk += d.OnDisk
	}
	return all[source].Read, onDisk
}

// LogRoot is the folder of its logs.
func (m *Running) LogRoot() string { return filepath.Join(m.Dir, "log") }

// Written tells how many records the writers of a source have written.
func (m *Running) Written(source string) int64 {
	if n := m.written[source]; n != nil {
		return n.Load()
	}
	return 0
}

// NewRunning prepares the folders of a machine.
func NewRunning(m Machine, dir, service, token string, log *slog.Logger) (*Running, error) {
	r := &Running{Machine: m, Dir: filepath.Join(dir, m.Name), written: map[string]*atomic.Int64{}}
	var err error
	if r.Ports, err = ports(m); err != nil {
		return nil, err
	}
	for _, l := range m.Logs {
		r.written[l.Source] = &atomic.Int64{}
		if _, _, _, device := l.device(); device {
			continue
		}
		if err := os.MkdirAll(filepath.Dir(filepath.Join(r.LogRoot(), l.Path)), 0o755); err != nil {
			return nil, err
		}
	}
	if err := os.MkdirAll(filepath.Join(r.LogRoot(), "journal"), 0o755); err != nil {
		return nil, err
	}
	r.opts = run.Options{
		Service:   service,
		JoinToken: token,
		StateDir:  filepath.Join(r.Dir, "agent"),
		Name:      m.Name,
		HostID:    "demo-" + m.Name,
		Report:    2 * time.Second,
		Version:   "0.1.0",
		Log:       log.With("host", m.Name),
	}
	return r, nil
}

// Start starts the agent; it does nothing when it runs.
func (m *Running) Start(ctx context.Context) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.cancel != nil {
		return nil
	}
	a, err := run.New(m.opts)
	if err != nil {
		return fmt.Errorf("agent of %s: %w", m.Name, err)
	}
	m.agent = a
	ctx, m.cancel = context.WithCancel(ctx)
	m.done = make(chan struct{})
	done := m.done
	go func() {
		defer close(done)
		a.Run(ctx)
	}()
	return nil
}

// Stop stops the agent and waits for it.
func (m *Running) Stop() {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.cancel != nil {
		m.cancel()
		<-m.done
		m.cancel = nil
	}
}

// writer writes one log.
type writer struct {
	m    *Running
	of   Log
	rnd  *rand.Rand
	file *os.File
	out  *sender // of a device
	n    int
	mark string
}

func newWriter(m *Running, i int) (*writer, error) {
	w := &writer{
		m:    m,
		of:   m.Logs[i],
		rnd:  rand.New(rand.NewPCG(uint64(len(m.Name)), uint64(i))),
		mark: fmt.Sprintf("%s.%d", m.Name, i),
	}
	return w, w.open()
}

func (w *writer) path() string { return filepath.Join(w.m.LogRoot(), w.of.Path) }

func (w *writer) open() (err error) {
	if transport, setting, from, device := w.of.device(); device {
		w.out = &sender{transport: transport, address: "127.0.0.1:" + w.m.Ports[setting], from: from,
			trust: func() *x509.CertPool { return w.m.Trust }}
		return nil
	}
	w.file, err = os.OpenFile(w.path(), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o644)
	return err
}

func (w *writer) write() error {
	w.n++
	line := w.of.Line(w.rnd, fmt.Sprintf("%s.%d", w.mark, w.n), w.n, time.Now())
	if err := w.put(line); err != nil {
		return err
	}
	w.m.private.Add(int64(len(private.FindAllString(line, -1))))
	w.m.written[w.of.Source].Add(1)
	return nil
}

func (w *writer) put(line string) error {
	to := io.Writer(w.file)
	if w.out != nil {
		to = w.out
	}
	_, err := io.WriteString(to, line)
	return err
}

func (w *writer) close() error {
	if w.out != nil {
		return w.out.Close()
	}
	return w.file.Close()
}

// rotate does what the machine's own rotation does, after a quiet moment: a file is not begun and rotated away within
// a second, and what is written between a copy and the truncation would be lost by nature.
func (w *writer) rotate() error {
	time.Sleep(2 * time.Second)
	switch w.of.Rotate {
	case "rename":
		if err := os.Rename(w.path(), w.path()+".old"); err != nil {
			return err
		}
		old := w.file
		if err := w.open(); err != nil {
			return err
		}
		return old.Close()
	case "copytruncate":
		in, err := os.Open(w.path())
		if err != nil {
			return err
		}
		defer in.Close()
		out, err := os.Create(w.path() + ".copy.tmp")
		if err != nil {
			return err
		}
		_, err = io.Copy(out, in)
		return errors.Join(err, out.Close(), os.Truncate(w.path(), 0))
	}
	return nil
}

// Write writes so many records into each log of the machine, as fast as pause allows, and rotates in the middle.
func (m *Running) Write(ctx context.Context, records int, pause time.Duration) error {
	var wg sync.WaitGroup
	errs := make([]error, len(m.Logs))
	for i := range m.Logs {
		wg.Go(func() {
			w, err := newWriter(m, i)
			for n := 0; err == nil && n < records && ctx.Err() == nil; n++ {
				if n == records/2 {
					err = w.rotate()
				}
				if err == nil {
					err = w.write()
				}
				time.Sleep(pause)
			}
			if err == nil {
				err = w.close()
			}
			errs[i] = err
		})
	}
	wg.Wait()
	return errors.Join(errs...)
}

// Live writes at the pace of each log until ctx ends, and rotates now and then.
func (m *Running) Live(ctx context.Context, log *slog.Logger) {
	for i := range m.Logs {
		go func() {
			w, err := newWriter(m, i)
			for err == nil {
				select {
				case <-ctx.Done():
					_ = w.close()
					return
				case <-time.After(time.Duration(float64(w.of.Every) * (0.5 + w.rnd.Float64()))):
					if err = w.write(); err == nil && w.n%2000 == 0 {
						err = w.rotate()
					}
				}
			}
			log.Error("a writer of the demo stopped", "host", m.Name, "log", m.Logs[i].Path, "error", err)
		}()
	}
}
