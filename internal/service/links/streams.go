package links

import "time"

// Two agents with one identity are told apart, where the id of the machine was copied too, by their sequence numbers:
// those of one agent only ever go up, those of two go to and fro.

// stream is the messages that one running agent sends.
type stream struct {
	conn *Conn // nil when it polls
	last uint64
	born time.Time
	copy bool // it is the one that came later, and has yet to be told
}

func (s *stream) goesOn(n uint64, c *Conn) bool {
	return !s.born.IsZero() && s.conn == c && n == s.last+1
}

// streams are the present one of a host, and the one before it.
type streams struct {
	now, before stream
	turns       int // how often the one before has spoken again
	turned      time.Time
	gap         bool
}

// enoughTurns is how often, each time within turnsLast of the last, an older stream must speak again before there are
// two agents. A message that comes late makes two turns.
const (
	enoughTurns = 4
	turnsLast   = 10 * time.Minute
)

// take notes a message. It tells why its sender is the copy of another agent, or "".
func (s *streams) take(n uint64, c *Conn, now time.Time) string {
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
