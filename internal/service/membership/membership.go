// Package membership decides who may speak for which host: join tokens, credentials, and newcomers that wait for
// approval. It decides inside the store's changes; what is in memory follows their commits.
package membership

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"time"

	"synaxis/internal/service/store"
)

// Membership is who may speak. It is safe for concurrent use.
type Membership struct {
	store *store.Store
	log   *slog.Logger
	now   func() time.Time
	note  func(topic string)

	mu          sync.RWMutex
	tokens      map[string]store.JoinToken // by id, without their uses
	credentials map[string]store.Credential
	ofHost      map[string][]string       // ids of credentials
	unused      map[string]string         // uid -> the id of the credential that it was offered last and never used
	newcomers   map[string]store.Newcomer // by uid
}

// New reads who may speak, and follows its changes.
func New(
	ctx context.Context,
	st *store.Store,
	log *slog.Logger,
	now func() time.Time,
	note func(topic string),
) (*Membership, error) {
	m := &Membership{
		store:       st,
		log:         log,
		now:         now,
		note:        note,
		tokens:      map[string]store.JoinToken{},
		credentials: map[string]store.Credential{},
		ofHost:      map[string][]string{},
		unused:      map[string]string{},
		newcomers:   map[string]store.Newcomer{},
	}
	tokens, err := st.JoinTokens(ctx, now())
	if err != nil {
		return nil, err
	}
	for _, j := range tokens {
		m.tokens[j.ID] = j
	}
	creds, err := st.Credentials(ctx)
	if err != nil {
		return nil, err
	}
	for _, c := range creds {
		m.put(c)
	}
	came, err := st.Newcomers(ctx)
	if err != nil {
		return nil, err
	}
	for _, n := range came {
		m.newcomers[n.UID] = n
	}
	st.Follow(m.follow)
	return m, nil
}

func (m *Membership) put(c store.Credential) {
	if _, known := m.credentials[c.ID]; !known {
		m.ofHost[c.Host] = append(m.ofHost[c.Host], c.ID)
	}
	m.credentials[c.ID] = c
	if c.UsedAt.IsZero() {
		m.unused[c.UID] = c.ID
	} else if m.unused[c.UID] == c.ID {
		delete(m.unused, c.UID)
	}
}

func (m *Membership) drop(id string) {
	c, ok := m.credentials[id]
	if !ok {
		return
	}
	delete(m.credentials, id)
	if m.unused[c.UID] == id {
		delete(m.unused, c.UID)
	}
	left := m.ofHost[c.Host][:0:0]
	for _, other := range m.ofHost[c.Host] {
		if other != id {
			left = append(left, other)
		}
	}
	if m.ofHost[c.Host] = left; len(left) == 0 {
		delete(m.ofHost, c.Host)
	}
}

func (m *Membership) follow(changes []store.Change) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, c := range changes {
		switch c := c.(type) {
		case store.TokenPut:
			m.tokens[c.ID] = c.JoinToken
		case store.CredentialOffered:
			m.drop(m.unused[c.UID])
			m.put(c.Credential)
		case store.CredentialUsed:
			for _, id := range m.ofHost[c.Host] {
				if id != c.ID {
					m.drop(id)
				}
			}
			m.put(c.Credential)
		case store.CredentialsEnded:
			for _, id := range m.ofHost[c.Host] {
				m.drop(id)
			}
		case store.NewcomerPut:
			m.newcomers[c.UID] = c.Newcomer
		case store.NewcomerRemoved:
			for uid, n := range m.newcomers {
				if n.ID == c.ID {
					delete(m.newcomers, uid)
				}
			}
		}
	}
}

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

// Caller is who an agent's request comes from: a member, or one that wants to join by a token.
type Caller struct {
	Credential *store.Credential
	Token      *store.JoinToken
	Origin     string // the address that it calls from
}

// ID is that of the credential or the token.
func (c Caller) ID() string {
	if c.Token != nil {
		return c.Token.ID
	}
	return c.Credential.ID
}

