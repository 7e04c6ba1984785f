package store

import (
	"context"
	"database/sql"
	"fmt"
	"sync"
)

// The store is where facts change. Every change is a function that the one writer runs inside a transaction: it reads
// what it needs, decides and writes. What waits while a commit is under way goes into the next one together, each
// change behind a savepoint of its own, so that many small changes cost few commits. After a commit, and in its order,
// followers are told what changed, before anybody who waits for the change goes on. So memory is a projection of the
// store, and a commit that fails leaves it as it was.

// Change is something that a commit changed. Its types are those below.
type Change interface{ changed() }

// Follower hears what commits change, in their order. It is called by the writer, so it must not write itself.
type Follower func(changes []Change)

// Follow adds a follower. It must be called before the first change that it must not miss.
func (s *Store) Follow(f Follower) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.followers = append(s.followers, f)
}

// maxGroup bounds how many changes share a commit.
const maxGroup = 256

// job is one change that waits for the writer.
type job struct {
	change func(*Tx) error
	alone  bool
	made   []Change
	err    error
	panics any
	done   chan struct{}
}

// writer runs changes one after the other on a connection of its own.
type writer struct {
	conn   *sql.Conn
	ctx    context.Context
	jobs   chan *job
	closed chan struct{}
	ended  sync.WaitGroup
	stmts  map[string]*sql.Stmt
}

func newWriter(ctx context.Context, db *sql.DB) (*writer, error) {
	ctx = context.WithoutCancel(ctx)
	conn, err := db.Conn(ctx)
	if err != nil {
		return nil, err
	}
	return &writer{
		conn:   conn,
		ctx:    ctx,
		jobs:   make(chan *job),
		closed: make(chan struct{}),
		stmts:  map[string]*sql.Stmt{},
	}, nil
}

// Update makes a change; when it returns without an error the change is on disk and followers have heard of it. The
// change decides by what it reads through the Tx; nothing that was read before may decide inside it.
func (s *Store) Update(_ context.Context, change func(*Tx) error) error {
	return s.submit(change, false)
}

// Alone is Update in a commit of its own: while the change runs, what followers keep is what the database holds, so
// the change may also decide by that.
func (s *Store) Alone(_ context.Context, change func(*Tx) error) error { return s.submit(change, true) }

func (s *Store) submit(change func(*Tx) error, alone bool) error {
	j := &job{change: change, alone: alone, done: make(chan struct{})}
	select {
	case s.writer.jobs <- j:
	case <-s.writer.closed:
		return fmt.Errorf("the store is closed: %w", sql.ErrConnDone)
	}
	<-j.done
	if j.panics != nil {
		panic(j.panics)
	}
	return j.err
}

// runWriter takes changes until the store is closed.
func (s *Store) runWriter() {
	w := s.writer
	var held *job
	for {
		j := held
		if held = nil; j == nil {
			select {
			case j = <-w.jobs:
			case <-w.closed:
				return
			}
		}
		group := []*job{j}
		for waits := !j.alone; waits && len(group) < maxGroup; {
			select {
			case next := <-w.jobs:
				if next.alone {
					held, waits = next, false
				} else {
					group = append(group, next)
				}
			default:
				waits = false
			}
		}
		s.commit(group)
	}
}

// commit runs a group of changes in one transaction, tells followers, and answers.
func (s *Store) commit(group []*job) {
	w := s.writer
	err := w.exec("BEGIN IMMEDIATE")
	wrote := false
	for _, j := range group {
		if err != nil {
			break
		}
		if err = w.exec("SAVEPOINT one"); err != nil {
			break
		}
		t := &Tx{w: w, ctx: w.ctx}
		j.panics, j.err = try(j.change, t)
		if j.err != nil || j.panics != nil {
			err = w.exec("ROLLBACK TO one")
		} else {
			j.made, wrote = t.made, true
		}
		if err == nil {
			err = w.exec("RELEASE one")
		}
	}
	if err == nil && wrote {
		err = s.failing()
	}
	if err == nil {
		err = w.exec("COMMIT")
	}
	if err != nil {
		_ = w.exec("ROLLBACK") // there may be nothing to roll back
	}
	told := err
	if wrote || err != nil {
		told = s.wrote("catalogue.db", err)
	}
	s.mu.Lock()
	followers := s.followers
	s.mu.Unlock()
	for _, j := range group {
		switch {
		case j.err != nil:
			j.err = s.wrote("catalogue.db", j.err)
		case told != nil:
			j.err = told
		case len(j.made) > 0 && j.panics == nil:
			for _, f := range followers {
				f(j.made)
			}
		}
	}
	for _, j := range group {
		close(j.done)
	}
}

// try runs a change; one that panics does so for its caller and not for the writer.
func try(change func(*Tx) error, t *Tx) (panics any, err error) {
	defer func() { panics = recover() }()
	return nil, change(t)
}

func (s *Store) failing() error {
	s.mu.Lock()
	fail := s.fail
	s.mu.Unlock()
	if fail == nil {
		return nil
	}
	return fail()
}

// stmt prepares a statement once.
func (w *writer) stmt(query string) (*sql.Stmt, error) {
	if st, ok := w.stmts[query]; ok {
		return st, nil
	}
	st, err := w.conn.PrepareContext(w.ctx, query)
	if err == nil {
		w.stmts[query] = st
	}
	return st, err
}

func (w *writer) exec(query string, args ...any) error {
	st, err := w.stmt(query)
	if err == nil {
		_, err = st.ExecContext(w.ctx, args...)
	}
	return err
}

// close ends the writer after what is under way.
func (w *writer) close() error {
	close(w.closed)
	w.ended.Wait()
	for _, st := range w.stmts {
		_ = st.Close()
	}
	return w.conn.Close()
}

// Tx is a change of catalogue.db that is under way.
type Tx struct {
	w    *writer
	ctx  context.Context
	made []Change
}

// tell notes what the change changes.
func (t *Tx) tell(c Change) { t.made = append(t.made, c) }

// QueryContext reads inside the change.
func (t *Tx) QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	st, err := t.w.stmt(query)
	if err != nil {
		return nil, err
	}
	return st.QueryContext(ctx, args...)
}

func (t *Tx) exec(query string, args ...any) error { return t.w.exec(query, args...) }

func (t *Tx) execResult(query string, args ...any) (sql.Result, error) {
	st, err := t.w.stmt(query)
	if err != nil {
		return nil, err
	}
	return st.ExecContext(t.ctx, args...)
}
