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
	"slices"
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

// CreateJoinToken makes a token out of what it is for: labels, uses, and host or listed. Its text is given once and never again.
func (f *Fleet) CreateJoinToken(ctx context.Context, who store.Person, j store.JoinToken, lasts time.Duration) (store.JoinToken, string, error) {
	secret, hash := newSecret()
	now := f.now()
	j.ID, j.Hash, j.CreatedAt, j.CreatedBy, j.ExpiresAt = newID("j"), hash, now, who.Name, now.Add(lasts)
	err := f.store.Update(ctx, func(t *store.Tx) error {
		if err := t.PutJoinToken(j); err != nil {
			return err
		}
		return t.Audit(who, now, "join-token create", j.ID, nil, map[string]any{"labels": j.Labels, "uses": j.Uses, "expires": j.ExpiresAt, "host": j.Host, "listed": j.Listed})
	})
	return j, j.ID + "." + secret, err
}

// JoinTokens lists the tokens.
func (f *Fleet) JoinTokens(ctx context.Context) ([]store.JoinToken, error) {
	return f.store.JoinTokens(ctx, f.now())
}

// RevokeJoinToken ends a token, and the connections that were made with it. Agents that have joined by it stay.
func (f *Fleet) RevokeJoinToken(ctx context.Context, who store.Person, id string) error {
	j, err := f.joinToken(ctx, id)
	if err != nil {
		return err
	}
	if !j.RevokedAt.IsZero() {
		return nil
	}
	now := f.now()
	err = f.store.Update(ctx, func(t *store.Tx) error {
		j.RevokedAt = now
		if err := t.PutJoinToken(j); err != nil {
			return err
		}
		return t.Audit(who, now, "join-token revoke", id, nil, nil)
	})
	if err != nil {
		return err
	}
	f.mu.RLock()
	var open []*conn
	for c, token := range f.joiners {
		if token == id {
			open = append(open, c)
		}
	}
	f.mu.RUnlock()
	for _, c := range open {
		c.ws.CloseNow()
	}
	return nil
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

// id is that of the credential or the token.
func (c caller) id() string {
	if c.token != nil {
		return c.token.ID
	}
	return c.credential.ID
}

// authenticate reads the bearer of a request.
func (f *Fleet) authenticate(ctx context.Context, authorization string) (caller, error) {
	bearer, ok := strings.CutPrefix(authorization, "Bearer ")
	id, secret, ok2 := strings.Cut(bearer, ".")
	if !ok || bearer == "" {
		return caller{}, Denied{"no join token and no credential were given; give the agent a join token in SYNAXIS_JOIN_TOKEN"}
	}
	if ok2 && strings.HasPrefix(id, "c") {
		f.mu.RLock()
		c, ok := f.creds[id]
		f.mu.RUnlock()
		if ok && matches(c.Hash, secret) {
			return caller{credential: &c}, nil
		}
		return caller{}, Denied{"this agent's credential is not known any more: the host was retired, or joined anew from another place; remove identity.json from its state folder and give it a token that is made for it: synaxis join-token create --host NAME"}
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
	if h := f.byUID[r.uid]; h != nil && h.view.Name != r.name {
		name := h.view.Name
		f.mu.RUnlock()
		return "", Denied{fmt.Sprintf("this agent has joined as %s; to let it join under another name, remove identity.json from its state folder", name)}
	}
	f.mu.RUnlock()
	text, c := offerCredential(r.uid, tokenID, r.name, now)
	var h store.Host
	taken := false
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
		used, err := t.UsedCredential(r.uid)
		if err != nil {
			return err
		}
		var denied Denied
		if denied, taken = mayJoin(j, have, r, used); denied.Words != "" {
			return denied
		}
		if back := !have.RetiredAt.IsZero(); back && have.UID != r.uid {
			if err := t.AddFormerHost(have); err != nil {
				return err
			}
		}
		h = admitted(have, r, j.Labels, now)
		if err := t.PutHost(h); err != nil {
			return err
		}
		return f.give(t, store.Person{Name: "join token " + j.ID, Origin: r.origin}, c, h.Labels)
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

// give writes a credential, and in the audit that it was given.
func (f *Fleet) give(t *store.Tx, to store.Person, c store.Credential, labels map[string]string) error {
	if err := t.Audit(to, c.OfferedAt, "host join", c.Host, nil, map[string]any{"credential": c.ID, "labels": labels}); err != nil {
		return err
	}
	return t.PutCredential(c)
}

// mayJoin decides whether an agent may have the name that it asks for. A name that the desk knows stands for labels, settings and secrets, and
// what a machine says of itself proves nothing. So it takes a token that was made for this host, or one for listed hosts whose labels agree;
// an agent whose first answer was lost, so that it never used its credential, may ask again. denied is why not, with no words when it may;
// knock is whether the desk is asked. used tells whether the agent has ever used a credential.
func mayJoin(j store.JoinToken, have store.Host, r joinRequest, used bool) (denied Denied, knock bool) {
	known, listed := have.Name != "", have.Name != "" && have.UID == "" && have.RetiredAt.IsZero()
	switch {
	case j.Host != "" && j.Host != r.name && have.UID != r.uid:
		return Denied{fmt.Sprintf("this join token is for the host %s, and the agent calls itself %s; start it with --name %s, or make a token for it with: synaxis join-token create --host %s", j.Host, r.name, j.Host, r.name)}, false
	case !known, have.UID == r.uid && have.RetiredAt.IsZero() && !used:
		return Denied{}, false
	case j.Host != r.name && !(listed && j.Listed):
		how := "has joined"
		if listed {
			how = "is listed and waits for its agent"
		} else if !have.RetiredAt.IsZero() {
			how = "was retired"
		}
		return Denied{fmt.Sprintf("the desk has a host named %s already, which %s, and this token was not made for it. Make one with: synaxis join-token create --host %s; or approve this agent with: synaxis newcomer approve ID %s; or start it with another --name", r.name, how, r.name, r.name)}, true
	case listed:
		for _, k := range slices.Sorted(maps.Keys(j.Labels)) {
			if v, has := have.Labels[k]; has && v != j.Labels[k] || !has && j.Host == "" {
				return Denied{fmt.Sprintf("the host %s is listed with %s=%s, and the join token is for %s=%s; take a token whose labels agree, or one made for it with: synaxis join-token create --host %s", r.name, k, v, k, j.Labels[k], r.name)}, true
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
func (f *Fleet) knock(ctx context.Context, r joinRequest) error {
	now := f.now()
	f.mu.RLock()
	old, knocks, near := f.newcomers[r.uid], 0, 0
	for _, n := range f.newcomers {
		if n.Credential == "" {
			knocks++
			if n.Origin == r.origin {
				near++
			}
		}
	}
	f.mu.RUnlock()
	if old == nil && (knocks >= maxKnocks || near >= maxKnocksFrom) {
		return nil
	}
	n := store.Newcomer{ID: newID("n"), UID: r.uid, Host: r.name, HostID: r.hostID, Name: r.name, Origin: r.origin, Since: now,
		Why: "an agent asks for this name with a valid join token, which was not made for this host"}
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
