package agents

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"maps"
	"strings"
	"time"

	"synaxis/internal/core/inventory"
	"synaxis/internal/service/store"
)

// Secrets have the form ID.SECRET: the id finds the row, and of the secret only the SHA-256 is kept.

// newSecret makes 256 random bits.
func newSecret() (secret string, hash []byte) {
	var b [32]byte
	_, _ = rand.Read(b[:])
	secret = base64.RawURLEncoding.EncodeToString(b[:])
	sum := sha256.Sum256([]byte(secret))
	return secret, sum[:]
}

func newID(prefix string) string {
	var b [6]byte
	_, _ = rand.Read(b[:])
	return fmt.Sprintf("%s%x", prefix, b)
}

func matches(hash []byte, secret string) bool {
	sum := sha256.Sum256([]byte(secret))
	return subtle.ConstantTimeCompare(hash, sum[:]) == 1
}

// Denied is why an agent is not let in, in words for the person at the host.
type Denied struct{ Words string }

func (d Denied) Error() string { return d.Words }

// offerLasts is how long an agent has to use the credential that it was offered.
const offerLasts = 10 * time.Minute

// CreateJoinToken makes a token; its text is given once and never again.
func (f *Fleet) CreateJoinToken(ctx context.Context, who store.Person, labels map[string]string, uses int, lasts time.Duration) (store.JoinToken, string, error) {
	secret, hash := newSecret()
	now := f.now()
	j := store.JoinToken{ID: newID("j"), Hash: hash, Labels: labels, CreatedAt: now, CreatedBy: who.Name, ExpiresAt: now.Add(lasts), Uses: uses}
	err := f.store.Update(ctx, func(t *store.Tx) error {
		if err := t.PutJoinToken(j); err != nil {
			return err
		}
		return t.Audit(who, now, "join-token create", j.ID, nil, map[string]any{"labels": labels, "uses": uses, "expires": j.ExpiresAt})
	})
	return j, j.ID + "." + secret, err
}

// JoinTokens lists the tokens.
func (f *Fleet) JoinTokens(ctx context.Context) ([]store.JoinToken, error) {
	return f.store.JoinTokens(ctx, f.now())
}

// RevokeJoinToken ends a token. Agents that have joined by it stay.
func (f *Fleet) RevokeJoinToken(ctx context.Context, who store.Person, id string) error {
	j, err := f.joinToken(ctx, id)
	if err != nil {
		return err
	}
	if !j.RevokedAt.IsZero() {
		return nil
	}
	now := f.now()
	return f.store.Update(ctx, func(t *store.Tx) error {
		j.RevokedAt = now
		if err := t.PutJoinToken(j); err != nil {
			return err
		}
		return t.Audit(who, now, "join-token revoke", id, nil, nil)
	})
}

func (f *Fleet) joinToken(ctx context.Context, id string) (store.JoinToken, error) {
	all, err := f.JoinTokens(ctx)
	if err != nil {
		return store.JoinToken{}, err
	}
	for _, j := range all {
		if j.ID == id {
			return j, nil
		}
	}
	return store.JoinToken{}, store.Missingf("there is no join token %s", id)
}

// caller is who an agent's request comes from: a member, or one that wants to join by a token.
type caller struct {
	credential *store.Credential
	token      *store.JoinToken
	origin     string // the address that it calls from
}

// authenticate reads the bearer of a request.
func (f *Fleet) authenticate(ctx context.Context, authorization string) (caller, error) {
	bearer, ok := strings.CutPrefix(authorization, "Bearer ")
	id, secret, ok2 := strings.Cut(bearer, ".")
	if !ok || bearer == "" {
		return caller{}, Denied{"no join token and no credential were given; start the agent with --join-token"}
	}
	if ok2 && strings.HasPrefix(id, "c") {
		f.mu.RLock()
		c, ok := f.creds[id]
		f.mu.RUnlock()
		if ok && matches(c.Hash, secret) {
			return caller{credential: &c}, nil
		}
		return caller{}, Denied{"this agent's credential is not known any more: the host was retired, or joined anew from another place; remove identity.json from its state folder and give it a new join token"}
	}
	j, err := f.joinToken(ctx, id)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return caller{}, err
	}
	if err != nil || !matches(j.Hash, secret) {
		return caller{}, Denied{"the join token is not known here; make one with: synaxis join-token create"}
	}
	if err := usable(j, f.now()); err != nil {
		return caller{}, err
	}
	return caller{token: &j}, nil
}