// Authenticate reads the bearer of a request.
func (m *Membership) Authenticate(authorization string) (Caller, error) {
	bearer, ok := strings.CutPrefix(authorization, "Bearer ")
	id, secret, ok2 := strings.Cut(bearer, ".")
	if !ok || bearer == "" {
		return Caller{}, Denied{
			"no join token and no credential were given; give the agent a join token in SYNAXIS_JOIN_TOKEN",
		}
	}
	m.mu.RLock()
	c, member := m.credentials[id]
	j, token := m.tokens[id]
	m.mu.RUnlock()
	switch {
	case ok2 && strings.HasPrefix(id, "c"):
		if member && matches(c.Hash, secret) {
			return Caller{Credential: &c}, nil
		}
		return Caller{}, Denied{
			"this agent's credential is not known any more: the host was retired, or joined anew from another place; " +
				"remove identity.json from its state folder and give it a token that is made for it: synaxis " +
				"join-token create --host NAME",
		}
	case !token || !matches(j.Hash, secret):
		return Caller{}, Denied{"the join token is not known here; make one with: synaxis join-token create"}
	}
	if err := usable(j, m.now()); err != nil {
		return Caller{}, err
	}
	return Caller{Token: &j}, nil
}

// Usable tells why a token that a caller came with lets nobody in any more.
func (m *Membership) Usable(id string) error {
	m.mu.RLock()
	j := m.tokens[id]
	m.mu.RUnlock()
	return usable(j, m.now())
}

// usable tells why a join token lets nobody in any more.
func usable(j store.JoinToken, now time.Time) error {
	switch {
	case !j.RevokedAt.IsZero():
		return Denied{"the join token was revoked; make a new one with: synaxis join-token create"}
	case now.After(j.ExpiresAt):
		return Denied{
			fmt.Sprintf(
				"the join token expired on %s; make a new one with: synaxis join-token create",
				j.ExpiresAt.UTC().Format("2006-01-02 15:04 UTC"),
			),
		}
	}
	return nil
}

// TokenLabels gives the labels of hosts that join by a token, for the holder of the token.
func (m *Membership) TokenLabels(authorization string) (map[string]string, error) {
	who, err := m.Authenticate(authorization)
	if err != nil {
		return nil, err
	}
	if who.Token == nil {
		return nil, Denied{"this is the credential of a host, not a join token"}
	}
	return who.Token.Labels, nil
}

// CreateJoinToken makes a token out of what it is for: labels, uses, and host or listed. Its text is given once and
// never again.
func (m *Membership) CreateJoinToken(
	ctx context.Context,
	who store.Person,
	j store.JoinToken,
	lasts time.Duration,
) (store.JoinToken, string, error) {
	secret, hash := newSecret()
	now := m.now()
	j.ID, j.Hash, j.CreatedAt, j.CreatedBy, j.ExpiresAt = newID("j"), hash, now, who.Name, now.Add(lasts)
	err := m.store.Update(ctx, func(t *store.Tx) error {
		if err := t.PutJoinToken(j); err != nil {
			return err
		}
		return t.Audit(
			who,
			now,
			"join-token create",
			j.ID,
			nil,
			map[string]any{
				"labels":  j.Labels,
				"uses":    j.Uses,
				"expires": j.ExpiresAt,
				"host":    j.Host,
				"listed":  j.Listed,
			},
		)
	})
	return j, j.ID + "." + secret, err
}

// JoinTokens lists the tokens.
func (m *Membership) JoinTokens(ctx context.Context) ([]store.JoinToken, error) {
	return m.store.JoinTokens(ctx, m.now())
}

// RevokeJoinToken ends a token. Agents that have joined by it stay.
func (m *Membership) RevokeJoinToken(ctx context.Context, who store.Person, id string) error {
	return m.store.Update(ctx, func(t *store.Tx) error {
		now := m.now()
		j, err := token(t, id, now)
		if err != nil || !j.RevokedAt.IsZero() {
			return err
		}
		j.RevokedAt = now
		if err := t.PutJoinToken(j); err != nil {
			return err
		}
		return t.Audit(who, now, "join-token revoke", id, nil, nil)
	})
}

func token(t *store.Tx, id string, now time.Time) (store.JoinToken, error) {
	j, err := t.JoinToken(id, now)
	if err == store.ErrNotFound {
		err = store.Missingf("there is no join token %s", id)
	}
	return j, err
}
