package membership

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"synaxis/internal/core/inventory"
	"synaxis/internal/service/store"
)

// offerLasts is how long an agent has to use the credential that it was offered.
const offerLasts = 10 * time.Minute

// Request is what an agent says of itself when it asks to join.
type Request struct{ UID, Name, HostID, ServiceName, Origin string }

// Join lets an agent in under its name and makes it a credential, whose text goes to the agent only. Asking again
// before the credential was used gives a new one in its place.
func (m *Membership) Join(ctx context.Context, tokenID string, r Request) (string, error) {
	if why := inventory.CheckName(r.Name); why != "" {
		return "", Denied{fmt.Sprintf("the host name %q cannot be used: %s; start the agent with --name", r.Name, why)}
	}
	var credential string
	var knocks bool
	name := r.Name
	err := m.store.Update(ctx, func(t *store.Tx) (err error) {
		r.Name = name
		credential, knocks, err = m.join(t, tokenID, &r, m.now())
		return err
	})
	if knocks {
		if err := m.knock(ctx, r); err != nil {
			return "", err
		}
	}
	return credential, err
}

func (m *Membership) join(
	t *store.Tx,
	tokenID string,
	r *Request,
	now time.Time,
) (credential string, knocks bool, err error) {
	j, err := t.JoinToken(tokenID, now)
	if err != nil {
		return "", false, err
	}
	if err := usable(j, now); err != nil {
		return "", false, err
	}
	switch n, err := t.NewcomerOf(r.UID); {
	case errors.Is(err, store.ErrNotFound):
	case err != nil:
		return "", false, err
	case !n.DeniedAt.IsZero():
		return "", false, Denied{
			fmt.Sprintf(
				"this agent asked for the name of %s and was turned away at the desk; start it with another --name",
				r.Name,
			),
		}
	case n.Approved != "":
		r.Name = n.Approved
	}
	if other, err := t.HostOf(r.UID); err == nil && other.Name != r.Name {
		return "", false, Denied{
			fmt.Sprintf(
				"this agent has joined as %s; to let it join under another name, remove identity.json from its "+
					"state folder",
				other.Name,
			),
		}
	} else if err != nil && !errors.Is(err, store.ErrNotFound) {
		return "", false, err
	}
	mine, err := t.UsesToken(tokenID, r.UID, now)
	if err != nil {
		return "", false, err
	}
	if j.Uses > 0 && j.Used+j.Reserved >= j.Uses && !mine {
		return "", false, Denied{
			fmt.Sprintf(
				"the join token is used up: it was for %d hosts, and as many have joined; make a new one with: "+
					"synaxis join-token create",
				j.Uses,
			),
		}
	}
	have, err := t.Host(r.Name)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return "", false, err
	}
	used, err := t.UsedCredential(r.UID)
	if err != nil {
		return "", false, err
	}
	if denied, knocks := mayJoin(j, have, *r, used); denied.Words != "" {
		return "", knocks, denied
	}
	if !have.RetiredAt.IsZero() && have.UID != r.UID {
		if err := t.AddFormerHost(have); err != nil {
			return "", false, err
		}
	}
	h := admitted(have, *r, j.Labels, now)
	if err := t.PutHost(h); err != nil {
		return "", false, err
	}
	text, c := offerCredential(r.UID, tokenID, r.Name, now)
	return text, false, give(t, store.Person{Name: "join token " + j.ID, Origin: r.Origin}, c, h.Labels)
}

// give writes a credential, and in the audit that it was given.
func give(t *store.Tx, to store.Person, c store.Credential, labels map[string]string) error {
	if err := t.Audit(to, c.OfferedAt, "host join", c.Host, nil, map[string]any{"credential": c.ID,
		"labels": labels}); err != nil {
		return err
	}
	return t.PutCredential(c)
}

// mayJoin decides whether an agent may have the name that it asks for. A name that the desk knows stands for labels,
// settings and secrets, and what a machine says of itself proves nothing. So it takes a token that was made for this
// host, or one for listed hosts whose labels agree; an agent whose first answer was lost, so that it never used its
// credential, may ask again. denied is why not, with no words when it may; knock is whether the desk is asked. used
// tells whether the agent has ever used a credential.
func mayJoin(j store.JoinToken, have store.Host, r Request, used bool) (denied Denied, knock bool) {
	known, listed := have.Name != "", have.Name != "" && have.UID == "" && have.RetiredAt.IsZero()
	switch {
	case j.Host != "" && j.Host != r.Name && have.UID != r.UID:
		return Denied{
			fmt.Sprintf(
				"this join token is for the host %s, and the agent calls itself %s; start it with --name %s, or "+
					"make a token for it with: synaxis join-token create --host %s",
				j.Host,
				r.Name,
				j.Host,
				r.Name,
			),
		}, false
	case !known, have.UID == r.UID && have.RetiredAt.IsZero() && !used:
		return Denied{}, false
	case j.Host != r.Name && !(listed && j.Listed):
		how := "has joined"
		if listed {
			how = "is listed and waits for its agent"
		} else if !have.RetiredAt.IsZero() {
			how = "was retired"
		}
		return Denied{
			fmt.Sprintf(
				"the desk has a host named %s already, which %s, and this token was not made for it. Make one with: "+
					"synaxis join-token create --host %s; or approve this agent with: synaxis newcomer approve ID "+
					"%s; or start it with another --name",
				r.Name,
				how,
				r.Name,
				r.Name,
			),
		}, true
	case listed:
		for _, k := range slices.Sorted(maps.Keys(j.Labels)) {
			if v, has := have.Labels[k]; has && v != j.Labels[k] || !has && j.Host == "" {
				return Denied{
					fmt.Sprintf(
						"the host %s is listed with %s=%s, and the join token is for %s=%s; take a token whose "+
							"labels agree, or one made for it with: synaxis join-token create --host %s",
						r.Name,
						k,
						v,
						k,
						j.Labels[k],
						r.Name,
					),
				}, true
			}
		}
	}
	return Denied{}, false
}

