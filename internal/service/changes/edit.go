package changes

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/check"
	"synaxis/internal/core/yamldoc"
	"synaxis/internal/service/store"
)

// Stale is an edit of something that has changed since it was read.
type Stale struct{ Words string }

func (s Stale) Error() string { return s.Words }

// EditState is what a draft does to a definition.
type EditState string

// What a draft does.
const (
	Same    EditState = "same"    // it stays as it is published
	Added   EditState = "added"   // it is new
	Changed EditState = "changed" // it gets another text
	Removed EditState = "removed" // it goes
)

// Drafted is one definition as a draft has it.
type Drafted struct {
	catalogue.ID
	Def       *catalogue.Definition // nil when it is removed or cannot be read
	State     EditState
	Text      string
	Published string
	File      string
	Line      int // of File, at which Text begins
	Findings  []check.Finding
}

// ETag names the text of a definition.
func (d Drafted) ETag() string {
	if d.State == Removed || d.Text == "" {
		return "none"
	}
	sum := sha256.Sum256([]byte(d.Text))
	return hex.EncodeToString(sum[:12])
}

// Drafted returns the whole catalogue as it would be with a draft, removed definitions too, with what is found of
// each.
func (s *Service) Drafted(ctx context.Context, id int) ([]Drafted, error) {
	d, err := s.open(ctx, id)
	if err != nil {
		return nil, err
	}
	head, after, problems, err := s.of(ctx, d)
	if err != nil {
		return nil, err
	}
	all := drafted(head, after, d)
	by := map[catalogue.ID][]check.Finding{}
	for _, f := range s.check(head, after, problems) {
		id := catalogue.ID{Kind: f.Kind, Name: f.Name}
		by[id] = append(by[id], f)
	}
	for i := range all {
		all[i].Findings = by[all[i].ID]
	}
	return all, nil
}

func drafted(head, after *State, d store.Draft) []Drafted {
	var out []Drafted
	for _, def := range after.Catalogue.All() {
		x := Drafted{
			ID:    def.ID,
			Def:   def,
			State: Added,
			Text:  strings.TrimLeft(def.Text, "\n"),
			File:  def.File,
			Line:  def.Line + len(leading(def.Text)),
		}
		if old := head.Catalogue.Get(def.Kind, def.Name); old != nil {
			if x.State, x.Published = Changed, strings.TrimLeft(old.Text, "\n"); strings.TrimSpace(
				old.Text,
			) == strings.TrimSpace(
				def.Text,
			) {
				x.State = Same
			}
		}
		out = append(out, x)
	}
	for _, e := range d.Edits {
		if id := (catalogue.ID{Kind: e.Kind, Name: e.Name}); !e.Removed && after.Catalogue.Get(e.Kind, e.Name) == nil {
			x := Drafted{ID: id, State: Added, Text: e.Text}
			if old := head.Catalogue.Get(e.Kind, e.Name); old != nil {
				x.State, x.Published, x.File, x.Line = Changed, strings.TrimLeft(old.Text, "\n"), old.File, old.Line
			}
			out = append(out, x)
		}
	}
	for _, old := range head.Catalogue.All() {
		if !slices.ContainsFunc(out, func(x Drafted) bool { return x.ID == old.ID }) {
			out = append(
				out,
				Drafted{
					ID:        old.ID,
					State:     Removed,
					Published: strings.TrimLeft(old.Text, "\n"),
					File:      old.File,
					Line:      old.Line,
				},
			)
		}
	}
	slices.SortFunc(out, func(a, b Drafted) int { return a.Compare(b.ID) })
	return out
}

// open returns a draft that may still be changed.
func (s *Service) open(ctx context.Context, id int) (store.Draft, error) {
	d, err := s.Draft(ctx, id)
	if err == nil && d.State != store.DraftOpen {
		err = Conflict{fmt.Sprintf("draft %d: %v; it was %s", id, errEnded, d.State)}
	}
	return d, err
}

// one returns a definition as a draft has it.
func (s *Service) one(ctx context.Context, draft int, id catalogue.ID) (Drafted, error) {
	all, err := s.Drafted(ctx, draft)
	if err != nil {
		return Drafted{}, err
	}
	var names []string
	for _, x := range all {
		if x.ID == id {
			return x, nil
		}
		if x.Kind == id.Kind {
			names = append(names, x.Name)
		}
	}
	hint := ""
	if near := yamldoc.Nearest(id.Name, names); near != "" {
		hint = fmt.Sprintf("; did you mean %s?", near)
	}
	return Drafted{ID: id}, store.Missingf("there is no %s in draft %d%s", id, draft, hint)
}

