package rollouts

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/inventory"
	"synaxis/internal/core/rollout"
	"synaxis/internal/service/hosts"
	"synaxis/internal/service/links"
	"synaxis/internal/service/revisions"
	"synaxis/internal/service/store"
)

// ErrBusy says that a rollout is under way, or that one that was stopped must be dealt with first.
var ErrBusy = errors.New("another rollout comes first")

// Invalid is a request that is wrong in itself.
type Invalid string

func (i Invalid) Error() string { return string(i) }

func invalidf(format string, args ...any) error { return Invalid(fmt.Sprintf(format, args...)) }

// pollerPatience is how long a polling host may take to answer: three of its intervals.
const pollerPatience = 3 * links.PollPatience

// Request says which rollout is to start.
type Request struct {
	Revision int    // 0 for the newest
	Plan     string // "" for the one that fits
	Hosts    string // a choice of hosts, which keep it when others go on; "" for all
	First    string // a host of the first wave
	Only     string // one cause: hosts whose config changes for another reason too are left as they are
	// the state that a draft would make, for Preview only; nil for a revision
	Draft *revisions.State
}

// Revised is the cause that another revision renders a host otherwise.
const Revised = "revision"

// Proposal is what a rollout would do.
type Proposal struct {
	rollout.Head
	Targets []rollout.Target
	Changes int            // how many of them would run another config than now
	Causes  map[string]int // how many hosts change for each cause
	Left    map[string]int // how many hosts are left as they are, by why
	Why     string         // why it goes by this plan
}

// Preview tells what a rollout would do, and why it may not start now.
func (d *Driver) Preview(ctx context.Context, who store.Person, r Request) (p Proposal, problem, err error) {
	newest, err := d.store.Head(ctx)
	if err != nil {
		return p, nil, err
	}
	d.mu.RLock()
	defer d.mu.RUnlock()
	p, err = d.propose(ctx, who, r, newest)
	return p, d.free(p.Revision), err
}

// Start starts a rollout. It answers its number.
func (d *Driver) Start(ctx context.Context, who store.Person, r Request) (int, error) {
	var deltas []rollout.Delta
	id := 0
	err := d.store.Alone(ctx, func(t *store.Tx) (err error) {
		d.mu.RLock()
		defer d.mu.RUnlock()
		newest, err := t.Head()
		if err != nil {
			return err
		}
		if r.Revision == 0 {
			r.Revision = newest
		}
		if err := d.free(r.Revision); err != nil {
			return err
		}
		p, err := d.propose(ctx, who, r, newest)
		if err != nil {
			return err
		}
		if p.Chosen != "" && len(p.Targets) == 0 {
			return store.Missingf("no host that has joined is chosen by %s", p.Chosen)
		}
		id = p.ID
		if deltas, err = d.begin(ctx, t, p); err != nil {
			return err
		}
		note := map[string]any{"revision": p.Revision, "plan": p.Plan.Name}
		if p.Chosen != "" {
			note["hosts"] = p.Chosen
		}
		return t.Audit(who, d.now(), "rollout start", fmt.Sprint(id), nil, note)
	})
	if err != nil {
		return 0, err
	}
	d.carryOut(ctx, deltas)
	return id, nil
}

// free tells why no rollout of a revision may start now. The driver is locked.
func (d *Driver) free(revision int) error {
	if s := d.rollouts[d.running]; s != nil {
		return fmt.Errorf("%w: rollout %d of revision %d is %s; wait until it has ended, or stop it", ErrBusy, s.ID,
			s.Revision, s.Status)
	}
	for id := d.last; id > 0; id-- {
		s := d.rollouts[id]
		if s == nil || s.Chosen != "" {
			continue
		}
		if s.Status != rollout.Stopped || s.TakenBackBy > 0 || s.Before == 0 {
			return nil
		}
		if revision > s.Revision {
			return fmt.Errorf("%w: rollout %d of revision %d was stopped, and what comes later contains its change; go on "+
				"with it (synaxis rollout resume %d), or take it back (synaxis rollout back %d)", ErrBusy, s.ID,
				s.Revision,
				s.ID, s.ID)
		}
		return nil
	}
	return nil
}

