package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"
)

// Host is a host of the inventory.
type Host struct {
	Name, UID, HostID, ServiceName string
	Labels, Settings               map[string]string
	JoinedAt, RetiredAt            time.Time
}

const hostColumns = `SELECT name, uid, host_id, service_name, labels, settings, joined_at, retired_at`

func scanHost(r *sql.Rows) (h Host, err error) {
	var labels, settings, joined, retired string
	err = r.Scan(&h.Name, &h.UID, &h.HostID, &h.ServiceName, &labels, &settings, &joined, &retired)
	h.Labels, h.Settings, h.JoinedAt, h.RetiredAt = textMap(
		labels,
	), textMap(
		settings,
	), unstamp(
		joined,
	), unstamp(
		retired,
	)
	return h, err
}

// Hosts returns all hosts.
func (s *Store) Hosts(ctx context.Context) ([]Host, error) {
	return list(ctx, s.read, scanHost, hostColumns+` FROM hosts ORDER BY name`)
}

// Host returns one host as it is inside the change, or ErrNotFound.
func (t *Tx) Host(name string) (Host, error) {
	return one(t.ctx, t, scanHost, hostColumns+` FROM hosts WHERE name=?`, name)
}

// HostOf returns the host whose agent has a uid as it is inside the change, or ErrNotFound; a retired host is none.
func (t *Tx) HostOf(uid string) (Host, error) {
	return one(t.ctx, t, scanHost, hostColumns+` FROM hosts WHERE uid=? AND retired_at=''`, uid)
}

// FormerHosts returns the retired hosts whose names other hosts have by now, by name.
func (s *Store) FormerHosts(ctx context.Context) ([]Host, error) {
	return list(ctx, s.read, scanHost, hostColumns+` FROM former_hosts ORDER BY name, id`)
}

// hostValues are what a row of a host holds, in the order of its columns.
func hostValues(h Host) []any {
	return []any{
		h.Name,
		h.UID,
		h.HostID,
		h.ServiceName,
		text(h.Labels),
		text(h.Settings),
		stamp(h.JoinedAt),
		stamp(h.RetiredAt),
	}
}

// AddFormerHost keeps a retired host whose name another one takes.
func (t *Tx) AddFormerHost(h Host) error {
	t.tell(HostReplaced{h})
	return t.exec(
		`INSERT INTO former_hosts (name, uid, host_id, service_name, labels, settings, joined_at, retired_at) VALUES (?,?,?,?,?,?,?,?)`,
		hostValues(h)...,
	)
}

func textMap(s string) map[string]string {
	m := map[string]string{}
	if err := json.Unmarshal([]byte(s), &m); err != nil || m == nil {
		return map[string]string{}
	}
	return m
}

// PutHost writes a host.
func (t *Tx) PutHost(h Host) error {
	t.tell(HostPut{h})
	return t.exec(
		`INSERT INTO hosts (name, uid, host_id, service_name, labels, settings, joined_at, retired_at) VALUES (?,?,?,?,?,?,?,?)
		ON CONFLICT (name) DO UPDATE SET uid=excluded.uid, host_id=excluded.host_id, service_name=excluded.service_name,
		labels=excluded.labels, settings=excluded.settings, joined_at=excluded.joined_at, retired_at=excluded.retired_at`,
		hostValues(h)...,
	)
}

// JoinToken lets agents join.
type JoinToken struct {
	ID        string
	Hash      []byte // SHA-256 of the secret part
	Labels    map[string]string
	CreatedAt time.Time
	CreatedBy string
	ExpiresAt time.Time
	Uses      int // how many hosts may join; 0 is any number
	RevokedAt time.Time
	Used      int    // hosts that have joined by it
	Reserved  int    // offers that wait for their first use
	Host      string // the one host that it is for; "" for any new one
	Listed    bool   // it lets hosts join under their listed names, where the labels of both agree
}

// PutJoinToken writes a token.
func (t *Tx) PutJoinToken(j JoinToken) error {
	t.tell(TokenPut{j})
	return t.exec(
		`INSERT INTO join_tokens (id, hash, labels, created_at, created_by, expires_at, uses, revoked_at, host, listed) VALUES (?,?,?,?,?,?,?,?,?,?) ON CONFLICT (id) DO UPDATE SET revoked_at=excluded.revoked_at`,
		j.ID,
		j.Hash,
		text(j.Labels),
		stamp(j.CreatedAt),
		j.CreatedBy,
		stamp(j.ExpiresAt),
		j.Uses,
		stamp(j.RevokedAt),
		j.Host,
		j.Listed,
	)
}

