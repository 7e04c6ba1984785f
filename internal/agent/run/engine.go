// Package run is the agent as a whole: the engine that runs a host config, and the loop that gets configs from the
// service and reports to it.
package run

import (
	"context"
	"log/slog"
	"maps"
	"path/filepath"
	"reflect"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"synaxis/internal/agent/buffer"
	"synaxis/internal/agent/deliver"
	"synaxis/internal/agent/files"
	"synaxis/internal/agent/input"
	"synaxis/internal/agent/position"
	"synaxis/internal/agent/probe"
	"synaxis/internal/agent/settle"
	"synaxis/internal/core/delivery"
	"synaxis/internal/core/health"
	"synaxis/internal/core/hostconfig"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/wire"
)

// Engine runs one host config at a time and swaps what changed when it gets another.
type Engine struct {
	hostID  string
	own     string // its folder, without links
	store   *position.Store
	dir     string
	rejects *deliver.Rejects
	buffers *buffer.Store
	budget  *deliver.Budget
	newest  func(ref string) (string, bool) // asks the service for the newest value of a secret
	certify func(source, request string) (chain, words string)
	hints   *files.Hints
	slots   *files.Slots
	log     *slog.Logger

	saving  sync.Mutex // one save at a time
	apply   sync.Mutex // one Apply at a time
	mu      sync.RWMutex
	config  hostconfig.Config
	sources map[string]*source
	dests   map[string]*deliver.Destination
	named   map[string]named         // programs that name files, by reading
	taps    map[string]*pipeline.Tap // by source; one stays while its source changes
	probes  probe.Probes
	left    map[string]*pipeline.Unclaimed // by source, likewise
	books   books
	parting map[string]*parting // destinations that left the config
	parted  map[string]Status   // what was left of those that ended
	filling map[string]*filling
	// bytes that buffers and rejects may have together; 0 for any
	diskLimit atomic.Int64
	unsaved   Status // why positions cannot be saved; without Code they are
	told      time.Time
	leaving   sync.WaitGroup
	ctx       context.Context
	cancel    context.CancelFunc
}

// source is a running source with what it was made from.
type source struct {
	setup  setup
	input  input.Input
	book   *settle.Book
	out    *out
	cancel context.CancelFunc
	done   chan struct{}
}

// reading is the key of the reading of a source for one destination alone.
func reading(source, destination string) string { return source + ">" + destination }

// NewEngine opens the state in a folder. With reread, positions that are damaged are begun anew: every file is read
// from its start.
func NewEngine(dir, hostID string, reread bool, log *slog.Logger) (*Engine, error) {
	return newEngine(dir, hostID, reread, buffer.Disk{}, log)
}

// newEngine is NewEngine with buffers on a file system of its own.
func newEngine(dir, hostID string, reread bool, disk buffer.Files, log *slog.Logger) (*Engine, error) {
	store, err := position.Open(
		filepath.Join(dir, "positions.json"),
		position.Options{Now: time.Now(), Reread: reread, Log: log},
	)
	if err != nil {
		return nil, err
	}
	waits := map[buffer.Key]map[string]*settle.Waits{}
	buffers, err := buffer.Open(filepath.Join(dir, "buffers"), buffer.Options{
		Host: hostID, Files: disk, Log: log, Marks: store.Marks(),
		Waits: func(k buffer.Key, sender string, at time.Time, records int64) {
			if waits[k] == nil {
				waits[k] = map[string]*settle.Waits{}
			}
			if waits[k][sender] == nil {
				waits[k][sender] = &settle.Waits{}
			}
			waits[k][sender].Add(at, records)
		},
	})
	if err != nil {
		return nil, err
	}
	e := &Engine{
		hostID:  hostID,
		dir:     dir,
		own:     trueFolder(dir),
		store:   store,
		buffers: buffers,
		budget:  deliver.NewBudget(deliver.DefaultBudget),
		books:   books{of: map[string]*settle.Book{}, was: map[string]string{}},
		parting: map[string]*parting{},
		parted:  map[string]Status{},
		filling: map[string]*filling{},
		rejects: &deliver.Rejects{Dir: filepath.Join(dir, "rejects"), Log: log},
		hints:   files.NewHints(),
		slots:   &files.Slots{Most: openFiles()},
		log:     log,
		sources: map[string]*source{},
		taps:    map[string]*pipeline.Tap{},
		left:    map[string]*pipeline.Unclaimed{},
		dests:   map[string]*deliver.Destination{},
		named:   map[string]named{},
	}
	e.rejects.Most = e.forRejects
	e.ctx, e.cancel = context.WithCancel(context.Background())
	e.openBooks(waits)
	probe.Clear(e.probeDir())
	e.leaving.Go(e.keepSaving)
	return e, nil
}

