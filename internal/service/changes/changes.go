// Package changes takes drafts from the first load to a published revision: it checks them, tells which hosts they
// would change, and publishes.
package changes

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/check"
	"synaxis/internal/core/mask"
	"synaxis/internal/core/render"
	"synaxis/internal/service/desired"
	"synaxis/internal/service/revisions"
	"synaxis/internal/service/store"
)

// Hosts tells what sources have really read.
type Hosts interface{ Volumes() []check.Volume }

// Service works on the catalogue. It is safe for concurrent use.
type Service struct {
	store     *store.Store
	revisions *revisions.Revisions
	desired   *desired.Desired
	hosts     Hosts
	now       func() time.Time
	note      func(topic string)

	costing sync.Mutex
	costs   map[string]time.Duration // of masks, by expression
}

// New makes the service.
func New(
	st *store.Store,
	r *revisions.Revisions,
	d *desired.Desired,
	hosts Hosts,
	now func() time.Time,
	note func(topic string),
) *Service {
	return &Service{
		store:     st,
		revisions: r,
		desired:   d,
		hosts:     hosts,
		now:       now,
		note:      note,
		costs:     map[string]time.Duration{},
	}
}

// State is the catalogue at a revision, or as a draft would make it.
type State = revisions.State

// Head returns the newest revision; number 0 and an empty catalogue when nothing has been published.
func (s *Service) Head(ctx context.Context) (*State, error) { return s.revisions.Head(ctx) }

// At returns the catalogue at a revision.
func (s *Service) At(ctx context.Context, number int) (*State, error) {
	return s.revisions.At(ctx, number)
}

// cost measures what a mask costs: the best of three searches, once for each expression.
func (s *Service) cost(m mask.Spec) time.Duration {
	s.costing.Lock()
	best, ok := s.costs[m.Find]
	s.costing.Unlock()
	if ok {
		return best
	}
	best = mask.Measure(m, time.Now)
	s.costing.Lock()
	defer s.costing.Unlock()
	s.costs[m.Find] = best
	return best
}

// Rejected is a load or a publication that was refused; its findings say why. Nothing of it was kept.
type Rejected struct{ Findings []check.Finding }

func (r Rejected) Error() string {
	n := 0
	for _, f := range r.Findings {
		if f.Severity == check.Error {
			n++
		}
	}
	if n == 1 {
		return "there is a finding of severity error; nothing was kept"
	}
	return fmt.Sprintf("there are %d findings of severity error; nothing was kept", n)
}

// Conflict is a publication against another state than the one it was made for.
type Conflict struct{ Words string }

func (c Conflict) Error() string { return c.Words }

// Invalid is a request that is wrong in itself.
type Invalid struct{ Words string }

func (i Invalid) Error() string { return i.Words }

// Load keeps files as a new draft. With whole they are the whole wanted state: what is not in them goes.
func (s *Service) Load(
	ctx context.Context,
	who store.Person,
	title string,
	whole bool,
	files []store.File,
) (store.Draft, []check.Finding, error) {
	slices.SortFunc(files, func(a, b store.File) int { return strings.Compare(a.Path, b.Path) })
	for i, f := range files {
		if err := checkPath(f.Path); err != nil {
			return store.Draft{}, nil, err
		}
		if i > 0 && files[i-1].Path == f.Path {
			return store.Draft{}, nil, Invalid{fmt.Sprintf("the file %s is in the load twice", f.Path)}
		}
	}
	if _, findings := s.revisions.Parse(files); len(findings) > 0 {
		return store.Draft{}, nil, Rejected{findings}
	}
	head, err := s.Head(ctx)
	if err != nil {
		return store.Draft{}, nil, err
	}
	d := store.Draft{
		Title:     title,
		Author:    who.Name,
		CreatedAt: s.now(),
		Base:      head.Revision.Number,
		Whole:     whole,
		State:     store.DraftOpen,
		Files:     files,
	}
	if d.Title == "" {
		what := "Load of "
		if len(files) == 0 {
			what = "Draft of "
		}
		d.Title = what + d.CreatedAt.UTC().Format("2006-01-02 15:04 UTC")
	}
	if len(files) > 0 {
		same, err := s.changesNothing(ctx, d)
		if err != nil {
			return store.Draft{}, nil, err
		}
		if same {
			d.State = store.DraftUnchanged
			return d, nil, nil
		}
	}
	err = s.store.Update(ctx, func(t *store.Tx) error {
		if d.ID, err = t.AddDraft(d); err != nil {
			return err
		}
		action := "draft load"
		if len(files) == 0 {
			action = "draft create"
		}
		return t.Audit(
			who,
			s.now(),
			action,
			fmt.Sprint(d.ID),
			nil,
			map[string]any{"title": d.Title, "files": paths(files)},
		)
	})
	if err != nil {
		return d, nil, err
	}
	s.note("drafts")
	findings, err := s.CheckDraft(ctx, d)
	return d, findings, err
}

