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
	// Syslog is either of RFC 6587's two ways, by what arrives: a message that begins with a digit has its length
	// before it, any other ends at a line feed.
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
}

// New begins a connection. A message of more than most bytes is given in pieces, which are marked but the last.
func New(kind Kind, most int) Cutter { return Cutter{kind: kind, most: most} }

// Piece is a message at the front of what came, or a piece of one: Size bytes were used, Body of them after Skip.
type Piece struct {
	Skip, Body, Size int
	Truncated        bool
}

// Next cuts one message off the front of data. It answers ok=false when more must come first; with end, which says
// that nothing will, what is there is the last message. Blank frames give pieces without a body.
func (c *Cutter) Next(data []byte, end bool) (p Piece, ok bool, err error) {
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
		if !c.torn && data[0] >= '0' && data[0] <= '9' {
			return c.count(data, end)
		}
	}
	return c.until(data, '\n', end)
}

// Counts tells whether what comes next is a message of known length.
func (c *Cutter) Counts(data []byte) bool {
	return c.left > 0 || c.kind == OctetCount || c.kind == Syslog && !c.torn && len(data) > 0 && data[0] >= '0' &&
		data[0] <= '9'
}

// until cuts at a byte.
func (c *Cutter) until(data []byte, at byte, end bool) (Piece, bool, error) {
	i := bytes.IndexByte(data[:min(len(data), c.most+1)], at)
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
	n, i := 0, 0
	for ; i < len(data) && i <= mostDigits && data[i] >= '0' && data[i] <= '9'; i++ {
		n = 10*n + int(data[i]-'0')
	}
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
