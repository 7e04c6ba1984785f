package changes

import (
	"slices"
	"sync"
	"time"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/check"
	"synaxis/internal/core/inventory"
	"synaxis/internal/core/mask"
	"synaxis/internal/core/render"
	"synaxis/internal/core/yamldoc"
	"synaxis/internal/service/store"
)

// Hosts gives the fleet. Inventory answers the same index for as long as nothing that definitions see has changed.
type Hosts interface {
	Inventory() *inventory.Index
	Volumes() []check.Volume
}

// Secrets tells which secrets exist, with their versions.
type Secrets interface{ Versions() map[string]int }

// desk keeps what is costly to make: files that were read, the newest revision rendered for the whole fleet, and the
// newest states of drafts. Each next one is made from what is there, so that an edit costs what it reaches.
type desk struct {
	hosts   Hosts
	secrets Secrets

	mu     sync.Mutex
	read   map[string]parsed // by path and text
	head   *render.Fleet
	drafts map[int]*render.Fleet
	costs  map[string]time.Duration // by expression
}

type parsed struct {
	defs     []*catalogue.Definition
	problems []yamldoc.Problem
}

func newDesk(hosts Hosts, secrets Secrets) *desk {
	return &desk{hosts: hosts, secrets: secrets, read: map[string]parsed{}, drafts: map[int]*render.Fleet{}, costs: map[string]time.Duration{}}
}

// parse reads files; one that was read before is not read again, and keeps its definitions.
func (k *desk) parse(files []store.File) (*catalogue.Catalogue, []check.Finding) {
	var defs []*catalogue.Definition
	var problems []yamldoc.Problem
	for _, f := range files {
		p := k.file(f)
		defs = append(defs, p.defs...)
		problems = append(problems, p.problems...)
	}
	cat, dup := catalogue.New(defs)
	return cat, check.FromProblems(append(problems, dup...))
}

func (k *desk) file(f store.File) parsed {
	key := f.Path + "\x00" + f.Text
	k.mu.Lock()
	p, ok := k.read[key]
	k.mu.Unlock()
	if ok {
		return p
	}
	p.defs, p.problems = catalogue.Parse(f.Path, []byte(f.Text))
	k.mu.Lock()
	defer k.mu.Unlock()
	if len(k.read) > 20000 {
		clear(k.read)
	}
	k.read[key] = p
	return p
}

func (k *desk) definitions(f store.File) []*catalogue.Definition { return k.file(f).defs }

func (k *desk) input(st *State) render.Input {
	return render.Input{Catalogue: st.Catalogue, Changed: st.Changed, Secrets: k.secrets.Versions()}
}

// Input is what hosts are rendered from at a state.
func (s *Service) Input(st *State) render.Input { return s.desk.input(st) }

// Rendered is the fleet rendered at the newest revision.
func (s *Service) Rendered(head *State) *render.Fleet { return s.desk.rendered(head, 0) }

// rendered renders a state for the fleet as it is now. draft is 0 for the newest revision.
func (k *desk) rendered(st *State, draft int) *render.Fleet {
	k.mu.Lock()
	defer k.mu.Unlock()
	from := k.head
	if d := k.drafts[draft]; d != nil {
		from = d
	}
	now := k.move(from, st)
	if draft == 0 {
		k.head = now
	} else {
		if len(k.drafts) > 8 {
			clear(k.drafts)
		}
		k.drafts[draft] = now
	}
	return now
}

// move makes from, which may be nil, into the fleet of a state.
func (k *desk) move(from *render.Fleet, st *State) *render.Fleet {
	x, in := k.hosts.Inventory(), k.input(st)
	if from == nil {
		return render.NewFleet(in, x)
	}
	if from.Index != x {
		from, _ = from.WithHosts(x)
	}
	if !same(from.Input(), in) {
		from, _ = from.With(in)
	}
	return from
}

func same(a, b render.Input) bool {
	return a.Catalogue == b.Catalogue && len(a.Secrets) == len(b.Secrets) && !slices.ContainsFunc(keys(a.Secrets), func(n string) bool { return a.Secrets[n] != b.Secrets[n] })
}

func keys(m map[string]int) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	return out
}

// cost measures what a mask costs: the best of three searches, once for each expression.
func (k *desk) cost(m mask.Spec) time.Duration {
	k.mu.Lock()
	best, ok := k.costs[m.Find]
	k.mu.Unlock()
	if ok {
		return best
	}
	best = mask.Measure(m, time.Now)
	k.mu.Lock()
	defer k.mu.Unlock()
	k.costs[m.Find] = best
	return best
}
