// Package run is the agent as a whole: the engine that runs a host config, and the loop that gets configs from the
// service and reports to it.
package run

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"math/bits"
	"path/filepath"
	"reflect"
	"slices"
	"sort"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"synaxis/internal/agent/deliver"
	"synaxis/internal/agent/files"
	"synaxis/internal/agent/input"
	"synaxis/internal/agent/position"
	"synaxis/internal/agent/settle"
	"synaxis/internal/core/delivery"
	"synaxis/internal/core/format"
	"synaxis/internal/core/health"
	"synaxis/internal/core/hostconfig"
	"synaxis/internal/core/mask"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/record"
	"synaxis/internal/core/wire"
)

// Engine runs one host config at a time and swaps what changed when it gets another.
type Engine struct {
	hostID  string
	own     string // its folder, without links
	store   *position.Store
	rejects *deliver.Rejects
	hints   *files.Hints
	slots   *files.Slots
	log     *slog.Logger

	apply   sync.Mutex // one Apply at a time
	mu      sync.RWMutex
	config  hostconfig.Config
	sources map[string]*source
	dests   map[string]*deliver.Destination
	unsaved Status // why positions cannot be saved; without Code they are
	told    time.Time
	leaving sync.WaitGroup
	ctx     context.Context
	cancel  context.CancelFunc
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

// setup is everything that a source depends on. A source whose setup is the same goes on untouched.
type setup struct {
	Spec      pipeline.Source
	Format    format.Spec
	Others    []format.Spec // the formats that Format and the steps name
	Masks     []mask.Spec
	Keys      []string // of their hashes
	Host      string
	Labels    map[string]string
	Encodings map[string]record.Encoding
}

// NewEngine opens the state in a folder. With reread, positions that are damaged are begun anew: every file is read
// from its start.
func NewEngine(dir, hostID string, reread bool, log *slog.Logger) (*Engine, error) {
	store, err := position.Open(
		filepath.Join(dir, "positions.json"),
		position.Options{Now: time.Now(), Reread: reread, Log: log},
	)
	if err != nil {
		return nil, err
	}
	e := &Engine{
		hostID:  hostID,
		own:     trueFolder(dir),
		store:   store,
		rejects: &deliver.Rejects{Dir: filepath.Join(dir, "rejects")},
		hints:   files.NewHints(),
		slots:   &files.Slots{Most: openFiles()},
		log:     log,
		sources: map[string]*source{},
		dests:   map[string]*deliver.Destination{},
	}
	e.ctx, e.cancel = context.WithCancel(context.Background())
	go e.keepSaving()
	return e, nil
}

// saveEvery is how often positions are written, when they moved. A second would keep the promise on duplicates; an
// agent that is killed again and again within that second would still never get anywhere.
const saveEvery = 250 * time.Millisecond

func (e *Engine) keepSaving() {
	t := time.NewTicker(saveEvery)
	defer t.Stop()
	for {
		select {
		case <-e.ctx.Done():
			return
		case <-t.C:
			e.save()
		}
	}
}

func (e *Engine) save() {
	e.mu.RLock()
	inputs := make([]input.Input, 0, len(e.sources))
	for _, s := range e.sources {
		inputs = append(inputs, s.input)
	}
	e.mu.RUnlock()
	for _, in := range inputs {
		in.Save()
	}
	err := e.store.Save()
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
		if have := e.dest(spec.Name); have != nil && reflect.DeepEqual(have.Spec, spec) {
			continue
		}
		d, err := deliver.New(spec, e.rejects, e.log)
		if err != nil {
			for _, d := range fresh {
				d.Stop()
			}
			return err
		}
		fresh[spec.Name] = d
	}

	var stopped = map[string]*source{}
	for name, s := range e.sources {
		if p, ok := setups[name]; !ok || !reflect.DeepEqual(p, s.setup) {
			stopped[name] = s
			s.cancel()
		}
	}
	for _, s := range stopped {
		<-s.done
		s.input.Save()
	}
	e.swapDestinations(c, fresh)

	e.mu.Lock()
	defer e.mu.Unlock()
	e.config = c
	for name, old := range stopped {
		if _, ok := setups[name]; !ok {
			old.input.Close()
			delete(e.sources, name)
		}
	}
	for name, p := range setups {
		if have := e.sources[name]; have == nil || stopped[name] != nil {
			e.sources[name] = e.start(p, treatments[name], stopped[name])
		}
	}
	return nil
}

// Check tells whether a config can run, as far as that can be known without running it.
func (e *Engine) Check(c hostconfig.Config) error {
	if err := e.allowed(c); err != nil {
		return err
	}
	_, _, err := prepare(c)
	return err
}

