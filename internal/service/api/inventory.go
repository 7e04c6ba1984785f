package api

import (
	"context"
	"errors"
	"slices"

	"synaxis/internal/contract"
	"synaxis/internal/core/check"
	"synaxis/internal/core/inventory"
	"synaxis/internal/core/yamldoc"
	"synaxis/internal/service/changes"
)

// EditHosts changes labels and settings of many hosts.
func (a *API) EditHosts(
	ctx context.Context,
	r contract.EditHostsRequestObject,
) (contract.EditHostsResponseObject, error) {
	b := r.Body
	if b.Labels == nil && b.Settings == nil {
		return nil, usage{"say which labels or settings to set or to remove"}
	}
	if b.Labels != nil {
		if err := a.checkLabels(ctx, b.Labels); err != nil {
			return nil, err
		}
	}
	if b.Settings != nil {
		if err := checkEdit(b.Settings); err != nil {
			return nil, err
		}
	}
	var hosts []inventory.Host
	hint := ""
	x := a.Inventory.Index()
	if b.Names != nil {
		wanted := map[string]bool{}
		for _, n := range *b.Names {
			wanted[n] = true
		}
		for _, h := range x.Hosts {
			if wanted[h.Name] {
				hosts = append(hosts, h)
				delete(wanted, h.Name)
			}
		}
		for n := range wanted {
			return nil, a.noHost(n)
		}
	} else {
		sel, err := inventory.ParseSelector(b.Hosts)
		if err != nil {
			return nil, usage{"hosts: " + err.Error()}
		}
		x.Choose(sel).Each(func(i int) { hosts = append(hosts, x.Hosts[i]) })
		hint = x.Hint(sel)
	}
	values := func(m *contract.MapEdit) (v inventory.Values) {
		if m != nil {
			v = inventory.Values{Set: value(m.Set), Remove: value(m.Remove)}
		}
		return v
	}
	all := inventory.EditAll(hosts, values(b.Labels), values(b.Settings))
	out := contract.EditHosts200JSONResponse{
		DryRun:  value(b.DryRun),
		Chosen:  len(hosts),
		Hint:    optional(hint),
		Changes: []contract.ImportChange{},
	}
	for _, c := range all {
		if c.What != "same" {
			out.Changes = append(out.Changes, importChange(c))
		}
	}
	out.Changed = len(out.Changes)
	if out.DryRun {
		effects, err := a.effects(ctx, hosts, all)
		out.Effects = &effects
		return out, err
	}
	if out.Changed == 0 {
		return out, nil
	}
	return out, a.Inventory.Change(ctx, person(ctx), "host edit", all)
}

// effects tells what an edit would do to the configs of hosts.
func (a *API) effects(
	ctx context.Context, hosts []inventory.Host, all []inventory.Change,
) ([]contract.HostsEffect, error) {
	edits := map[string]inventory.Change{}
	for _, c := range all {
		edits[c.Host] = c
	}
	after := slices.Clone(hosts)
	for i := range after {
		c := edits[after[i].Name]
		after[i].Labels = inventory.Apply(after[i].Labels, c.Labels)
		after[i].Settings = inventory.Apply(after[i].Settings, c.Settings)
	}
	list, err := a.Desired.Effects(ctx, hosts, after)
	out := []contract.HostsEffect{}
	texts := func(l []string) []string { return append([]string{}, l...) }
	for _, e := range list {
		out = append(out, contract.HostsEffect{Hosts: e.Hosts, Gains: texts(e.Gains), Loses: texts(e.Loses),
			Changes: texts(e.Others), Only: e.Only})
	}
	return out, err
}

func importChange(c inventory.Change) contract.ImportChange {
	return contract.ImportChange{
		Host:     c.Host,
		What:     contract.ImportChangeWhat(c.What),
		Labels:   valueEdits(c.Labels),
		Settings: valueEdits(c.Settings),
	}
}

// ExportInventory lists every host with its labels and settings.
func (a *API) ExportInventory(
	context.Context,
	contract.ExportInventoryRequestObject,
) (contract.ExportInventoryResponseObject, error) {
	out := contract.ExportInventory200JSONResponse{Items: []contract.InventoryHost{}}
	for _, v := range a.Hosts.All() {
		out.Items = append(out.Items, contract.InventoryHost{Host: v.Name, Labels: v.Labels, Settings: v.Settings})
	}
	return out, nil
}

// ImportInventory takes a list of hosts, or tells what it would change.
func (a *API) ImportInventory(
	ctx context.Context,
	r contract.ImportInventoryRequestObject,
) (contract.ImportInventoryResponseObject, error) {
	list, problems := inventory.ParseList(r.Body.File, []byte(r.Body.Text))
	if len(problems) > 0 {
		return nil, changes.Rejected{Findings: check.FromProblems(problems)}
	}
	if problems, err := a.outside(ctx, r.Body.File, list); err != nil || len(problems) > 0 {
		return nil, errors.Join(err, changes.Rejected{Findings: check.FromProblems(problems)})
	}
	out := contract.ImportInventory200JSONResponse{DryRun: value(r.Body.DryRun), Changes: []contract.ImportChange{}}
	all := inventory.Compare(a.Inventory.Index().Hosts, list)
	for _, c := range all {
		switch c.What {
		case "added":
			out.Added++
		case "changed":
			out.Changed++
		default:
			out.Same++
			continue
		}
		out.Changes = append(out.Changes, importChange(c))
	}
	if out.DryRun {
		return out, nil
	}
	return out, a.Inventory.Change(ctx, person(ctx), "host import", all)
}

// outside finds entries of a list whose labels are outside the vocabulary.
func (a *API) outside(ctx context.Context, file string, list []inventory.Entry) ([]yamldoc.Problem, error) {
	head, err := a.Changes.Head(ctx)
	if err != nil {
		return nil, err
	}
	r := &yamldoc.Reader{File: file}
	for _, e := range list {
		_, known := a.Hosts.Get(e.Host)
		if why := head.Catalogue.CheckLabels(e.Labels, !known); why != "" {
			r.FailAt(e.Line, 1, "label-outside", e.Host+": "+why, "")
		}
	}
	return r.Problems, nil
}

func valueEdits(list []inventory.Edit) []contract.ValueEdit {
	out := []contract.ValueEdit{}
	for _, e := range list {
		out = append(
			out,
			contract.ValueEdit{Key: e.Key, Before: e.Before, After: e.After, Removed: optional(e.Removed)},
		)
	}
	return out
}
