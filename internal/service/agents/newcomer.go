package agents

import (
	"context"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/open-telemetry/opamp-go/protobufs"

	"synaxis/internal/core/inventory"
	"synaxis/internal/core/wire"
	"synaxis/internal/service/store"
)

// A machine that was copied brings the identity of the one that it was copied from. Both would be one host here, and each
// would take the other's place. They are told apart by the id of the machine, or, where that was copied too, by their
// sequence numbers: those of one agent only ever go up, those of two go to and fro. The one that came later gets a uid of its
// own and waits until a person has approved it.

// stream is the messages that one running agent sends.
type stream struct {
	conn *conn // nil when it polls
	last uint64
	born time.Time
	copy bool // it is the one that came later, and has yet to be told
}

func (s *stream) goesOn(n uint64, c *conn) bool {
	return !s.born.IsZero() && s.conn == c && n == s.last+1
}

// streams are the present one of a host, and the one before it.
type streams struct {
	now, before stream
	turns       int // how often the one before has spoken again
	turned      time.Time
	gap         bool
}

// enoughTurns is how often, each time within turnsLast of the last, an older stream must speak again before there are two
// agents. A message that comes late makes two turns.
const (
	enoughTurns = 4
	turnsLast   = 10 * time.Minute
)

// take notes a message. It tells why its sender is the copy of another agent, or "".
func (s *streams) take(n uint64, c *conn, now time.Time) string {
	s.gap = false
	switch {
	case s.now.goesOn(n, c):
		s.now.last = n
	case s.before.goesOn(n, c):
		s.now, s.before = s.before, s.now
		s.now.last = n
		if now.Sub(s.turned) > turnsLast {
			s.turns = 0
		}
		s.turned = now
		if s.turns++; s.turns >= enoughTurns {
			s.younger().copy = true
		}
	case c != nil && s.now.conn == c:
		s.now.last, s.gap = n, true
	default:
		s.gap = true
		s.before, s.now = s.now, stream{conn: c, last: n, born: now}
	}
	if s.now.copy {
		s.now, s.before, s.turns = s.before, stream{}, 0
		return "two agents with the identity of this host report at the same time, by turns"
	}
	return ""
}

func (s *streams) younger() *stream {
	if s.before.born.After(s.now.born) {
		return &s.before
	}
	return &s.now
}

// otherMachine tells whether a message comes from another machine than the host's. The fleet is locked.
func (h *host) otherMachine(msg *protobufs.AgentToServer) bool {
	d := msg.GetAgentDescription()
	if d == nil || h.view.HostID == "" {
		return false
	}
	id := ask(d, "").hostID
	return id != "" && id != h.view.HostID
}

// twin tells whether an agent that wants to join has the uid of another machine's. The fleet is not locked.
func (f *Fleet) twin(uid, hostID string) bool {
	f.mu.RLock()
	defer f.mu.RUnlock()
	h := f.byUID[uid]
	return h != nil && h.view.HostID != "" && hostID != "" && h.view.HostID != hostID
}

// newcomer is an agent that waits for approval.
type newcomer struct {
	store.Newcomer
	conn *conn
	seen time.Time
}

// tellApart gives the copy of an agent a uid of its own. Until it calls with that, it is nobody.
func (f *Fleet) tellApart(ctx context.Context, msg *protobufs.AgentToServer, host, why string, who caller, c *conn, answer *protobufs.ServerToAgent) (*protobufs.ServerToAgent, string, error) {
	now := f.now()
	id := wire.NewUID(now)
	uid := id[:]
	r := ask(msg.GetAgentDescription(), hex.EncodeToString(uid))
	n := store.Newcomer{ID: newID("n"), UID: r.uid, Credential: who.credential.ID, Host: host, HostID: r.hostID, Name: fact(r.name, maxAttribute), Origin: who.origin, Why: why, Since: now}
	waits := "" // one newcomer of a credential waits at a time
	// A copy that was told apart and starts from the same image again is still the same one.
	f.mu.Lock()
	for _, old := range f.newcomers {
		if old.Credential == n.Credential && old.HostID != "" && old.HostID == n.HostID {
			n.ID, n.UID, n.Since, n.DeniedAt, n.Approved = old.ID, old.UID, old.Since, old.DeniedAt, old.Approved
			uid, _ = hex.DecodeString(n.UID)
			waits = ""
			break
		}
		if old.Credential == n.Credential && old.DeniedAt.IsZero() && old.Approved == "" {
			waits = old.ID
		}
	}
	f.mu.Unlock()
	if waits != "" {
		return nil, "", Denied{fmt.Sprintf("this agent carries the identity of %s, and another copy of it waits for approval at the desk (%s); this one is told apart once that one is approved or denied", host, waits)}
	}
	if err := f.store.Update(ctx, func(t *store.Tx) error { return t.PutNewcomer(n) }); err != nil {
		return nil, "", err
	}
	f.mu.Lock()
	f.newcomers[n.UID] = &newcomer{Newcomer: n, seen: now}
	f.mu.Unlock()
	f.log.Warn("an agent carries the identity of another host and waits for approval", "host", host, "why", why)
	f.note("hosts")
	answer.AgentIdentification = &protobufs.AgentIdentification{NewInstanceUid: uid}
	return answer, "", nil
}