// prepare compiles everything of a config, so that nothing can fail once the swap has begun.
func prepare(c hostconfig.Config) (map[string]setup, map[string]*pipeline.Treatment, error) {
	setups, treatments := map[string]setup{}, map[string]*pipeline.Treatment{}
	for _, s := range c.Sources {
		if !slices.Contains(inputKinds, s.Input()) {
			return nil, nil, fmt.Errorf("source %s: this agent cannot read by %s", s.Name, s.Input())
		}
		f, _ := c.Format(s.Format)
		t, err := pipeline.Compile(s, f, pipeline.Parts{Formats: c.Format, Masks: c.Mask, Secret: c.Secret})
		if err != nil {
			return nil, nil, err
		}
		p := setup{Spec: s, Format: f, Host: c.Host, Labels: c.Labels, Encodings: map[string]record.Encoding{}}
		for _, name := range append(s.Formats()[1:], f.FirstOf...) {
			one, _ := c.Format(name)
			p.Others = append(p.Others, one)
			for _, name := range one.FirstOf {
				inner, _ := c.Format(name)
				p.Others = append(p.Others, inner)
			}
		}
		for _, name := range s.Masks() {
			m, _ := c.Mask(name)
			p.Masks = append(p.Masks, m)
			key, _ := c.Secret(m.Fill.Hash)
			p.Keys = append(p.Keys, string(key))
		}
		for _, to := range s.Destinations() {
			d, _ := c.Destination(to)
			p.Encodings[to] = d.Encoding()
		}
		setups[s.Name], treatments[s.Name] = p, t
	}
	return setups, treatments, nil
}

func (e *Engine) dest(name string) *deliver.Destination {
	e.mu.RLock()
	defer e.mu.RUnlock()
	return e.dests[name]
}

// swapDestinations puts new destinations in the place of changed ones, which hand over what they have not delivered.
// One that is gone, or that took another encoding, gets a little time to deliver what it has.
func (e *Engine) swapDestinations(c hostconfig.Config, fresh map[string]*deliver.Destination) {
	e.mu.Lock()
	old := maps.Clone(e.dests)
	for name, d := range fresh {
		d.Start()
		e.dests[name] = d
	}
	for name := range e.dests {
		if _, ok := c.Destination(name); !ok {
			delete(e.dests, name)
		}
	}
	e.mu.Unlock()
	for name, d := range old {
		next, replaced := fresh[name]
		if _, stays := c.Destination(name); stays && !replaced {
			continue
		}
		if replaced && next.Encoding() == d.Encoding() {
			next.Adopt(d.Stop())
			continue
		}
		e.leaving.Go(func() {
			ctx, cancel := context.WithTimeout(e.ctx, leaveWithin)
			defer cancel()
			d.Drain(ctx)
			d.Abandon(e.ctx, d.Stop(), "the destination was removed from the host's config")
		})
	}
}

func (e *Engine) start(p setup, t *pipeline.Treatment, old *source) *source {
	s := &source{setup: p, done: make(chan struct{})}
	var before input.Input
	if old != nil {
		s.book, before = old.book, old.input
	} else {
		s.book = settle.NewBook(e.store.Numbers(p.Spec.Name))
	}
	labels := mergeLabels(p.Labels, p.Spec.Labels)
	s.out = &out{engine: e, send: t.Destinations()}
	s.input = e.inputs()[p.Spec.Input()](input.Parts{
		Spec: p.Spec, Treatment: t, Out: s.out, Store: e.store, Book: s.book, Log: e.log.With("source", p.Spec.Name),
		Now: time.Now,
		Origin: func(path string) *record.Origin {
			return record.NewOrigin(p.Host, e.hostID, p.Spec.Name, path, labels)
		},
	}, before)
	ctx, cancel := context.WithCancel(e.ctx)
	s.cancel = cancel
	go func() {
		defer close(s.done)
		s.input.Run(ctx)
	}()
	return s
}

// inputKinds are the keys of inputs.
var inputKinds = []string{"files"}

// inputs are the kinds of inputs that this agent has.
func (e *Engine) inputs() map[string]input.Maker {
	return map[string]input.Maker{
		"files": func(p input.Parts, before input.Input) input.Input {
			reader, _ := before.(*files.Reader)
			return files.New(files.Source{Parts: p, Hints: e.hints, Slots: e.slots, Own: e.own}, reader)
		},
	}
}

// mergeLabels joins host and source labels; on the same key the source's wins.
func mergeLabels(host, source map[string]string) []record.Label {
	all := maps.Clone(host)
	if all == nil {
		all = map[string]string{}
	}
	maps.Copy(all, source)
	out := make([]record.Label, 0, len(all))
	for k, v := range all {
		out = append(out, record.Label{Key: k, Value: v})
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Key < out[j].Key })
	return out
}

