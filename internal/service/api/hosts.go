package api

import (
	"cmp"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"synaxis/internal/contract"
	"synaxis/internal/core/health"
	"synaxis/internal/core/hostconfig"
	"synaxis/internal/core/inventory"
	"synaxis/internal/core/render"
	"synaxis/internal/core/yamldoc"
	"synaxis/internal/service/hosts"
	"synaxis/internal/service/store"
)

func verdict(v health.Verdict) contract.Verdict {
	return contract.Verdict{
		State:  contract.State(v.State),
		Code:   optional(string(v.Code)),
		Reason: optional(v.Reason),
		Todo:   optional(v.Todo),
		Since:  optional(v.Since.UTC()),
		Until:  optional(v.Until.UTC()),
	}
}

func count(c *contract.Counts, state health.State, n int) {
	switch state {
	case health.Healthy:
		c.Healthy += n
	case health.Degraded:
		c.Degraded += n
	case health.Failing:
		c.Failing += n
	case health.Waiting:
		c.Waiting += n
	case health.Offline:
		c.Offline += n
	}
}

// assignedSources are the sources in the config that is assigned to a host.
func (a *API) assignedSources(ctx context.Context, v hosts.View) ([]string, error) {
	if v.Assigned.Hash == "" {
		return nil, nil
	}
	m, err := a.Store.Manifest(ctx, v.Assigned.Hash)
	if err != nil {
		return nil, err
	}
	return hostconfig.Names(m.Text, "source"), nil
}

// sources are what a host should run, and what it reports beyond that.
func (a *API) sources(v hosts.View, assigned []string) []contract.HostSource {
	now := a.Now()
	kept := a.Hosts.Health(v.Name)
	state := func(name string) contract.Verdict {
		if s, ok := kept.By[name]; ok {
			return verdict(s)
		}
		return verdict(v.SourceVerdict(name, now))
	}
	out := []contract.HostSource{}
	for _, name := range assigned {
		out = append(
			out,
			contract.HostSource{
				Name:     name,
				Assigned: true,
				Verdict:  state(name),
				Numbers:  numbers(v.Numbers[name]),
				Notes:    notes(v.Numbers[name]),
			},
		)
	}
	for name := range v.Components {
		if s, ok := strings.CutPrefix(name, "source/"); ok && !slices.Contains(assigned, s) {
			out = append(
				out,
				contract.HostSource{
					Name:    s,
					Verdict: state(s),
					Numbers: numbers(v.Numbers[s]),
					Notes:   notes(v.Numbers[s]),
				},
			)
		}
	}
	slices.SortFunc(out, func(x, y contract.HostSource) int { return strings.Compare(x.Name, y.Name) })
	return out
}

// pinned is the rollout that a host is pinned by, or nil.
func pinned(v *hosts.View) *int {
	if !v.Assigned.Pinned {
		return nil
	}
	return &v.Assigned.Rollout
}

func (a *API) summary(v *hosts.View, now time.Time) contract.HostSummary {
	j := a.Hosts.Health(v.Name)
	if !v.RetiredAt.IsZero() || j.Host.State == "" {
		j, _ = v.Judge(now)
	}
	out := contract.HostSummary{
		Name:         v.Name,
		Labels:       v.Labels,
		Connected:    v.Connected,
		LastSeen:     optional(v.LastSeen.UTC()),
		Revision:     v.Assigned.Revision,
		Pending:      optional(v.Pending),
		Pinned:       pinned(v),
		Read:         j.Read,
		Acknowledged: j.Acknowledged,
		Verdict:      verdict(j.Worst),
	}
	for state, n := range j.Sources {
		count(&out.Sources, state, n)
	}
	if j.LastRecord > 0 {
		t := time.Unix(0, j.LastRecord).UTC()
		out.LastRecord = &t
	}
	return out
}

