package format

import (
	"encoding/hex"
	"math"
	"strings"
	"sync"
	"time"
)

// The recogniser reads time stamps whose layout nobody gave: what programs of many years and countries write. It reads
// at the front of a text and says how much of it is the stamp. Where a date can be read in two ways, the separator
// decides, as it does for people: 02.04.2031 has the day first, 04/02/2031 the month, unless that is impossible.

// latestEpoch is the first nanosecond of the year 2100: what counts more seconds is a number.
const latestEpoch = 4102444800 * int64(time.Second)

// recognise reads a time stamp at the front of p. n is how many bytes it took.
func recognise(p []byte) (c civil, n int, ok bool) {
	if len(p) == 0 {
		return c, 0, false
	}
	if c, n, ok = isoStamp(p); ok { // by far the most, and the fastest
		return c, n, true
	}
	s := stamper{p: p}
	switch ch := p[0]; {
	case ch == '@':
		return tai64n(p)
	case ch == '[' || ch == '(' || ch == ' ':
		return civil{}, 0, false
	case ch >= '0' && ch <= '9':
		if s.compact() || s.numeric() || s.counted() || s.dayMonth() || s.clockFirst() {
			return s.done()
		}
		if c, n, ok = hexSeconds(p); ok {
			return c, n, true
		}
		if c, n, ok = epoch(p); ok && c.epoch > latestEpoch || c.epoch == math.MaxInt32*1e9 {
			return civil{}, 0, false // the largest number of a program's is no time
		}
		return c, n, ok
	}
	if c, n, ok = hexSeconds(p); ok {
		return c, n, true
	}
	if s.weekday(); s.n > 0 && (s.monthFirst() || s.dayMonth() || s.numeric() || s.zoneBefore()) {
		if c, n, ok = s.done(); ok {
			return c, n, true
		}
	}
	if s = (stamper{p: p}); s.monthFirst() { // where no date stood behind it, what may be a day's name is a month's
		return s.done()
	}
	if s = (stamper{p: p}); s.zoneBefore() { // UTC Apr  2 06:15:09 2031
		return s.done()
	}
	return civil{}, 0, false
}

// isoStamp reads YYYY-MM-DD and hh:mm with or without seconds, a fraction and an offset (ISO 8601, RFC 3339).
func isoStamp(p []byte) (c civil, n int, ok bool) {
	if len(p) < 16 || p[4] != '-' && p[4] != '/' && p[4] != '.' {
		return c, 0, false
	}
	var ok2, ok3, ok4, ok5 bool
	c.year, _, ok = digits(p, 4, 4)
	c.month, _, ok2 = digits(p[5:], 2, 2)
	c.day, _, ok3 = digits(p[8:], 2, 2)
	c.hour, _, ok4 = digits(p[11:], 2, 2)
	c.min, _, ok5 = digits(p[14:], 2, 2)
	if !(ok && ok2 && ok3 && ok4 && ok5) || p[7] != p[4] || p[13] != ':' ||
		(p[10] != 'T' && p[10] != ' ' && p[10] != 't' && p[10] != '_') {
		return civil{}, 0, false
	}
	n = 16
	if len(p) >= 19 && p[16] == ':' {
		if c.sec, _, ok = digits(p[17:], 2, 2); !ok {
			return civil{}, 0, false
		}
		n = 19
	}
	c, n = isoTail(p, c, n)
	return c, n, c.valid()
}

// isoTail reads a fraction and a zone behind the n bytes of a stamp.
func isoTail(p []byte, c civil, n int) (civil, int) {
	if n == 19 && len(p) > 20 && (p[19] == '.' || p[19] == ',' || p[19] == ':') {
		if nano, k := fraction(p[20:]); k > 0 {
			c.nano = nano
			n = 20 + k
		}
	}
	if rest := p[n:]; len(rest) > 0 {
		if off, k, ok := zoneOffset(rest); ok {
			c.offset, c.hasOffset = off, true
			n += k
		} else if rest[0] == ' ' && len(rest) > 2 && (rest[1] < 'a' && rest[1] > '9' || rest[1] == ' ' ||
			rest[1] == '+' || rest[1] == '-' || rest[1]|0x20 == 'a' || rest[1]|0x20 == 'p') {
			s := stamper{p: p, n: n, c: c}
			s.clockTail()
			c, n = s.c, s.n
		}
	}
	return c, n
}

// stamper reads the parts of a stamp one after the other.
type stamper struct {
	p     []byte
	n     int
	c     civil
	clock bool // the time of day was read
	year  bool
	named bool // the month has its name: what follows may be prose
}

func (s *stamper) rest() []byte { return s.p[s.n:] }

func (s *stamper) at(c byte) bool { return s.n < len(s.p) && s.p[s.n] == c }

