package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"time"
)

// File is a file of definitions: a relative path with slashes, and its text, byte for byte.
type File struct{ Path, Text string }

// DraftState is what became of a draft.
type DraftState string

// The states of a draft. An open one becomes published or discarded, and stays so.
const (
	DraftOpen      DraftState = "open"
	DraftPublished DraftState = "published"
	DraftDiscarded DraftState = "discarded"
	DraftUnchanged DraftState = "unchanged" // it was not made, since its files change nothing
)

// Draft is a set of changes that is not in force.
type Draft struct {
	ID            int
	Title, Author string
	CreatedAt     time.Time
	Base          int  // the revision that it was made on
	Whole         bool // its files are the whole wanted state
	State         DraftState
	Revision      int // that it became
	Files         []File
	Edits         []DraftEdit
}

// DraftEdit is what a draft does to one definition, over what its files say: another text, or none.
type DraftEdit struct {
	Kind, Name, Text string
	Removed          bool
	Base             int // the newest revision when it was made
	Who              string
	At               time.Time
}

// PutDraftEdit writes an edit of a draft.
func (t *Tx) PutDraftEdit(draft int, e DraftEdit) error {
	return t.exec(
		`INSERT INTO draft_edits VALUES (?,?,?,?,?,?,?,?) ON CONFLICT (draft, kind, name) DO UPDATE SET text=excluded.text,
		removed=excluded.removed, base=excluded.base, who=excluded.who, at=excluded.at`,
		draft,
		e.Kind,
		e.Name,
		e.Text,
		e.Removed,
		e.Base,
		e.Who,
		stamp(e.At),
	)
}

// RemoveDraftEdit takes an edit back.
func (t *Tx) RemoveDraftEdit(draft int, kind, name string) error {
	return t.exec(`DELETE FROM draft_edits WHERE draft=? AND kind=? AND name=?`, draft, kind, name)
}

// AddDraft writes a new draft and returns its number.
func (t *Tx) AddDraft(d Draft) (int, error) {
	res, err := t.execResult(`INSERT INTO drafts (title, author, created_at, base, whole, state) VALUES (?,?,?,?,?,?)`,
		d.Title, d.Author, stamp(d.CreatedAt), d.Base, d.Whole, DraftOpen)
	if err != nil {
		return 0, err
	}
	id, err := res.LastInsertId()
	if err != nil {
		return 0, err
	}
	for _, f := range d.Files {
		if err := t.exec(`INSERT INTO draft_files VALUES (?,?,?)`, id, f.Path, f.Text); err != nil {
			return 0, err
		}
	}
	return int(id), nil
}

// EndDraft closes a draft as published or discarded.
func (t *Tx) EndDraft(id int, state DraftState, revision int) error {
	return t.exec(`UPDATE drafts SET state=?, revision=? WHERE id=?`, state, revision, id)
}

const draftColumns = `SELECT id, title, author, created_at, base, whole, state, revision FROM drafts `

func scanDraft(r *sql.Rows) (d Draft, err error) {
	var created string
	err = r.Scan(&d.ID, &d.Title, &d.Author, &created, &d.Base, &d.Whole, &d.State, &d.Revision)
	d.CreatedAt = unstamp(created)
	return d, err
}

// Drafts returns the open drafts, newest first.
func (s *Store) Drafts(ctx context.Context) ([]Draft, error) {
	all, err := list(ctx, s.read, scanDraft, draftColumns+`WHERE state=? ORDER BY id DESC`, DraftOpen)
	for i := range all {
		if err == nil {
			err = fill(ctx, s.read, &all[i])
		}
	}
	return all, err
}

// Draft returns one draft with its files.
func (s *Store) Draft(ctx context.Context, id int) (Draft, error) {
	d, err := one(ctx, s.read, scanDraft, draftColumns+`WHERE id=?`, id)
	if err != nil {
		return d, err
	}
	return d, fill(ctx, s.read, &d)
}

// Draft returns one draft as the change sees it.
func (t *Tx) Draft(id int) (Draft, error) {
	d, err := one(t.ctx, t, scanDraft, draftColumns+`WHERE id=?`, id)
	if err != nil {
		return d, err
	}
	return d, fill(t.ctx, t, &d)
}

