package api

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"synaxis/internal/contract"
	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/inventory"
	"synaxis/internal/core/render"
	"synaxis/internal/core/yamldoc"
	"synaxis/internal/service/changes"
	"synaxis/internal/service/secrets"
	"synaxis/internal/service/store"
)

// secretUse is who needs a secret.
type secretUse struct {
	definitions []string
	hosts       inventory.Set
}

// secretUses tells for each secret which definitions of the newest revision ask for it, and how many hosts get one of
// these.
func (a *API) secretUses(ctx context.Context) (map[string]*secretUse, error) {
	head, err := a.Changes.Head(ctx)
	if err != nil {
		return nil, err
	}
	out := map[string]*secretUse{}
	fleet := a.Desired.At(head)
	for _, d := range head.Catalogue.All() {
		for _, name := range d.SecretsOf() {
			u := out[name]
			if u == nil {
				u = &secretUse{hosts: fleet.Index.NewSet()}
				out[name] = u
			}
			u.definitions = append(u.definitions, d.ID.String())
			u.hosts.Or(reach(head.Catalogue, fleet, d, 0))
		}
	}
	return out, nil
}

// reach is the hosts that a definition comes to: those that it chooses, or those of what uses it.
func reach(cat *catalogue.Catalogue, fleet *render.Fleet, d *catalogue.Definition, depth int) inventory.Set {
	if s := fleet.Chosen(d.ID); s != nil {
		return s
	}
	out := fleet.Index.NewSet()
	if depth > 8 { // formats may name each other
		return out
	}
	for _, o := range cat.UsedBy(d.ID) {
		out.Or(reach(cat, fleet, o, depth+1))
	}
	return out
}

// secretsRun counts for each secret how many hosts run which version of it, by the configs that they report as
// effective.
func (a *API) secretsRun(ctx context.Context) (map[string]map[int]int, error) {
	byHash := map[string]int{}
	for _, v := range a.Hosts.All() {
		if v.Running != "" {
			byHash[v.Running]++
		}
	}
	out := map[string]map[int]int{}
	for hash, hosts := range byHash {
		ids, ok := a.secretsIn.Load(hash) // of a manifest, which never changes
		if !ok {
			m, err := a.Store.Manifest(ctx, hash)
			if errors.Is(err, store.ErrNotFound) {
				continue
			}
			if err != nil {
				return nil, err
			}
			ids, _ = a.secretsIn.LoadOrStore(hash, m.Secrets)
		}
		for _, id := range ids.([]string) {
			name, version, _ := strings.Cut(id, "@")
			n, err := strconv.Atoi(version)
			if err != nil {
				continue
			}
			if out[name] == nil {
				out[name] = map[int]int{}
			}
			out[name][n] += hosts
		}
	}
	return out, nil
}

func secretAnswer(s store.Secret, u *secretUse, run map[int]int, grants []store.Grant) contract.Secret {
	out := contract.Secret{
		Name:      s.Name,
		About:     s.About,
		Owner:     s.Owner,
		Version:   s.Version,
		CreatedAt: optional(s.CreatedAt),
		SetAt:     optional(s.SetAt),
		SetBy:     s.SetBy,
		ExpiresAt: optional(s.ExpiresAt),
		UsedBy:    []string{},
		OnHosts:   []contract.SecretVersionHosts{},
		Grants:    []contract.Grant{},
	}
	for _, version := range slices.Backward(slices.Sorted(maps.Keys(run))) {
		out.OnHosts = append(out.OnHosts, contract.SecretVersionHosts{Version: version, Hosts: run[version]})
	}
	if u != nil {
		out.UsedBy = append(out.UsedBy, u.definitions...)
		out.Hosts = u.hosts.Len()
	}
	for _, g := range grants {
		out.Grants = append(
			out.Grants,
			contract.Grant{
				Id:        g.ID,
				Who:       g.Who,
				CreatedAt: g.CreatedAt,
				CreatedBy: g.CreatedBy,
				ExpiresAt: g.ExpiresAt,
			},
		)
	}
	return out
}

// ListSecrets lists secrets, also those that definitions ask for and nobody has set.
func (a *API) ListSecrets(
	ctx context.Context,
	_ contract.ListSecretsRequestObject,
) (contract.ListSecretsResponseObject, error) {
	run, err := a.secretsRun(ctx)
	if err != nil {
		return nil, err
	}
	list, grants, err := a.Secrets.List(ctx)
	if err != nil {
		return nil, err
	}
	uses, err := a.secretUses(ctx)
	if err != nil {
		return nil, err
	}
	out := contract.ListSecrets200JSONResponse{Items: []contract.Secret{}}
	for _, s := range list {
		out.Items = append(out.Items, secretAnswer(s, uses[s.Name], run[s.Name], grants[s.Name]))
		delete(uses, s.Name)
	}
	for _, name := range slices.Sorted(maps.Keys(uses)) {
		out.Items = append(out.Items, secretAnswer(store.Secret{Name: name}, uses[name], nil, nil))
	}
	slices.SortStableFunc(out.Items, func(x, y contract.Secret) int { return strings.Compare(x.Name, y.Name) })
	return out, nil
}