// ListHosts lists hosts, a page at a time.
func (a *API) ListHosts(
	_ context.Context,
	r contract.ListHostsRequestObject,
) (contract.ListHostsResponseObject, error) {
	limit := 100
	if r.Params.Limit != nil {
		limit = min(max(*r.Params.Limit, 1), 1000)
	}
	var terms []inventory.Term
	for _, l := range value(r.Params.Label) {
		k, val, ok := strings.Cut(l, "=")
		if !ok {
			return nil, usage{fmt.Sprintf("label=%s: expected KEY=VALUE", l)}
		}
		terms = append(terms, inventory.Term{Key: k, Values: []string{val}})
	}
	sel := inventory.Selector{Terms: terms, All: len(terms) == 0}
	chosen := func(string) bool { return true }
	out := contract.ListHosts200JSONResponse{Items: []contract.HostSummary{}}
	hint := ""
	if text := value(r.Params.Hosts); text != "" {
		var err error
		if chosen, hint, err = a.choose(text, value(r.Params.Retired)); err != nil {
			return nil, err
		}
	} else if !sel.All {
		hint = a.Inventory.Index().Hint(sel)
	}
	if !sel.All && !value(r.Params.Retired) {
		x, also := a.Inventory.Index(), chosen
		set := x.Choose(sel)
		chosen = func(name string) bool { i, ok := x.Position(name); return ok && set.Has(i) && also(name) }
	}
	out.Hint = optional(hint)
	now, q := a.Now(), strings.ToLower(value(r.Params.Q))
	by := value(r.Params.Sort)
	order := hostOrder{string(by), value(r.Params.Reverse)}
	after, err := readCursor(value(r.Params.After), string(by))
	if err != nil {
		return nil, err
	}
	// A page shows few of many: what it is chosen and ordered by is kept, and a host is put together only to be shown.
	var rows []hostRow
	retired := value(r.Params.Retired)
	gone := map[string]hosts.View{}
	take := func(row store.Host, v *hosts.View) {
		if !chosen(row.Name) || q != "" && !strings.Contains(strings.ToLower(row.Name), q) {
			return
		}
		var kept hosts.Judgement
		if v == nil {
			kept = a.Hosts.Health(row.Name)
		} else {
			kept, _ = v.Judge(now)
			gone[row.Name] = *v
		}
		count(&out.States, kept.Worst.State, 1)
		if r.Params.State != nil && string(kept.Worst.State) != string(*r.Params.State) {
			return
		}
		out.Total++
		at := hostRow{Name: row.Name, Num: order.number(row.Name, kept, a.Hosts)}
		if after == nil || order.compare(at, *after) > 0 {
			rows = append(rows, at)
		}
	}
	if !retired {
		for _, row := range a.Inventory.All(false) {
			take(row, nil)
		}
	} else {
		former := a.Hosts.Former()
		for i := range former {
			former[i].Name += formerMark // another host has the name
		}
		for _, v := range append(a.Hosts.Retired(), former...) {
			if h := v.Inventory(); sel.Match(&h) {
				take(v.Host, &v)
			}
		}
	}
	slices.SortFunc(rows, order.compare)
	for i := range rows {
		if len(out.Items) == limit {
			next := rows[i-1].cursor(string(by))
			out.Next = &next
			break
		}
		v, ok := gone[rows[i].Name]
		if !ok {
			v, _ = a.Hosts.Get(rows[i].Name)
		}
		item := a.summary(&v, now)
		item.Name = strings.TrimSuffix(item.Name, formerMark)
		out.Items = append(out.Items, item)
	}
	return out, nil
}

// formerMark stands behind the name of a retired host whose name another one has, so that the two differ.
const formerMark = "\x00former"

// hostRow is a host with what it is ordered by.
type hostRow struct {
	Num  int64  `json:"n"`
	Name string `json:"name"`
}

// cursor is a place behind a row, for the next page.
func (r hostRow) cursor(by string) string {
	if by == "" || by == "name" {
		return r.Name
	}
	text, _ := json.Marshal(r) // numbers and texts always become JSON
	return base64.RawURLEncoding.EncodeToString(text)
}

func readCursor(text, by string) (*hostRow, error) {
	switch {
	case text == "":
		return nil, nil
	case by == "" || by == "name":
		return &hostRow{Name: text}, nil
	}
	raw, err := base64.RawURLEncoding.DecodeString(text)
	var row hostRow
	if err != nil || json.Unmarshal(raw, &row) != nil {
		return nil, usage{"after: this is no cursor of a list that is ordered by " + by}
	}
	return &row, nil
}

// hostOrder is by what hosts are ordered.
type hostOrder struct {
	by      string
	reverse bool
}

