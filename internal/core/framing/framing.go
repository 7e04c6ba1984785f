// Package framing cuts what comes over a connection into messages. The same bytes give the same messages however they
// arrive in pieces.
package framing

import (
	"bytes"
	"fmt"
)

// Kind is how one message ends and the next begins.
type Kind string

// The kinds.
const (
	Newline    Kind = "newline"     // at a line feed; a carriage return before it goes too
	Null       Kind = "null"        // at a zero byte
	Packet     Kind = "packet"      // one message a datagram
	OctetCount Kind = "octet-count" // its length in digits and a space stand before it (RFC 6587, section 3.4.1)
	// Syslog is either of RFC 6587's two ways, by what arrives. A message that begins with a number, a space and "<"
	// has its length before it, and one without "<" where another begins behind that length; and then each that begins
	// with a digit has. Any other ends at a line feed, or at a zero byte (section 3.4.2). Where the latest ended at a
	// zero byte, the next may hold line feeds: it ends at one only where the priority of another follows.
	Syslog Kind = "syslog"
)

// Kinds are what a definition may say.
var Kinds = []string{string(Newline), string(Null), string(Packet), string(OctetCount)}

// mostDigits bounds the digits of a length.
const mostDigits = 9

// Error says that what comes is no message of the kind. The connection can only be cut: nothing tells where the next
// message begins.
type Error struct{ What string }

func (e Error) Error() string { return e.What }

// Cutter cuts one connection.
type Cutter struct {
	kind Kind
	most int
	left int  // bytes of a message of known length that are still to come
	torn bool // what comes next belongs to a message of which a piece was given

	lengths bool // a message with its length before it has come
	nulls   bool // the latest message without one ended at a zero byte

	// how much of what waits was looked through for a zero byte and for a line feed, so that it is not again
	forNull, forLine int
}

// New begins a connection. A message of more than most bytes is given in pieces, which are marked but the last.
func New(kind Kind, most int) Cutter { return Cutter{kind: kind, most: most} }

// Piece is a message at the front of what came, or a piece of one: Size bytes were used, Body of them after Skip.
type Piece struct {
	Skip, Body, Size int
	Truncated        bool
}

// Next cuts one message off the front of data. It answers ok=false when more must come first, and is to be called with
// the same data and more then; with end, which says that nothing will come, what is there is the last message. Blank
// frames give pieces without a body.
func (c *Cutter) Next(data []byte, end bool) (p Piece, ok bool, err error) {
	if p, ok = c.line(data); !ok {
		p, ok, err = c.next(data, end)
	}
	if ok {
		c.forNull, c.forLine = max(0, c.forNull-p.Size), 0
	}
	return p, ok, err
}

// line cuts a message of Syslog as most are: a line, which is there.
func (c *Cutter) line(data []byte) (p Piece, ok bool) {
	if c.kind != Syslog || c.left > 0 || c.nulls || len(data) == 0 || data[0] != '<' {
		return p, false
	}
	i := bytes.IndexByte(data[:min(len(data), c.most+1)], '\n')
	if i < 0 {
		return p, false
	}
	if c.forNull <= i { // of all that waits at once, since one look at much costs less than many at little
		c.find(data, 0)
	}
	if c.forNull <= i {
		return p, false
	}
	c.torn = false
	return Piece{Body: trimmed(data[:i], '\n'), Size: i + 1}, true
}

func (c *Cutter) next(data []byte, end bool) (p Piece, ok bool, err error) {
	if len(data) == 0 {
		return Piece{}, false, nil
	}
	if c.left > 0 {
		return c.counted(data, 0, end)
	}
	switch c.kind {
	case Packet:
		n := min(len(data), c.most)
		return Piece{Body: n, Size: len(data), Truncated: n < len(data)}, true, nil
	case Null:
		return c.until(data, 0, end)
	case OctetCount:
		return c.count(data, end)
	case Syslog:
		switch has, known := c.hasLength(data, end); {
		case !known:
			return Piece{}, false, nil
		case has:
			c.lengths = true
			return c.count(data, end)
		case c.nulls:
			return c.untilNull(data, end)
		}
		return c.untilEither(data, end)
	}
	return c.until(data, '\n', end)
}

// Counts tells whether what comes next is a message of known length.
func (c *Cutter) Counts(data []byte) bool {
	if c.left > 0 || c.kind != Syslog {
		return c.left > 0 || c.kind == OctetCount
	}
	has, known := c.hasLength(data, false)
	return has && known
}

