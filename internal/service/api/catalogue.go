package api

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"synaxis/internal/contract"
	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/check"
	"synaxis/internal/core/inventory"
	"synaxis/internal/core/yamldoc"
	"synaxis/internal/service/changes"
	"synaxis/internal/service/store"
)

func (a *API) draftSummary(ctx context.Context, d store.Draft) (contract.DraftSummary, error) {
	ids, err := a.Changes.Changes(ctx, d)
	names := []string{}
	for _, id := range ids {
		names = append(names, id.String())
	}
	return contract.DraftSummary{
		Changes:   names,
		Id:        d.ID,
		Title:     d.Title,
		Author:    d.Author,
		CreatedAt: d.CreatedAt,
		Base:      d.Base,
		Whole:     d.Whole,
		State:     string(d.State),
	}, err
}

func (a *API) draft(ctx context.Context, d store.Draft, list []check.Finding) (contract.Draft, error) {
	out := contract.Draft{
		Id:        d.ID,
		Title:     d.Title,
		Author:    d.Author,
		CreatedAt: d.CreatedAt,
		Base:      d.Base,
		Whole:     d.Whole,
		State:     string(d.State),
		Revision:  optional(d.Revision),
		Files:     files(d.Files),
		Findings:  contract.FindingsOf(list),
	}
	var err error
	out.Added, out.Changed, out.Removed, err = a.Changes.Delta(ctx, d)
	return out, err
}

func files(list []store.File) []contract.File {
	out := []contract.File{}
	for _, f := range list {
		out = append(out, contract.File{Path: f.Path, Text: f.Text})
	}
	return out
}

// ListDrafts lists open drafts.
func (a *API) ListDrafts(
	ctx context.Context,
	_ contract.ListDraftsRequestObject,
) (contract.ListDraftsResponseObject, error) {
	list, err := a.Store.Drafts(ctx)
	out := contract.ListDrafts200JSONResponse{Items: []contract.DraftSummary{}}
	for _, d := range list {
		sum, err := a.draftSummary(ctx, d)
		if err != nil {
			return nil, err
		}
		out.Items = append(out.Items, sum)
	}
	return out, err
}

// LoadDraft keeps files as a draft.
func (a *API) LoadDraft(
	ctx context.Context,
	r contract.LoadDraftRequestObject,
) (contract.LoadDraftResponseObject, error) {
	var list []store.File
	for _, f := range r.Body.Files {
		list = append(list, store.File{Path: f.Path, Text: f.Text})
	}
	if len(list) == 0 && r.Body.Whole {
		return nil, usage{"the load has no files; definitions are read from *.yaml, *.yml and *.json"}
	}
	if err := oneLine("title", value(r.Body.Title), 200); err != nil {
		return nil, err
	}
	d, found, err := a.Changes.Load(ctx, person(ctx), value(r.Body.Title), r.Body.Whole, list)
	if err != nil {
		return nil, err
	}
	out, err := a.draft(ctx, d, found)
	if d.State == store.DraftUnchanged {
		return contract.LoadDraft200JSONResponse(out), err
	}
	return contract.LoadDraft201JSONResponse(out), err
}

// GetDraft shows a draft.
func (a *API) GetDraft(
	ctx context.Context,
	r contract.GetDraftRequestObject,
) (contract.GetDraftResponseObject, error) {
	d, err := a.Changes.Draft(ctx, r.Draft)
	if err != nil {
		return nil, err
	}
	var found []check.Finding
	if d.State == store.DraftOpen {
		if found, err = a.Changes.CheckDraft(ctx, d); err != nil {
			return nil, err
		}
	}
	out, err := a.draft(ctx, d, found)
	return contract.GetDraft200JSONResponse(out), err
}

// DiscardDraft ends a draft.
func (a *API) DiscardDraft(
	ctx context.Context,
	r contract.DiscardDraftRequestObject,
) (contract.DiscardDraftResponseObject, error) {
	return contract.DiscardDraft204Response{}, a.Changes.Discard(ctx, person(ctx), r.Draft)
}