// tokenColumns take the time as their one argument.
const tokenColumns = `SELECT id, hash, labels, created_at, created_by, expires_at, uses, revoked_at, host, listed, used,
		(SELECT count(*) FROM credentials c WHERE c.token_id = j.id AND used_at = '' AND ended_at = '' AND offer_ends > ?)
		FROM join_tokens j`

func scanToken(r *sql.Rows) (j JoinToken, err error) {
	var labels, created, expires, revoked string
	err = r.Scan(
		&j.ID,
		&j.Hash,
		&labels,
		&created,
		&j.CreatedBy,
		&expires,
		&j.Uses,
		&revoked,
		&j.Host,
		&j.Listed,
		&j.Used,
		&j.Reserved,
	)
	j.Labels, j.CreatedAt, j.ExpiresAt, j.RevokedAt = textMap(
		labels,
	), unstamp(
		created,
	), unstamp(
		expires,
	), unstamp(
		revoked,
	)
	return j, err
}

// JoinTokens returns all tokens, newest first, with their uses as of now.
func (s *Store) JoinTokens(ctx context.Context, now time.Time) ([]JoinToken, error) {
	return list(ctx, s.read, scanToken, tokenColumns+` ORDER BY created_at DESC`, stamp(now))
}

// JoinToken returns one token as it is inside the change, with its uses as of now, or ErrNotFound.
func (t *Tx) JoinToken(id string, now time.Time) (JoinToken, error) {
	return one(t.ctx, t, scanToken, tokenColumns+` WHERE id=?`, stamp(now), id)
}

// UsesToken tells whether an agent has used a token, or has an offer by it that still waits for its use.
func (t *Tx) UsesToken(id, uid string, now time.Time) (bool, error) {
	n, err := one(
		t.ctx,
		t,
		func(r *sql.Rows) (n int, err error) { return n, r.Scan(&n) },
		`SELECT count(*) FROM credentials WHERE token_id=? AND uid=? AND (used_at <> '' OR ended_at = '' AND offer_ends > ?)`,
		id,
		uid,
		stamp(now),
	)
	return n > 0, err
}

// UsedCredential tells whether an agent has ever used a credential.
func (t *Tx) UsedCredential(uid string) (bool, error) {
	n, err := one(t.ctx, t, scanInt, `SELECT count(*) FROM credentials WHERE uid=? AND used_at <> ''`, uid)
	return n > 0, err
}

// Credential lets one agent in.
type Credential struct {
	ID                           string
	Hash                         []byte
	UID, TokenID, Host           string
	OfferedAt, OfferEnds, UsedAt time.Time
}

const credentialColumns = `SELECT id, hash, uid, token_id, host, offered_at, offer_ends, used_at FROM credentials`

func scanCredential(r *sql.Rows) (c Credential, err error) {
	var offered, ends, used string
	err = r.Scan(&c.ID, &c.Hash, &c.UID, &c.TokenID, &c.Host, &offered, &ends, &used)
	c.OfferedAt, c.OfferEnds, c.UsedAt = unstamp(offered), unstamp(ends), unstamp(used)
	return c, err
}

// Credentials returns all that may still be used.
func (s *Store) Credentials(ctx context.Context) ([]Credential, error) {
	return list(ctx, s.read, scanCredential, credentialColumns+` WHERE ended_at = ''`)
}

// Credential returns one that may still be used as the change sees it, or ErrNotFound.
func (t *Tx) Credential(id string) (Credential, error) {
	return one(t.ctx, t, scanCredential, credentialColumns+` WHERE id=? AND ended_at = ''`, id)
}

// PutCredential writes an offer; an earlier offer to the same agent that was never used goes.
func (t *Tx) PutCredential(c Credential) error {
	t.tell(CredentialOffered{c})
	if err := t.exec(`DELETE FROM credentials WHERE uid=? AND used_at=''`, c.UID); err != nil {
		return err
	}
	return t.exec(
		`INSERT INTO credentials (id, hash, uid, token_id, host, offered_at, offer_ends, used_at) VALUES (?,?,?,?,?,?,?,?)`,
		c.ID,
		c.Hash,
		c.UID,
		c.TokenID,
		c.Host,
		stamp(c.OfferedAt),
		stamp(c.OfferEnds),
		stamp(c.UsedAt),
	)
}