// fill reads what a draft holds.
func fill(ctx context.Context, from queryer, d *Draft) (err error) {
	if d.Files, err = list(ctx, from, scanFile, `SELECT file, text FROM draft_files WHERE draft=? ORDER BY file`,
		d.ID); err != nil {
		return err
	}
	d.Edits, err = list(ctx, from, func(r *sql.Rows) (e DraftEdit, err error) {
		var at string
		err = r.Scan(&e.Kind, &e.Name, &e.Text, &e.Removed, &e.Base, &e.Who, &at)
		e.At = unstamp(at)
		return e, err
	}, `SELECT kind, name, text, removed, base, who, at FROM draft_edits WHERE draft=? ORDER BY kind, name`, d.ID)
	return err
}

func scanFile(r *sql.Rows) (f File, err error) { return f, r.Scan(&f.Path, &f.Text) }

// Revision is a published state of the catalogue.
type Revision struct {
	Number                 int
	Title, Message, Author string
	CreatedAt              time.Time
	Draft                  int
	Definitions            []RevisionDefinition
	Files                  []File
}

// RevisionDefinition tells what a definition means in a revision and since when.
type RevisionDefinition struct {
	Kind, Name, Digest string
	Changed            int // revision in which its meaning last changed
}

// Head is the number of the newest revision, 0 when there is none, as the change sees it.
func (t *Tx) Head() (int, error) {
	n, err := one(t.ctx, t, scanInt, `SELECT coalesce(max(number), 0) FROM revisions`)
	return n, err
}

func scanInt(r *sql.Rows) (n int, err error) { return n, r.Scan(&n) }

// Head is the number of the newest revision, 0 when there is none.
func (s *Store) Head(ctx context.Context) (int, error) {
	return one(ctx, s.read, scanInt, `SELECT coalesce(max(number), 0) FROM revisions`)
}

// AddRevision writes a revision.
func (t *Tx) AddRevision(r Revision) error {
	if err := t.exec(`INSERT INTO revisions VALUES (?,?,?,?,?,?)`, r.Number, r.Title, r.Message, r.Author, stamp(
		r.CreatedAt), r.Draft); err != nil {
		return err
	}
	for _, f := range r.Files {
		h := sha256.Sum256([]byte(f.Text))
		sum := hex.EncodeToString(h[:])
		if err := t.exec(`INSERT INTO texts VALUES (?,?) ON CONFLICT DO NOTHING`, sum, f.Text); err != nil {
			return err
		}
		if err := t.exec(`INSERT INTO revision_files VALUES (?,?,?)`, r.Number, f.Path, sum); err != nil {
			return err
		}
	}
	for _, d := range r.Definitions {
		if err := t.exec(`INSERT INTO revision_definitions VALUES (?,?,?,?,?)`, r.Number, d.Kind, d.Name, d.Digest,
			d.Changed); err != nil {
			return err
		}
	}
	return nil
}

const revisionColumns = `SELECT number, title, message, author, created_at, draft FROM revisions `

func scanRevision(r *sql.Rows) (v Revision, err error) {
	var created string
	err = r.Scan(&v.Number, &v.Title, &v.Message, &v.Author, &created, &v.Draft)
	v.CreatedAt = unstamp(created)
	return v, err
}

// Revisions returns all revisions without their content, newest first.
func (s *Store) Revisions(ctx context.Context) ([]Revision, error) {
	return list(ctx, s.read, scanRevision, revisionColumns+`ORDER BY number DESC`)
}

// Revision returns one revision with its files and definitions.
func (s *Store) Revision(ctx context.Context, number int) (Revision, error) {
	v, err := one(ctx, s.read, scanRevision, revisionColumns+`WHERE number=?`, number)
	if err != nil {
		return v, err
	}
	v.Files, err = list(
		ctx,
		s.read,
		scanFile,
		`SELECT f.file, t.text FROM revision_files f JOIN texts t ON t.sum = f.sum WHERE f.revision=? ORDER BY f.file`,
		number,
	)
	if err != nil {
		return v, err
	}
	v.Definitions, err = list(ctx, s.read, func(r *sql.Rows) (d RevisionDefinition, err error) {
		return d, r.Scan(&d.Kind, &d.Name, &d.Digest, &d.Changed)
	}, `SELECT kind, name, digest, changed FROM revision_definitions WHERE revision=? ORDER BY kind, name`, number)
	return v, err
}

// Manifest is what a host should run, kept once by its hash.
type Manifest struct {
	Hash, Host string
	Revision   int
	Renderer   string
	Text       string
	Secrets    []string // that the host needs, as NAME@VERSION
}

// Assignment is the one manifest that a host should run now.
type Assignment struct {
	Host, Hash        string
	Revision, Rollout int // Rollout 0: the baseline given at the join
	AssignedAt        time.Time
	LeftOut           string // sources that it cannot run, in words
	Pinned            bool   // the rollout was for chosen hosts, which keep it when others go on
	Who               string // whose change it was
	Seen              *Seen  // what it was rendered from; nil when that was not written down
}