// maxKnocks bounds the agents that ask for names that are in use, and maxKnocksFrom those from one address.
const (
	maxKnocks     = 500
	maxKnocksFrom = 20
)

// knock notes that an agent asks for a name that the desk knows, so that the desk can let it in.
func (m *Membership) knock(ctx context.Context, r Request) error {
	noted := false
	err := m.store.Update(ctx, func(t *store.Tx) error {
		noted = false
		n := store.Newcomer{
			ID:     newID("n"),
			UID:    r.UID,
			Host:   r.Name,
			HostID: r.HostID,
			Name:   r.Name,
			Origin: r.Origin,
			Since:  m.now(),
			Why:    "an agent asks for this name with a valid join token, which was not made for this host",
		}
		all, err := t.Newcomers()
		if err != nil {
			return err
		}
		knocks, near := 0, 0
		for _, o := range all {
			switch {
			case o.UID == r.UID:
				n.ID, n.Since, noted = o.ID, o.Since, true
			case o.Credential == "":
				knocks++
				if o.Origin == r.Origin {
					near++
				}
			}
		}
		if !noted && (knocks >= maxKnocks || near >= maxKnocksFrom) {
			return nil
		}
		noted = true
		return t.PutNewcomer(n)
	})
	if err == nil && noted {
		m.note("hosts")
	}
	return err
}

// admitted is a host as it is once an agent has joined under its name. What was said of it before stays.
func admitted(have store.Host, r Request, labels map[string]string, now time.Time) store.Host {
	h := store.Host{
		Name:        r.Name,
		UID:         r.UID,
		HostID:      r.HostID,
		ServiceName: r.ServiceName,
		JoinedAt:    now,
		Labels:      maps.Clone(labels),
		Settings:    map[string]string{},
	}
	if h.Labels == nil {
		h.Labels = map[string]string{}
	}
	if have.Name != "" {
		maps.Copy(h.Labels, have.Labels)
		h.Settings = have.Settings
		if have.UID == r.UID {
			h.JoinedAt = have.JoinedAt
		}
	}
	return h
}

// offerCredential makes a credential with its text.
func offerCredential(uid, token, host string, now time.Time) (string, store.Credential) {
	secret, hash := newSecret()
	c := store.Credential{
		ID:        newID("c"),
		Hash:      hash,
		UID:       uid,
		TokenID:   token,
		Host:      host,
		OfferedAt: now,
		OfferEnds: now.Add(offerLasts),
	}
	return c.ID + "." + secret, c
}

// Use notes the first use of a credential; earlier ones of the host end, and a newcomer has joined by it.
func (m *Membership) Use(ctx context.Context, id string) error {
	return m.store.Update(ctx, func(t *store.Tx) error {
		now := m.now()
		c, err := t.Credential(id)
		switch {
		case errors.Is(err, store.ErrNotFound):
			return Denied{
				"this agent's credential has ended; remove identity.json from its state folder and let it join again",
			}
		case err != nil || !c.UsedAt.IsZero():
			return err
		case now.After(c.OfferEnds):
			return Denied{
				"the credential was not used in time and has ended; the agent must join again: remove identity.json " +
					"from its state folder",
			}
		}
		if n, err := t.NewcomerOf(c.UID); err == nil {
			if err := t.RemoveNewcomer(n.ID); err != nil {
				return err
			}
		} else if !errors.Is(err, store.ErrNotFound) {
			return err
		}
		return t.UseCredential(c, now)
	})
}

// Emptied ends the credentials of a retired host whose agent says that it runs nothing any more.
func (m *Membership) Emptied(ctx context.Context, host, origin string) error {
	return m.store.Update(ctx, func(t *store.Tx) error {
		now := m.now()
		h, err := t.Host(host)
		if err != nil || h.RetiredAt.IsZero() { // it was brought back meanwhile
			return err
		}
		if err := t.EndCredentials(host, now); err != nil {
			return err
		}
		return t.Audit(store.Person{Name: "agent of " + host, Origin: origin}, now, "host emptied", host, nil, nil)
	})
}