// hasLength tells whether a message of Syslog has its length before it; known is false when more must come to tell.
func (c *Cutter) hasLength(data []byte, end bool) (has, known bool) {
	if c.torn || len(data) == 0 || data[0] < '0' || data[0] > '9' {
		return false, true
	}
	if c.lengths {
		return true, true
	}
	n, i := number(data)
	switch {
	case data[0] == '0' || i > mostDigits || i < len(data) && data[i] != ' ':
		return false, true
	case i+1 >= len(data):
		return false, end
	case data[i+1] == '<':
		return true, true
	}
	// it may be a line that begins with a number: one of known length ends where another begins
	from, to := i+1, i+1+n
	switch at := c.find(data[:min(len(data), to-1)], '\n'); {
	case at >= from, n > c.most:
		return false, true
	case len(data) < to:
		return false, end
	case len(data) == to:
		return end, end
	}
	next := data[to:]
	if next[0] == '<' || next[0] == '\n' {
		return true, true
	}
	_, i = number(next)
	if i == len(next) && i <= mostDigits && !end {
		return false, false
	}
	return i > 0 && i < len(next) && next[i] == ' ', true
}

// number reads digits, one more than a length may have at most.
func number(data []byte) (n, digits int) {
	for digits < len(data) && digits <= mostDigits && data[digits] >= '0' && data[digits] <= '9' {
		n = 10*n + int(data[digits]-'0')
		digits++
	}
	return n, digits
}

// find looks for a byte where it was not looked for yet.
func (c *Cutter) find(data []byte, b byte) int {
	from := &c.forLine
	if b == 0 {
		from = &c.forNull
	}
	at := min(*from, len(data))
	i := bytes.IndexByte(data[at:], b)
	if i < 0 {
		*from = max(*from, len(data))
		return -1
	}
	*from = at + i
	return at + i
}

// untilEither cuts at a line feed or a zero byte.
func (c *Cutter) untilEither(data []byte, end bool) (Piece, bool, error) {
	front := data[:min(len(data), c.most+1)]
	if i := c.find(front, '\n'); i >= 0 {
		front = front[:i]
	}
	if c.find(front, 0) >= 0 {
		return c.untilNull(data, end)
	}
	return c.until(data, '\n', end)
}

// untilNull cuts at a zero byte, or at a line feed before another message.
func (c *Cutter) untilNull(data []byte, end bool) (Piece, bool, error) {
	front := data[:min(len(data), c.most+1)]
	if i := c.find(front, 0); i >= 0 {
		front = front[:i]
	}
	for {
		at := c.find(front, '\n')
		if at < 0 {
			break
		}
		switch begins, known := priority(data[at+1:], end); {
		case !known:
			return Piece{}, false, nil
		case begins:
			c.nulls, c.torn = false, false
			return Piece{Body: trimmed(data[:at], '\n'), Size: at + 1}, true, nil
		}
		c.forLine = at + 1
	}
	c.nulls = true
	return c.until(data, 0, end)
}

// priority tells whether data begins with a priority, "<" up to three digits ">"; known is false when more must come
// to tell.
func priority(data []byte, end bool) (begins, known bool) {
	for i := range 5 {
		switch {
		case i == len(data):
			return false, end
		case i == 0 && data[0] == '<', i > 0 && i < 4 && data[i] >= '0' && data[i] <= '9':
		default:
			return i > 1 && data[i] == '>', true
		}
	}
	return false, true
}

// until cuts at a byte.
func (c *Cutter) until(data []byte, at byte, end bool) (Piece, bool, error) {
	i := c.find(data[:min(len(data), c.most+1)], at)
	switch {
	case i < 0 && len(data) > c.most:
		c.torn = true
		return Piece{Body: c.most, Size: c.most, Truncated: true}, true, nil
	case i < 0 && !end:
		return Piece{}, false, nil
	case i < 0:
		c.torn = false
		return Piece{Body: trimmed(data, at), Size: len(data)}, true, nil
	}
	c.torn = false
	return Piece{Body: trimmed(data[:i], at), Size: i + 1}, true, nil
}

func trimmed(p []byte, at byte) int {
	if at == '\n' && len(p) > 0 && p[len(p)-1] == '\r' {
		return len(p) - 1
	}
	return len(p)
}

// count reads a length and what it is of.
func (c *Cutter) count(data []byte, end bool) (Piece, bool, error) {
	n, i := number(data)
	switch {
	case i == len(data) && i <= mostDigits && !end && data[0] != '0':
		return Piece{}, false, nil
	case i == 0 || i > mostDigits || i == len(data) || data[i] != ' ' || data[0] == '0':
		return Piece{}, false, Error{fmt.Sprintf("expected the length of a message and a space, found %q",
			data[:min(len(data), 20)])}
	}
	c.left = n
	return c.counted(data, i+1, end)
}

// counted takes what is left of a message of known length, after skip bytes.
func (c *Cutter) counted(data []byte, skip int, end bool) (Piece, bool, error) {
	have := len(data) - skip
	n := min(c.left, c.most)
	switch {
	case have < n && !end:
		if skip > 0 { // the length is read again
			c.left = 0
		}
		return Piece{}, false, nil
	case have < n: // the connection ended within it
		c.left = 0
		return Piece{Skip: skip, Body: have, Size: len(data), Truncated: true}, true, nil
	}
	c.left -= n
	return Piece{Skip: skip, Body: n, Size: skip + n, Truncated: c.left > 0}, true, nil
}