// changesNothing tells whether the newest revision would stay as it is with a draft, files and all.
func (s *Service) changesNothing(ctx context.Context, d store.Draft) (bool, error) {
	head, after, problems, err := s.of(ctx, d)
	if err != nil || len(problems) > 0 || head.Revision.Number == 0 {
		return false, err
	}
	for _, x := range drafted(head, after, d) {
		if x.State != Same {
			return false, nil
		}
	}
	return !d.Whole || slices.Equal(d.Files, head.Revision.Files), nil
}

// Delta tells which definitions a draft adds to the newest revision, changes and removes.
func (s *Service) Delta(ctx context.Context, d store.Draft) (added, changed, removed []string, err error) {
	added, changed, removed = []string{}, []string{}, []string{}
	if d.State != store.DraftOpen {
		return added, changed, removed, nil
	}
	head, after, _, err := s.of(ctx, d)
	if err != nil {
		return added, changed, removed, err
	}
	for _, x := range drafted(head, after, d) {
		switch x.State {
		case Added:
			added = append(added, x.ID.String())
		case Changed:
			changed = append(changed, x.ID.String())
		case Removed:
			removed = append(removed, x.ID.String())
		}
	}
	return added, changed, removed, nil
}

func checkPath(p string) error {
	if p == "" || strings.HasPrefix(p, "/") || strings.Contains(p, "\\") || len(p) > 400 ||
		slices.Contains(strings.Split(p, "/"), "..") ||
		slices.Contains(strings.Split(p, "/"), "") {
		return Invalid{fmt.Sprintf("%q is not a relative path", p)}
	}
	return nil
}

func paths(files []store.File) []string {
	out := []string{}
	for _, f := range files {
		out = append(out, f.Path)
	}
	return out
}

// Draft returns an open or ended draft.
func (s *Service) Draft(ctx context.Context, id int) (store.Draft, error) {
	d, err := s.store.Draft(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		err = store.Missingf("there is no draft %d", id)
	}
	if err != nil {
		return d, err
	}
	return d, nil
}

// of gives the catalogue that a draft would make.
func (s *Service) of(ctx context.Context, d store.Draft) (head, after *State, findings []check.Finding, err error) {
	if head, err = s.Head(ctx); err != nil {
		return nil, nil, nil, err
	}
	after, findings = s.with(head, d)
	return head, after, findings, nil
}

// with gives the state that a draft would make of a head, and what could not be read of it.
func (s *Service) with(head *State, d store.Draft) (*State, []check.Finding) {
	files, landed := Apply(head.Revision.Files, d, s.revisions.Definitions)
	after := &State{
		Revision: store.Revision{Number: head.Revision.Number + 1, Title: d.Title, Draft: d.ID, Files: files},
	}
	cat, problems := s.revisions.Parse(files)
	for i, f := range problems {
		for _, p := range landed {
			if f.Kind == "" && f.File == p.File && f.Line >= p.Line && f.Line <= p.End {
				problems[i].Kind, problems[i].Name = p.Kind, p.Name
			}
		}
	}
	after.Catalogue = cat
	after.Changed = changedIn(head, cat, after.Revision.Number)
	return after, problems
}

