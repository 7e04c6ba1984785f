package api

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"maps"
	"slices"
	"strings"

	"synaxis/internal/contract"
	"synaxis/internal/core/wire"
	"synaxis/internal/service/rollouts"
	"synaxis/internal/service/store"
)

// RunPreflight lets hosts rehearse a draft or revision, and keeps what they found.
func (a *API) RunPreflight(
	ctx context.Context, r contract.RunPreflightRequestObject,
) (contract.RunPreflightResponseObject, error) {
	draft, revision := value(r.Body.Draft), value(r.Body.Revision)
	if draft != 0 && revision != 0 {
		return nil, usage{"a preflight is of a draft or of a revision, not of both"}
	}
	names, err := a.rehearsing(ctx, draft, value(r.Body.Hosts))
	if err != nil {
		return nil, err
	}
	if wave := value(r.Body.Wave); wave > 0 {
		asked := rollouts.Request{Revision: revision}
		if draft != 0 {
			if asked.Draft, err = a.Changes.After(ctx, draft); err != nil {
				return nil, err
			}
		}
		p, _, err := a.Rollouts.Preview(ctx, person(ctx), asked)
		if err != nil {
			return nil, err
		}
		in := map[string]bool{}
		for _, t := range p.Targets {
			in[t.Host] = t.Wave == wave-1 && t.Running != t.Hash
		}
		names = slices.DeleteFunc(names, func(n string) bool { return !in[n] })
	}
	var configs map[string]string
	if draft != 0 {
		configs, err = a.Changes.Configs(ctx, draft, names)
	} else {
		if revision == 0 {
			head, err := a.Changes.Head(ctx)
			if err != nil {
				return nil, err
			}
			revision = head.Revision.Number
		}
		configs, err = a.Changes.ConfigsAt(ctx, revision, names)
	}
	if err != nil {
		return nil, err
	}
	out := a.rehearse(ctx, configs, value(r.Body.SendTest))
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	out.Draft, out.Revision = optional(draft), optional(revision)
	out.At, out.By = a.Now().UTC(), person(ctx).Name
	text, err := json.Marshal(out)
	if err != nil {
		return nil, err
	}
	err = a.Store.Update(ctx, func(t *store.Tx) error {
		return t.PutPreflight(store.Preflight{Draft: draft, Revision: revision, At: out.At, Author: out.By,
			Result: string(text)})
	})
	return contract.RunPreflight200JSONResponse(out), err
}

// GetPreflight is what the last preflight found.
func (a *API) GetPreflight(
	ctx context.Context, r contract.GetPreflightRequestObject,
) (contract.GetPreflightResponseObject, error) {
	p, err := a.Store.Preflight(ctx, value(r.Params.Draft), value(r.Params.Revision))
	if errors.Is(err, store.ErrNotFound) {
		return nil, store.Missingf("no preflight was run of it yet")
	}
	if err != nil {
		return nil, err
	}
	var out contract.Preflight
	if err := json.Unmarshal([]byte(p.Result), &out); err != nil {
		return nil, err
	}
	return contract.GetPreflight200JSONResponse(out), nil
}

// rehearsing are the hosts that rehearse: those that are chosen, or that a draft changes, or all.
func (a *API) rehearsing(ctx context.Context, draft int, choice string) (names []string, err error) {
	chosen, err := a.chosen(choice)
	if err != nil {
		return nil, err
	}
	changes := map[string]bool{}
	if draft != 0 {
		d, err := a.Changes.Draft(ctx, draft)
		if err != nil {
			return nil, err
		}
		impact, err := a.Changes.Impact(ctx, d)
		if err != nil {
			return nil, err
		}
		for _, g := range impact.Groups {
			for _, name := range g.Hosts {
				changes[name] = true
			}
		}
	}
	for _, row := range a.Inventory.All(false) {
		if row.UID != "" && chosen(row.Name) && (draft == 0 || choice != "" || changes[row.Name]) {
			names = append(names, row.Name)
		}
	}
	return names, nil
}

// pathExamples is how many paths are told of a group.
const pathExamples = 3

// rehearse asks hosts, and groups what they found in the same way.
func (a *API) rehearse(ctx context.Context, configs map[string]string, sendTest bool) contract.Preflight {
	out := contract.Preflight{Groups: []contract.PreflightGroup{}, Silent: []contract.SilentHost{}}
	type key struct{ kind, name, level, code, words string }
	groups := map[key]*contract.PreflightGroup{}
	who := person(ctx)
	eachHost(slices.Sorted(maps.Keys(configs)),
		func(host string) ([]wire.Tried, error) {
			return a.Agents.Preflight(ctx, who, host, configs[host], sendTest)
		}, func(host string, tried []wire.Tried, err error) {
			if err != nil {
				out.Silent = append(out.Silent, contract.SilentHost{Host: host, Reason: err.Error()})
				return
			}
			out.Hosts++
			fine := true
			for _, t := range tried {
				fine = fine && t.Level == wire.TryFine
				name, path, _ := strings.Cut(t.Name, " ")
				k := key{t.Kind, name, t.Level, t.Code, t.Words}
				g := groups[k]
				if g == nil {
					g = &contract.PreflightGroup{Kind: t.Kind, Name: name, Level: t.Level, Code: optional(t.Code),
						Words: t.Words, Todo: optional(t.Todo), Examples: []string{}}
					groups[k] = g
				}
				if n := len(g.Hosts); n == 0 || g.Hosts[n-1] != host {
					g.Hosts = append(g.Hosts, host)
				}
				if path != "" && len(g.Examples) < pathExamples && !slices.Contains(g.Examples, path) {
					g.Examples = append(g.Examples, path)
				}
				g.Files = optional(value(g.Files) + t.Files)
				g.Bytes = optional(value(g.Bytes) + t.Bytes)
				if !t.Newest.IsZero() && (g.Newest == nil || t.Newest.After(*g.Newest)) {
					newest := t.Newest.UTC()
					g.Newest = &newest
				}
			}
			if fine {
				out.Fine++
			}
		})
	for _, g := range groups {
		slices.Sort(g.Hosts)
		slices.Sort(g.Examples)
		out.Groups = append(out.Groups, *g)
	}
	rank := map[string]int{wire.TryTrouble: 0, wire.TryNote: 1, wire.TryFine: 2}
	slices.SortFunc(out.Groups, func(a, b contract.PreflightGroup) int {
		return cmp.Or(cmp.Compare(rank[a.Level], rank[b.Level]), cmp.Compare(len(b.Hosts), len(a.Hosts)),
			strings.Compare(a.Kind, b.Kind), strings.Compare(a.Name, b.Name), strings.Compare(a.Words, b.Words))
	})
	slices.SortFunc(out.Silent, func(a, b contract.SilentHost) int { return strings.Compare(a.Host, b.Host) })
	return out
}