// saveEvery is how often positions are written, when they moved. A second would keep the promise on duplicates; an
// agent that is killed again and again within that second would still never get anywhere.
const saveEvery = 250 * time.Millisecond

func (e *Engine) keepSaving() {
	t := time.NewTicker(saveEvery)
	defer t.Stop()
	var saved int64
	for n := 0; ; n++ {
		select {
		case <-e.ctx.Done():
			return
		case <-t.C:
		}
		if now := e.books.all.Changes(); now != saved || n%quietly == 0 || e.State().Code != "" {
			saved = now
			e.save()
		}
		if n%measureEvery == 0 {
			e.measure(time.Now())
		}
	}
}

// quietly is at which of these moments it is saved also where nothing was counted: the path of a file may have
// changed.
const quietly = 8

// measureEvery is after how many of them it is looked how buffers fill.
const measureEvery = 20

func (e *Engine) save() {
	e.saving.Lock()
	defer e.saving.Unlock()
	e.mu.RLock()
	inputs := make([]input.Input, 0, len(e.sources))
	for _, s := range e.sources {
		inputs = append(inputs, s.input)
	}
	rest := e.books.each()
	for name := range e.sources {
		delete(rest, name)
	}
	e.mu.RUnlock()
	// First how far buffers are, then the books, which are at least as far: what is counted as on disk is there.
	marks := e.buffers.Marks()
	for _, in := range inputs {
		in.Save()
	}
	for name, b := range rest { // of sources that are not read any more, and still delivered
		_, n := b.Snapshot(nil)
		e.store.SetNumbers(name, n)
	}
	e.store.SetMarks(marks)
	err := e.store.Save()
	if err == nil {
		e.buffers.Saved(marks)
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	now := time.Now()
	switch {
	case err == nil:
		e.unsaved = Status{}
	case e.unsaved.Code == "":
		e.unsaved = Status{Name: "state", Code: health.StateNotWritable, Since: now}
		fallthrough
	default:
		e.unsaved.Reason = "the positions of files cannot be saved, so that after a restart records would come twice: " +
			err.Error()
		if now.Sub(e.told) >= tellEvery {
			e.told = now
			e.log.Error("positions are not saved; records would come twice after a crash", "error", err)
		}
	}
}

// tellEvery is how often the log says what stays wrong.
const tellEvery = time.Minute

// State tells how the agent's own files are.
func (e *Engine) State() Status {
	e.mu.RLock()
	defer e.mu.RUnlock()
	if e.unsaved.Code == "" {
		return Status{Name: "state"}
	}
	return e.unsaved
}

// Apply runs a config. On an error nothing has changed: what ran before goes on.
func (e *Engine) Apply(c hostconfig.Config) error {
	e.apply.Lock()
	defer e.apply.Unlock()
	if err := e.allowed(c); err != nil {
		return err
	}
	setups, treatments, err := prepare(c)
	if err != nil {
		return err
	}
	fresh := map[string]*deliver.Destination{}
	for _, spec := range c.Destinations {
		if have := e.dest(spec.Name); have != nil && reflect.DeepEqual(have.Spec, spec) && !e.renews(c, spec) {
			continue
		}
		d, err := deliver.New(spec, e.deps(c.Secret))
		if err != nil {
			for _, d := range fresh {
				d.Stop()
			}
			return err
		}
		fresh[spec.Name] = d
	}
	e.diskLimit.Store(c.Footprint.Disk)
	if c.Footprint.Memory > 0 {
		e.budget.Set(c.Footprint.Memory / memoryShare)
	} else {
		e.budget.Set(deliver.DefaultBudget)
	}

	var stopped = map[string]*source{}
	var leaving []*source
	for name, s := range e.sources {
		if p, ok := setups[name]; !ok || !reflect.DeepEqual(p, s.setup) {
			stopped[name] = s
			if !ok || family(p.Spec.Input()) != family(s.setup.Spec.Input()) {
				leaving = append(leaving, s)
			}
		}
	}
	end(leaving)
	for _, s := range stopped {
		s.cancel()
	}
	for _, s := range stopped {
		<-s.done
		s.input.Save()
	}
	sources, destinations := e.renamed(c)
	e.swapDestinations(c, fresh, destinations)

	e.mu.Lock()
	defer e.mu.Unlock()
	e.config = c
	for name, of := range e.named { // of sources that are no more
		if p, ok := setups[name]; !ok || p.Spec.FilesFrom == nil {
			of.files.Close()
			delete(e.named, name)
		}
	}
	for name, old := range stopped {
		if _, ok := setups[name]; !ok {
			old.input.Close()
			delete(e.sources, name)
		}
	}
	e.rename(sources, destinations)
	again := e.isolate(setups)
	for name, p := range setups {
		if have := e.sources[name]; have == nil || stopped[name] != nil {
			old := stopped[name]
			if old != nil && again[name] { // it begins by what is written down
				old.input.Close()
				old = nil
			}
			e.sources[name] = e.start(p, treatments[name], old)
		}
	}
	return nil
}

// memoryShare is the part of the agent's memory that records may wait in.
const memoryShare = 4

// deps are what destinations share.
func (e *Engine) deps(secret func(ref string) ([]byte, bool)) deliver.Deps {
	return deliver.Deps{
		Rejects: e.rejects,
		Buffers: e.buffers,
		Budget:  e.budget,
		Account: func(destination, source, sender string, n wire.DeliveryCounts) {
			e.books.at(destination, source).FromDisk(destination, sender, n)
		},
		Follow:   e.probes.Settled,
		DiskFull: e.diskFull,
		Log:      e.log,
		Secret: func(ref string) (string, bool) {
			v, ok := secret(ref)
			return string(v), ok
		},
		Newest: e.newest,
	}
}

// secret is the value of a reference in the config that runs.
func (e *Engine) secret(ref string) (string, bool) {
	e.mu.RLock()
	defer e.mu.RUnlock()
	v, ok := e.config.Secret(ref)
	return string(v), ok
}

// Config is the config that runs.
func (e *Engine) Config() hostconfig.Config {
	e.mu.RLock()
	defer e.mu.RUnlock()
	return e.config
}

// renews tells whether the secrets of a destination have other values than it was made with, under the same names.
func (e *Engine) renews(c hostconfig.Config, spec delivery.Spec) bool {
	e.mu.RLock()
	defer e.mu.RUnlock()
	return e.renewed(c, spec)
}

// renewed is renews while the engine is locked.
func (e *Engine) renewed(c hostconfig.Config, spec delivery.Spec) bool {
	for _, ref := range spec.Secrets() {
		was, had := e.config.Secret(ref)
		now, has := c.Secret(ref)
		if had != has || string(was) != string(now) {
			return true
		}
	}
	return false
}

// Check tells whether a config can run, as far as that can be known without running it.
func (e *Engine) Check(c hostconfig.Config) error {
	if err := e.allowed(c); err != nil {
		return err
	}
	_, _, err := prepare(c)
	return err
}

func (e *Engine) dest(name string) *deliver.Destination {
	e.mu.RLock()
	defer e.mu.RUnlock()
	return e.dests[name]
}

// swapDestinations puts new destinations in the place of changed or renamed ones, which hand over what they have not
// delivered. One that is gone goes on delivering what it has for as long as it says.
func (e *Engine) swapDestinations(
	c hostconfig.Config, fresh map[string]*deliver.Destination, renamed map[string]string,
) {
	e.mu.Lock()
	old := maps.Clone(e.dests)
	e.mu.Unlock()
	for name, d := range fresh {
		before := old[name]
		for was, now := range renamed {
			if now == name && before == nil {
				before = old[was]
			}
		}
		if before == nil {
			before = e.comesBack(name)
		}
		if before != nil {
			items := before.Stop()
			if was := before.Spec.Name; was != name {
				e.renameBuffers(was, name)
			}
			d.Adopt(items)
		}
		d.Start()
		e.mu.Lock()
		e.dests[name] = d
		e.mu.Unlock()
	}
	e.mu.Lock()
	for name := range e.dests {
		if _, ok := c.Destination(name); !ok {
			delete(e.dests, name)
		}
	}
	e.mu.Unlock()
	for name, d := range old {
		if _, stays := c.Destination(name); !stays && renamed[name] == "" {
			e.part(d, c)
		}
	}
	e.partUnknown(c)
}

// Tap lets somebody look at the records of a source that runs; nil for one that does not.
func (e *Engine) Tap(source string) *pipeline.Tap {
	e.mu.RLock()
	defer e.mu.RUnlock()
	if e.sources[source] == nil {
		return nil
	}
	return e.taps[source]
}

// Unclaimed are examples of what formats did not read, and no route took, of one source or of all.
func (e *Engine) Unclaimed(source string) (out []wire.Unclaimed) {
	e.mu.RLock()
	defer e.mu.RUnlock()
	n := 0
	for _, name := range slices.Sorted(maps.Keys(e.left)) {
		if source != "" && name != source || e.sources[name] == nil {
			continue
		}
		for _, reason := range []string{"unparsed", "no-route"} {
			examples := e.left[name].Examples(reason)
			if n += len(examples); len(examples) > 0 && n <= wire.MaxUnclaimed {
				out = append(out, wire.Unclaimed{Source: name, Reason: reason, Examples: examples})
			}
		}
	}
	return out
}

// endWithin is how long sources have that others send to, to treat what has come before they end.
const endWithin = 3 * time.Second

// end lets sources take nothing new, and waits until what they have taken is treated.
func end(list []*source) {
	ctx, cancel := context.WithTimeout(context.Background(), endWithin)
	defer cancel()
	var all sync.WaitGroup
	for _, s := range list {
		if in, ok := s.input.(input.Ender); ok {
			all.Go(func() { in.End(ctx) })
		}
	}
	all.Wait()
}

// Stop ends everything. It gives deliveries a moment, so that less comes twice.
func (e *Engine) Stop() {
	e.apply.Lock()
	defer e.apply.Unlock()
	e.mu.RLock()
	sources, dests := maps.Clone(e.sources), maps.Clone(e.dests)
	e.mu.RUnlock()
	end(slices.Collect(maps.Values(sources)))
	for _, s := range sources {
		s.cancel()
	}
	for _, s := range sources {
		<-s.done
	}
	ctx, cancel := context.WithTimeout(e.ctx, 2*time.Second)
	defer cancel()
	for _, d := range dests {
		if d.Trouble().Code == "" {
			d.Drain(ctx)
		}
	}
	e.mu.RLock()
	for name, p := range e.parting {
		dests[name+" (leaving)"] = p.dest
	}
	e.mu.RUnlock()
	for _, d := range dests { // so that nothing hangs on files that are rotated away meanwhile
		d.Safeguard()
	}
	e.buffers.Sync()
	e.save()
	e.cancel()
	for _, d := range dests {
		d.Stop()
	}
	e.leaving.Wait()
	e.hints.Close()
	for _, s := range sources {
		s.input.Close()
	}
	e.mu.Lock()
	for _, of := range e.named {
		of.files.Close()
	}
	e.mu.Unlock()
	e.save()
	e.buffers.Close()
	e.store.Close()
}

// Status is what a part of the agent says of itself.
type Status struct {
	Name   string
	Code   health.Code // empty: all is well
	Reason string
	Since  time.Time
}

// patience is how long a destination may fail before its sources say so.
const patience = 3 * time.Second

// Takes tells whether a running source reads a path.
func (e *Engine) Takes(path string) bool {
	e.mu.RLock()
	defer e.mu.RUnlock()
	for _, s := range e.sources {
		if in, ok := s.input.(input.PathReader); ok && in.Takes(path) {
			return true
		}
	}
	for _, d := range e.dests { // nor is it a log what the agent itself writes
		if d.Spec.Kind == delivery.File && d.Spec.Path == path {
			return true
		}
	}
	return false
}

// Folders are those in which the running sources read.
func (e *Engine) Folders() []string {
	e.mu.RLock()
	defer e.mu.RUnlock()
	var out []string
	for _, s := range e.sources {
		for _, pattern := range s.setup.Spec.Files {
			base, _ := doublestar.SplitPattern(filepath.ToSlash(pattern))
			out = append(out, base)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}
