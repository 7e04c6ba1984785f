package api

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strings"

	"synaxis/internal/contract"
	"synaxis/internal/core/inventory"
	"synaxis/internal/service/changes"
	"synaxis/internal/service/store"
)

func checkEdit(b *contract.MapEdit) error {
	if b == nil || b.Set == nil && b.Remove == nil {
		return usage{"say what to set or to remove"}
	}
	for k, v := range value(b.Set) {
		if why := inventory.CheckValue(k, v); why != "" {
			return usage{why}
		}
	}
	return nil
}

// checkLabels holds an edit of labels against the vocabulary of the newest revision.
func (a *API) checkLabels(ctx context.Context, b *contract.MapEdit) error {
	if err := checkEdit(b); err != nil {
		return err
	}
	head, err := a.Changes.Head(ctx)
	if err != nil {
		return err
	}
	if why := head.Catalogue.CheckLabels(value(b.Set), false); why != "" {
		return usage{why}
	}
	for _, k := range value(b.Remove) {
		if head.Catalogue.RequiredLabel(k) {
			return usage{fmt.Sprintf("the label %s is required by label-key %s; set it to another value", k, k)}
		}
	}
	return nil
}

// hostTag names the labels and settings of a host.
func hostTag(h store.Host) string {
	text, _ := json.Marshal([]any{h.Labels, h.Settings}) // maps of texts, with ordered keys
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:12])
}

func (a *API) edit(ctx context.Context, name, what string, match *string, b *contract.MapEdit) (contract.Host, error) {
	if _, ok := a.Hosts.Get(name); !ok {
		return contract.Host{}, a.noHost(name)
	}
	check := checkEdit
	if what == "labels" {
		check = func(b *contract.MapEdit) error { return a.checkLabels(ctx, b) }
	}
	if err := check(b); err != nil {
		return contract.Host{}, err
	}
	may := func(h store.Host) error {
		if m := strings.Trim(value(match), `"`); m != "" && m != hostTag(h) {
			return changes.Stale{
				Words: fmt.Sprintf(
					"the labels or settings of %s were changed since you read them; read them again",
					name,
				),
			}
		}
		return nil
	}
	if err := a.Inventory.Edit(ctx, person(ctx), name, what, value(b.Set), value(b.Remove), may); err != nil {
		return contract.Host{}, err
	}
	return a.host(ctx, name)
}

// EditHostLabels changes labels.
func (a *API) EditHostLabels(
	ctx context.Context,
	r contract.EditHostLabelsRequestObject,
) (contract.EditHostLabelsResponseObject, error) {
	h, err := a.edit(ctx, r.Host, "labels", r.Params.IfMatch, r.Body)
	return contract.EditHostLabels200JSONResponse(h), err
}

// EditHostSettings changes settings.
func (a *API) EditHostSettings(
	ctx context.Context,
	r contract.EditHostSettingsRequestObject,
) (contract.EditHostSettingsResponseObject, error) {
	h, err := a.edit(ctx, r.Host, "settings", r.Params.IfMatch, r.Body)
	return contract.EditHostSettings200JSONResponse(h), err
}

// RetireHost takes a host out of the fleet.
func (a *API) RetireHost(
	ctx context.Context,
	r contract.RetireHostRequestObject,
) (contract.RetireHostResponseObject, error) {
	if _, ok := a.Hosts.Get(r.Host); !ok {
		return nil, a.noHost(r.Host)
	}
	if err := a.Inventory.Retire(ctx, person(ctx), r.Host); err != nil {
		return nil, err
	}
	h, err := a.host(ctx, r.Host)
	return contract.RetireHost200JSONResponse(h), err
}
