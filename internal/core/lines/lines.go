// Package lines cuts a stream of bytes into records: one line each, or several lines from one that begins a record
// to the next that does. The same bytes give the same records however they arrive in pieces.
package lines

import (
	"bytes"
	"fmt"
	"regexp"
)

// MaxRecord bounds one record, in bytes. What is longer is cut there, and each piece is marked.
const MaxRecord = 1 << 20

// Spec says how to cut.
type Spec struct {
	Begin string // RE2; empty: each line is a record
}

// Cutter cuts. It keeps no state between calls and is safe for use by many goroutines.
type Cutter struct{ begin *regexp.Regexp }

// Compile prepares a cutter; the error says what is wrong with the expression.
func Compile(s Spec) (*Cutter, error) {
	if s.Begin == "" {
		return &Cutter{}, nil
	}
	re, err := regexp.Compile(s.Begin)
	if err != nil {
		return nil, fmt.Errorf("records.begin: %w", err)
	}
	return &Cutter{begin: re}, nil
}

// Piece is one record cut off the front of the data: Size bytes were used, Body of them without the line ending.
type Piece struct {
	Body, Size int
	Truncated  bool
}

// Lines tells whether each line is a record, so that an ended line is complete without seeing what follows.
func (c *Cutter) Lines() bool { return c.begin == nil }

// Next cuts one record off the front of data. It answers ok=false when no complete record is there: more data may
// complete it, or flush, which takes what is there as complete.
func (c *Cutter) Next(data []byte, flush bool) (p Piece, ok bool) {
	if len(data) == 0 {
		return Piece{}, false
	}
	window := data
	if len(window) > MaxRecord {
		window = window[:MaxRecord]
	}
	end := bytes.IndexByte(window, '\n')
	if end < 0 {
		if len(data) >= MaxRecord {
			return Piece{Body: MaxRecord, Size: MaxRecord, Truncated: true}, true
		}
		if !flush {
			return Piece{}, false
		}
		return Piece{Body: trimmed(data), Size: len(data)}, true
	}
	if c.begin == nil {
		return Piece{Body: trimmed(data[:end+1]), Size: end + 1}, true
	}
	for pos := end + 1; ; {
		next := bytes.IndexByte(window[pos:], '\n')
		switch {
		case next >= 0 || (flush && pos < len(data) && len(data) < MaxRecord):
			stop := len(data)
			if next >= 0 {
				stop = pos + next + 1
			}
			line := data[pos:stop]
			if c.begin.Match(line[:trimmed(line)]) {
				return Piece{Body: trimmed(data[:pos]), Size: pos}, true
			}
			pos = stop
			if next < 0 {
				return Piece{Body: trimmed(data), Size: len(data)}, true
			}
		case len(data) >= MaxRecord:
			return Piece{Body: trimmed(data[:pos]), Size: pos, Truncated: true}, true
		case flush:
			return Piece{Body: trimmed(data[:pos]), Size: pos}, true
		default:
			return Piece{}, false
		}
	}
}

// trimmed is the length of p without its line ending.
func trimmed(p []byte) int {
	n := len(p)
	if n > 0 && p[n-1] == '\n' {
		n--
	}
	if n > 0 && p[n-1] == '\r' {
		n--
	}
	return n
}
