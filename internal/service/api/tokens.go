package api

import (
	"context"
	"errors"
	"fmt"
	"time"

	"synaxis/internal/contract"
	"synaxis/internal/core/hostconfig"
	"synaxis/internal/core/inventory"
	"synaxis/internal/core/yamldoc"
	"synaxis/internal/service/join"
	"synaxis/internal/service/store"
)

func (a *API) token(t store.JoinToken) contract.JoinToken {
	state := contract.Valid
	switch {
	case !t.RevokedAt.IsZero():
		state = contract.Revoked
	case a.Now().After(t.ExpiresAt):
		state = contract.Expired
	case t.Uses > 0 && t.Used >= t.Uses:
		state = contract.UsedUp
	}
	return contract.JoinToken{
		Id:        t.ID,
		Labels:    t.Labels,
		CreatedAt: t.CreatedAt,
		CreatedBy: t.CreatedBy,
		ExpiresAt: t.ExpiresAt,
		Uses:      t.Uses,
		Used:      t.Used,
		Host:      optional(t.Host),
		Listed:    t.Listed,
		Reserved:  t.Reserved,
		RevokedAt: optional(t.RevokedAt),
		State:     state,
	}
}

// ListJoinTokens lists join tokens.
func (a *API) ListJoinTokens(
	ctx context.Context,
	_ contract.ListJoinTokensRequestObject,
) (contract.ListJoinTokensResponseObject, error) {
	list, err := a.Membership.JoinTokens(ctx)
	out := contract.ListJoinTokens200JSONResponse{Items: []contract.JoinToken{}}
	for _, t := range list {
		out.Items = append(out.Items, a.token(t))
	}
	return out, err
}

// CreateJoinToken makes a join token.
func (a *API) CreateJoinToken(
	ctx context.Context,
	r contract.CreateJoinTokenRequestObject,
) (contract.CreateJoinTokenResponseObject, error) {
	labels := value(r.Body.Labels)
	if labels == nil {
		labels = map[string]string{}
	}
	if len(labels) > 0 {
		if err := a.checkLabels(ctx, &contract.MapEdit{Set: &labels}); err != nil {
			return nil, err
		}
	}
	uses, lasts := 1, 24*time.Hour
	if r.Body.Uses != nil {
		uses = max(0, *r.Body.Uses)
	}
	if r.Body.Lasts != nil {
		d, err := yamldoc.ParseDuration(*r.Body.Lasts)
		if err != nil {
			return nil, usage{"lasts: " + err.Error()}
		}
		lasts = d
	}
	j := store.JoinToken{Labels: labels, Uses: uses, Host: value(r.Body.Host), Listed: value(r.Body.Listed)}
	switch {
	case j.Host != "" && inventory.CheckName(j.Host) != "":
		return nil, usage{fmt.Sprintf("host: %q: %s", j.Host, inventory.CheckName(j.Host))}
	case j.Host != "" && uses != 1:
		return nil, usage{"a token for one host has one use"}
	case j.Host != "" && j.Listed:
		return nil, usage{"a token is for one host, or for listed ones"}
	case j.Listed && len(labels) == 0:
		return nil, usage{"a token for listed hosts needs a label, by which it is told which of them it is for"}
	}
	t, text, err := a.Membership.CreateJoinToken(ctx, person(ctx), j, lasts)
	if err != nil {
		return nil, err
	}
	agent := fmt.Sprintf(
		"SYNAXIS_JOIN_TOKEN=%s synaxis-agent --service %s --state %s",
		text,
		a.base(ctx),
		hostconfig.AgentFolder,
	) + join.Named(
		t.Host,
	)
	if a.Join.Pin() != "" {
		agent += " --pin " + a.Join.Pin()
	}
	line, err := a.Join.Line(a.base(ctx), text, t.Host)
	if errors.Is(err, join.ErrNoAgent) { // there is a token all the same, for an agent that comes by another way
		line, err = agent, nil
	}
	return contract.CreateJoinToken201JSONResponse{
		Id:        t.ID,
		Token:     text,
		ExpiresAt: t.ExpiresAt,
		Command:   line,
		Agent:     agent,
	}, err
}

// RevokeJoinToken ends a join token.
func (a *API) RevokeJoinToken(
	ctx context.Context,
	r contract.RevokeJoinTokenRequestObject,
) (contract.RevokeJoinTokenResponseObject, error) {
	return contract.RevokeJoinToken204Response{}, a.Membership.RevokeJoinToken(ctx, person(ctx), r.Id)
}
