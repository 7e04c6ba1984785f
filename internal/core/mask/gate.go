package mask

import (
	"math/bits"
	"regexp/syntax"
	"unicode"
)

// sequence is a run of bytes, each of a class, that any match of an expression must hold. It is looked for by
// shift-and (R. Baeza-Yates and G. Gonnet, A new approach to text searching, 1992), which takes one step a byte. When
// whole, the run is all of the expression, but for assertions at its ends.
type sequence struct {
	table       [256]uint64
	length      int
	whole       bool
	before, end []syntax.EmptyOp // assertions of a whole one

	sample byteSet // of the longest part whose bytes are all of one small set; a byte of each stride is looked at
	stride int     // bytes of that part; 0 when there is none
}

// maxSequence is how many bytes fit the word of shift-and.
const maxSequence = 64

// required derives the longest run of classes from an expression; nil when there is none of two bytes or more.
func required(expression string) *sequence {
	tree, err := syntax.Parse(expression, syntax.Perl)
	if err != nil {
		return nil
	}
	p := parts{}
	p.whole = true
	p.add(tree.Simplify())
	p.cut()
	if len(p.best) < 2 {
		return nil
	}
	s := &sequence{length: len(p.best), whole: p.whole, before: p.before, end: p.after}
	for i, c := range p.best {
		for b := range 256 {
			if c[b/64]>>(b%64)&1 != 0 {
				s.table[b] |= 1 << i
			}
		}
	}
	s.sampled(p.best)
	return s
}

// smallSet is how many bytes a set may have for its bytes to be rare in a text.
const smallSet = 16

// sampled finds the longest part of the run whose bytes are of one small set.
func (s *sequence) sampled(run []class) {
	for from := range run {
		var all class
		for to := from; to < len(run); to++ {
			for i := range all {
				all[i] |= run[to][i]
			}
			if all.size() > smallSet {
				break
			}
			if n := to + 1 - from; n > s.stride && n >= 3 {
				s.stride, s.sample = n, byteSet{}
				for b := range 256 {
					s.sample[b] = all[b/64]>>(b%64)&1 != 0
				}
			}
		}
	}
}

// class is a set of bytes.
type class [4]uint64

func (c *class) size() int {
	n := 0
	for _, w := range c {
		n += bits.OnesCount64(w)
	}
	return n
}

func (c *class) put(b rune) { c[b/64] |= 1 << (b % 64) }

// parts gathers runs of classes as it goes through a tree from left to right.
type parts struct {
	now, best     []class
	whole         bool
	before, after []syntax.EmptyOp
}

func (p *parts) cut() {
	if len(p.now) > len(p.best) {
		p.best = p.now
	}
	p.now = nil
}

// give up on the run at hand: what comes is not one class after another.
func (p *parts) broken() {
	p.cut()
	p.whole = false
}

func (p *parts) add(t *syntax.Regexp) {
	switch t.Op {
	case syntax.OpEmptyMatch:
	case syntax.OpLiteral:
		for _, r := range t.Rune {
			if c, ok := letter(r, t.Flags&syntax.FoldCase != 0); ok && len(p.now) < maxSequence && len(p.after) == 0 {
				p.now = append(p.now, c)
			} else {
				p.broken()
			}
		}
	case syntax.OpCharClass:
		var c class
		for i := 0; i+1 < len(t.Rune); i += 2 {
			if t.Rune[i+1] > unicode.MaxASCII {
				p.broken()
				return
			}
			for r := t.Rune[i]; r <= t.Rune[i+1]; r++ {
				c.put(r)
			}
		}
		if len(p.now) == maxSequence || len(p.after) > 0 {
			p.broken()
			return
		}
		p.now = append(p.now, c)
	case syntax.OpCapture:
		p.add(t.Sub[0])
	case syntax.OpConcat:
		for _, s := range t.Sub {
			p.add(s)
		}
	case syntax.OpPlus: // once at least, and what follows may not follow at once
		p.add(t.Sub[0])
		p.broken()
	case syntax.OpWordBoundary,
		syntax.OpNoWordBoundary,
		syntax.OpBeginLine,
		syntax.OpEndLine,
		syntax.OpBeginText,
		syntax.OpEndText:
		op := map[syntax.Op]syntax.EmptyOp{syntax.OpWordBoundary: syntax.EmptyWordBoundary,
			syntax.OpNoWordBoundary: syntax.EmptyNoWordBoundary, syntax.OpBeginLine: syntax.EmptyBeginLine,
			syntax.OpEndLine: syntax.EmptyEndLine, syntax.OpBeginText: syntax.EmptyBeginText,
			syntax.OpEndText: syntax.EmptyEndText}[t.Op]
		switch {
		case len(p.now) == 0 && len(p.best) == 0:
			p.before = append(p.before, op)
		default:
			p.after = append(p.after, op)
		}
	default:
		p.broken()
	}
}

// letter is the class of one character, small and large when case does not matter.
func letter(r rune, fold bool) (c class, ok bool) {
	if r > unicode.MaxASCII {
		return c, false
	}
	c.put(r)
	if fold {
		for f := unicode.SimpleFold(r); f != r; f = unicode.SimpleFold(f) {
			if f > unicode.MaxASCII { // the Kelvin sign, and the long s
				return c, false
			}
			c.put(f)
		}
	}
	return c, true
}

// next finds the end of the run at or after a place; -1 when it is not there.
func (s *sequence) next(text []byte, from int) int {
	if s.stride == 0 {
		return s.scan(text, from)
	}
	for i := from + s.stride - 1; i < len(text); i += s.stride {
		if s.sample[text[i]] {
			if at := s.scan(text[:min(len(text), i+s.length)], max(from, i-s.length+1)); at >= 0 {
				return at
			}
		}
	}
	return -1
}

// scan is next, byte by byte.
func (s *sequence) scan(text []byte, from int) int {
	state, last := uint64(0), uint64(1)<<(s.length-1)
	for i := from; i < len(text); i++ {
		state = (state<<1 | 1) & s.table[text[i]]
		if state&last != 0 {
			return i + 1
		}
	}
	return -1
}

// holds tells whether the assertions at the ends of a whole run are met.
func (s *sequence) holds(text []byte, start, end int) bool {
	return asserted(text, start, s.before) && asserted(text, end, s.end)
}

func asserted(text []byte, at int, ops []syntax.EmptyOp) bool {
	if len(ops) == 0 {
		return true
	}
	before, after := rune(-1), rune(-1)
	if at > 0 {
		before = rune(text[at-1])
	}
	if at < len(text) {
		after = rune(text[at])
	}
	have := syntax.EmptyOpContext(before, after)
	for _, op := range ops {
		if have&op == 0 {
			return false
		}
	}
	return true
}