// takeNewcomer handles a message of an agent that was given a uid of its own and still has the other's credential.
func (f *Fleet) takeNewcomer(ctx context.Context, msg *protobufs.AgentToServer, uid string, who caller, c *conn, answer *protobufs.ServerToAgent) (*protobufs.ServerToAgent, string, error) {
	now := f.now()
	f.mu.Lock()
	n := f.newcomers[uid]
	if n == nil || n.Credential != who.credential.ID {
		f.mu.Unlock()
		return nil, "", Denied{"this credential belongs to another agent: state folders must not be copied between hosts; remove identity.json and join anew"}
	}
	n.seen, n.conn = now, c
	known := n.Name
	if d := msg.GetAgentDescription(); d != nil {
		r := ask(d, uid)
		n.Name, n.HostID = fact(r.name, maxAttribute), r.hostID
	}
	n.Origin = who.origin
	row := n.Newcomer
	f.mu.Unlock()
	if !row.DeniedAt.IsZero() {
		return nil, "", Denied{fmt.Sprintf("this agent came with a copy of the identity of %s and was turned away at the desk; to let it join, remove identity.json from its state folder and give it a join token", row.Host)}
	}
	if row.Name != known {
		if err := f.store.Update(ctx, func(t *store.Tx) error { return t.PutNewcomer(row) }); err != nil {
			return nil, "", err
		}
		f.note("hosts")
	}
	if row.Approved == "" {
		if c != nil {
			return nil, "", nil
		}
		return answer, "", nil
	}
	text, cred := offerCredential(uid, "", row.Approved, now)
	if err := f.store.Update(ctx, func(t *store.Tx) error {
		have, err := t.Host(row.Approved)
		if err != nil {
			return err
		}
		return f.give(t, store.Person{Name: "newcomer " + row.ID, Origin: who.origin}, cred, have.Labels)
	}); err != nil {
		return nil, "", err
	}
	f.mu.Lock()
	f.offered(cred)
	f.mu.Unlock()
	answer.ConnectionSettings = settings(text)
	return answer, "", nil
}

// Waiting is a newcomer and whether it is connected.
type Waiting struct {
	store.Newcomer
	Connected bool
}

// Newcomers lists the agents that wait for approval, oldest first.
func (f *Fleet) Newcomers() []Waiting {
	f.mu.RLock()
	defer f.mu.RUnlock()
	var out []Waiting
	for _, n := range f.newcomers {
		if n.DeniedAt.IsZero() && n.Approved == "" {
			out = append(out, Waiting{n.Newcomer, n.conn != nil || f.now().Sub(n.seen) < pollPatience})
		}
	}
	slices.SortFunc(out, func(a, b Waiting) int {
		if c := a.Since.Compare(b.Since); c != 0 {
			return c
		}
		return strings.Compare(a.ID, b.ID)
	})
	return out
}

func (f *Fleet) waiting(id string) (*newcomer, error) {
	f.mu.RLock()
	defer f.mu.RUnlock()
	for _, n := range f.newcomers {
		if n.ID == id && n.DeniedAt.IsZero() && n.Approved == "" {
			return n, nil
		}
	}
	return nil, store.Missingf("no newcomer %s waits; synaxis newcomer list shows those that do", id)
}

// Approve lets a newcomer join under a name. That of another host can only be taken while that one is away: the newcomer
// then is that host.
func (f *Fleet) Approve(ctx context.Context, who store.Person, id, name string, labels map[string]string) error {
	n, err := f.waiting(id)
	if err != nil {
		return err
	}
	if why := inventory.CheckName(name); why != "" {
		return Denied{fmt.Sprintf("%q: %s", name, why)}
	}
	now := f.now()
	f.mu.RLock()
	row := n.Newcomer
	var have store.Host
	connected := false
	if h := f.hosts[name]; h != nil {
		have, connected = h.view.Host, h.view.Connected
	}
	f.mu.RUnlock()
	if have.UID != "" && have.RetiredAt.IsZero() && connected {
		return Denied{fmt.Sprintf("%s is connected; choose another name for the newcomer, or retire %s first", name, name)}
	}
	row.Approved = name
	h := admitted(have, joinRequest{uid: row.UID, name: name, hostID: row.HostID}, labels, now)
	maps.Copy(h.Labels, labels)
	err = f.store.Update(ctx, func(t *store.Tx) error {
		if err := t.PutHost(h); err != nil {
			return err
		}
		if err := t.PutNewcomer(row); err != nil {
			return err
		}
		return t.Audit(who, now, "newcomer approve", id, map[string]string{"identityOf": row.Host, "origin": row.Origin}, map[string]any{"host": name, "labels": h.Labels})
	})
	if err != nil {
		return err
	}
	f.mu.Lock()
	n.Approved = name
	c := n.conn
	f.mu.Unlock()
	f.takeIn(h, nil)
	if c != nil {
		c.ws.CloseNow() // it calls again, and is given its credential
	}
	return nil
}

// Deny turns a newcomer away.
func (f *Fleet) Deny(ctx context.Context, who store.Person, id string) error {
	n, err := f.waiting(id)
	if err != nil {
		return err
	}
	now := f.now()
	f.mu.RLock()
	row := n.Newcomer
	f.mu.RUnlock()
	row.DeniedAt = now
	err = f.store.Update(ctx, func(t *store.Tx) error {
		if err := t.PutNewcomer(row); err != nil {
			return err
		}
		return t.Audit(who, now, "newcomer deny", id, map[string]string{"identityOf": row.Host, "origin": row.Origin}, nil)
	})
	if err != nil {
		return err
	}
	f.mu.Lock()
	n.DeniedAt = now
	c := n.conn
	f.mu.Unlock()
	if c != nil {
		c.ws.CloseNow()
	}
	f.note("hosts")
	return nil
}