// Definition returns one definition as a draft has it.
func (s *Service) Definition(ctx context.Context, draft int, kind, name string) (Drafted, error) {
	return s.one(ctx, draft, catalogue.ID{Kind: kind, Name: name})
}

// maxText bounds the text of one definition, in bytes.
const maxText = 1 << 20

// checkText tells whether a text can be kept as a definition: one document, and, if it says what it is, what it should
// be.
func checkText(id catalogue.ID, text string) error {
	switch {
	case !slices.Contains(catalogue.Kinds, id.Kind):
		return Invalid{fmt.Sprintf("%q is no kind; kinds are %s", id.Kind, strings.Join(catalogue.Kinds, ", "))}
	case catalogue.CheckName(id.Name) != "":
		return Invalid{catalogue.CheckName(id.Name)}
	case strings.TrimSpace(text) == "":
		return Invalid{"the text is empty; to take the definition away, remove it"}
	case len(text) > maxText:
		return Invalid{fmt.Sprintf("the text has %d bytes; at most %d are kept", len(text), maxText)}
	case len(yamldoc.Split(text)) > 1:
		return Invalid{"the text holds a line ---: keep each definition by itself"}
	}
	if defs, _ := catalogue.Parse("", []byte(text)); len(defs) == 1 && defs[0].ID != id {
		return Invalid{
			fmt.Sprintf(
				"the text is %s, not %s; to rename a source, add the new one with was: %s and remove the old one",
				defs[0].ID,
				id,
				id.Name,
			),
		}
	}
	return nil
}

// Put keeps a text for a definition in a draft. match is the etag that the writer has read, or "".
func (s *Service) Put(
	ctx context.Context,
	who store.Person,
	draft int,
	kind, name, text, match string,
) (Drafted, error) {
	id := catalogue.ID{Kind: kind, Name: name}
	if err := checkText(id, text); err != nil {
		return Drafted{}, err
	}
	if err := s.edit(ctx, who, draft, id, match, &store.DraftEdit{Kind: kind, Name: name, Text: text}); err != nil {
		return Drafted{}, err
	}
	return s.one(ctx, draft, id)
}

// Remove takes a definition out of the catalogue, in a draft.
func (s *Service) Remove(ctx context.Context, who store.Person, draft int, kind, name, match string) error {
	id := catalogue.ID{Kind: kind, Name: name}
	have, err := s.one(ctx, draft, id)
	if err != nil {
		return err
	}
	if have.State == Added {
		return s.Revert(ctx, who, draft, kind, name)
	}
	return s.edit(ctx, who, draft, id, match, &store.DraftEdit{Kind: kind, Name: name, Removed: true})
}

// Revert gives up what a draft does to a definition.
func (s *Service) Revert(ctx context.Context, who store.Person, draft int, kind, name string) error {
	id := catalogue.ID{Kind: kind, Name: name}
	have, err := s.one(ctx, draft, id)
	if err != nil {
		return err
	}
	if have.State == Same {
		return nil
	}
	d, err := s.open(ctx, draft)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(d.Files, func(f store.File) bool {
		return slices.ContainsFunc(
			s.revisions.Definitions(f),
			func(x *catalogue.Definition) bool { return x.ID == id },
		)
	}) && !(d.Whole && have.State == Removed) {
		return s.edit(ctx, who, draft, id, "", nil)
	}
	// A file that was loaded says it: an edit over it says otherwise.
	if have.Published == "" {
		return s.edit(ctx, who, draft, id, "", &store.DraftEdit{Kind: kind, Name: name, Removed: true})
	}
	return s.edit(ctx, who, draft, id, "", &store.DraftEdit{Kind: kind, Name: name, Text: have.Published})
}

