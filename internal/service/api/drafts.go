package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"synaxis/internal/contract"
	"synaxis/internal/core/check"
	"synaxis/internal/core/inventory"
	"synaxis/internal/core/language"
	"synaxis/internal/core/schema"
	"synaxis/internal/core/yamldoc"
	"synaxis/internal/service/changes"
)

func drafted(x changes.Drafted) contract.DraftDefinition {
	return contract.DraftDefinition{
		Kind:      x.Kind,
		Name:      x.Name,
		State:     contract.DraftDefinitionState(x.State),
		Text:      x.Text,
		Published: x.Published,
		Etag:      x.ETag(),
		File:      x.File,
		Findings:  contract.FindingsOf(relative(x)),
	}
}

// relative gives the findings of a definition the lines of its text.
func relative(x changes.Drafted) []check.Finding {
	out := slices.Clone(x.Findings)
	for i := range out {
		if x.Def != nil {
			out[i].Line = max(1, out[i].Line-x.Line+1)
		}
	}
	return out
}

// ListDraftDefinitions lists the catalogue as it would be with a draft.
func (a *API) ListDraftDefinitions(
	ctx context.Context,
	r contract.ListDraftDefinitionsRequestObject,
) (contract.ListDraftDefinitionsResponseObject, error) {
	all, err := a.Changes.Drafted(ctx, r.Draft)
	if err != nil {
		return nil, err
	}
	x := a.Inventory.Index()
	out := contract.ListDraftDefinitions200JSONResponse{Items: []contract.DraftDefinitionSummary{}}
	for _, d := range all {
		s := contract.DraftDefinitionSummary{
			Kind:     d.Kind,
			Name:     d.Name,
			State:    contract.DraftDefinitionSummaryState(d.State),
			Readable: d.Def != nil || d.State == changes.Removed,
		}
		for _, f := range d.Findings {
			switch f.Severity {
			case check.Error:
				s.Errors++
			case check.Warning:
				s.Warnings++
			}
		}
		if d.Def != nil {
			s.About, s.Hosts = d.Def.About(), chosen(x, d.Def)
		}
		out.Items = append(out.Items, s)
	}
	return out, nil
}

// GetDraftDefinition shows one definition as a draft has it.
func (a *API) GetDraftDefinition(
	ctx context.Context,
	r contract.GetDraftDefinitionRequestObject,
) (contract.GetDraftDefinitionResponseObject, error) {
	d, err := a.Changes.Definition(ctx, r.Draft, r.Kind, r.Name)
	if err != nil {
		return nil, err
	}
	tagged(ctx, d.ETag())
	return contract.GetDraftDefinition200JSONResponse(drafted(d)), nil
}

// PutDraftDefinition keeps a text in a draft.
func (a *API) PutDraftDefinition(
	ctx context.Context,
	r contract.PutDraftDefinitionRequestObject,
) (contract.PutDraftDefinitionResponseObject, error) {
	d, err := a.Changes.Put(
		ctx,
		person(ctx),
		r.Draft,
		r.Kind,
		r.Name,
		r.Body.Text,
		strings.Trim(value(r.Params.IfMatch), `"`),
	)
	if err != nil {
		return nil, err
	}
	tagged(ctx, d.ETag())
	return contract.PutDraftDefinition200JSONResponse(drafted(d)), nil
}

// RemoveDraftDefinition takes a definition out, in a draft.
func (a *API) RemoveDraftDefinition(
	ctx context.Context,
	r contract.RemoveDraftDefinitionRequestObject,
) (contract.RemoveDraftDefinitionResponseObject, error) {
	return contract.RemoveDraftDefinition204Response{}, a.Changes.Remove(
		ctx,
		person(ctx),
		r.Draft,
		r.Kind,
		r.Name,
		strings.Trim(value(r.Params.IfMatch), `"`),
	)
}

