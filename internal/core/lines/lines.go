// Package lines cuts a stream of bytes into records: one line each, or several lines from one that begins a record
// to the next that does. The same bytes give the same records however they arrive in pieces.
package lines

import (
	"bytes"
	"fmt"
	"regexp"
	"slices"
	"unicode/utf16"
	"unicode/utf8"
)

// MaxRecord bounds one record, in bytes, where its source says nothing else. What is longer is cut there, and each
// piece is marked but the last, which looks like any line.
const MaxRecord = 1 << 20

// MostRecord bounds what a source may say.
const MostRecord = 16 << 20

// Encodings are how bytes can be characters. Of utf-16 the byte order is that of its mark, or what it looks like.
var Encodings = []string{"utf-8", "utf-16", "utf-16le", "utf-16be", "latin-1"}

// Spec says how to cut.
type Spec struct {
	Begin    string // RE2; empty: each line is a record
	Most     int    // bytes of one record; 0 for MaxRecord
	Encoding string // one of Encodings; empty for utf-8
}

// Cutter cuts. It keeps no state between calls and is safe for use by many goroutines.
type Cutter struct {
	begin    *regexp.Regexp
	most     int
	encoding string
}

// Compile prepares a cutter; the error says what is wrong with the expression.
func Compile(s Spec) (*Cutter, error) {
	c := &Cutter{most: s.Most, encoding: s.Encoding}
	if c.most <= 0 {
		c.most = MaxRecord
	}
	c.most = min(c.most, MostRecord)
	if s.Encoding != "" && !slices.Contains(Encodings, s.Encoding) {
		return nil, fmt.Errorf("encoding %q is not known", s.Encoding)
	}
	if s.Begin != "" {
		re, err := regexp.Compile(s.Begin)
		if err != nil {
			return nil, fmt.Errorf("records.begin: %w", err)
		}
		c.begin = re
	}
	return c, nil
}

// Most is the bound of one record, in bytes.
func (c *Cutter) Most() int { return c.most }

// Lines tells whether each line is a record, so that an ended line is complete without seeing what follows.
func (c *Cutter) Lines() bool { return c.begin == nil }

// Piece is one record at the front of what is left: Size bytes were used, Body of them after Skip, without a byte
// order mark and without the line ending.
type Piece struct {
	Skip, Body, Size int
	Truncated        bool
}

// Cursor cuts one stretch of a stream.
type Cursor struct {
	c       *Cutter
	data    []byte
	used    int
	first   bool // the stretch is the stream's beginning
	order   byte // of utf-16: 'l' or 'b'; 0 when a byte is a character
	simple  bool // and each line is a record
	scratch []byte
}

// Over begins to cut a stretch of bytes that begins at an offset of its stream.
func (c *Cutter) Over(data []byte, offset int64) Cursor {
	k := Cursor{c: c, data: data, first: offset == 0}
	switch c.encoding {
	case "utf-16le":
		k.order = 'l'
	case "utf-16be":
		k.order = 'b'
	case "utf-16":
		k.order = byteOrder(data, k.first)
	}
	k.simple = k.order == 0 && c.begin == nil
	return k
}

// byteOrder looks at the mark, or at which bytes are mostly zero: line ends, spaces and letters have theirs.
func byteOrder(data []byte, first bool) byte {
	if first && len(data) >= 2 && data[0] == 0xfe && data[1] == 0xff {
		return 'b'
	}
	if first && len(data) >= 2 && data[0] == 0xff && data[1] == 0xfe {
		return 'l'
	}
	even, odd := 0, 0
	for i := 0; i+1 < min(len(data), 4096); i += 2 {
		if data[i] == 0 {
			even++
		}
		if data[i+1] == 0 {
			odd++
		}
	}
	if even > odd {
		return 'b'
	}
	return 'l'
}

// Used is how many bytes were taken.
func (k *Cursor) Used() int { return k.used }

// Take goes on behind a piece.
func (k *Cursor) Take(p Piece) { k.used += p.Size }

// Line takes one line off the front of what is left, where each is a record and nothing about it is out of the
// ordinary; size is 0 where Next must look. Of size bytes body are its own.
func (k *Cursor) Line() (body, size int) {
	if !k.simple || k.used == 0 && k.first {
		return 0, 0
	}
	i := bytes.IndexByte(k.data[k.used:], '\n')
	if i < 0 || i >= k.c.most {
		return 0, 0
	}
	size = i + 1
	if i > 0 && k.data[k.used+i-1] == '\r' {
		i--
	}
	k.used += size
	return i, size
}