// changedIn tells for each definition the revision in which its meaning last changed.
func changedIn(head *State, cat *catalogue.Catalogue, number int) map[catalogue.ID]int {
	out := map[catalogue.ID]int{}
	for _, d := range cat.All() {
		out[d.ID] = number
		if old := head.Catalogue.Get(d.Kind, d.Name); old != nil && old.Digest() == d.Digest() {
			out[d.ID] = head.Changed[d.ID]
		}
	}
	return out
}

// CheckDraft makes all checks of a draft against the fleet.
func (s *Service) CheckDraft(ctx context.Context, d store.Draft) ([]check.Finding, error) {
	head, after, problems, err := s.of(ctx, d)
	if err != nil {
		return nil, err
	}
	return s.check(head, after, problems), nil
}

func (s *Service) check(head, after *State, problems []check.Finding) []check.Finding {
	world := check.World{
		Fleet:   s.desired.Draft(after.Revision.Draft, after),
		Before:  head.Catalogue,
		Volumes: s.hosts.Volumes(),
		Cost:    s.cost,
	}
	unread := map[catalogue.ID]bool{} // what else is found of these only follows from it
	for _, p := range problems {
		unread[catalogue.ID{Kind: p.Kind, Name: p.Name}] = true
	}
	findings := problems
	for _, f := range check.Run(after.Catalogue, world) {
		if !unread[catalogue.ID{Kind: f.Kind, Name: f.Name}] {
			findings = append(findings, f)
		}
	}
	check.Sort(findings)
	return findings
}

// DefinitionChange is one definition that a draft adds, changes or removes.
type DefinitionChange struct {
	catalogue.ID
	What          string // added, changed, removed, reworded
	Before, After string
	Diff          []render.Line
}

// Group is hosts that change in the same way.
type Group struct {
	Hosts []string
	Diff  []render.Line
}

// After is the state that a draft would make, as far as it can be read.
func (s *Service) After(ctx context.Context, draft int) (*State, error) {
	d, err := s.Draft(ctx, draft)
	if err != nil {
		return nil, err
	}
	_, after, _, err := s.of(ctx, d)
	return after, err
}

// Configs are what hosts would run with a draft: its text, by the name of the host.
func (s *Service) Configs(ctx context.Context, draft int, hosts []string) (map[string]string, error) {
	after, err := s.After(ctx, draft)
	if err != nil {
		return nil, err
	}
	return texts(s.desired.Draft(draft, after), hosts), nil
}

// ConfigsAt are what hosts would run at a published revision; 0 is the newest.
func (s *Service) ConfigsAt(ctx context.Context, revision int, hosts []string) (map[string]string, error) {
	st, err := s.Head(ctx)
	if revision != 0 && err == nil {
		st, err = s.revisions.At(ctx, revision)
	}
	if err != nil {
		return nil, err
	}
	return texts(s.desired.At(st), hosts), nil
}

func texts(f *render.Fleet, hosts []string) map[string]string {
	out := map[string]string{}
	for _, name := range hosts {
		if m := f.Host(name); m != nil {
			out[name] = m.Text()
		}
	}
	return out
}

// newlyUnverified are the destinations whose certificates are verified before and not after.
func newlyUnverified(before, after *catalogue.Catalogue) (names []string) {
	off := func(c *catalogue.Catalogue, name string) bool {
		d := c.Get("destination", name)
		return d != nil && d.Destination.TLS.NoVerify
	}
	for _, d := range after.All() {
		if d.Destination != nil && off(after, d.Name) && !off(before, d.Name) {
			names = append(names, d.Name)
		}
	}
	return names
}