// RevertDraftDefinition gives up what a draft does to a definition.
func (a *API) RevertDraftDefinition(
	ctx context.Context,
	r contract.RevertDraftDefinitionRequestObject,
) (contract.RevertDraftDefinitionResponseObject, error) {
	return contract.RevertDraftDefinition204Response{}, a.Changes.Revert(ctx, person(ctx), r.Draft, r.Kind, r.Name)
}

// ListConflicts shows what something else changes too.
func (a *API) ListConflicts(
	ctx context.Context,
	r contract.ListConflictsRequestObject,
) (contract.ListConflictsResponseObject, error) {
	list, err := a.Changes.Conflicts(ctx, r.Draft)
	out := contract.ListConflicts200JSONResponse{Items: []contract.DefinitionConflict{}}
	side := func(s changes.Side) contract.ConflictSide {
		return contract.ConflictSide{
			Draft:    optional(s.Draft),
			Revision: optional(s.Revision),
			Title:    s.Title,
			Author:   s.Author,
			Text:     s.Text,
		}
	}
	for _, c := range list {
		out.Items = append(
			out.Items,
			contract.DefinitionConflict{Kind: c.Kind, Name: c.Name, Mine: side(c.Mine), Other: side(c.Other)},
		)
	}
	return out, err
}

// shownHosts bounds the list of hosts that a tried text is for.
const shownHosts = 200

// TryDefinition checks a text while it is being written.
func (a *API) TryDefinition(
	ctx context.Context,
	r contract.TryDefinitionRequestObject,
) (contract.TryDefinitionResponseObject, error) {
	t, err := a.Changes.Try(ctx, value(r.Body.Draft), r.Body.Text)
	if err != nil {
		return nil, err
	}
	out := contract.TryDefinition200JSONResponse{
		Findings: contract.FindingsOf(t.Findings),
		Chosen:   len(t.Hosts),
		Hosts:    []string{},
		Changes:  t.Changes,
		UsedBy:   &[]string{},
	}
	out.Hosts = append(out.Hosts, t.Hosts[:min(len(t.Hosts), shownHosts)]...)
	for _, id := range t.UsedBy {
		*out.UsedBy = append(*out.UsedBy, id.String())
	}
	if t.Def != nil {
		out.Kind, out.Name = t.Def.Kind, t.Def.Name
		out.Value = json.RawMessage(schema.JSON(t.Def.Body()))
	}
	return out, nil
}

// SpliceText changes one value in a text.
func (a *API) SpliceText(
	_ context.Context,
	r contract.SpliceTextRequestObject,
) (contract.SpliceTextResponseObject, error) {
	text, err := yamldoc.Splice(r.Body.Text, yamldoc.Edit{Path: r.Body.Path, Value: editValue(r.Body.Value)})
	var problem yamldoc.Problem
	if errors.Is(err, yamldoc.ErrEdit) || errors.As(err, &problem) {
		return nil, usage{err.Error()}
	}
	return contract.SpliceText200JSONResponse{Text: text}, err
}

// editValue makes what JSON holds into what Splice takes. JSON knows no whole numbers: those without a fraction are
// meant so.
func editValue(v any) any {
	switch v := v.(type) {
	case float64:
		if v == math.Trunc(v) && math.Abs(v) < 1<<53 {
			return int64(v)
		}
		return v
	case []any:
		out := make([]any, len(v))
		for i, x := range v {
			out[i] = editValue(x)
		}
		return out
	case map[string]any:
		pairs := make([]yamldoc.Pair, 0, len(v))
		for _, k := range slices.Sorted(maps.Keys(v)) {
			pairs = append(pairs, yamldoc.Pair{Key: k, Value: editValue(v[k])})
		}
		return pairs
	}
	return v
}

// shownValues bounds the values of a label that completion offers.
const shownValues = 200