// Next cuts one record off the front of what is left. It answers ok=false when no complete record is there: more data
// may complete it, or flush, which takes what is there as complete.
func (k *Cursor) Next(flush bool) (p Piece, ok bool) {
	data := k.data[k.used:]
	if len(data) == 0 {
		return Piece{}, false
	}
	most := k.c.most
	window := data[:min(len(data), most)]
	end := k.lineEnd(window)
	switch {
	case end < 0 && len(data) >= most:
		size := k.whole(window)
		p = Piece{Body: size, Size: size, Truncated: true}
	case end < 0 && !flush:
		return Piece{}, false
	case end < 0:
		p = Piece{Body: k.trimmed(data), Size: len(data)}
	case k.c.begin == nil:
		p = Piece{Body: k.trimmed(data[:end]), Size: end}
	default:
		if p, ok = k.several(data, window, end, flush); !ok {
			return p, false
		}
	}
	if k.first && k.used == 0 {
		p.Skip = k.mark(data)
		p.Skip = min(p.Skip, p.Body)
		p.Body -= p.Skip
	}
	return p, true
}

// several goes on from the first line to the one that begins the next record.
func (k *Cursor) several(data, window []byte, pos int, flush bool) (p Piece, ok bool) {
	most := k.c.most
	for {
		next := k.lineEnd(window[pos:])
		switch {
		case next >= 0 || (flush && pos < len(data) && len(data) < most):
			stop := len(data)
			if next >= 0 {
				stop = pos + next
			}
			line := data[pos:stop]
			if k.begins(line[:k.trimmed(line)]) {
				return Piece{Body: k.trimmed(data[:pos]), Size: pos}, true
			}
			pos = stop
			if next < 0 {
				return Piece{Body: k.trimmed(data), Size: len(data)}, true
			}
		case len(data) >= most:
			return Piece{Body: k.trimmed(data[:pos]), Size: pos, Truncated: true}, true
		case flush:
			return Piece{Body: k.trimmed(data[:pos]), Size: pos}, true
		default:
			return Piece{}, false
		}
	}
}

func (k *Cursor) begins(line []byte) bool {
	if k.order != 0 || k.c.encoding == "latin-1" {
		k.scratch = k.Decode(k.scratch[:0], line)
		line = k.scratch
	}
	return k.c.begin.Match(line)
}

// lineEnd is where the first line of p ends, behind its newline; -1 when it does not.
func (k *Cursor) lineEnd(p []byte) int {
	for from := 0; ; {
		i := bytes.IndexByte(p[from:], '\n')
		if i < 0 {
			return -1
		}
		i += from
		switch {
		case k.order == 0:
			return i + 1
		case k.order == 'l' && i%2 == 0 && i+1 < len(p) && p[i+1] == 0:
			return i + 2
		case k.order == 'b' && i%2 == 1 && p[i-1] == 0:
			return i + 1
		}
		from = i + 1
	}
}

// trimmed is the length of p without its line ending.
func (k *Cursor) trimmed(p []byte) int {
	n := len(p)
	for _, c := range []byte{'\n', '\r'} {
		switch {
		case k.order == 0 && n > 0 && p[n-1] == c:
			n--
		case k.order == 'l' && n > 1 && p[n-2] == c && p[n-1] == 0,
			k.order == 'b' && n > 1 && p[n-1] == c && p[n-2] == 0:
			n -= 2
		}
	}
	return n
}

// whole is how much of p can be cut off without cutting a character.
func (k *Cursor) whole(p []byte) int {
	n := len(p)
	if k.order != 0 {
		return max(n&^1, 2)
	}
	if k.c.encoding == "latin-1" {
		return n
	}
	for back := 1; back < utf8.UTFMax && back < n; back++ {
		if c := p[n-back]; utf8.RuneStart(c) {
			if !utf8.FullRune(p[n-back:]) {
				return n - back
			}
			break
		}
	}
	return n
}

// mark is the length of the byte order mark at the front of p.
func (k *Cursor) mark(p []byte) int {
	switch {
	case k.order == 'l' && bytes.HasPrefix(p, []byte("\xff\xfe")),
		k.order == 'b' && bytes.HasPrefix(p, []byte("\xfe\xff")):
		return 2
	case k.order == 0 && k.c.encoding != "latin-1" && bytes.HasPrefix(p, []byte("\xef\xbb\xbf")):
		return 3
	}
	return 0
}

// Decode appends bytes of the stream as UTF-8. Half a pair of utf-16 becomes U+FFFD.
func (k *Cursor) Decode(dst, p []byte) []byte {
	if k.order == 0 {
		if k.c.encoding != "latin-1" {
			return append(dst, p...)
		}
		for _, c := range p {
			dst = utf8.AppendRune(dst, rune(c))
		}
		return dst
	}
	unit := func(i int) rune {
		if k.order == 'b' {
			return rune(p[i])<<8 | rune(p[i+1])
		}
		return rune(p[i+1])<<8 | rune(p[i])
	}
	i := 0
	for ; i+1 < len(p); i += 2 {
		r := unit(i)
		if utf16.IsSurrogate(r) {
			low := rune(-1)
			if i+3 < len(p) {
				low = unit(i + 2)
			}
			if r = utf16.DecodeRune(r, low); r != utf8.RuneError {
				i += 2
			}
		}
		dst = utf8.AppendRune(dst, r)
	}
	if i < len(p) {
		dst = utf8.AppendRune(dst, utf8.RuneError)
	}
	return dst
}