// Impact is what a draft would change.
type Impact struct {
	Head        int
	Definitions []DefinitionChange
	Hosts       int // that change
	Unchanged   int
	Groups      []Group  // largest first
	Losses      []string // what it takes away that protects data, or is of use now, in words
}

// Impact tells what a draft would change against the newest revision.
func (s *Service) Impact(ctx context.Context, d store.Draft) (Impact, error) {
	head, after, _, err := s.of(ctx, d)
	if err != nil {
		return Impact{}, err
	}
	out := impact(head, after, s.desired.At(head), s.desired.Draft(d.ID, after))
	out.Losses = losses(head.Catalogue, after.Catalogue, s.hosts.Volumes())
	return out, nil
}

// Between tells what another revision would change against one.
func (s *Service) Between(ctx context.Context, from, to int) (Impact, error) {
	a, err := s.revisions.At(ctx, from)
	if err != nil {
		return Impact{}, err
	}
	b, err := s.revisions.At(ctx, to)
	if err != nil {
		return Impact{}, err
	}
	out := impact(a, b, s.desired.At(a), s.desired.At(b))
	out.Losses = losses(a.Catalogue, b.Catalogue, s.hosts.Volumes())
	return out, nil
}

// impact tells what changes from one state to another.
func impact(head, after *State, before, then *render.Fleet) Impact {
	out := Impact{Head: head.Revision.Number, Definitions: definitionChanges(head.Catalogue, after.Catalogue)}
	groups := map[string]*Group{}
	for i, b := range then.Manifests {
		a := before.Manifests[i]
		if a == b || a.Hash == b.Hash {
			out.Unchanged++
			continue
		}
		out.Hosts++
		key := render.DifferenceKey(a, b)
		g, ok := groups[key]
		if !ok {
			g = &Group{Diff: render.Diff(a.Body(), b.Body(), 3)}
			groups[key] = g
		}
		g.Hosts = append(g.Hosts, b.Host)
	}
	for _, g := range groups {
		out.Groups = append(out.Groups, *g)
	}
	slices.SortFunc(out.Groups, func(a, b Group) int {
		if len(a.Hosts) != len(b.Hosts) {
			return len(b.Hosts) - len(a.Hosts)
		}
		return strings.Compare(a.Hosts[0], b.Hosts[0])
	})
	return out
}

func definitionChanges(before, after *catalogue.Catalogue) []DefinitionChange {
	var out []DefinitionChange
	add := func(id catalogue.ID, what, a, b string) {
		out = append(out, DefinitionChange{id, what, a, b, render.Diff(a, b, 3)})
	}
	for _, d := range after.All() {
		old := before.Get(d.Kind, d.Name)
		switch {
		case old == nil:
			add(d.ID, "added", "", d.Text)
		case old.Text == d.Text || strings.TrimSpace(old.Text) == strings.TrimSpace(d.Text):
		case old.Digest() != d.Digest():
			add(d.ID, "changed", old.Text, d.Text)
		default:
			add(d.ID, "reworded", old.Text, d.Text)
		}
	}
	for _, d := range before.All() {
		if after.Get(d.Kind, d.Name) == nil {
			add(d.ID, "removed", d.Text, "")
		}
	}
	return out
}

// errEnded says that a draft is not open.
var errEnded = errors.New("the draft is not open any more")