// CheckDraft checks a draft.
func (a *API) CheckDraft(
	ctx context.Context,
	r contract.CheckDraftRequestObject,
) (contract.CheckDraftResponseObject, error) {
	d, err := a.Changes.Draft(ctx, r.Draft)
	if err != nil {
		return nil, err
	}
	found, err := a.Changes.CheckDraft(ctx, d)
	return contract.CheckDraft200JSONResponse{Findings: contract.FindingsOf(found)}, err
}

// DiffDraft tells what a draft changes.
func (a *API) DiffDraft(
	ctx context.Context,
	r contract.DiffDraftRequestObject,
) (contract.DiffDraftResponseObject, error) {
	d, err := a.Changes.Draft(ctx, r.Draft)
	if err != nil {
		return nil, err
	}
	if d.State != store.DraftOpen {
		return nil, changes.Conflict{Words: fmt.Sprintf("draft %d was %s", d.ID, d.State)}
	}
	i, err := a.Changes.Impact(ctx, d)
	if err != nil {
		return nil, err
	}
	return contract.DiffDraft200JSONResponse(impact(i)), nil
}

// DiffRevisions tells what a revision changes against another.
func (a *API) DiffRevisions(
	ctx context.Context,
	r contract.DiffRevisionsRequestObject,
) (contract.DiffRevisionsResponseObject, error) {
	for _, n := range []int{r.Params.From, r.Revision} {
		if _, err := a.Store.Revision(ctx, n); errors.Is(err, store.ErrNotFound) {
			return nil, store.Missingf("there is no revision %d", n)
		} else if err != nil {
			return nil, err
		}
	}
	i, err := a.Changes.Between(ctx, r.Params.From, r.Revision)
	return contract.DiffRevisions200JSONResponse(impact(i)), err
}

// impact is what changes, as the contract has it.
func impact(i changes.Impact) contract.Impact {
	out := contract.Impact{
		Head:        i.Head,
		Hosts:       i.Hosts,
		Unchanged:   i.Unchanged,
		Definitions: []contract.DefinitionChange{},
		Groups:      []contract.ImpactGroup{},
		Losses:      append([]string{}, i.Losses...),
	}
	for _, c := range i.Definitions {
		out.Definitions = append(
			out.Definitions,
			contract.DefinitionChange{
				Kind:   c.Kind,
				Name:   c.Name,
				What:   contract.DefinitionChangeWhat(c.What),
				Before: strings.TrimLeft(c.Before, "\n"),
				After:  strings.TrimLeft(c.After, "\n"),
				Diff:   diff(c.Diff),
			},
		)
	}
	for _, g := range i.Groups {
		out.Groups = append(out.Groups, contract.ImpactGroup{Hosts: g.Hosts, Diff: diff(g.Diff)})
	}
	return out
}

// PublishDraft publishes a draft.
func (a *API) PublishDraft(
	ctx context.Context,
	r contract.PublishDraftRequestObject,
) (contract.PublishDraftResponseObject, error) {
	expected := -1
	message := ""
	if r.Body != nil {
		if r.Body.Head != nil {
			expected = *r.Body.Head
		}
		message = value(r.Body.Message)
	}
	rev, found, err := a.Changes.Publish(ctx, person(ctx), r.Draft, message, expected)
	if err != nil {
		return nil, err
	}
	return contract.PublishDraft201JSONResponse{Revision: rev.Number, Findings: contract.FindingsOf(found)}, nil
}

func (a *API) at(ctx context.Context, revision *int) (*changes.State, error) {
	if revision == nil {
		return a.Changes.Head(ctx)
	}
	return a.Changes.At(ctx, *revision)
}

// ListDefinitions lists the definitions of a revision.
func (a *API) ListDefinitions(
	ctx context.Context,
	r contract.ListDefinitionsRequestObject,
) (contract.ListDefinitionsResponseObject, error) {
	st, err := a.at(ctx, r.Params.Revision)
	if err != nil {
		return nil, err
	}
	x := a.Inventory.Index()
	out := contract.ListDefinitions200JSONResponse{Items: []contract.DefinitionSummary{}, Revision: st.Revision.Number}
	for _, d := range st.Catalogue.All() {
		out.Items = append(
			out.Items,
			contract.DefinitionSummary{Kind: d.Kind, Name: d.Name, About: d.About(), File: d.File, Line: d.Line,
				Changed: st.Changed[d.ID], Hosts: chosen(x, d)},
		)
	}
	return out, nil
}

