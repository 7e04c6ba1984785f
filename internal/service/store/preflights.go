package store

import (
	"context"
	"database/sql"
	"time"
)

// Preflight is what hosts found when they rehearsed a draft or a revision last; one of both is 0. Result is JSON.
type Preflight struct {
	Draft, Revision int
	At              time.Time
	Author, Result  string
}

// PutPreflight keeps a preflight in the place of the one before.
func (t *Tx) PutPreflight(p Preflight) error {
	return t.exec(`INSERT INTO preflights VALUES (?,?,?,?,?) ON CONFLICT (draft, revision) DO UPDATE SET at=excluded.at,
		author=excluded.author, result=excluded.result`, p.Draft, p.Revision, stamp(p.At), p.Author, p.Result)
}

// Preflight is the last one of a draft or revision, or ErrNotFound.
func (s *Store) Preflight(ctx context.Context, draft, revision int) (Preflight, error) {
	return one(ctx, s.read, func(r *sql.Rows) (p Preflight, err error) {
		var at string
		err = r.Scan(&p.Draft, &p.Revision, &at, &p.Author, &p.Result)
		p.At = unstamp(at)
		return p, err
	}, `SELECT draft, revision, at, author, result FROM preflights WHERE draft=? AND revision=?`, draft, revision)
}