// TokenLabels gives the labels of hosts that join by a token, for the holder of the token.
func (f *Fleet) TokenLabels(ctx context.Context, authorization string) (map[string]string, error) {
	who, err := f.authenticate(ctx, authorization)
	if err != nil {
		return nil, err
	}
	if who.token == nil {
		return nil, Denied{"this is the credential of a host, not a join token"}
	}
	return who.token.Labels, nil
}

// joinRequest is what an agent says of itself when it joins.
type joinRequest struct{ uid, name, hostID, serviceName, origin string }

// join lets an agent in under its name and makes it a credential, whose text goes to the agent only. Asking again before the credential
// was used gives a new one in its place. Whether the token still has a use and the name is free is decided where it is written.
func (f *Fleet) join(ctx context.Context, tokenID string, r joinRequest) (string, error) {
	if why := inventory.CheckName(r.name); why != "" {
		return "", Denied{fmt.Sprintf("the host name %q cannot be used: %s; start the agent with --name", r.name, why)}
	}
	now := f.now()
	f.mu.RLock()
	if n := f.newcomers[r.uid]; n != nil {
		if !n.DeniedAt.IsZero() {
			f.mu.RUnlock()
			return "", Denied{fmt.Sprintf("this agent asked for the name of %s and was turned away at the desk; start it with another --name", r.name)}
		}
		if n.Approved != "" {
			r.name = n.Approved
		}
	}
	f.mu.RUnlock()
	text, c := offerCredential(r.uid, tokenID, r.name, now)
	var h store.Host
	taken, back := false, false
	f.editing.Lock()
	defer f.editing.Unlock()
	err := f.store.Update(ctx, func(t *store.Tx) error {
		taken = false
		j, err := t.JoinToken(tokenID, now)
		if err != nil {
			return err
		}
		if err := usable(j, now); err != nil {
			return err
		}
		mine, err := t.UsesToken(tokenID, r.uid, now)
		if err != nil {
			return err
		}
		if j.Uses > 0 && j.Used+j.Reserved >= j.Uses && !mine {
			return Denied{fmt.Sprintf("the join token is used up: it was for %d hosts, and as many have joined; make a new one with: synaxis join-token create", j.Uses)}
		}
		have, err := t.Host(r.name)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if have.UID != "" && have.RetiredAt.IsZero() && have.UID != r.uid && have.HostID != r.hostID {
			taken = true
			return Denied{fmt.Sprintf("a host named %s has joined already from another machine: retire the old one, or approve this one at the desk with: synaxis newcomer approve ID %s; or start this agent with another --name", r.name, r.name)}
		}
		if back = !have.RetiredAt.IsZero(); back && have.UID != r.uid {
			if err := t.AddFormerHost(have); err != nil {
				return err
			}
		}
		h = admitted(have, r, j.Labels, now)
		if err := t.PutHost(h); err != nil {
			return err
		}
		if have.Name == "" || back {
			if err := t.Audit(store.Person{Name: "join token " + j.ID, Origin: r.origin}, now, "host join", r.name, nil, h.Labels); err != nil {
				return err
			}
		}
		return t.PutCredential(c)
	})
	if taken {
		if err := f.knock(ctx, r); err != nil {
			return "", err
		}
	}
	if err != nil {
		return "", err
	}
	f.takeIn(h, &c)
	return text, nil
}

// maxKnocks bounds the agents that ask for names that are in use.
const maxKnocks = 500

// knock notes that an agent asks for the name of a host that has joined from another machine, so that the desk can let it in.
func (f *Fleet) knock(ctx context.Context, r joinRequest) error {
	now := f.now()
	f.mu.RLock()
	old, knocks := f.newcomers[r.uid], 0
	for _, n := range f.newcomers {
		if n.Credential == "" {
			knocks++
		}
	}
	f.mu.RUnlock()
	if knocks >= maxKnocks && old == nil {
		return nil
	}
	n := store.Newcomer{ID: newID("n"), UID: r.uid, Host: r.name, HostID: r.hostID, Name: r.name, Origin: r.origin, Since: now,
		Why: "another machine, with a valid join token, asks for the name of this host"}
	if old != nil {
		n.ID, n.Since = old.ID, old.Since
	}
	if err := f.store.Update(ctx, func(t *store.Tx) error { return t.PutNewcomer(n) }); err != nil {
		return err
	}
	f.mu.Lock()
	f.newcomers[n.UID] = &newcomer{Newcomer: n, seen: now}
	f.mu.Unlock()
	f.note("hosts")
	return nil
}