func (s *stamper) spaces() int {
	from := s.n
	for s.at(' ') {
		s.n++
	}
	return s.n - from
}

// done is the stamp, when it is a real one.
func (s *stamper) done() (civil, int, bool) {
	s.c.noYear = !s.year && !s.c.noDate
	if !s.clock && !s.year || s.c.hasPM && (s.c.hour < 1 || s.c.hour > 12) {
		return civil{}, 0, false
	}
	if s.c.hasPM {
		s.c.hour %= 12
		if s.c.pm {
			s.c.hour += 12
		}
	}
	return s.c, s.n, s.c.valid()
}

// back forgets what was read since a place.
func (s *stamper) back(to stamper) bool {
	*s = to
	return false
}

func (s *stamper) number(least, most int, into *int) bool {
	v, k, ok := digits(s.rest(), least, most)
	if ok {
		*into = v
		s.n += k
	}
	return ok
}

// clockFirst reads a time of day with seconds, and a date behind it; without one the day is not known.
func (s *stamper) clockFirst() bool {
	was := *s
	rest := s.rest()
	if len(rest) < 8 || rest[2] != ':' || rest[5] != ':' || !s.timeOfDay() || s.at(':') {
		return s.back(was)
	}
	s.clock = true
	s.clockTail()
	before := *s
	if s.spaces() > 0 {
		s.weekday()
		if s.numeric() || s.dayMonth() || s.monthFirst() {
			return true
		}
	}
	*s = before
	s.c.noDate, s.c.month, s.c.day = true, 1, 1
	return true
}

// toClock reads what stands between date and clock, the clock, and what follows it; without a clock nothing is read.
func (s *stamper) toClock() {
	was := *s
	if s.at(',') {
		s.n++
	}
	switch rest := s.rest(); {
	case len(rest) > 4 && string(rest[:4]) == " at ", len(rest) > 4 && string(rest[:4]) == " um ":
		s.n += 4
	case len(rest) > 3 && string(rest[:3]) == " - ":
		s.n += 3
	case len(rest) > 2 && string(rest[:2]) == "::" && rest[2] >= '0' && rest[2] <= '9':
		s.n += 2
	case len(rest) > 1 && (rest[0] == 'T' || rest[0] == 't' || rest[0] == '_' || rest[0] == ':' || rest[0] == '-') &&
		rest[1] >= '0' && rest[1] <= '9':
		s.n++
	default:
		s.spaces()
	}
	if s.n == was.n || !s.timeOfDay() {
		*s = was
		return
	}
	s.clock = true
	s.clockTail()
}

// timeOfDay reads h:mm, with seconds and a fraction; and hhmmss without colons.
func (s *stamper) timeOfDay() bool {
	was := *s
	v, k, ok := digits(s.rest(), 1, 6)
	if ok && (k == 6 || k == 4) && !s.named && (s.n+k == len(s.p) || s.p[s.n+k] != ':') {
		if k == 4 {
			v *= 100
		}
		s.c.hour, s.c.min, s.c.sec = v/10000, v/100%100, v%100
		s.n += k
	} else {
		if !s.number(1, 2, &s.c.hour) || !s.at(':') && !s.at('.') {
			return s.back(was)
		}
		sep := s.p[s.n]
		s.n++
		if !s.number(2, 2, &s.c.min) {
			return s.back(was)
		}
		if s.at(sep) {
			s.n++
			if !s.number(2, 2, &s.c.sec) {
				return s.back(was)
			}
		} else if sep == '.' {
			return s.back(was) // 12.30 is no clock
		}
	}
	if s.at('.') || s.at(',') || s.at(':') {
		if nano, k := fraction(s.p[s.n+1:]); k > 0 {
			s.c.nano = nano
			s.n += 1 + k
		}
	}
	return true
}

// clockTail reads AM or PM, a zone by name or offset, and words that say that this is a time.
func (s *stamper) clockTail() {
	was := *s
	s.spaces()
	if rest := s.rest(); len(rest) >= 2 && (rest[0]|0x20 == 'a' || rest[0]|0x20 == 'p') {
		n := 0
		switch {
		case rest[1]|0x20 == 'm':
			n = 2
		case len(rest) >= 4 && rest[1] == '.' && rest[2]|0x20 == 'm' && rest[3] == '.':
			n = 4
		}
		if n > 0 && (len(rest) == n || letters(rest[n:]) == 0) {
			s.c.hasPM, s.c.pm = true, rest[0]|0x20 == 'p'
			s.n += n
			was = *s
			s.spaces()
		} else {
			*s = was
			s.spaces()
		}
	}
	if rest := s.rest(); len(rest) >= 3 && string(rest[:3]) == "Uhr" {
		s.n += 3
		return
	}
	if off, k, ok := zoneOffset(s.rest()); ok &&
		(k > 1 || s.n == was.n || s.n+k == len(s.p) || letters(s.p[s.n+k:]) == 0) {
		s.c.offset, s.c.hasOffset = off, true
		s.n += k
		return
	}
	if s.zoneName() || s.zoneOfPlace() {
		return
	}
	*s = was
}