func (s *Service) edit(
	ctx context.Context,
	who store.Person,
	draft int,
	id catalogue.ID,
	match string,
	e *store.DraftEdit,
) error {
	err := s.store.Alone(ctx, func(t *store.Tx) error {
		d, err := openDraft(t, draft)
		if err != nil {
			return err
		}
		newest, err := t.Head()
		if err != nil {
			return err
		}
		head, err := s.At(ctx, newest)
		if err != nil {
			return err
		}
		after, _ := s.with(head, d)
		before := Drafted{ID: id}
		for _, x := range drafted(head, after, d) {
			if x.ID == id {
				before = x
			}
		}
		if match != "" && match != before.ETag() && !(match == "*" && before.ETag() == "none") {
			return Stale{fmt.Sprintf("%s was changed in draft %d since you read it; read it again", id, draft)}
		}
		if e == nil {
			if err := t.RemoveDraftEdit(draft, id.Kind, id.Name); err != nil {
				return err
			}
			return t.Audit(who, s.now(), "draft revert", fmt.Sprintf("%d: %s", draft, id), before.Text, nil)
		}
		e.Base, e.Who, e.At = head.Revision.Number, who.Name, s.now()
		if err := t.PutDraftEdit(draft, *e); err != nil {
			return err
		}
		if e.Removed {
			return t.Audit(who, e.At, "draft remove", fmt.Sprintf("%d: %s", draft, id), before.Text, nil)
		}
		return t.Audit(who, e.At, "draft put", fmt.Sprintf("%d: %s", draft, id), before.Text, e.Text)
	})
	if err == nil {
		s.note("drafts")
	}
	return err
}

func sameDraft(a, b store.Draft) bool {
	return slices.Equal(a.Files, b.Files) && reflect.DeepEqual(a.Edits, b.Edits)
}

// Changes names the definitions that a draft changes.
func (s *Service) Changes(ctx context.Context, d store.Draft) ([]catalogue.ID, error) {
	head, after, _, err := s.of(ctx, d)
	if err != nil {
		return nil, err
	}
	var out []catalogue.ID
	for _, x := range drafted(head, after, d) {
		if x.State != Same {
			out = append(out, x.ID)
		}
	}
	return out, nil
}

// Side is what one of two says of a definition; Draft or Revision tells which.
type Side struct {
	Draft, Revision     int
	Title, Author, Text string
}

// Clash is a definition that a draft and something else change.
type Clash struct {
	catalogue.ID
	Mine, Other Side
}

// Conflicts tells which definitions of a draft another open draft changes too, or a revision that was published after
// the draft's edit was made.
func (s *Service) Conflicts(ctx context.Context, id int) ([]Clash, error) {
	d, err := s.open(ctx, id)
	if err != nil {
		return nil, err
	}
	mine, err := s.sides(ctx, d)
	if err != nil {
		return nil, err
	}
	out, err := s.clashes(ctx, d, mine)
	if err != nil {
		return nil, err
	}
	others, err := s.store.Drafts(ctx)
	if err != nil {
		return nil, err
	}
	for _, o := range others {
		if o.ID == d.ID {
			continue
		}
		theirs, err := s.sides(ctx, o)
		if err != nil {
			return nil, err
		}
		for id, side := range theirs {
			if m, both := mine[id]; both && m.Text != side.Text {
				out = append(out, Clash{id, m, side})
			}
		}
	}
	slices.SortFunc(out, func(a, b Clash) int {
		if c := a.Compare(b.ID); c != 0 {
			return c
		}
		return a.Other.Draft - b.Other.Draft
	})
	return out, nil
}

// sides is what a draft says of the definitions that it changes.
func (s *Service) sides(ctx context.Context, d store.Draft) (map[catalogue.ID]Side, error) {
	head, after, _, err := s.of(ctx, d)
	if err != nil {
		return nil, err
	}
	out := map[catalogue.ID]Side{}
	for _, x := range drafted(head, after, d) {
		if x.State != Same {
			out[x.ID] = Side{Draft: d.ID, Title: d.Title, Author: d.Author, Text: x.Text}
		}
	}
	return out, nil
}

// clashes are the definitions of a draft that a later revision changed.
func (s *Service) clashes(ctx context.Context, d store.Draft, mine map[catalogue.ID]Side) ([]Clash, error) {
	head, err := s.Head(ctx)
	if err != nil {
		return nil, err
	}
	based := map[catalogue.ID]int{}
	for _, e := range d.Edits {
		based[catalogue.ID{Kind: e.Kind, Name: e.Name}] = e.Base
	}
	var out []Clash
	for id, side := range mine {
		number, edited := based[id]
		if !edited {
			number = d.Base
		}
		if number == head.Revision.Number {
			continue
		}
		base, err := s.At(ctx, number)
		if err != nil {
			return nil, err
		}
		now := textOf(head, id)
		if textOf(base, id) == now || side.Text == now {
			continue
		}
		r := head.Revision
		if n := head.Changed[id]; n > number && n != r.Number {
			if st, err := s.At(ctx, n); err == nil {
				r = st.Revision
			}
		}
		out = append(out, Clash{id, side, Side{Revision: r.Number, Title: r.Title, Author: r.Author, Text: now}})
	}
	return out, nil
}