// number is what a host is ordered by: what comes first has the larger number, and of equals the lesser name.
func (o hostOrder) number(name string, kept hosts.Judgement, all *hosts.Hosts) int64 {
	switch o.by {
	case "state":
		return int64(health.Rank(kept.Worst.State))
	case "read":
		return kept.Read
	case "acknowledged":
		return kept.Acknowledged
	case "lastRecord":
		return kept.LastRecord
	case "revision", "lastSeen":
		v, _ := all.Get(name)
		if o.by == "revision" {
			return int64(v.Assigned.Revision)
		}
		if !v.LastSeen.IsZero() {
			return v.LastSeen.UnixNano()
		}
	}
	return 0
}

func (o hostOrder) compare(a, b hostRow) int {
	c := cmp.Or(cmp.Compare(b.Num, a.Num), strings.Compare(a.Name, b.Name))
	if o.reverse {
		return -c
	}
	return c
}

// chosen tells for a name whether it is chosen by what a person typed; without anything all are.
func (a *API) chosen(text string) (func(name string) bool, error) {
	if text == "" {
		return func(string) bool { return true }, nil
	}
	in, _, err := a.choose(text, false)
	return in, err
}

// choose reads what a person typed to choose hosts, and tells for a name whether it is chosen; hint names what no host
// has.
func (a *API) choose(text string, retired bool) (chosen func(name string) bool, hint string, err error) {
	sel, err := inventory.ParseSelector(text)
	if err != nil {
		return nil, "", usage{"hosts: " + err.Error()}
	}
	names := map[string]bool{}
	if retired {
		for _, v := range a.Hosts.Retired() {
			if h := v.Inventory(); sel.Match(&h) {
				names[v.Name] = true
			}
		}
	} else {
		x := a.Inventory.Index()
		x.Choose(sel).Each(func(i int) { names[x.Hosts[i].Name] = true })
		hint = x.Hint(sel)
	}
	return func(name string) bool { return names[name] }, hint, nil
}

func (a *API) host(ctx context.Context, name string) (contract.Host, error) {
	v, ok := a.Hosts.Get(name)
	if !ok {
		return contract.Host{}, a.noHost(name)
	}
	tagged(ctx, hostTag(v.Host))
	assigned, err := a.assignedSources(ctx, v)
	if err != nil {
		return contract.Host{}, err
	}
	out := contract.Host{
		Name:              v.Name,
		Id:                optional(v.UID),
		Verdict:           a.summary(&v, a.Now()).Verdict,
		Labels:            v.Labels,
		Settings:          v.Settings,
		EffectiveSettings: map[string]string{},
		Observed:          v.Observed,
		JoinedAt:          optional(v.JoinedAt),
		Connected:         v.Connected,
		Transport:         optional(v.Transport),
		LastSeen:          optional(v.LastSeen.UTC()),
		AgentVersion: optional(
			v.Version,
		),
		ConfigState:  optional(string(v.ConfigState)),
		ConfigReason: optional(v.ConfigReason),
		AssignedHash: optional(v.Assigned.Hash),
		RunningHash: optional(
			v.Running,
		),
		Revision:     v.Assigned.Revision,
		Pending:      optional(v.Pending),
		Pinned:       pinned(&v),
		Sources:      a.sources(v, assigned),
		Destinations: []contract.HostDestination{},
	}
	if out.Observed == nil {
		out.Observed = map[string]string{}
	}
	for name, c := range v.Components {
		if d, ok := strings.CutPrefix(name, "destination/"); ok {
			x := contract.HostDestination{Name: d, Since: optional(c.Since)}
			if c.Code != "" {
				x.Code, x.Reason, x.Todo = optional(string(c.Code)), optional(c.Reason), optional(health.Todo(c.Code))
			} else {
				x.Refusal = optional(c.Reason)
			}
			out.Destinations = append(out.Destinations, x)
		}
	}
	if share, known := v.CPUShare(); known {
		share = math.Round(share*1e4) / 1e4
		out.CpuShare = &share
	}
	slices.SortFunc(
		out.Destinations,
		func(x, y contract.HostDestination) int { return strings.Compare(x.Name, y.Name) },
	)
	if st, err := a.Changes.At(ctx, v.Assigned.Revision); err == nil {
		h := v.Inventory()
		out.EffectiveSettings, _ = st.Catalogue.Layers(&h, nil)
	}
	return out, nil
}

