// Package revisions reads the catalogue as it was published. Revisions never change, so each is read once; files that
// are alike in several of them, or in drafts, are parsed once and share their definitions.
package revisions

import (
	"context"
	"errors"
	"fmt"
	"sync"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/check"
	"synaxis/internal/core/yamldoc"
	"synaxis/internal/service/store"
)

// State is the catalogue at a revision, or as a draft would make it.
type State struct {
	Revision  store.Revision
	Catalogue *catalogue.Catalogue
	Changed   map[catalogue.ID]int // the revision in which each definition's meaning last changed
}

// Revisions reads. It is safe for concurrent use.
type Revisions struct {
	store *store.Store

	mu     sync.Mutex
	states map[int]*State

	parsing sync.Mutex
	parsed  map[string]parsed // by path and text
}

type parsed struct {
	defs     []*catalogue.Definition
	problems []yamldoc.Problem
}

// How many states and files are kept.
const (
	maxStates = 50
	maxFiles  = 20000
)

// New makes the reader.
func New(st *store.Store) *Revisions {
	return &Revisions{store: st, states: map[int]*State{}, parsed: map[string]parsed{}}
}

// Head returns the newest revision; number 0 and an empty catalogue when nothing has been published.
func (r *Revisions) Head(ctx context.Context) (*State, error) {
	n, err := r.store.Head(ctx)
	if err != nil {
		return nil, err
	}
	return r.At(ctx, n)
}

// At returns the catalogue at a revision.
func (r *Revisions) At(ctx context.Context, number int) (*State, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if st, ok := r.states[number]; ok {
		return st, nil
	}
	st := &State{Changed: map[catalogue.ID]int{}}
	if number > 0 {
		rev, err := r.store.Revision(ctx, number)
		if errors.Is(err, store.ErrNotFound) {
			err = store.Missingf("there is no revision %d", number)
		}
		if err != nil {
			return nil, err
		}
		st.Revision = rev
		for _, d := range rev.Definitions {
			st.Changed[catalogue.ID{Kind: d.Kind, Name: d.Name}] = d.Changed
		}
	}
	cat, findings := r.Parse(st.Revision.Files)
	if len(findings) > 0 && number > 0 {
		return nil, fmt.Errorf("revision %d cannot be read by this version: %s", number, findings[0].Reason)
	}
	st.Catalogue = cat
	if len(r.states) > maxStates {
		clear(r.states)
	}
	r.states[number] = st
	return st, nil
}

// Parse reads files; one that was read before is not read again, and keeps its definitions.
func (r *Revisions) Parse(files []store.File) (*catalogue.Catalogue, []check.Finding) {
	var defs []*catalogue.Definition
	var problems []yamldoc.Problem
	for _, f := range files {
		p := r.file(f)
		defs = append(defs, p.defs...)
		problems = append(problems, p.problems...)
	}
	cat, dup := catalogue.New(defs)
	return cat, check.FromProblems(append(problems, dup...))
}

// Definitions are those of one file.
func (r *Revisions) Definitions(f store.File) []*catalogue.Definition { return r.file(f).defs }

func (r *Revisions) file(f store.File) parsed {
	key := f.Path + "\x00" + f.Text
	r.parsing.Lock()
	p, ok := r.parsed[key]
	r.parsing.Unlock()
	if ok {
		return p
	}
	p.defs, p.problems = catalogue.Parse(f.Path, []byte(f.Text))
	r.parsing.Lock()
	defer r.parsing.Unlock()
	if len(r.parsed) > maxFiles {
		clear(r.parsed)
	}
	r.parsed[key] = p
	return p
}