func textOf(st *State, id catalogue.ID) string {
	if d := st.Catalogue.Get(id.Kind, id.Name); d != nil {
		return strings.TrimLeft(d.Text, "\n")
	}
	return ""
}

// overtaken returns the first definition that a later revision changed, or nil.
func (s *Service) overtaken(ctx context.Context, d store.Draft) (*Clash, error) {
	mine, err := s.sides(ctx, d)
	if err != nil {
		return nil, err
	}
	list, err := s.clashes(ctx, d, mine)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	slices.SortFunc(list, func(a, b Clash) int { return a.Compare(b.ID) })
	return &list[0], nil
}

// Tried is what the desk says of a text while it is being written.
type Tried struct {
	Def      *catalogue.Definition // nil when it cannot be read
	Findings []check.Finding       // their lines are those of the text
	Hosts    []string              // that it is for
	Changes  int                   // hosts that would run something else than by the newest revision
	UsedBy   []catalogue.ID
}

// Try checks a text as it stands in a draft, or, for draft 0, in the newest revision. Nothing is kept.
func (s *Service) Try(ctx context.Context, draft int, text string) (Tried, error) {
	if len(text) > maxText {
		return Tried{}, Invalid{fmt.Sprintf("the text has %d bytes; at most %d are read", len(text), maxText)}
	}
	head, err := s.Head(ctx)
	if err != nil {
		return Tried{}, err
	}
	var d store.Draft
	if draft > 0 {
		if d, err = s.open(ctx, draft); err != nil {
			return Tried{}, err
		}
	}
	defs, problems := catalogue.Parse("", []byte(text))
	out := Tried{Findings: check.FromProblems(problems)}
	if len(defs) != 1 || len(yamldoc.Split(text)) > 1 {
		if len(problems) == 0 {
			out.Findings = []check.Finding{
				{
					Code:     "syntax",
					Severity: check.Error,
					Line:     1,
					Column:   1,
					Reason:   fmt.Sprintf("one definition is expected here, not %d", len(defs)),
					Fix:      "begin with a kind and a name, such as source: gate-scans",
				},
			}
		}
		return out, nil
	}
	out.Def = defs[0]
	id := out.Def.ID
	d.ID = -1 - draft // beside the draft as it is kept
	d.Edits = append(
		slices.DeleteFunc(
			slices.Clone(d.Edits),
			func(e store.DraftEdit) bool { return e.Kind == id.Kind && e.Name == id.Name },
		),
		store.DraftEdit{Kind: id.Kind, Name: id.Name, Text: text},
	)
	after, unread := s.with(head, d)
	in := after.Catalogue.Get(id.Kind, id.Name)
	fleet := s.desired.Draft(d.ID, after)
	if in != nil {
		for _, f := range s.check(head, after, unread) {
			if f.Kind != id.Kind || f.Name != id.Name ||
				slices.ContainsFunc(
					problems,
					func(p yamldoc.Problem) bool { return p.Code == f.Code && p.Reason == f.Reason },
				) {
				continue
			}
			f.File, f.Line = "", max(1, f.Line-in.Line-len(leading(in.Text))+1+len(leading(text)))
			out.Findings = append(out.Findings, f)
		}
		for _, o := range after.Catalogue.UsedBy(id) {
			out.UsedBy = append(out.UsedBy, o.ID)
		}
	}
	check.Sort(out.Findings)
	out.Hosts = out.Def.Chosen(fleet.Index.Hosts)
	now := s.desired.At(head)
	if len(now.Manifests) == len(fleet.Manifests) {
		for i, m := range fleet.Manifests {
			if o := now.Manifests[i]; m != o && m.Hash != o.Hash {
				out.Changes++
			}
		}
	}
	return out, nil
}

// Catalogue is the one that a draft would make, or, for draft 0, that of the newest revision.
func (s *Service) Catalogue(ctx context.Context, draft int) (*catalogue.Catalogue, error) {
	if draft == 0 {
		head, err := s.Head(ctx)
		if err != nil {
			return nil, err
		}
		return head.Catalogue, nil
	}
	d, err := s.open(ctx, draft)
	if err != nil {
		return nil, err
	}
	_, after, _, err := s.of(ctx, d)
	if err != nil {
		return nil, err
	}
	return after.Catalogue, nil
}
