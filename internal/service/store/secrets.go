package store

import (
	"context"
	"database/sql"
	"time"
)

// Secret is what may be told of a secret; its sealed versions are rows of their own.
type Secret struct {
	Name, About, Owner string
	CreatedAt          time.Time
	Version            int
	SetAt              time.Time
	SetBy              string
	ExpiresAt          time.Time // of its value, where that is known
}

const secretColumns = `SELECT name, about, owner, created_at, version, set_at, set_by, expires_at FROM secrets`

func scanSecret(r *sql.Rows) (s Secret, err error) {
	var created, set, expires string
	err = r.Scan(&s.Name, &s.About, &s.Owner, &created, &s.Version, &set, &s.SetBy, &expires)
	s.CreatedAt, s.SetAt, s.ExpiresAt = unstamp(created), unstamp(set), unstamp(expires)
	return s, err
}

// Secrets returns all secrets by name.
func (s *Store) Secrets(ctx context.Context) ([]Secret, error) {
	return list(ctx, s.read, scanSecret, secretColumns+` ORDER BY name`)
}

// Secret returns one.
func (t *Tx) Secret(name string) (Secret, error) {
	return one(t.ctx, t, scanSecret, secretColumns+` WHERE name=?`, name)
}

// PutSecret writes a secret with the sealed value of its version. The version before stays, since hosts may still run
// it; older ones go.
func (t *Tx) PutSecret(s Secret, sealed []byte) error {
	t.tell(SecretChanged{s.Name, s.Version})
	if err := t.exec(`INSERT INTO secrets VALUES (?,?,?,?,?,?,?,?) ON CONFLICT (name) DO UPDATE SET about=excluded.about, owner=excluded.owner,
		version=excluded.version, set_at=excluded.set_at, set_by=excluded.set_by, expires_at=excluded.expires_at`,
		s.Name, s.About, s.Owner, stamp(s.CreatedAt), s.Version, stamp(s.SetAt), s.SetBy,
		stamp(s.ExpiresAt)); err != nil {
		return err
	}
	if err := t.exec(`DELETE FROM secret_versions WHERE name=? AND version < ?`, s.Name, s.Version-1); err != nil {
		return err
	}
	return t.exec(`INSERT INTO secret_versions VALUES (?,?,?)`, s.Name, s.Version, sealed)
}

// DescribeSecret writes what is said of a secret.
func (t *Tx) DescribeSecret(s Secret) error {
	return t.exec(`UPDATE secrets SET about=?, owner=?, expires_at=? WHERE name=?`, s.About, s.Owner,
		stamp(s.ExpiresAt),
		s.Name)
}

// RemoveSecret removes a secret with its versions and grants.
func (t *Tx) RemoveSecret(name string) error {
	t.tell(SecretChanged{Name: name})
	for _, q := range []string{`DELETE FROM secret_versions WHERE name=?`, `DELETE FROM grants WHERE secret=?`,
		`DELETE FROM secrets WHERE name=?`} {
		if err := t.exec(q, name); err != nil {
			return err
		}
	}
	return nil
}

// SealedSecret returns the sealed value of a version.
func (s *Store) SealedSecret(ctx context.Context, name string, version int) ([]byte, error) {
	return one(
		ctx,
		s.read,
		func(r *sql.Rows) (b []byte, err error) { return b, r.Scan(&b) },
		`SELECT sealed FROM secret_versions WHERE name=? AND version=?`,
		name,
		version,
	)
}

// Grant lets somebody set one secret.
type Grant struct {
	ID                 string
	Hash               []byte
	Who, Secret        string
	CreatedAt          time.Time
	CreatedBy          string
	ExpiresAt, EndedAt time.Time
}

// Grants returns all grants, newest first.
func (s *Store) Grants(ctx context.Context) ([]Grant, error) {
	return list(ctx, s.read, func(r *sql.Rows) (g Grant, err error) {
		var created, expires, ended string
		err = r.Scan(&g.ID, &g.Hash, &g.Who, &g.Secret, &created, &g.CreatedBy, &expires, &ended)
		g.CreatedAt, g.ExpiresAt, g.EndedAt = unstamp(created), unstamp(expires), unstamp(ended)
		return g, err
	}, `SELECT id, hash, who, secret, created_at, created_by, expires_at, ended_at FROM grants ORDER BY created_at DESC`)
}

// PutGrant writes a grant.
func (t *Tx) PutGrant(g Grant) error {
	return t.exec(
		`INSERT INTO grants VALUES (?,?,?,?,?,?,?,?)`,
		g.ID,
		g.Hash,
		g.Who,
		g.Secret,
		stamp(g.CreatedAt),
		g.CreatedBy,
		stamp(g.ExpiresAt),
		stamp(g.EndedAt),
	)
}

// EndGrant ends a grant of a secret.
func (t *Tx) EndGrant(secret, id string, at time.Time) error {
	res, err := t.execResult(
		`UPDATE grants SET ended_at=? WHERE secret=? AND id=? AND ended_at=''`,
		stamp(at),
		secret,
		id,
	)
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return Missingf("there is no grant %s for the secret %s", id, secret)
	}
	return nil
}