// chosen counts the hosts that a definition chooses.
func chosen(x *inventory.Index, d *catalogue.Definition) int {
	if s := d.Selector(); s != nil {
		return x.Choose(*s).Len()
	}
	return 0
}

// GetDefinition shows one definition.
func (a *API) GetDefinition(
	ctx context.Context,
	r contract.GetDefinitionRequestObject,
) (contract.GetDefinitionResponseObject, error) {
	st, err := a.at(ctx, r.Params.Revision)
	if err != nil {
		return nil, err
	}
	d := st.Catalogue.Get(r.Kind, r.Name)
	if d == nil {
		hint := ""
		if near := yamldoc.Nearest(r.Name, st.Catalogue.Names(r.Kind)); near != "" {
			hint = fmt.Sprintf("; did you mean %s?", near)
		}
		return nil, store.Missingf("there is no %s %s in revision %d%s", r.Kind, r.Name, st.Revision.Number, hint)
	}
	out := contract.GetDefinition200JSONResponse{
		Kind:     d.Kind,
		Name:     d.Name,
		About:    d.About(),
		File:     d.File,
		Line:     d.Line,
		Changed:  st.Changed[d.ID],
		Text:     strings.TrimLeft(d.Text, "\n"),
		Revision: st.Revision.Number,
		Hosts:    []string{},
		UsedBy:   []string{},
	}
	out.Hosts = append(out.Hosts, d.Chosen(a.Inventory.Index().Hosts)...)
	for _, o := range st.Catalogue.UsedBy(d.ID) {
		out.UsedBy = append(out.UsedBy, o.ID.String())
	}
	return out, nil
}

// ExportCatalogue gives the files of a revision.
func (a *API) ExportCatalogue(
	ctx context.Context,
	r contract.ExportCatalogueRequestObject,
) (contract.ExportCatalogueResponseObject, error) {
	st, err := a.at(ctx, r.Params.Revision)
	if err != nil {
		return nil, err
	}
	return contract.ExportCatalogue200JSONResponse{Items: files(st.Revision.Files), Revision: st.Revision.Number}, nil
}

// ListRevisions lists revisions.
func (a *API) ListRevisions(
	ctx context.Context,
	_ contract.ListRevisionsRequestObject,
) (contract.ListRevisionsResponseObject, error) {
	list, err := a.Store.Revisions(ctx)
	out := contract.ListRevisions200JSONResponse{Items: []contract.RevisionSummary{}}
	for _, r := range list {
		out.Items = append(
			out.Items,
			contract.RevisionSummary{
				Number:    r.Number,
				Title:     r.Title,
				Message:   r.Message,
				Author:    r.Author,
				CreatedAt: r.CreatedAt,
				InForce:   r.Number == a.Rollouts.InForce(),
			},
		)
	}
	return out, err
}

// GetRevision shows a revision.
func (a *API) GetRevision(
	ctx context.Context,
	r contract.GetRevisionRequestObject,
) (contract.GetRevisionResponseObject, error) {
	rev, err := a.Store.Revision(ctx, r.Revision)
	if errors.Is(err, store.ErrNotFound) {
		err = store.Missingf("there is no revision %d", r.Revision)
	}
	if err != nil {
		return nil, err
	}
	out := contract.GetRevision200JSONResponse{
		Number:      rev.Number,
		Title:       rev.Title,
		Message:     rev.Message,
		Author:      rev.Author,
		CreatedAt:   rev.CreatedAt,
		InForce:     rev.Number == a.Rollouts.InForce(),
		Draft:       rev.Draft,
		Definitions: []contract.RevisionDefinition{},
	}
	slices.SortFunc(rev.Definitions, func(x, y store.RevisionDefinition) int {
		return catalogue.ID{Kind: x.Kind, Name: x.Name}.Compare(catalogue.ID{Kind: y.Kind, Name: y.Name})
	})
	for _, d := range rev.Definitions {
		out.Definitions = append(
			out.Definitions,
			contract.RevisionDefinition{Kind: d.Kind, Name: d.Name, Changed: d.Changed},
		)
	}
	return out, nil
}