// usable tells why a join token lets nobody in any more.
func usable(j store.JoinToken, now time.Time) error {
	switch {
	case !j.RevokedAt.IsZero():
		return Denied{"the join token was revoked; make a new one with: synaxis join-token create"}
	case now.After(j.ExpiresAt):
		return Denied{fmt.Sprintf("the join token expired on %s; make a new one with: synaxis join-token create", j.ExpiresAt.UTC().Format("2006-01-02 15:04 UTC"))}
	}
	return nil
}

// admitted is a host as it is once an agent has joined under its name. What was said of it before stays.
func admitted(have store.Host, r joinRequest, labels map[string]string, now time.Time) store.Host {
	h := store.Host{Name: r.name, UID: r.uid, HostID: r.hostID, ServiceName: r.serviceName, JoinedAt: now, Labels: maps.Clone(labels), Settings: map[string]string{}}
	if h.Labels == nil {
		h.Labels = map[string]string{}
	}
	if have.Name != "" {
		maps.Copy(h.Labels, have.Labels)
		h.Settings = have.Settings
		if have.UID == r.uid {
			h.JoinedAt = have.JoinedAt
		}
	}
	return h
}

// offerCredential makes a credential with its text.
func offerCredential(uid, token, host string, now time.Time) (string, store.Credential) {
	secret, hash := newSecret()
	c := store.Credential{ID: newID("c"), Hash: hash, UID: uid, TokenID: token, Host: host, OfferedAt: now, OfferEnds: now.Add(offerLasts)}
	return c.ID + "." + secret, c
}

// takeIn makes a host that has joined one of the fleet, with the credential that it is offered.
func (f *Fleet) takeIn(h store.Host, c *store.Credential) {
	f.mu.Lock()
	if c != nil {
		f.offered(*c)
	}
	e := f.hosts[h.Name]
	if e == nil {
		e = &host{}
		f.hosts[h.Name] = e
	}
	if e.view.UID != "" && e.view.UID != h.UID {
		delete(f.byUID, e.view.UID)
		e.streams = streams{}
	}
	if was := e.view.Host; !was.RetiredAt.IsZero() {
		if was.UID != h.UID {
			f.former = append(f.former, was)
		}
		e.view.Emptied, e.dirty = time.Time{}, true
	}
	e.view.Host = h
	f.byUID[h.UID] = e
	f.mu.Unlock()
	f.seenAnew()
	f.desk.HostChanged(h.Name)
	f.note("hosts")
}

// offered keeps a credential in the place of one that the agent never used. The fleet is locked.
func (f *Fleet) offered(c store.Credential) {
	for id, old := range f.creds {
		if old.UID == c.UID && old.UsedAt.IsZero() {
			delete(f.creds, id)
		}
	}
	f.creds[c.ID] = c
}

// used notes the first use of a credential; earlier ones of the host end.
func (f *Fleet) used(ctx context.Context, c store.Credential) error {
	if !c.UsedAt.IsZero() {
		return nil
	}
	now := f.now()
	if now.After(c.OfferEnds) {
		return Denied{"the credential was not used in time and has ended; the agent must join again: remove identity.json from its state folder"}
	}
	f.mu.RLock()
	n, came := f.newcomers[c.UID]
	f.mu.RUnlock()
	if err := f.store.Update(ctx, func(t *store.Tx) error {
		if came {
			if err := t.RemoveNewcomer(n.ID); err != nil {
				return err
			}
		}
		return t.UseCredential(c, now)
	}); err != nil {
		return err
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	delete(f.newcomers, c.UID)
	for id, old := range f.creds {
		if old.Host == c.Host && id != c.ID {
			delete(f.creds, id)
		}
	}
	c.UsedAt = now
	f.creds[c.ID] = c
	return nil
}