// SetSecret sets a value, or says something else of a secret.
func (a *API) SetSecret(
	ctx context.Context,
	r contract.SetSecretRequestObject,
) (contract.SetSecretResponseObject, error) {
	if why := inventory.CheckKey(r.Secret); why != "" {
		return nil, usage{fmt.Sprintf("%q: %s", r.Secret, why)}
	}
	b := r.Body
	if err := errors.Join(oneLine("about", value(b.About), 1024), oneLine("owner", value(b.Owner), 100)); err != nil {
		return nil, err
	}
	if identity(ctx).Secret != "" && (b.About != nil || b.Owner != nil || b.Expires != nil || b.Value == nil) {
		return nil, notAllowed{"this token lets its holder set the value, and nothing else"}
	}
	if b.Value == nil && b.About == nil && b.Owner == nil && b.Expires == nil {
		return nil, usage{"give a value, about, owner or expires"}
	}
	var s store.Secret
	var err error
	if b.Value != nil {
		if *b.Value == "" || len(*b.Value) > secrets.MaxValue {
			return nil, usage{fmt.Sprintf("a secret has 1 to %d bytes", secrets.MaxValue)}
		}
		s, err = a.Secrets.Set(ctx, person(ctx), r.Secret, *b.Value, b.About, b.Owner, b.Expires)
	} else {
		s, err = a.Secrets.Describe(ctx, person(ctx), r.Secret, b.About, b.Owner, b.Expires)
	}
	if err != nil {
		return nil, err
	}
	if identity(ctx).Secret != "" { // who needs it is nothing that they need to know
		return contract.SetSecret200JSONResponse(
			secretAnswer(
				store.Secret{Name: s.Name, Version: s.Version, SetAt: s.SetAt, SetBy: s.SetBy},
				nil,
				nil,
				nil,
			),
		), nil
	}
	uses, err := a.secretUses(ctx)
	return contract.SetSecret200JSONResponse(secretAnswer(s, uses[s.Name], nil, nil)), err
}

// RemoveSecret removes a secret that nothing uses.
func (a *API) RemoveSecret(
	ctx context.Context,
	r contract.RemoveSecretRequestObject,
) (contract.RemoveSecretResponseObject, error) {
	uses, err := a.secretUses(ctx)
	if err != nil {
		return nil, err
	}
	if u := uses[r.Secret]; u != nil {
		if _, there := a.Secrets.Versions()[r.Secret]; there {
			return nil, changes.Conflict{
				Words: fmt.Sprintf(
					"the secret %s is used by %s; take it out there first",
					r.Secret,
					strings.Join(u.definitions, ", "),
				),
			}
		}
	}
	return contract.RemoveSecret204Response{}, a.Secrets.Remove(ctx, person(ctx), r.Secret)
}

// GrantSecret makes a token with which somebody may set one secret.
func (a *API) GrantSecret(
	ctx context.Context,
	r contract.GrantSecretRequestObject,
) (contract.GrantSecretResponseObject, error) {
	to := strings.TrimSpace(r.Body.To)
	if to == "" || inventory.CheckLine(to, 100) != "" {
		return nil, usage{"say in one line to whom it is given"}
	}
	lasts := 72 * time.Hour
	if r.Body.Lasts != nil {
		d, err := yamldoc.ParseDuration(*r.Body.Lasts)
		if err != nil || d <= 0 {
			return nil, usage{"lasts: expected a duration such as 72h"}
		}
		lasts = d
	}
	g, text, err := a.Secrets.Grant(ctx, person(ctx), r.Secret, to, lasts)
	if err != nil {
		return nil, err
	}
	return contract.GrantSecret201JSONResponse{
		Id:        g.ID,
		Token:     text,
		ExpiresAt: g.ExpiresAt,
		Url:       a.base(ctx) + "/give/" + r.Secret + "#" + text,
	}, nil
}

// RevokeGrant ends a grant.
func (a *API) RevokeGrant(
	ctx context.Context,
	r contract.RevokeGrantRequestObject,
) (contract.RevokeGrantResponseObject, error) {
	return contract.RevokeGrant204Response{}, a.Secrets.Revoke(ctx, person(ctx), r.Secret, r.Id)
}
