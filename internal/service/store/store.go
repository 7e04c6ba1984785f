// Package store keeps the records of the service in two SQLite databases: catalogue.db, where every commit is on disk
// before it is acknowledged, and state.db, for what agents report, which may lose its last second.
package store

import (
	"context"
	"database/sql"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/pressly/goose/v3"
	"modernc.org/sqlite" // and the driver
	sqlitecodes "modernc.org/sqlite/lib"
)

//go:embed migrations
var migrations embed.FS

// ErrNotFound says that there is no such row.
var ErrNotFound = errors.New("not found")

// Missing is an ErrNotFound in words of its own.
type Missing string

// Missingf makes a Missing.
func Missingf(format string, args ...any) error { return Missing(fmt.Sprintf(format, args...)) }

func (m Missing) Error() string { return string(m) }

// Is makes it an ErrNotFound.
func (m Missing) Is(target error) bool { return target == ErrNotFound }

// Store is both databases. It is safe for concurrent use; writes go one after the other.
type Store struct {
	write, read *sql.DB // catalogue.db; the writer has the one connection of write
	state       *sql.DB // state.db, to write
	stateRead   *sql.DB // and to read what is much
	writer      *writer

	mu        sync.Mutex
	trouble   map[string]Trouble   // by database
	failed    map[string]time.Time // when a commit of a database failed last
	now       func() time.Time
	followers []Follower
	fail      func() error // for tests: the next commits fail with what it answers
}

// Trouble is why a database cannot be written now, and since when.
type Trouble struct {
	Reason string
	Since  time.Time
}

// Trouble tells why records cannot be written now; without Reason they can.
func (s *Store) Trouble() Trouble {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, name := range []string{"catalogue.db", "state.db"} {
		if t := s.trouble[name]; t.Reason != "" {
			return t
		}
	}
	return Trouble{}
}

// troubleStays is how long trouble outlives the last commit that failed: on a full disk a commit that needs no new
// page goes well between others that fail.
const troubleStays = 5 * time.Second

// wrote notes how a commit ended. What the caller decided is no trouble; what the database says is.
func (s *Store) wrote(name string, err error) error {
	told := explain(name, err)
	var e *sqlite.Error
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case err == nil:
		if s.now().Sub(s.failed[name]) >= troubleStays {
			delete(s.trouble, name)
		}
	case errors.As(err, &e) && e.Code()&0xff != sqlitecodes.SQLITE_CONSTRAINT, errors.Is(err, errTest):
		since := s.now()
		s.failed[name] = since
		if old, ok := s.trouble[name]; ok {
			since = old.Since
		}
		s.trouble[name] = Trouble{told.Error(), since}
	}
	return told
}

// errTest is what commits fail with that a test lets fail.
var errTest = errors.New("the disk is full")

// FailFor lets commits of catalogue.db fail as long as fails answers true, for tests of what then happens.
func (s *Store) FailFor(fails func() bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.fail = func() error {
		if fails() {
			return errTest
		}
		return nil
	}
}

// Probe writes a little into each database, so that one that cannot be written is noticed, and one that can again.
func (s *Store) Probe(ctx context.Context) error {
	err := s.Update(ctx, func(t *Tx) error { return t.SetMeta("probe", stamp(time.Now())) })
	return errors.Join(err, s.SaveStates(ctx, map[string]string{"": "{}"}, nil))
}

// Open opens or creates the databases in a folder and brings them up to date.
func Open(ctx context.Context, dir string) (*Store, error) {
	s := &Store{trouble: map[string]Trouble{}, failed: map[string]time.Time{}, now: time.Now}
	dir, err := filepath.Abs(dir) // a file: URL has no relative form
	if err != nil {
		return nil, err
	}
	for _, name := range []string{"catalogue.db", "state.db"} { // what SQLite puts beside them has their mode
		f, err := os.OpenFile(filepath.Join(dir, name), os.O_CREATE|os.O_RDWR, 0o600)
		if err != nil {
			return nil, fmt.Errorf("open %s: %w", name, err)
		}
		if err := f.Close(); err != nil {
			return nil, err
		}
	}
	if s.write, err = open(filepath.Join(dir, "catalogue.db"), "FULL", 1); err != nil {
		return nil, err
	}
	if s.state, err = open(filepath.Join(dir, "state.db"), "NORMAL", 1); err != nil {
		return nil, err
	}
	if err := migrate(ctx, s.write, "migrations/catalogue"); err != nil {
		return nil, fmt.Errorf("catalogue.db: %w", explain(filepath.Join(dir, "catalogue.db"), err))
	}
	if err := migrate(ctx, s.state, "migrations/state"); err != nil {
		return nil, fmt.Errorf("state.db: %w", explain(filepath.Join(dir, "state.db"), err))
	}
	if s.read, err = open(filepath.Join(dir, "catalogue.db"), "FULL", 4); err != nil {
		return nil, err
	}
	if s.stateRead, err = open(filepath.Join(dir, "state.db"), "NORMAL", 2); err != nil {
		return nil, err
	}
	if s.writer, err = newWriter(ctx, s.write); err != nil {
		return nil, err
	}
	s.writer.ended.Go(s.runWriter)
	return s, nil
}

