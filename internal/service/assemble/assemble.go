// Package assemble builds the owners of the service's facts over a store, each from those that it asks. The order is
// that of the followers of a commit too: who is asked hears of it first.
package assemble

import (
	"context"
	"log/slog"
	"time"

	"synaxis/internal/service/agents"
	"synaxis/internal/service/certificates"
	"synaxis/internal/service/changes"
	"synaxis/internal/service/desired"
	"synaxis/internal/service/hosts"
	"synaxis/internal/service/inventory"
	"synaxis/internal/service/links"
	"synaxis/internal/service/membership"
	"synaxis/internal/service/notices"
	"synaxis/internal/service/numbers"
	"synaxis/internal/service/reports"
	"synaxis/internal/service/revisions"
	"synaxis/internal/service/rollouts"
	"synaxis/internal/service/secrets"
	"synaxis/internal/service/store"
)

// World is what the owners need of the outside.
type World struct {
	Data string // the folder of the sealing key
	Log  *slog.Logger
	Now  func() time.Time
	Note func(topic string) // called when something changed that a page may show
}

// Owners are all of them.
type Owners struct {
	Store      *store.Store
	Numbers    *numbers.Numbers
	Reports    *reports.Reports
	Inventory  *inventory.Inventory
	Membership *membership.Membership
	Secrets    *secrets.Secrets
	Revisions  *revisions.Revisions
	Desired    *desired.Desired
	Links      *links.Links
	Hosts      *hosts.Hosts
	Changes    *changes.Service
	Queue      *rollouts.Queue
	Rollouts   *rollouts.Driver
	Agents     *agents.Agents
	Notices    *notices.Notices
	Authority  *certificates.Authority
}

// New builds them.
func New(ctx context.Context, st *store.Store, w World) (o *Owners, err error) {
	o = &Owners{Store: st, Authority: certificates.New(w.Data, w.Now), Queue: rollouts.NewQueue(),
		Links: links.New(w.Now), Revisions: revisions.New(st)}
	if o.Numbers, err = numbers.New(ctx, st, w.Log, w.Now); err != nil {
		return nil, err
	}
	if o.Reports, err = reports.New(ctx, st, o.Numbers, w.Log, w.Now, w.Note); err != nil {
		return nil, err
	}
	if o.Inventory, err = inventory.New(ctx, st, o.Reports, w.Now, w.Note); err != nil {
		return nil, err
	}
	o.Numbers.Labels(func(host string) map[string]string {
		row, _ := o.Inventory.Get(host)
		return row.Labels
	})
	if o.Membership, err = membership.New(ctx, st, w.Log, w.Now, w.Note); err != nil {
		return nil, err
	}
	if o.Secrets, err = secrets.Open(ctx, st, w.Data, w.Now, w.Note); err != nil {
		return nil, err
	}
	if o.Desired, err = desired.New(ctx, st, o.Inventory, o.Secrets, o.Revisions, w.Log); err != nil {
		return nil, err
	}
	o.Hosts = hosts.New(st, o.Inventory, o.Reports, o.Links, o.Desired, o.Revisions, w.Log, w.Now)
	o.Changes = changes.New(st, o.Revisions, o.Desired, o.Hosts, w.Now, w.Note)
	if o.Rollouts, err = rollouts.New(ctx, st, o.Hosts, o.Links, o.Desired, o.Queue, o.Revisions, o.Reports, w.Log,
		w.Now,
		w.Note); err != nil {
		return nil, err
	}
	if o.Notices, err = notices.New(ctx, st, o.Hosts, o.Revisions, o.Secrets, w.Log, w.Now, w.Note); err != nil {
		return nil, err
	}
	o.Agents = agents.New(
		agents.Parts{
			Store:      st,
			Inventory:  o.Inventory,
			Membership: o.Membership,
			Links:      o.Links,
			Reports:    o.Reports,
			Hosts:      o.Hosts,
			Rollouts:   o.Queue,
			Secrets:    o.Secrets,
			Authority:  o.Authority,
			Log:        w.Log,
			Now:        w.Now,
			Note:       w.Note,
		},
	)
	return o, nil
}
