package run

import (
	"context"
	"maps"
	"reflect"
	"slices"
	"sort"
	"strings"
	"time"

	"synaxis/internal/agent/files"
	"synaxis/internal/agent/input"
	"synaxis/internal/agent/listen"
	"synaxis/internal/agent/produce"
	"synaxis/internal/agent/trial"
	"synaxis/internal/core/format"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/record"
	"synaxis/internal/core/wire"
)

func (e *Engine) start(p setup, t prepared, old *source) *source {
	s := &source{setup: p, done: make(chan struct{})}
	key := p.Spec.Name
	if p.Only != "" {
		key = reading(p.Spec.Name, p.Only)
	}
	s.book = e.books.open(key, e.store)
	var before input.Input
	switch {
	case old == nil:
	case family(old.setup.Spec.Input()) != family(p.Spec.Input()): // it cannot go on with what that one holds
		old.input.Close()
	default:
		before = old.input
	}
	labels := mergeLabels(p.Labels, p.Spec.Labels)
	s.out = &out{engine: e, send: t.Destinations(), only: p.Only, except: p.Except}
	name := p.Spec.Name
	spec := p.Spec
	spec.Name = key
	if p.Only == "" { // a reading for one destination alone would show everything twice
		if e.taps[name] == nil {
			e.taps[name], e.left[name] = &pipeline.Tap{}, &pipeline.Unclaimed{}
		}
		t.Tap, t.Unclaimed = e.taps[name], e.left[name]
		for _, of := range t.senders {
			of.Tap, of.Unclaimed = t.Tap, t.Unclaimed
		}
	}
	s.input = e.inputs()[p.Spec.Input()](input.Parts{
		Spec: spec, Treatment: t.Treatment, Senders: t.senders, Secret: e.config.Secret, Out: s.out, Store: e.store,
		Book: s.book, Log: e.log.With("source", key),
		Now: time.Now,
		Dir: e.dir,
		Certificate: func(source, request string) (string, string) {
			if e.certify == nil {
				return "", "there is no service"
			}
			return e.certify(source, request)
		},
		Compile: func(f format.Spec, others []format.Spec) (*pipeline.Treatment, error) {
			return e.compile(p.Spec, f, others, t)
		},
		Sender: func(address string, own map[string]string) *record.Origin {
			return record.NewSenderOrigin(p.Host, e.hostID, name, address, mergeLabels(p.Labels, p.Spec.Labels, own))
		},
		Origin: func(path string) *record.Origin {
			if id := e.probes.ID(path); id != "" {
				marked := mergeLabels(p.Labels, p.Spec.Labels, map[string]string{wire.ProbeLabel: id})
				return record.NewOrigin(p.Host, e.hostID, name, path, marked)
			}
			return record.NewOrigin(p.Host, e.hostID, name, path, labels)
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
var inputKinds = append([]string{"files", "command", "journal", "generate"}, pipeline.Listeners...)

// family is what kinds of inputs have in common that go on with what each other hold.
func family(kind string) string {
	switch {
	case kind == "files":
		return kind
	case slices.Contains(pipeline.Listeners, kind):
		return "listeners"
	}
	return "produced"
}

// inputs are the kinds of inputs that this agent has.
func (e *Engine) inputs() map[string]input.Maker {
	kinds := map[string]input.Maker{
		"files": func(p input.Parts, before input.Input) input.Input {
			reader, _ := before.(*files.Reader)
			source, _, _ := strings.Cut(p.Spec.Name, ">") // a reading for a destination alone has its name behind it
			s := files.Source{Parts: p, Hints: e.hints, Slots: e.slots, Own: e.own,
				Probes: func() []string { return e.probes.Paths(source) }}
			if f := e.namedFiles(p.Spec); f != nil {
				s.Named = f.Paths
			}
			return files.New(s, reader)
		},
		"command": produce.New, "journal": produce.New, "generate": produce.New,
	}
	for _, kind := range pipeline.Listeners {
		kinds[kind] = listen.New
	}
	return kinds
}

// compile makes a treatment of a source with a format that was recognised.
func (e *Engine) compile(
	s pipeline.Source, f format.Spec, others []format.Spec, like prepared,
) (*pipeline.Treatment, error) {
	c := e.Config()
	s.Format = f.Name
	t, err := pipeline.Compile(s, f, pipeline.Parts{Masks: c.Mask, Secret: c.Secret,
		Formats: func(name string) (format.Spec,
			bool) {
			for _, o := range others {
				if o.Name == name {
					return o, true
				}
			}
			return c.Format(name)
		}})
	if err == nil {
		t.Tap, t.Unclaimed, t.Found = like.Tap, like.Unclaimed, &pipeline.Found{Format: f, Others: others}
	}
	return t, err
}

// namedFiles is the program that names the files of a source, which goes on where it is the same; nil for none. What
// was started for readings that are no more is ended. The engine is locked.
func (e *Engine) namedFiles(s pipeline.Source) *produce.Files {
	have, ok := e.named[s.Name]
	if ok && reflect.DeepEqual(have.program, s.FilesFrom) {
		return have.files
	}
	if ok {
		have.files.Close()
		delete(e.named, s.Name)
	}
	if s.FilesFrom == nil {
		return nil
	}
	f := produce.Ask(s.FilesFrom, time.Now)
	e.named[s.Name] = named{s.FilesFrom, f}
	return f
}

// tried is what a trial takes of the engine.
func (e *Engine) tried() trial.Host {
	return trial.Host{Config: e.Config, Tap: e.Tap, Named: func(source string) []string {
		e.mu.RLock()
		defer e.mu.RUnlock()
		if f := e.named[source].files; f != nil {
			paths, _ := f.Paths()
			return slices.Clone(paths)
		}
		return nil
	}}
}

// named is a program that names files.
type named struct {
	program *pipeline.Program
	files   *produce.Files
}

// Senders are who sends to the listeners of a source, or of all.
func (e *Engine) Senders(source string) (out []wire.Sender) {
	e.mu.RLock()
	defer e.mu.RUnlock()
	for _, name := range slices.Sorted(maps.Keys(e.sources)) {
		in, ok := e.sources[name].input.(*listen.Input)
		if !ok || source != "" && name != source {
			continue
		}
		for _, s := range in.Senders() {
			if len(out) < wire.MaxSenders {
				out = append(out, s)
			}
		}
	}
	return out
}

// mergeLabels joins labels, such as those of a host and a source; on the same key the last one wins.
func mergeLabels(lists ...map[string]string) []record.Label {
	all := map[string]string{}
	for _, l := range lists {
		maps.Copy(all, l)
	}
	out := make([]record.Label, 0, len(all))
	for k, v := range all {
		out = append(out, record.Label{Key: k, Value: v})
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Key < out[j].Key })
	return out
}