// propose makes a rollout. The driver is locked.
func (d *Driver) propose(ctx context.Context, who store.Person, r Request, newest int) (p Proposal, err error) {
	switch {
	case r.Draft != nil:
		r.Revision = r.Draft.Revision.Number
	case r.Revision == 0:
		r.Revision = newest
	}
	if r.Revision == 0 {
		return p, store.Missingf("nothing has been published yet, so there is nothing to roll out")
	}
	p.Head = rollout.Head{ID: d.last + 1, Revision: r.Revision, Author: who.Name, Before: d.inForce, Chosen: r.Hosts}
	p.Causes, p.Left = map[string]int{}, map[string]int{}
	st, err := d.state(ctx, r)
	if err != nil {
		return p, err
	}
	chosen := inventory.Selector{All: true}
	if r.Hosts != "" {
		if chosen, err = inventory.ParseSelector(r.Hosts); err != nil {
			return p, Invalid(err.Error())
		}
	}
	var changing []hosts.View
	runs := false
	for _, v := range d.hosts.All() {
		if v.UID == "" {
			continue
		}
		h := v.Inventory()
		if !chosen.Match(&h) {
			continue
		}
		if v.Assigned.Pinned && r.Hosts == "" {
			p.Left["pinned"]++
			continue
		}
		a, ok, err := d.would(ctx, v.Name, r, st)
		if err != nil {
			return p, err
		}
		if !ok {
			continue
		}
		x := rollout.Target{Host: v.Name, Hash: a.Hash, Connected: v.Connected, Running: v.Running}
		if v.Transport == "polling" {
			x.Patience = pollerPatience
		}
		runs = runs || v.Running != ""
		if v.Running != a.Hash {
			causes, err := d.causes(ctx, v, a)
			if err != nil {
				return p, err
			}
			if r.Only != "" && !slices.Equal(causes, []string{r.Only}) {
				p.Left["changes for "+strings.Join(causes, ", ")]++
				continue
			}
			for _, c := range causes {
				p.Causes[c]++
			}
			changing = append(changing, v)
		}
		p.Targets = append(p.Targets, x)
	}
	p.Changes = len(changing)
	if p.Plan, p.Why, err = d.plan(ctx, r, st, changing, runs); err != nil {
		return p, err
	}
	return p, d.divide(&p, r, changing)
}

// state is what a request is to bring hosts to.
func (d *Driver) state(ctx context.Context, r Request) (*revisions.State, error) {
	if r.Draft != nil {
		return r.Draft, nil
	}
	return d.revisions.At(ctx, r.Revision)
}

// would tells what a host would be assigned; false for one that is not in the inventory.
func (d *Driver) would(ctx context.Context, host string, r Request, st *revisions.State) (
	store.Assignment, bool, error,
) {
	if r.Draft == nil {
		a, _, ok, err := d.desired.For(ctx, host, r.Revision, 0, d.now())
		return a, ok, err
	}
	m := d.desired.Draft(st.Revision.Draft, st).Host(host)
	if m == nil {
		return store.Assignment{}, false, nil
	}
	return store.Assignment{Host: host, Hash: m.Hash, Revision: st.Revision.Number}, true, nil
}

// causes tells why a host changes: by revision, and by what is pending.
func (d *Driver) causes(ctx context.Context, v hosts.View, a store.Assignment) (out []string, err error) {
	if v.Assigned.Hash == "" {
		return []string{Revised}, nil
	}
	if v.Assigned.Revision != a.Revision { // would the revision that it is assigned come to something else now?
		same, _, ok, err := d.desired.For(ctx, v.Name, v.Assigned.Revision, 0, d.now())
		if err != nil {
			return nil, err
		}
		if !ok || same.Hash != a.Hash {
			out = append(out, Revised)
		}
	}
	if v.Pending != "" {
		out = append(out, strings.Split(v.Pending, ", ")...)
	}
	if len(out) == 0 { // it is assigned this, and runs something else
		out = append(out, "not taken yet")
	}
	return out, nil
}

// plan finds the plan of a rollout.
func (d *Driver) plan(ctx context.Context, r Request, st *revisions.State, changing []hosts.View, runs bool) (
	p rollout.Plan, why string, err error,
) {
	switch r.Plan {
	case "":
	case rollout.Usual().Name:
		return rollout.Usual(), "it was named", nil
	case rollout.OneWave().Name:
		return rollout.OneWave(), "it was named", nil
	default:
		def := st.Catalogue.Get("plan", r.Plan)
		if def == nil {
			return p, "", invalidf("revision %d has no plan %s; there are %s", st.Revision.Number, r.Plan,
				strings.Join(append(planNames(st.Catalogue), rollout.Usual().Name, rollout.OneWave().Name), ", "))
		}
		return def.Plan.Plan, "it was named", nil
	}
	changed, err := d.changed(ctx, st)
	if err != nil {
		return p, "", err
	}
	var fits []*catalogue.Definition
	for _, def := range st.Catalogue.All() {
		if def.Plan != nil && def.Plan.For && fitsPlan(def.Plan, changed, changing) {
			fits = append(fits, def)
		}
	}
	switch {
	case len(fits) > 1:
		return p, "", invalidf("plans %s and %s are both for this change; say which one", fits[0].Name, fits[1].Name)
	case len(fits) == 1:
		return fits[0].Plan.Plan, "it is for what changes", nil
	case !runs:
		return rollout.OneWave(), "no host runs anything yet, so nothing can break", nil
	}
	return rollout.Usual(), "no plan is for what changes", nil
}