// Publish makes a draft the newest revision, after a full check against what is there now. expected, when it is not
// negative, is the revision that the publisher has seen as the newest.
func (s *Service) Publish(
	ctx context.Context,
	who store.Person,
	id int,
	message string,
	expected int,
) (store.Revision, []check.Finding, error) {
	d, err := s.Draft(ctx, id)
	if err != nil {
		return store.Revision{}, nil, err
	}
	if d.State != store.DraftOpen {
		return store.Revision{}, nil, Conflict{fmt.Sprintf("draft %d: %v; it was %s", id, errEnded, d.State)}
	}
	head, after, problems, err := s.of(ctx, d)
	if err != nil {
		return store.Revision{}, nil, err
	}
	if expected >= 0 && expected != head.Revision.Number {
		return store.Revision{}, nil, Conflict{
			fmt.Sprintf(
				"revision %d was published since you looked (you saw %d); look at the differences again",
				head.Revision.Number,
				expected,
			),
		}
	}
	if d.Whole && d.Base != head.Revision.Number {
		return store.Revision{}, nil, Conflict{
			fmt.Sprintf(
				"draft %d is a whole state made on revision %d, and %d is the newest now; load it again",
				id,
				d.Base,
				head.Revision.Number,
			),
		}
	}
	if clash, err := s.overtaken(ctx, d); err != nil {
		return store.Revision{}, nil, err
	} else if clash != nil {
		return store.Revision{}, nil, Conflict{fmt.Sprintf("%s was changed by revision %d after this draft was "+
			"made; look at both with: synaxis draft conflicts %d, then keep the draft's with draft put, or give it "+
			"up with draft revert",
			clash.ID, clash.Other.Revision, id)}
	}
	findings := s.check(head, after, problems)
	if check.HasErrors(findings) {
		return store.Revision{}, findings, Rejected{findings}
	}
	unverified := newlyUnverified(head.Catalogue, after.Catalogue)
	r := after.Revision
	r.Message, r.Author, r.CreatedAt = message, who.Name, s.now()
	for _, def := range after.Catalogue.All() {
		r.Definitions = append(
			r.Definitions,
			store.RevisionDefinition{
				Kind:    def.Kind,
				Name:    def.Name,
				Digest:  def.Digest(),
				Changed: after.Changed[def.ID],
			},
		)
	}
	err = s.store.Alone(ctx, func(t *store.Tx) error {
		now, err := t.Head()
		if err != nil {
			return err
		}
		if open, err := t.Draft(id); err != nil || !sameDraft(open, d) {
			return errors.Join(
				err,
				Conflict{fmt.Sprintf("draft %d was edited at the same moment; look at the differences again", id)},
			)
		}
		if now != head.Revision.Number {
			return Conflict{
				fmt.Sprintf("revision %d was published at the same moment; look at the differences again", now),
			}
		}
		if err := t.AddRevision(r); err != nil {
			return err
		}
		if err := t.EndDraft(id, store.DraftPublished, r.Number); err != nil {
			return err
		}
		for _, name := range unverified {
			if err := t.Audit(who, s.now(), "verification off", "destination "+name, true, false); err != nil {
				return err
			}
		}
		return t.Audit(who, s.now(), "draft publish", fmt.Sprint(id), now, r.Number)
	})
	if err != nil {
		return store.Revision{}, findings, err
	}
	s.note("drafts")
	s.note("revisions")
	return r, findings, nil
}

// Discard ends a draft without publishing it.
func (s *Service) Discard(ctx context.Context, who store.Person, id int) error {
	err := s.store.Update(ctx, func(t *store.Tx) error {
		d, err := openDraft(t, id)
		if err != nil {
			return err
		}
		if err := t.EndDraft(id, store.DraftDiscarded, 0); err != nil {
			return err
		}
		return t.Audit(who, s.now(), "draft discard", fmt.Sprint(id), paths(d.Files), nil)
	})
	if err == nil {
		s.note("drafts")
	}
	return err
}

// openDraft reads a draft that is open inside a change.
func openDraft(t *store.Tx, id int) (store.Draft, error) {
	d, err := t.Draft(id)
	if errors.Is(err, store.ErrNotFound) {
		return d, store.Missingf("there is no draft %d", id)
	}
	if err == nil && d.State != store.DraftOpen {
		err = Conflict{fmt.Sprintf("draft %d: %v; it was %s", id, errEnded, d.State)}
	}
	return d, err
}