// zoneBefore reads a zone by its name that stands before the month.
func (s *stamper) zoneBefore() bool {
	was := *s
	if !s.zoneName() || s.spaces() == 0 {
		return s.back(was)
	}
	if s.monthFirst() || s.dayMonth() {
		return true
	}
	return s.back(was)
}

// zoneOfPlace reads a zone by its name in the tz database, such as Europe/Lisbon.
func (s *stamper) zoneOfPlace() bool {
	rest := s.rest()
	n, slash := 0, 0
	for n < len(rest) && n < longestZone && (letters(rest[n:n+1]) > 0 && rest[n] < 0x80 || n > 0 && strings.IndexByte(
		"/_-+", rest[n]) >= 0) {
		if rest[n] == '/' {
			slash = n
		}
		n++
	}
	if slash < 2 || slash == n-1 || n == len(rest) && n == longestZone || rest[0] < 'A' || rest[0] > 'Z' ||
		rest[slash+1] < 'A' ||
		rest[slash+1] > 'Z' {
		return false
	}
	zone, ok := zonesOfPlaces.Load(string(rest[:n]))
	if !ok {
		if CheckZone(string(rest[:n])) != nil { // not kept: lines hold many things with a slash
			return false
		}
		loc, err := time.LoadLocation(string(rest[:n]))
		if err != nil {
			return false
		}
		zone, _ = zonesOfPlaces.LoadOrStore(string(rest[:n]), loc)
	}
	s.c.place = zone.(*time.Location)
	s.n += n
	return true
}

// longestZone bounds the name of a zone, in bytes.
const longestZone = 40

// zonesOfPlaces are the zones that stamps have named so far, of some hundreds that there are.
var zonesOfPlaces sync.Map

// zoneName reads a zone by its name, with an offset behind UTC.
func (s *stamper) zoneName() bool {
	if n := letters(s.rest()); n >= 2 && n <= 5 {
		if off, ok := zoneNames[string(s.rest()[:n])]; ok {
			s.c.offset, s.c.hasOffset = off*60, true
			s.n += n
			rest := s.rest()
			if more, k, ok := zoneOffset(rest); ok && off == 0 && k > 1 { // UTC+02:00
				s.c.offset = more
				s.n += k
				// UTC+2
			} else if h, k, ok := digits(rest[min(1, len(rest)):], 1, 2); ok && off == 0 && k == 1 &&
				(rest[0] == '+' || rest[0] == '-') {
				s.c.offset = h * 3600
				if rest[0] == '-' {
					s.c.offset = -s.c.offset
				}
				s.n += 2
			}
			return true
		}
	}
	return false
}

// hexSeconds reads seconds since 1970 and nanoseconds, each as eight hexadecimal digits, with a dot between.
func hexSeconds(p []byte) (c civil, n int, ok bool) {
	const width = 17
	if len(p) < width || p[8] != '.' || len(p) > width && p[width] != ' ' {
		return c, 0, false
	}
	letters := false
	var v [2]uint64
	for i, ch := range p[:width] {
		switch {
		case i == 8:
			continue
		case ch >= 'a' && ch <= 'f':
			letters = true
			ch -= 'a' - 10
		case ch >= '0' && ch <= '9':
			ch -= '0'
		default:
			return c, 0, false
		}
		v[i/9] = v[i/9]<<4 | uint64(ch)
	}
	if !letters || v[0] < 1e9 || int64(v[0]) > latestEpoch/int64(time.Second) || v[1] >= uint64(time.Second) {
		return c, 0, false
	}
	c.isEpoch, c.epoch = true, int64(v[0])*int64(time.Second)+int64(v[1])
	return c, width, true
}

// tai64n reads a TAI64N label (cr.yp.to/libtai/tai64.html), as the programs that write it count: ten seconds before
// UTC.
func tai64n(p []byte) (c civil, n int, ok bool) {
	var b [12]byte
	if len(p) < 25 {
		return c, 0, false
	}
	if k, err := hex.Decode(b[:], p[1:25]); err != nil || k != 12 {
		return c, 0, false
	}
	var sec uint64
	for _, x := range b[:8] {
		sec = sec<<8 | uint64(x)
	}
	nano := int64(b[8])<<24 | int64(b[9])<<16 | int64(b[10])<<8 | int64(b[11])
	unix := int64(sec-1<<62) - 10
	if sec < 1<<62 || unix < 0 || unix > 1<<33 || nano >= int64(time.Second) {
		return c, 0, false
	}
	c.isEpoch, c.epoch = true, unix*int64(time.Second)+nano
	return c, 25, true
}
