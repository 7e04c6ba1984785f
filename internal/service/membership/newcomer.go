package membership

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"synaxis/internal/core/inventory"
	"synaxis/internal/service/store"
)

// A machine that was copied brings the identity of the one that it was copied from. The one that came later gets a uid
// of its own and waits until a person has approved it.

// TellApart gives the copy of an agent a uid of its own, and answers it. Until it calls with that, it is nobody. r.UID
// is the uid that it is given if it is new here: a copy that was told apart and starts from the same image again is
// still the same one.
func (m *Membership) TellApart(ctx context.Context, credential, host, why string, r Request) (uid string, err error) {
	err = m.store.Update(ctx, func(t *store.Tx) error {
		n := store.Newcomer{
			ID:         newID("n"),
			UID:        r.UID,
			Credential: credential,
			Host:       host,
			HostID:     r.HostID,
			Name:       r.Name,
			Origin:     r.Origin,
			Why:        why,
			Since:      m.now(),
		}
		all, err := t.Newcomers()
		if err != nil {
			return err
		}
		waits := "" // one newcomer of a credential waits at a time
		for _, old := range all {
			if old.Credential == credential && old.HostID != "" && old.HostID == n.HostID {
				n.ID, n.UID, n.Since, n.DeniedAt, n.Approved, waits = old.ID, old.UID, old.Since, old.DeniedAt,
					old.Approved, ""
				break
			}
			if old.Credential == credential && old.DeniedAt.IsZero() && old.Approved == "" {
				waits = old.ID
			}
		}
		if waits != "" {
			return Denied{
				fmt.Sprintf(
					"this agent carries the identity of %s, and another copy of it waits for approval at the desk "+
						"(%s); "+
						"this one is told apart once that one is approved or denied",
					host,
					waits,
				),
			}
		}
		uid = n.UID
		return t.PutNewcomer(n)
	})
	if err == nil {
		m.log.Warn("an agent carries the identity of another host and waits for approval", "host", host, "why", why)
		m.note("hosts")
	}
	return uid, err
}

// TakeNewcomer handles a message of an agent that was given a uid of its own and still has another's credential. Once
// it is approved, it answers the agent's own credential. named tells whether r has what the agent says of itself.
func (m *Membership) TakeNewcomer(
	ctx context.Context,
	credential string,
	r Request,
	named bool,
) (text string, err error) {
	m.mu.RLock()
	n, known := m.newcomers[r.UID]
	m.mu.RUnlock()
	if known && n.Credential == credential && n.DeniedAt.IsZero() && n.Approved == "" &&
		(!named || n.Name == r.Name && n.Origin == r.Origin) {
		return "", nil // as it was
	}
	err = m.store.Update(ctx, func(t *store.Tx) error {
		n, err := t.NewcomerOf(r.UID)
		switch {
		case errors.Is(err, store.ErrNotFound), err == nil && n.Credential != credential:
			return Denied{
				"this credential belongs to another agent: state folders must not be copied between hosts; remove " +
					"identity.json and join anew",
			}
		case err != nil:
			return err
		case !n.DeniedAt.IsZero():
			return Denied{
				fmt.Sprintf("this agent came with a copy of the identity of %s and was turned away at the desk; "+
					"to let it join, remove identity.json from its state folder and give it a join token", n.Host),
			}
		}
		if named && (n.Name != r.Name || n.Origin != r.Origin) {
			n.Name, n.HostID, n.Origin = r.Name, r.HostID, r.Origin
			if err := t.PutNewcomer(n); err != nil {
				return err
			}
		}
		if n.Approved == "" {
			return nil
		}
		have, err := t.Host(n.Approved)
		if err != nil {
			return err
		}
		var c store.Credential
		text, c = offerCredential(r.UID, "", n.Approved, m.now())
		return give(t, store.Person{Name: "newcomer " + n.ID, Origin: r.Origin}, c, have.Labels)
	})
	if err == nil {
		m.note("hosts")
	}
	return text, err
}

// Newcomers lists the agents that wait for approval, oldest first.
func (m *Membership) Newcomers() []store.Newcomer {
	m.mu.RLock()
	defer m.mu.RUnlock()
	var out []store.Newcomer
	for _, n := range m.newcomers {
		if n.DeniedAt.IsZero() && n.Approved == "" {
			out = append(out, n)
		}
	}
	slices.SortFunc(out, func(a, b store.Newcomer) int {
		if c := a.Since.Compare(b.Since); c != 0 {
			return c
		}
		return strings.Compare(a.ID, b.ID)
	})
	return out
}

// waiting reads a newcomer that waits inside a change.
func waiting(t *store.Tx, id string) (store.Newcomer, error) {
	n, err := t.Newcomer(id)
	if errors.Is(err, store.ErrNotFound) || err == nil && (!n.DeniedAt.IsZero() || n.Approved != "") {
		err = store.Missingf("no newcomer %s waits; synaxis newcomer list shows those that do", id)
	}
	return n, err
}

// Approve lets a newcomer join under a name. That of another host can only be taken while that one is away, which
// connected tells of a uid: the newcomer then is that host.
func (m *Membership) Approve(
	ctx context.Context,
	who store.Person,
	id, name string,
	labels map[string]string,
	connected func(uid string) bool,
) error {
	if why := inventory.CheckName(name); why != "" {
		return Denied{fmt.Sprintf("%q: %s", name, why)}
	}
	return m.store.Update(ctx, func(t *store.Tx) error {
		n, err := waiting(t, id)
		if err != nil {
			return err
		}
		have, err := t.Host(name)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if have.UID != "" && have.RetiredAt.IsZero() && connected(have.UID) {
			return Denied{
				fmt.Sprintf("%s is connected; choose another name for the newcomer, or retire %s first", name, name),
			}
		}
		now := m.now()
		n.Approved = name
		if !have.RetiredAt.IsZero() && have.UID != n.UID {
			if err := t.AddFormerHost(have); err != nil {
				return err
			}
		}
		h := admitted(have, Request{UID: n.UID, Name: name, HostID: n.HostID}, labels, now)
		maps.Copy(h.Labels, labels)
		if err := t.PutHost(h); err != nil {
			return err
		}
		if err := t.PutNewcomer(n); err != nil {
			return err
		}
		return t.Audit(
			who,
			now,
			"newcomer approve",
			id,
			map[string]string{"identityOf": n.Host, "origin": n.Origin},
			map[string]any{"host": name, "labels": h.Labels},
		)
	})
}

// Deny turns a newcomer away.
func (m *Membership) Deny(ctx context.Context, who store.Person, id string) error {
	err := m.store.Update(ctx, func(t *store.Tx) error {
		n, err := waiting(t, id)
		if err != nil {
			return err
		}
		n.DeniedAt = m.now()
		if err := t.PutNewcomer(n); err != nil {
			return err
		}
		return t.Audit(
			who,
			n.DeniedAt,
			"newcomer deny",
			id,
			map[string]string{"identityOf": n.Host, "origin": n.Origin},
			nil,
		)
	})
	if err == nil {
		m.note("hosts")
	}
	return err
}