// UseCredential notes the first use, which is one of its token unless the agent has used that before, and ends the
// host's earlier ones. Ended ones stay, since they are uses of a token.
func (t *Tx) UseCredential(c Credential, at time.Time) error {
	c.UsedAt = at
	t.tell(CredentialUsed{c})
	if err := t.exec(`UPDATE join_tokens SET used = used + 1 WHERE id=? AND NOT EXISTS
		(SELECT 1 FROM credentials WHERE uid=? AND token_id=? AND used_at <> '')`,
		c.TokenID, c.UID, c.TokenID); err != nil {
		return err
	}
	if err := t.exec(`UPDATE credentials SET ended_at=? WHERE host=? AND id<>? AND ended_at=''`, stamp(at), c.Host,
		c.ID); err != nil {
		return err
	}
	return t.exec(`UPDATE credentials SET used_at=? WHERE id=?`, stamp(at), c.ID)
}

// EndCredentials ends all of a host's credentials.
func (t *Tx) EndCredentials(host string, at time.Time) error {
	t.tell(CredentialsEnded{host})
	return t.exec(`UPDATE credentials SET ended_at=? WHERE host=? AND ended_at=''`, stamp(at), host)
}

// Newcomer is an agent that came with the identity of another host, and waits for approval under a uid of its own.
type Newcomer struct {
	ID, UID         string
	Credential      string // the id of the credential that it carries, which is the other host's
	Host            string // whose identity it carries
	HostID, Name    string // what it says of itself
	Origin, Why     string
	Since, DeniedAt time.Time
	Approved        string // the name under which it may join; "" while it waits
}

// Newcomers returns all of them, oldest first; also those that were denied.
func (s *Store) Newcomers(ctx context.Context) ([]Newcomer, error) {
	return list(ctx, s.read, scanNewcomer, newcomerColumns+` ORDER BY since, id`)
}

const newcomerColumns = `SELECT id, uid, credential, host, host_id, name, origin, why, since, denied_at, approved FROM newcomers`

func scanNewcomer(r *sql.Rows) (n Newcomer, err error) {
	var since, denied string
	err = r.Scan(
		&n.ID,
		&n.UID,
		&n.Credential,
		&n.Host,
		&n.HostID,
		&n.Name,
		&n.Origin,
		&n.Why,
		&since,
		&denied,
		&n.Approved,
	)
	n.Since, n.DeniedAt = unstamp(since), unstamp(denied)
	return n, err
}

// NewcomerOf returns the newcomer of a uid as the change sees it, or ErrNotFound.
func (t *Tx) NewcomerOf(uid string) (Newcomer, error) {
	return one(t.ctx, t, scanNewcomer, newcomerColumns+` WHERE uid=?`, uid)
}

// Newcomer returns one as the change sees it, or ErrNotFound.
func (t *Tx) Newcomer(id string) (Newcomer, error) {
	return one(t.ctx, t, scanNewcomer, newcomerColumns+` WHERE id=?`, id)
}

// Newcomers returns all as the change sees them, oldest first.
func (t *Tx) Newcomers() ([]Newcomer, error) {
	return list(t.ctx, t, scanNewcomer, newcomerColumns+` ORDER BY since, id`)
}

// PutNewcomer writes a newcomer.
func (t *Tx) PutNewcomer(n Newcomer) error {
	t.tell(NewcomerPut{n})
	return t.exec(
		`INSERT INTO newcomers VALUES (?,?,?,?,?,?,?,?,?,?,?) ON CONFLICT (id) DO UPDATE SET name=excluded.name, origin=excluded.origin, denied_at=excluded.denied_at, approved=excluded.approved`,
		n.ID,
		n.UID,
		n.Credential,
		n.Host,
		n.HostID,
		n.Name,
		n.Origin,
		n.Why,
		stamp(n.Since),
		stamp(n.DeniedAt),
		n.Approved,
	)
}

// RemoveNewcomer forgets a newcomer.
func (t *Tx) RemoveNewcomer(id string) error {
	t.tell(NewcomerRemoved{id})
	return t.exec(`DELETE FROM newcomers WHERE id=?`, id)
}

// Session is a signed-in browser.
type Session struct {
	Hash      []byte
	Who       string
	ExpiresAt time.Time
}

