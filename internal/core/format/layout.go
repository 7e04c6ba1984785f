package format

import (
	"fmt"
	"time"
)

// layout is a compiled strftime layout.
type layout struct {
	ops     []layoutOp
	hasZone bool
}

type layoutOp struct {
	verb    byte // 0: literal
	literal string
}

// shorthands are verbs that stand for several.
var shorthands = map[byte]string{
	'F': "%Y-%m-%d",
	'T': "%H:%M:%S",
	'D': "%m/%d/%y",
	'R': "%H:%M",
	'r': "%I:%M:%S %p",
	'c': "%a %b %e %H:%M:%S %Y",
	'h': "%b",
}

// compileLayout reads a strftime layout (POSIX strftime verbs, and %f for a fraction of a second).
func compileLayout(text string) (*layout, error) {
	l := &layout{}
	lit := ""
	flush := func() {
		if lit != "" {
			l.ops = append(l.ops, layoutOp{literal: lit})
			lit = ""
		}
	}
	for i := 0; i < len(text); i++ {
		if text[i] != '%' {
			lit += text[i : i+1]
			continue
		}
		if i++; i == len(text) {
			return nil, fmt.Errorf("time.layout ends in a single %%")
		}
		switch v := text[i]; v {
		case '%':
			lit += "%"
		case 'F', 'T', 'D', 'R', 'r', 'c', 'h':
			flush()
			short, err := compileLayout(shorthands[v])
			if err != nil {
				return nil, err
			}
			l.ops = append(l.ops, short.ops...)
		case 'Y', 'y', 'm', 'd', 'e', 'H', 'k', 'I', 'l', 'M', 'S', 'f', 'p', 'b', 'B', 'a', 'A', 'z', 'Z', 's', 'j':
			flush()
			l.ops = append(l.ops, layoutOp{verb: v})
			l.hasZone = l.hasZone || v == 'z' || v == 'Z' || v == 's'
		default:
			return nil, fmt.Errorf(
				"time.layout: %%%c is not known; known are %%Y %%y %%m %%d %%e %%j %%b %%B %%h %%a %%A %%H %%k %%I "+
					"%%l %%p %%M %%S %%f %%z %%Z %%s %%F %%T %%D %%R %%r %%c %%%%",
				v,
			)
		}
	}
	flush()
	return l, nil
}

// digits reads from least to most decimal digits at the front of p.
func digits(p []byte, least, most int) (v, n int, ok bool) {
	for n < len(p) && n < most && p[n] >= '0' && p[n] <= '9' {
		v = v*10 + int(p[n]-'0')
		n++
	}
	return v, n, n >= least
}

// fraction reads digits as a fraction of a second, in nanoseconds.
func fraction(p []byte) (nano, n int) {
	scale := 100_000_000
	for n < len(p) && p[n] >= '0' && p[n] <= '9' {
		nano += int(p[n]-'0') * scale
		scale /= 10
		n++
	}
	return nano, n
}

// offset reads Z, +hh:mm, +hhmm or +hh.
func zoneOffset(p []byte) (seconds, n int, ok bool) {
	if len(p) == 0 {
		return 0, 0, false
	}
	if p[0] == 'Z' || p[0] == 'z' {
		return 0, 1, true
	}
	if p[0] != '+' && p[0] != '-' {
		return 0, 0, false
	}
	if all, k, ok := digits(p[1:], 3, 4); ok && k == 3 && all < 15*60 &&
		all%15 == 0 { // in minutes, as databases write it
		seconds = all * 60
		if p[0] == '-' {
			seconds = -seconds
		}
		return seconds, 4, true
	}
	h, k, ok := digits(p[1:], 2, 2)
	if !ok {
		return 0, 0, false
	}
	n = 1 + k
	rest := p[n:]
	if len(rest) > 0 && rest[0] == ':' {
		rest = rest[1:]
	}
	m, k, ok := digits(rest, 2, 2)
	if ok {
		n = len(p) - len(rest) + k
	} else {
		m = 0
	}
	seconds = h*3600 + m*60
	if p[0] == '-' {
		seconds = -seconds
	}
	return seconds, n, h <= 18 && m < 60
}

// parse reads a time at the front of p and tells how many bytes it took.
func (l *layout) parse(p []byte) (c civil, n int, ok bool) {
	c = civil{month: 1, day: 1, noYear: true}
	yearDay := 0
	for _, op := range l.ops {
		rest := p[n:]
		var v, k int
		good := true
		switch op.verb {
		case 0:
			k = len(op.literal)
			good = len(rest) >= k && string(rest[:k]) == op.literal
		case 'Y':
			c.year, k, good = digits(rest, 4, 4)
			c.noYear = false
		case 'y':
			v, k, good = digits(rest, 2, 2)
			c.year, c.noYear = 2000+v, false
			if v >= 69 { // POSIX: 69 to 99 are of the last century
				c.year -= 100
			}
		case 'm':
			c.month, k, good = digits(rest, 1, 2)
		case 'd':
			c.day, k, good = digits(rest, 1, 2)
		case 'e', 'k', 'l': // filled up with a space
			pad := 0
			if len(rest) > 0 && rest[0] == ' ' {
				pad = 1
			}
			if v, k, good = digits(rest[pad:], 1, 2); op.verb == 'e' {
				c.day = v
			} else {
				c.hour = v
			}
			k += pad
		case 'j':
			yearDay, k, good = digits(rest, 1, 3)
		case 'H', 'I':
			c.hour, k, good = digits(rest, 1, 2)
		case 'p':
			good = len(rest) >= 2 && (rest[1] == 'M' || rest[1] == 'm')
			if k = 2; good {
				c.hasPM = true
				c.pm = rest[0] == 'P' || rest[0] == 'p'
				good = c.pm || rest[0] == 'A' || rest[0] == 'a'
			}
		case 'M':
			c.min, k, good = digits(rest, 2, 2)
		case 'S':
			c.sec, k, good = digits(rest, 2, 2)
		case 'f':
			c.nano, k = fraction(rest)
			good = k > 0
		case 'b', 'B':
			if c.month, k = monthName(rest); c.month == 0 && len(rest) > 3 { // with letters right behind it
				c.month, k = monthName(rest[:3])
			}
			good = c.month > 0
		case 'a', 'A':
			if k = dayName(rest); k == 0 && len(rest) > 3 {
				k = dayName(rest[:3])
			}
			good = k > 0
		case 'z':
			c.offset, k, good = zoneOffset(rest)
			c.hasOffset = true
		case 'Z':
			s := stamper{p: rest}
			good = s.zoneName()
			c.offset, c.hasOffset, k = s.c.offset, true, s.n
		case 's':
			c, k, good = epoch(rest)
		}
		if !good {
			return c, 0, false
		}
		n += k
	}
	if c.isEpoch {
		return c, n, true
	}
	if c.hasPM {
		if c.hour < 1 || c.hour > 12 {
			return c, 0, false
		}
		c.hour %= 12
		if c.pm {
			c.hour += 12
		}
	}
	if yearDay > 0 {
		d := time.Date(c.year, 1, yearDay, 0, 0, 0, 0, time.UTC)
		c.month, c.day = int(d.Month()), d.Day()
	}
	return c, n, c.valid()
}