func planNames(c *catalogue.Catalogue) (out []string) {
	for _, d := range c.All() {
		if d.Plan != nil {
			out = append(out, d.Name)
		}
	}
	return out
}

// changed are the definitions, as KIND/NAME, in which a state differs from the revision in force.
func (d *Driver) changed(ctx context.Context, st *revisions.State) (out []string, err error) {
	before := map[string]string{}
	if d.inForce > 0 {
		old, err := d.revisions.At(ctx, d.inForce)
		if err != nil {
			return nil, err
		}
		for _, x := range old.Catalogue.All() {
			before[x.Kind+"/"+x.Name] = x.Digest()
		}
	}
	for _, x := range st.Catalogue.All() {
		id := x.Kind + "/" + x.Name
		if before[id] != x.Digest() {
			out = append(out, id)
		}
		delete(before, id)
	}
	return append(out, slices.Sorted(maps.Keys(before))...), nil
}

// fitsPlan tells whether all that changes is what a plan is for.
func fitsPlan(p *catalogue.Plan, changed []string, changing []hosts.View) bool {
	if len(p.Definitions) > 0 {
		if len(changed) == 0 {
			return false
		}
		for _, id := range changed {
			if !slices.ContainsFunc(p.Definitions, func(pattern string) bool { return matches(pattern, id) }) {
				return false
			}
		}
	}
	if p.Hosts != nil {
		if len(changing) == 0 {
			return false
		}
		for _, v := range changing {
			if h := v.Inventory(); !p.Hosts.Match(&h) {
				return false
			}
		}
	}
	return true
}

// matches tells whether a text is of a pattern in which * stands for any letters.
func matches(pattern, text string) bool {
	first, rest, any := strings.Cut(pattern, "*")
	if !any {
		return pattern == text
	}
	text, ok := strings.CutPrefix(text, first)
	if !ok {
		return false
	}
	for i := 0; i <= len(text); i++ {
		if matches(rest, text[i:]) {
			return true
		}
	}
	return false
}

// divide gives each host that changes its wave.
func (d *Driver) divide(p *Proposal, r Request, changing []hosts.View) error {
	var all []rollout.Candidate
	byName := map[string]*hosts.View{}
	for i := range changing {
		v := &changing[i]
		byName[v.Name] = v
		all = append(all, rollout.Candidate{Host: v.Name, Present: v.Connected, Spread: v.Labels[p.Plan.SpreadBy],
			First: v.Name == r.First})
	}
	if r.First != "" && byName[r.First] == nil {
		return invalidf("%s would not change, so it cannot come first", r.First)
	}
	conditions := map[int]inventory.Selector{}
	for i, w := range p.Plan.Waves {
		if w.Where != "" {
			c, err := inventory.ParseSelector(w.Where)
			if err != nil {
				return invalidf("wave %d: %s", i+1, err)
			}
			conditions[i] = c
		}
	}
	waves := p.Plan.Divide(all, func(wave int, host string) bool {
		h := byName[host].Inventory()
		c := conditions[wave]
		return c.Match(&h)
	})
	for i, t := range p.Targets {
		wave, changes := waves[t.Host]
		if !changes { // it runs it already; one that is away says so again when it comes back, in the last wave
			wave = max(0, len(p.Plan.Waves)-1)
		}
		p.Targets[i].Wave = wave
	}
	return nil
}

// begin writes a rollout that starts. The driver is locked.
func (d *Driver) begin(ctx context.Context, t *store.Tx, p Proposal) (deltas []rollout.Delta, err error) {
	now := d.now()
	taken := map[int][]rollout.Event{}
	for _, x := range p.Targets {
		taken[d.member[x.Host]] = append(taken[d.member[x.Host]], rollout.Event{Kind: rollout.Gone, Host: x.Host,
			Reason: fmt.Sprintf("taken over by rollout %d", p.ID)})
	}
	for _, other := range slices.Sorted(maps.Keys(taken)) {
		if s := d.rollouts[other]; s != nil {
			deltas = append(deltas, s.Decide(taken[other], now))
		}
	}
	deltas = append(deltas, rollout.Start(p.Head, p.Targets, now))
	for _, x := range deltas {
		if err := d.move(ctx, t, x); err != nil {
			return nil, err
		}
	}
	return deltas, nil
}

// carryOut carries out the commands of deltas that were committed.
func (d *Driver) carryOut(ctx context.Context, deltas []rollout.Delta) {
	d.markTold(deltas)
	for _, c := range commands(deltas) {
		switch c.Kind {
		case rollout.Offer:
			d.offer(ctx, c.Host)
		case rollout.Withdraw:
			d.withdraw(c)
		}
	}
}

// commands are those of several deltas.
func commands(deltas []rollout.Delta) (out []rollout.Command) {
	for _, x := range deltas {
		out = append(out, x.Commands...)
	}
	return out
}