func open(path, synchronous string, conns int) (*sql.DB, error) {
	q := url.Values{
		"_txlock": {"immediate"},
		"_pragma": {"journal_mode(WAL)", "synchronous(" + synchronous + ")", "busy_timeout(10000)", "foreign_keys(1)"},
	}
	db, err := sql.Open("sqlite", (&url.URL{Scheme: "file", Path: path, RawQuery: q.Encode()}).String())
	if err != nil {
		return nil, fmt.Errorf("open %s: %w", path, err)
	}
	db.SetMaxOpenConns(conns)
	return db, nil
}

func migrate(ctx context.Context, db *sql.DB, dir string) error {
	sub, err := fs.Sub(migrations, dir)
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectSQLite3, db, sub)
	if err != nil {
		return err
	}
	_, err = p.Up(ctx)
	return err
}

// Close closes both.
func (s *Store) Close() error {
	return errors.Join(s.writer.close(), s.read.Close(), s.write.Close(), s.stateRead.Close(), s.state.Close())
}

// Ping tells whether both answer.
func (s *Store) Ping(ctx context.Context) error {
	return errors.Join(s.read.PingContext(ctx), s.state.PingContext(ctx))
}

// Person is who makes a change, and from where.
type Person struct{ Name, Origin string }

// Audit notes a change by a person; before and after are written as JSON.
func (t *Tx) Audit(who Person, at time.Time, action, object string, before, after any) error {
	return t.exec(`INSERT INTO audit (at, who, origin, action, object, before, after) VALUES (?,?,?,?,?,?,?)`,
		stamp(at), who.Name, who.Origin, action, object, text(before), text(after))
}

// AuditEntry is one line of the audit.
type AuditEntry struct {
	ID                                         int
	At                                         time.Time
	Who, Origin, Action, Object, Before, After string
}

// AuditFilter chooses entries of the audit; what is empty holds for all.
type AuditFilter struct {
	Who, Action  string // Who may be a part of a name, in any case; Action the first word only
	Object, Text string // parts
	Since, Until time.Time
	Below        int // entries before this one
	Limit        int
}

// AuditEntries returns the newest entries that fit.
func (s *Store) AuditEntries(ctx context.Context, f AuditFilter) ([]AuditEntry, error) {
	query, args := `SELECT id, at, who, origin, action, object, before, after FROM audit WHERE 1`, []any{}
	add := func(cond string, given bool, values ...any) {
		if given {
			query, args = query+" AND "+cond, append(args, values...)
		}
	}
	add(`instr(lower(who), lower(?))`, f.Who != "", f.Who)
	add(`(action = ? OR substr(action, 1, length(?) + 1) = ? || ' ')`, f.Action != "", f.Action, f.Action, f.Action)
	add(`instr(object, ?)`, f.Object != "", f.Object)
	add(`(instr(before, ?) OR instr(after, ?))`, f.Text != "", f.Text, f.Text)
	// Stamps have fractions of any length, so that they compare as times only up to the second.
	add(`substr(at, 1, 19) >= ?`, !f.Since.IsZero(), f.Since.UTC().Format("2006-01-02T15:04:05"))
	add(`substr(at, 1, 19) < ?`, !f.Until.IsZero(), f.Until.UTC().Format("2006-01-02T15:04:05"))
	add(`id < ?`, f.Below > 0, f.Below)
	return list(ctx, s.read, func(r *sql.Rows) (e AuditEntry, err error) {
		var at string
		err = r.Scan(&e.ID, &at, &e.Who, &e.Origin, &e.Action, &e.Object, &e.Before, &e.After)
		e.At = unstamp(at)
		return e, err
	}, query+` ORDER BY id DESC LIMIT ?`, append(args, f.Limit)...)
}

func stamp(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(time.RFC3339Nano)
}

func unstamp(s string) time.Time {
	t, _ := time.Parse(time.RFC3339Nano, s)
	return t
}

func text(v any) string {
	if v == nil {
		return ""
	}
	b, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(b)
}

type queryer interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}

// list runs a query. Queries are short and run to their end: database/sql watches a context from a goroutine of its
// own, and the context of a request may be one that the router uses again as soon as the answer is out.
func list[T any](
	ctx context.Context,
	db queryer,
	scan func(*sql.Rows) (T, error),
	query string,
	args ...any,
) ([]T, error) {
	rows, err := db.QueryContext(context.WithoutCancel(ctx), query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []T
	for rows.Next() {
		v, err := scan(rows)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, rows.Err()
}

func one[T any](
	ctx context.Context,
	db queryer,
	scan func(*sql.Rows) (T, error),
	query string,
	args ...any,
) (T, error) {
	all, err := list(ctx, db, scan, query, args...)
	if err == nil && len(all) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		var zero T
		return zero, err
	}
	return all[0], nil
}

// Meta reads a value of its own, or "".
func (s *Store) Meta(ctx context.Context, key string) (string, error) {
	v, err := one(ctx, s.read, scanText, `SELECT value FROM meta WHERE key=?`, key)
	if errors.Is(err, ErrNotFound) {
		return "", nil
	}
	return v, err
}

func scanText(r *sql.Rows) (v string, err error) { return v, r.Scan(&v) }

// SetMeta writes a value of its own.
func (t *Tx) SetMeta(key, value string) error {
	return t.exec(`INSERT INTO meta VALUES (?,?) ON CONFLICT (key) DO UPDATE SET value=excluded.value`, key, value)
}