// Stop ends everything. It gives deliveries a moment, so that less comes twice.
func (e *Engine) Stop() {
	e.apply.Lock()
	defer e.apply.Unlock()
	e.mu.RLock()
	sources, dests := maps.Clone(e.sources), maps.Clone(e.dests)
	e.mu.RUnlock()
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
	e.cancel()
	for _, d := range dests {
		d.Stop()
	}
	e.leaving.Wait()
	e.hints.Close()
	for _, s := range sources {
		s.input.Close()
	}
	if err := e.store.Save(); err != nil {
		e.log.Error("positions are not saved; records will come twice", "error", err)
	}
	e.store.Close()
}

// out sends the batches of one source.
type out struct {
	engine *Engine
	send   []string // by the bits of record.Record.Routes
	enc    record.Encoder
	held   atomic.Pointer[string] // the destination that has no room now
}

// Edges is how many destinations get something of a batch.
func (o *out) Edges(b *record.Batch) int {
	all := uint64(0)
	for i := range b.Records {
		all |= b.Records[i].Routes
	}
	return bits.OnesCount64(all)
}

func (o *out) Send(ctx context.Context, b *record.Batch, entry *settle.Entry, waiting func()) {
	var encoded [record.Encodings]*record.Encoded
	defer func() {
		for _, e := range encoded {
			if e != nil {
				e.Release()
			}
		}
	}()
	for bit, name := range o.send {
		if !slices.ContainsFunc(b.Records, func(r record.Record) bool { return r.Routes>>bit&1 != 0 }) {
			continue
		}
		for {
			d := o.engine.dest(name)
			if d == nil { // taken out of the config while this source is being stopped
				entry.Done(name, wire.DeliveryCounts{})
				break
			}
			enc := d.Encoding()
			if encoded[enc] == nil {
				e := o.enc.Encode(enc, b)
				encoded[enc] = &e
			}
			item := &deliver.Item{
				Encoded: encoded[enc].Only(b, bit),
				Done:    func(c wire.DeliveryCounts) { entry.Done(name, c) },
			}
			if d.Put(ctx, item, func() { o.held.Store(&name); waiting() }) {
				break
			}
			if ctx.Err() != nil && o.engine.ctx.Err() != nil {
				return // the agent stops; the entry stays open and the position before it
			}
		}
	}
	o.held.Store(nil)
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

// Sources tells how the sources are, ordered by name.
func (e *Engine) Sources() []Status {
	e.mu.RLock()
	defer e.mu.RUnlock()
	var list []Status
	for name, s := range e.sources {
		st := Status{Name: name}
		if c := s.input.Complaint(); c.Code != "" {
			st.Code, st.Reason, st.Since = c.Code, c.Reason, c.Since
		}
		for _, to := range s.setup.Spec.Destinations() {
			d := e.dests[to]
			if d == nil || st.Code != "" {
				continue
			}
			if t := d.Trouble(); t.Code != "" && time.Since(t.Since) > patience {
				waits := "its records wait on the host"
				if h := s.out.held.Load(); h != nil && *h == to {
					waits = "reading waits"
				}
				st.Code, st.Reason, st.Since = health.HeldBy, fmt.Sprintf(
					"held by %s: %s; %s",
					to,
					t.Reason,
					waits,
				), t.Since
			}
		}
		list = append(list, st)
	}
	slices.SortFunc(list, func(a, b Status) int { return strings.Compare(a.Name, b.Name) })
	return list
}

// Destinations tells how the destinations are, ordered by name.
func (e *Engine) Destinations() []Status {
	e.mu.RLock()
	defer e.mu.RUnlock()
	var list []Status
	for name, d := range e.dests {
		st := Status{Name: name}
		if t := d.Trouble(); t.Code != "" && time.Since(t.Since) > patience {
			st.Code, st.Reason, st.Since = t.Code, t.Reason, t.Since
		} else if why, at := d.Refusal(); why != "" {
			st.Reason, st.Since = why, at // all is well now; this is the last answer that refused records
		}
		list = append(list, st)
	}
	slices.SortFunc(list, func(a, b Status) int { return strings.Compare(a.Name, b.Name) })
	return list
}

// Numbers returns what was counted of each source, and since when.
func (e *Engine) Numbers() (map[string]wire.Numbers, time.Time) {
	e.mu.RLock()
	defer e.mu.RUnlock()
	all := map[string]wire.Numbers{}
	for name, s := range e.sources {
		n := s.book.Live()
		n.Add(s.input.Waiting())
		all[name] = n
	}
	return all, e.store.Began()
}

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

// leaveWithin is how long a destination that left the config may still deliver what it holds.
const leaveWithin = time.Hour