// PutSession writes a session and removes those that have expired.
func (t *Tx) PutSession(x Session, now time.Time) error {
	if err := t.exec(`DELETE FROM sessions WHERE expires_at < ?`, stamp(now)); err != nil {
		return err
	}
	return t.exec(`INSERT INTO sessions VALUES (?,?,?)`, x.Hash, x.Who, stamp(x.ExpiresAt))
}

// EndSession removes a session.
func (t *Tx) EndSession(hash []byte) error { return t.exec(`DELETE FROM sessions WHERE hash=?`, hash) }

// Session finds a session by its hash.
func (s *Store) Session(ctx context.Context, hash []byte) (Session, error) {
	return one(ctx, s.read, func(r *sql.Rows) (x Session, err error) {
		var ends string
		err = r.Scan(&x.Hash, &x.Who, &ends)
		x.ExpiresAt = unstamp(ends)
		return x, err
	}, `SELECT hash, who, expires_at FROM sessions WHERE hash=?`, hash)
}

// Sums are what a host had counted at a time, as JSON.
type Sums struct {
	Host, Numbers string
	Since         int64 // when its agent began to count, in Unix nanoseconds; 0 for not known
}

// HostStates returns what was saved of all hosts, as JSON by their names, and what they had counted.
func (s *Store) HostStates(ctx context.Context) (states map[string]string, sums []Sums, err error) {
	states = map[string]string{}
	if _, err := list(ctx, s.state, func(r *sql.Rows) (struct{}, error) {
		var k, v string
		err := r.Scan(&k, &v)
		states[k] = v
		return struct{}{}, err
	}, `SELECT host, state FROM host_states`); err != nil {
		return nil, nil, err
	}
	sums, err = list(ctx, s.state, func(r *sql.Rows) (x Sums, err error) {
		return x, r.Scan(&x.Host, &x.Numbers, &x.Since)
	}, `SELECT host, numbers, since FROM latest_numbers`)
	return states, sums, err
}

// SaveStates writes the states of many hosts, as JSON by their names, and what some had counted, in one commit of
// state.db.
func (s *Store) SaveStates(ctx context.Context, states map[string]string, sums []Sums) error {
	return s.inState(ctx, func(ctx context.Context, tx *sql.Tx) error {
		put, err := tx.PrepareContext(ctx,
			`INSERT INTO host_states VALUES (?,?) ON CONFLICT (host) DO UPDATE SET state=excluded.state`)
		if err != nil {
			return err
		}
		defer put.Close()
		for host, state := range states {
			if _, err := put.ExecContext(ctx, host, state); err != nil {
				return err
			}
		}
		return saveSums(ctx, tx, sums)
	})
}

func saveSums(ctx context.Context, tx *sql.Tx, sums []Sums) error {
	if len(sums) == 0 {
		return nil
	}
	put, err := tx.PrepareContext(ctx, `INSERT INTO latest_numbers (host, numbers, since) VALUES (?,?,?)
		ON CONFLICT (host) DO UPDATE SET numbers=excluded.numbers, since=excluded.since`)
	if err != nil {
		return err
	}
	defer put.Close()
	for _, x := range sums {
		if _, err := put.ExecContext(ctx, x.Host, x.Numbers, x.Since); err != nil {
			return err
		}
	}
	return nil
}

// inState runs a transaction of state.db, which the end of ctx does not end.
func (s *Store) inState(ctx context.Context, f func(context.Context, *sql.Tx) error) error {
	ctx = context.WithoutCancel(ctx)
	tx, err := s.state.BeginTx(ctx, nil)
	if err != nil {
		return s.wrote("state.db", err)
	}
	defer tx.Rollback() //nolint:errcheck // after a commit it has nothing to do
	if err := f(ctx, tx); err != nil {
		return s.wrote("state.db", err)
	}
	return s.wrote("state.db", tx.Commit())
}

// Prune removes what nobody asks for any more: manifests that no host is assigned and that are not among those to
// keep. It answers how many went.
func (s *Store) Prune(ctx context.Context, keep []string) (manifests int64, err error) {
	err = s.Update(ctx, func(t *Tx) error {
		res, err := t.execResult(
			`DELETE FROM manifests WHERE hash NOT IN (SELECT hash FROM assignments) AND hash NOT IN (SELECT value FROM json_each(?))`,
			text(keep),
		)
		if err != nil {
			return err
		}
		manifests, err = res.RowsAffected()
		return err
	})
	return manifests, err
}
