package store

import (
	"context"
	"database/sql"
	"time"
)

// NoticeState is what a notice knows of its alerts, as JSON.
type NoticeState struct {
	Name   string
	Spoken time.Time
	Alerts string
}

// Message is a message of a notice to one of its ways, as JSON. Done is zero while it is on its way.
type Message struct {
	ID      int64
	Notice  string
	Way     int // from 0
	ToWhom  string
	Message string
	Made    time.Time
	Tries   int
	Next    time.Time
	Done    time.Time
	Error   string // of the last try that failed
}

func milli(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixMilli()
}

func fromMilli(v int64) time.Time {
	if v == 0 {
		return time.Time{}
	}
	return time.UnixMilli(v).UTC()
}

// SaveNotice writes the alerts of a notice, and messages that are to go out, in one commit: neither is without the
// other.
func (s *Store) SaveNotice(ctx context.Context, n NoticeState, messages []Message) error {
	ctx = context.WithoutCancel(ctx)
	tx, err := s.state.BeginTx(ctx, nil)
	if err != nil {
		return s.wrote("state.db", err)
	}
	defer tx.Rollback() //nolint:errcheck // after a commit it has nothing to do
	if _, err := tx.ExecContext(ctx, `INSERT INTO notices VALUES (?,?,?) ON CONFLICT (name) DO UPDATE SET
		spoken=excluded.spoken, alerts=excluded.alerts`, n.Name, milli(n.Spoken), n.Alerts); err != nil {
		return s.wrote("state.db", err)
	}
	for _, m := range messages {
		if _, err := tx.ExecContext(ctx, `INSERT INTO messages (notice, way, to_whom, message, made, tries, next, done,
			error) VALUES (?,?,?,?,?,0,?,0,'')`, m.Notice, m.Way, m.ToWhom, m.Message, milli(m.Made),
			milli(m.Made)); err != nil {
			return s.wrote("state.db", err)
		}
	}
	return s.wrote("state.db", tx.Commit())
}

// NoticeStates returns what all notices know.
func (s *Store) NoticeStates(ctx context.Context) ([]NoticeState, error) {
	return list(ctx, s.stateRead, func(r *sql.Rows) (n NoticeState, err error) {
		var spoken int64
		err = r.Scan(&n.Name, &spoken, &n.Alerts)
		n.Spoken = fromMilli(spoken)
		return n, err
	}, `SELECT name, spoken, alerts FROM notices`)
}

const messageColumns = `SELECT id, notice, way, to_whom, message, made, tries, next, done, error FROM messages `

func scanMessage(r *sql.Rows) (m Message, err error) {
	var made, next, done int64
	err = r.Scan(&m.ID, &m.Notice, &m.Way, &m.ToWhom, &m.Message, &made, &m.Tries, &next, &done, &m.Error)
	m.Made, m.Next, m.Done = fromMilli(made), fromMilli(next), fromMilli(done)
	return m, err
}

// DueMessages are messages on their way that are to be tried by a time, the oldest first.
func (s *Store) DueMessages(ctx context.Context, by time.Time, most int) ([]Message, error) {
	return list(ctx, s.stateRead, scanMessage, messageColumns+`WHERE done = 0 AND next <= ? ORDER BY id LIMIT ?`,
		milli(by), most)
}

// Messages are the newest messages of a notice, or with "" of all.
func (s *Store) Messages(ctx context.Context, notice string, most int) ([]Message, error) {
	return list(ctx, s.stateRead, scanMessage, messageColumns+`WHERE notice = ? OR ? = '' ORDER BY id DESC LIMIT ?`,
		notice, notice, most)
}

// MessageTried writes how a message went.
func (s *Store) MessageTried(ctx context.Context, m Message) error {
	_, err := s.state.ExecContext(context.WithoutCancel(ctx),
		`UPDATE messages SET tries=?, next=?, done=?, error=? WHERE id=?`, m.Tries, milli(m.Next), milli(m.Done),
		m.Error,
		m.ID)
	return s.wrote("state.db", err)
}

// PruneMessages removes messages that went before a time.
func (s *Store) PruneMessages(ctx context.Context, before time.Time) error {
	_, err := s.state.ExecContext(ctx, `DELETE FROM messages WHERE done > 0 AND done < ?`, milli(before))
	return s.wrote("state.db", err)
}

// Maintenance is hosts of which nothing is told until a time.
type Maintenance struct {
	ID           int
	Hosts        string // a choice of hosts
	Began, Until time.Time
	Who, Word    string
}

// AddMaintenance begins one, and answers its number.
func (s *Store) AddMaintenance(ctx context.Context, m Maintenance) (int, error) {
	res, err := s.state.ExecContext(context.WithoutCancel(ctx),
		`INSERT INTO maintenance (hosts, began, until, who, word) VALUES (?,?,?,?,?)`, m.Hosts, milli(m.Began),
		milli(m.Until), m.Who, m.Word)
	if err != nil {
		return 0, s.wrote("state.db", err)
	}
	id, err := res.LastInsertId()
	return int(id), s.wrote("state.db", err)
}

// EndMaintenance ends one.
func (s *Store) EndMaintenance(ctx context.Context, id int, at time.Time) error {
	res, err := s.state.ExecContext(context.WithoutCancel(ctx), `UPDATE maintenance SET until=? WHERE id=? AND until > ?`,
		milli(at), id, milli(at))
	if err != nil {
		return s.wrote("state.db", err)
	}
	if n, err := res.RowsAffected(); err == nil && n == 0 {
		return Missingf("there is no maintenance %d that is under way", id)
	}
	return nil
}

// Maintenances are those that end after a time.
func (s *Store) Maintenances(ctx context.Context, after time.Time) ([]Maintenance, error) {
	return list(ctx, s.stateRead, func(r *sql.Rows) (m Maintenance, err error) {
		var began, until int64
		err = r.Scan(&m.ID, &m.Hosts, &began, &until, &m.Who, &m.Word)
		m.Began, m.Until = fromMilli(began), fromMilli(until)
		return m, err
	}, `SELECT id, hosts, began, until, who, word FROM maintenance WHERE until > ? ORDER BY id`, milli(after))
}