// Seen is what a host was like, and what else counted, when its manifest was rendered.
type Seen struct {
	Labels   map[string]string `json:"labels,omitempty"`
	Settings map[string]string `json:"settings,omitempty"`
	OS       string            `json:"os,omitempty"`
	Arch     string            `json:"arch,omitempty"`
	System   string            `json:"system,omitempty"`
	Renderer string            `json:"renderer"`
	Secrets  []string          `json:"secrets,omitempty"` // as NAME@VERSION
}

// Assign writes a manifest, makes it the host's desired one, and adds it to the host's history.
func (t *Tx) Assign(a Assignment, m Manifest) error {
	t.tell(Assigned{a})
	if err := t.exec(`INSERT INTO manifests (hash, host, revision, renderer, text, secrets) VALUES (?,?,?,?,?,?) ON CONFLICT DO NOTHING`, m.Hash, m.Host, m.Revision, m.Renderer, m.Text, text(m.Secrets)); err != nil {
		return err
	}
	seen := ""
	if a.Seen != nil {
		seen = text(a.Seen)
	}
	if err := t.exec(`INSERT INTO host_history VALUES (?,?,?,?,?,?,?) ON CONFLICT (host, at) DO UPDATE SET hash=excluded.hash,
		revision=excluded.revision, rollout=excluded.rollout, who=excluded.who, seen=excluded.seen`,
		a.Host, stamp(a.AssignedAt), a.Hash, a.Revision, a.Rollout, a.Who, seen); err != nil {
		return err
	}
	return t.exec(`INSERT INTO assignments (host, hash, revision, rollout, assigned_at, left_out, seen, pinned, who)
		VALUES (?,?,?,?,?,?,?,?,?) ON CONFLICT (host) DO UPDATE SET hash=excluded.hash, revision=excluded.revision,
		rollout=excluded.rollout, assigned_at=excluded.assigned_at, left_out=excluded.left_out, seen=excluded.seen,
		pinned=excluded.pinned, who=excluded.who`,
		a.Host, a.Hash, a.Revision, a.Rollout, stamp(a.AssignedAt), a.LeftOut, seen, a.Pinned, a.Who)
}

// Unassign takes away what a host is assigned.
func (t *Tx) Unassign(host string) error {
	t.tell(Unassigned{host})
	return t.exec(`DELETE FROM assignments WHERE host=?`, host)
}

// Assignments returns the assignment of every host.
func (s *Store) Assignments(ctx context.Context) ([]Assignment, error) {
	return list(ctx, s.read, func(r *sql.Rows) (a Assignment, err error) {
		var at, seen string
		if err = r.Scan(&a.Host, &a.Hash, &a.Revision, &a.Rollout, &at, &a.LeftOut, &seen, &a.Pinned,
			&a.Who); err != nil {
			return a, err
		}
		a.AssignedAt = unstamp(at)
		a.Seen, err = readSeen(seen)
		return a, err
	}, `SELECT host, hash, revision, rollout, assigned_at, left_out, seen, pinned, who FROM assignments`)
}

// History is all that a host was assigned, newest first.
func (s *Store) History(ctx context.Context, host string) ([]Assignment, error) {
	return list(ctx, s.read, func(r *sql.Rows) (a Assignment, err error) {
		var at, seen string
		a.Host = host
		if err = r.Scan(&at, &a.Hash, &a.Revision, &a.Rollout, &a.Who, &seen); err != nil {
			return a, err
		}
		a.AssignedAt = unstamp(at)
		a.Seen, err = readSeen(seen)
		return a, err
	}, `SELECT at, hash, revision, rollout, who, seen FROM host_history WHERE host=? ORDER BY at DESC`, host)
}

func readSeen(text string) (*Seen, error) {
	if text == "" {
		return nil, nil
	}
	var s Seen
	return &s, json.Unmarshal([]byte(text), &s)
}

// Manifest returns a manifest by its hash.
func (s *Store) Manifest(ctx context.Context, hash string) (Manifest, error) {
	return one(ctx, s.read, func(r *sql.Rows) (m Manifest, err error) {
		var secrets string
		if err = r.Scan(&m.Hash, &m.Host, &m.Revision, &m.Renderer, &m.Text, &secrets); err == nil && secrets != "" {
			err = json.Unmarshal([]byte(secrets), &m.Secrets)
		}
		return m, err
	}, `SELECT hash, host, revision, renderer, text, secrets FROM manifests WHERE hash=?`, hash)
}