// GetLanguage tells everything that can be said, with the names that this fleet has.
func (a *API) GetLanguage(
	context.Context,
	contract.GetLanguageRequestObject,
) (contract.GetLanguageResponseObject, error) {
	out := contract.GetLanguage200JSONResponse{
		Kinds:    []contract.LanguageKind{},
		Checks:   []contract.CheckCode{},
		Labels:   map[string][]string{},
		Settings: []string{},
		Secrets:  []string{},
		Schema:   language.JSONSchema(),
	}
	for _, k := range language.Kinds() {
		kind := contract.LanguageKind{
			Kind:    k.Name,
			Doc:     k.Doc,
			Example: optional(k.Example),
			Keys:    []contract.LanguageKey{},
		}
		for _, e := range k.Keys {
			key := contract.LanguageKey{
				Path:    e.Path,
				Type:    contract.LanguageKeyType(e.Type),
				Need:    e.Need,
				Doc:     e.Doc,
				Example: optional(e.Example),
				Default: optional(e.Default),
				Names: optional(
					e.Names,
				),
				Secrets:    optional(e.Secrets),
				References: optional(e.Refs),
				Part:       optional(e.Part),
				Later:      optional(e.Later),
			}
			if len(e.Choices) > 0 {
				key.Choices = &e.Choices
			}
			kind.Keys = append(kind.Keys, key)
		}
		out.Kinds = append(out.Kinds, kind)
	}
	for _, c := range check.Codes {
		out.Checks = append(
			out.Checks,
			contract.CheckCode{
				Code:     c.Name,
				Severity: contract.Severity(c.Severity),
				Fleet:    c.Fleet,
				What:     c.What,
				Why:      c.Why,
				Fix:      c.Fix,
			},
		)
	}
	x := a.Inventory.Index()
	for _, k := range x.LabelKeys() {
		v := x.Values(k)
		out.Labels[k] = v[:min(len(v), shownValues)]
	}
	settings := map[string]bool{}
	for i := range x.Hosts {
		for k := range x.Hosts[i].Settings {
			settings[k] = true
		}
	}
	out.Settings = append(out.Settings, slices.Sorted(maps.Keys(settings))...)
	out.Secrets = append(out.Secrets, slices.Sorted(maps.Keys(a.Secrets.Versions()))...)
	return out, nil
}

// ListNewcomers lists agents that wait for approval.
func (a *API) ListNewcomers(
	context.Context,
	contract.ListNewcomersRequestObject,
) (contract.ListNewcomersResponseObject, error) {
	out := contract.ListNewcomers200JSONResponse{Items: []contract.Newcomer{}}
	for _, n := range a.Membership.Newcomers() {
		out.Items = append(
			out.Items,
			contract.Newcomer{
				Id:        n.ID,
				Host:      n.Host,
				HostId:    n.HostID,
				Origin:    n.Origin,
				Since:     n.Since,
				Why:       n.Why,
				Connected: a.Links.Connected(n.UID),
				Copy:      n.Credential != "",
				Name:      optional(n.Name),
			},
		)
	}
	return out, nil
}

// ApproveNewcomer lets a newcomer join.
func (a *API) ApproveNewcomer(
	ctx context.Context,
	r contract.ApproveNewcomerRequestObject,
) (contract.ApproveNewcomerResponseObject, error) {
	if why := inventory.CheckName(r.Body.Name); why != "" {
		return nil, usage{fmt.Sprintf("%q: %s", r.Body.Name, why)}
	}
	labels := value(r.Body.Labels)
	if len(labels) > 0 {
		if err := a.checkLabels(ctx, &contract.MapEdit{Set: &labels}); err != nil {
			return nil, err
		}
	}
	if err := a.Membership.Approve(ctx, person(ctx), r.Id, r.Body.Name, labels, a.Links.Connected); err != nil {
		return nil, err
	}
	h, err := a.host(ctx, r.Body.Name)
	return contract.ApproveNewcomer200JSONResponse(h), err
}

// DenyNewcomer turns a newcomer away.
func (a *API) DenyNewcomer(
	ctx context.Context,
	r contract.DenyNewcomerRequestObject,
) (contract.DenyNewcomerResponseObject, error) {
	return contract.DenyNewcomer204Response{}, a.Membership.Deny(ctx, person(ctx), r.Id)
}