func (a *API) noHost(name string) error {
	var names []string
	for _, h := range a.Inventory.All(false) {
		names = append(names, h.Name)
	}
	hint := ""
	if near := yamldoc.Nearest(name, names); near != "" {
		hint = fmt.Sprintf("; did you mean %s?", near)
	}
	return store.Missingf("there is no host %s%s", name, hint)
}

// GetHost shows one host.
func (a *API) GetHost(ctx context.Context, r contract.GetHostRequestObject) (contract.GetHostResponseObject, error) {
	h, err := a.host(ctx, r.Host)
	return contract.GetHost200JSONResponse(h), err
}

func diff(lines []render.Line) []contract.DiffLine {
	out := []contract.DiffLine{}
	for _, l := range lines {
		out = append(out, contract.DiffLine{Op: contract.DiffLineOp(string(l.Op)), Text: l.Text})
	}
	return out
}

// GetHostConfig shows what a host is assigned, what it runs, and what it would be assigned now.
func (a *API) GetHostConfig(
	ctx context.Context,
	r contract.GetHostConfigRequestObject,
) (contract.GetHostConfigResponseObject, error) {
	v, ok := a.Hosts.Get(r.Host)
	if !ok {
		return nil, a.noHost(r.Host)
	}
	text := func(hash string) (string, error) {
		if hash == "" {
			return "", nil
		}
		m, err := a.Store.Manifest(ctx, hash)
		if errors.Is(err, store.ErrNotFound) {
			return "", nil
		}
		return m.Text, err
	}
	out := contract.GetHostConfig200JSONResponse{
		AssignedHash: optional(v.Assigned.Hash),
		RunningHash:  optional(v.Running),
		Pending:      optional(v.Pending),
		PendingDiff:  []contract.DiffLine{},
	}
	var err error
	if out.Assigned, err = text(v.Assigned.Hash); err != nil {
		return nil, err
	}
	if out.Running, err = text(v.Running); err != nil {
		return nil, err
	}
	if v.Effective != "" {
		out.Running = v.Effective
	}
	out.Same = v.Assigned.Hash != "" && out.Running == out.Assigned
	out.Diff = diff(render.Diff(out.Running, out.Assigned, 3))
	if v.Pending != "" {
		st, err := a.Changes.At(ctx, v.Assigned.Revision)
		if err != nil {
			return nil, err
		}
		if m := a.Desired.At(st).Host(v.Name); m != nil {
			out.PendingDiff = diff(render.Diff(out.Assigned, m.Text(), 3))
		}
	}
	return out, nil
}

func tagged(ctx context.Context, tag string) {
	if c, ok := ctx.(*gin.Context); ok {
		c.Header("ETag", `"`+tag+`"`)
	}
}

// ExplainHost tells why a host does or does not get a source, by the newest revision.
func (a *API) ExplainHost(
	ctx context.Context,
	r contract.ExplainHostRequestObject,
) (contract.ExplainHostResponseObject, error) {
	v, ok := a.Hosts.Get(r.Host)
	if !ok {
		return nil, a.noHost(r.Host)
	}
	st, err := a.Changes.Head(ctx)
	if err != nil {
		return nil, err
	}
	out := contract.ExplainHost200JSONResponse{
		Host:     r.Host,
		Source:   r.Source,
		Revision: st.Revision.Number,
		Lines:    []contract.ExplanationLine{},
	}
	var lines []render.Why
	h := v.Inventory()
	var can func(string) bool
	if h.Observed != nil {
		can = func(part string) bool { return slices.Contains(h.Observed.Parts, part) }
	}
	out.Gets, lines = render.Explain(a.Desired.Input(st), &h, r.Source, can)
	for _, l := range lines {
		out.Lines = append(out.Lines, contract.ExplanationLine{Holds: l.Holds, Text: l.Text})
	}
	assigned, err := a.assignedSources(ctx, v)
	if err != nil {
		return nil, err
	}
	if has := slices.Contains(assigned, r.Source); out.Gets && !has {
		out.Lines = append(
			out.Lines,
			contract.ExplanationLine{
				Text: fmt.Sprintf(
					"the config assigned to the host, of revision %d, does not have it yet; the next rollout brings it",
					v.Assigned.Revision,
				),
			},
		)
	} else if !out.Gets && has {
		out.Lines = append(out.Lines, contract.ExplanationLine{Text: fmt.Sprintf("the config assigned to the host, "+
			"of revision %d, still has it; the next rollout takes it away", v.Assigned.Revision)})
	}
	return out, nil
}
