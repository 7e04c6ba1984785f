package format

import (
	"bytes"
	"encoding/hex"
	"time"
)

// The recogniser reads time stamps whose layout nobody gave: what programs of many years and countries write. It reads at the
// front of a text and says how much of it is the stamp. Where a date can be read in two ways, the separator decides, as it
// does for people: 02.04.2031 has the day first, 04/02/2031 the month, unless that is impossible.

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
		return epoch(p)
	}
	s.weekday()
	if s.monthFirst() || s.dayMonth() || s.n > 0 && s.numeric() {
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
	if !(ok && ok2 && ok3 && ok4 && ok5) || p[7] != p[4] || p[13] != ':' || (p[10] != 'T' && p[10] != ' ' && p[10] != 't' && p[10] != '_') {
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
		} else if rest[0] == ' ' && len(rest) > 2 && (rest[1] < 'a' && rest[1] > '9' || rest[1] == ' ' || rest[1] == '+' || rest[1] == '-' || rest[1]|0x20 == 'a' || rest[1]|0x20 == 'p') {
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

// longestName bounds the name of a month, in bytes.
const longestName = 24

// letters is how long the word at the front of p is, also of other alphabets than English.
func letters(p []byte) int {
	n := 0
	for n < len(p) && n < longestName && (p[n]|0x20 >= 'a' && p[n]|0x20 <= 'z' || p[n] >= 0x80) {
		n++
	}
	return n
}

func lower(p []byte, buf *[longestName]byte) []byte {
	for i, c := range p {
		if c >= 0x80 {
			return bytes.ToLower(p)
		}
		buf[i] = c | 0x20
	}
	return buf[:len(p)]
}

// weekday passes over the name of a day.
func (s *stamper) weekday() {
	was := *s
	n := dayName(s.rest())
	if n == 0 {
		return
	}
	s.n += n
	if s.at(',') || s.at('.') {
		s.n++
	}
	if s.spaces() == 0 {
		s.back(was)
	}
}

// dayName is how long the name of a day is at the front of p; 0 for none.
func dayName(p []byte) int {
	var buf [longestName]byte
	if n := letters(p); n >= 2 && weekdays[string(lower(p[:n], &buf))] {
		return n
	}
	return 0
}

// monthName is the month that is named at the front of p, and how long its name is; 0 for none.
func monthName(p []byte) (month, n int) {
	var buf [longestName]byte
	if n = letters(p); n < 3 {
		return 0, 0
	}
	return monthsOfTheWorld[string(lower(p[:n], &buf))], n
}

func (s *stamper) month() bool {
	m, n := monthName(s.rest())
	if m == 0 {
		return false
	}
	s.c.month = m
	s.n += n
	if s.at('.') {
		s.n++
	}
	return true
}

func (s *stamper) number(least, most int, into *int) bool {
	v, k, ok := digits(s.rest(), least, most)
	if ok {
		*into = v
		s.n += k
	}
	return ok
}

// monthFirst reads "Apr  2 06:15:09", "April 2, 2031 6:15 PM", "Apr 2 06:15:09 CET 2031".
func (s *stamper) monthFirst() bool {
	was := *s
	if !s.month() || !s.at(' ') && !s.at('-') && !s.at('/') {
		return s.back(was)
	}
	if s.spaces() == 0 {
		s.n++
	}
	if !s.number(1, 2, &s.c.day) {
		return s.back(was)
	}
	if s.at(',') {
		s.n++
	}
	before := *s
	if s.spaces() > 0 || s.at('-') || s.at('/') {
		if s.at('-') || s.at('/') {
			s.n++
		}
		if s.yearHere() {
			s.toClock()
			return true
		}
		*s = before
	}
	s.toClock()
	s.yearLast()
	return s.clock || s.year
}

// yearLast reads the year behind the clock, where none stood before it.
func (s *stamper) yearLast() {
	if s.clock && s.at(' ') && !s.year {
		before := *s
		s.n++
		if !s.yearHere() || s.at(':') && s.n+1 < len(s.p) && s.p[s.n+1] != ' ' { // which would be an address of IPv6
			*s = before
		}
	}
}

// yearHere reads a year of four digits that ends there.
func (s *stamper) yearHere() bool {
	y, k, ok := digits(s.rest(), 4, 4)
	if !ok || y < 1970 || y > 2199 || s.n+k < len(s.p) && (s.p[s.n+k] >= '0' && s.p[s.n+k] <= '9' || s.p[s.n+k] == '-' || s.p[s.n+k] == '.') {
		return false
	}
	s.c.year, s.year = y, true
	s.n += k
	return true
}

// dayMonth reads "02/Apr/2031:06:15:09 +0100", "2 April 2031 06:15", "02-Apr-31 06:15:09", "2. März 2031, 06:15 Uhr".
func (s *stamper) dayMonth() bool {
	was := *s
	if !s.number(1, 2, &s.c.day) {
		return s.back(was)
	}
	sep, glued := byte(0), s.n-was.n == 2 && letters(s.rest()) > 0
	if s.at('.') {
		s.n++
	}
	if glued { // 02Apr2031
	} else if s.spaces() == 0 {
		if !s.at('/') && !s.at('-') && !s.at('.') {
			return s.back(was)
		}
		sep = s.p[s.n]
		s.n++
	} else if rest := s.rest(); len(rest) > 3 && string(rest[:3]) == "de " { // 2 de abril de 2031
		s.n += 3
	}
	if !s.month() {
		return s.back(was)
	}
	before := *s
	switch {
	case glued:
		if short, k, ok := digits(s.rest(), 2, 4); ok && k == 4 && s.inReach(short) {
			s.c.year, s.year, s.n = short, true, s.n+k
		} else if ok && k == 2 {
			s.shortYear(short)
			s.n += k
		}
	case sep != 0 && s.at(sep), sep == 0 && s.at(' '):
		s.spaces()
		if sep != 0 {
			s.n++
		}
		if rest := s.rest(); len(rest) > 3 && string(rest[:3]) == "de " {
			s.n += 3
		}
		if !s.yearHere() {
			if short, k, ok := digits(s.rest(), 2, 2); sep != 0 && ok && (s.n+k == len(s.p) || s.p[s.n+k] == ' ' || s.p[s.n+k] == ':') {
				s.shortYear(short)
				s.n += k
			} else {
				*s = before
			}
		}
	}
	s.toClock()
	s.yearLast()
	if !s.clock && (!s.year || glued) {
		return s.back(was)
	}
	return true
}

func (s *stamper) shortYear(y int) {
	s.c.year, s.year = 2000+y, true
	if y >= 69 { // as POSIX: 69 to 99 are of the last century
		s.c.year -= 100
	}
}

// numeric reads dates of digits alone.
func (s *stamper) numeric() bool {
	was := *s
	first, k, _ := digits(s.rest(), 1, 8)
	if k == 8 || k == 6 { // 20310402T061509, 310402 06:15:09
		if s.n+k < len(s.p) && (s.p[s.n+k] == 'T' || s.p[s.n+k] == ' ' || s.p[s.n+k] == '-' || s.p[s.n+k] == '_') {
			if k == 8 {
				s.c.year, s.year = first/10000, s.inReach(first/10000)
			} else {
				s.shortYear(first / 10000)
			}
			s.c.month, s.c.day = first/100%100, first%100
			s.n += k
			if s.year && s.c.valid() {
				s.toClock()
				if s.clock {
					return true
				}
			}
		}
		return s.back(was)
	}
	if k == 4 && s.n+k < len(s.p) && s.p[s.n+k] == ' ' { // 0402 06:15:09.120931
		s.c.month, s.c.day, s.c.noYear = first/100, first%100, true
		s.n += k
		if s.c.valid() && s.secondsAhead() {
			s.toClock()
			if s.clock {
				return true
			}
		}
		return s.back(was)
	}
	if k == 0 || k == 3 || k > 4 || s.n+k >= len(s.p) {
		return s.back(was)
	}
	sep := s.p[s.n+k]
	if sep != '-' && sep != '/' && sep != '.' && !(sep == ':' && k == 4) {
		return s.back(was)
	}
	s.n += k + 1
	if k == 4 && sep == '-' && s.inReach(first) && s.month() { // 2031-Apr-02
		s.c.year, s.year = first, true
		if s.at(sep) {
			if s.n++; s.number(1, 2, &s.c.day) {
				if s.toClock(); s.clock {
					return true
				}
			}
		}
		return s.back(was)
	}
	var second, third int
	if !s.number(1, 2, &second) {
		return s.back(was)
	}
	if !s.at(sep) || sep == '-' && k == 2 && s.secondsAhead() { // 04-02 06:15:09.811, 04/02-06:15:09, 02.04 06:15:09
		s.dayAndMonth(first, second, sep)
		if sep == '-' && second <= 31 && first <= 12 {
			s.c.month, s.c.day = first, second
		}
		s.c.noYear = true
		if k == 2 && s.c.valid() && s.secondsAhead() {
			s.toClock()
			if s.clock {
				return true
			}
		}
		return s.back(was)
	}
	s.n++
	from := s.n
	if !s.number(1, 4, &third) || s.n-from == 3 {
		return s.back(was)
	}
	switch width := s.n - from; {
	case k == 4:
		if width > 2 {
			return s.back(was)
		}
		s.c.year, s.year, s.c.month, s.c.day = first, s.inReach(first), second, third
	case width == 4:
		s.c.year, s.year = third, s.inReach(third)
		s.dayAndMonth(first, second, sep)
	case width == 2 && (first > 31 || sep == '-' && third <= 31 && second <= 12): // 31-04-02
		s.shortYear(first)
		s.c.month, s.c.day = second, third
	case width == 2:
		s.shortYear(third)
		s.dayAndMonth(first, second, sep)
		if !s.c.valid() { // 31/04/02, since there is no 31st of April
			s.shortYear(first)
			s.c.month, s.c.day = second, third
		}
	default:
		return s.back(was)
	}
	if !s.year {
		return s.back(was)
	}
	if s.at('.') && sep == '.' { // 02.04.2031. 06:15
		s.n++
	}
	s.toClock()
	if !s.clock && (k != 4 || sep == ':' || s.n < len(s.p) && s.p[s.n] != ' ' && s.p[s.n] != ',' && s.p[s.n] != ']' && s.p[s.n] != '"') {
		return s.back(was) // a date alone is one only with its year first
	}
	return true
}

// compact reads 20310402061509, with a fraction or three digits of one (generalized time of RFC 4517 among it).
func (s *stamper) compact() bool {
	was, run := *s, 0
	for s.n+run < len(s.p) && run < 18 && s.p[s.n+run]-'0' <= 9 {
		run++
	}
	if run != 14 && run != 17 {
		return false
	}
	for _, part := range []struct {
		width int
		into  *int
	}{{4, &s.c.year}, {2, &s.c.month}, {2, &s.c.day}, {2, &s.c.hour}, {2, &s.c.min}, {2, &s.c.sec}} {
		s.number(part.width, part.width, part.into)
	}
	if !s.inReach(s.c.year) || !s.c.valid() {
		return s.back(was)
	}
	s.clock, s.year = true, true
	if run == 17 {
		s.c.nano, _ = fraction(s.rest()[:3])
		s.n += 3
	} else if s.at('.') || s.at(',') {
		if nano, k := fraction(s.p[s.n+1:]); k > 0 {
			s.c.nano, s.n = nano, s.n+1+k
		}
	}
	s.clockTail()
	return true
}

// counted reads dates that count days through the year or weeks (ISO 8601, 5.2.2 and 5.2.3), and those of East Asia, whose numbers
// have their units behind them.
func (s *stamper) counted() bool {
	was := *s
	year, day, week := 0, 0, 0
	if s.number(7, 7, &day) { // 2031092
		year, day = day/1000, day%1000
	} else if !s.number(4, 4, &year) {
		return false
	} else if s.unit("年", "년") {
		return s.east(year) || s.back(was)
	} else {
		extended := s.at('-')
		if extended {
			s.n++
		}
		switch {
		case s.at('W'):
			if s.n++; !s.number(2, 2, &week) || extended && !s.at('-') {
				return s.back(was)
			}
			if extended {
				s.n++
			}
			if !s.number(1, 1, &day) || week < 1 || day < 1 || day > 7 {
				return s.back(was)
			}
		case !extended || !s.number(3, 3, &day):
			return s.back(was)
		}
	}
	if !s.at('T') || !s.inReach(year) {
		return s.back(was)
	}
	from := time.Date(year, 1, 1, 0, 0, 0, 0, time.UTC)
	of := from.AddDate(0, 0, day-1)
	if week > 0 {
		from = time.Date(year, 1, 4, 0, 0, 0, 0, time.UTC) // is always in the first week
		of = from.AddDate(0, 0, (week-1)*7+day-1-(int(from.Weekday())+6)%7)
		if y, w := of.ISOWeek(); y != year || w != week {
			return s.back(was)
		}
	} else if of.Year() != year {
		return s.back(was)
	}
	s.c.year, s.c.month, s.c.day, s.year = of.Year(), int(of.Month()), of.Day(), true
	if s.toClock(); !s.clock {
		return s.back(was)
	}
	return true
}

// unit passes over one of some texts.
func (s *stamper) unit(texts ...string) bool {
	for _, t := range texts {
		if bytes.HasPrefix(s.rest(), []byte(t)) {
			s.n += len(t)
			return true
		}
	}
	return false
}

// east reads 04月02日 and a clock, such as 06:15:09, 下午6:15 or 6时15分09秒.
func (s *stamper) east(year int) bool {
	s.c.year, s.year = year, s.inReach(year)
	s.spaces()
	if !s.number(1, 2, &s.c.month) || !s.unit("月", "월") {
		return false
	}
	s.spaces()
	if !s.number(1, 2, &s.c.day) || !s.unit("日", "일") || !s.year || !s.c.valid() {
		return false
	}
	before := *s
	s.spaces()
	if s.unit("上午", "午前", "오전") {
		s.c.hasPM = true
	} else if s.unit("下午", "午後", "오후") {
		s.c.hasPM, s.c.pm = true, true
	}
	s.spaces()
	hour := *s
	if s.number(1, 2, &s.c.hour) && s.unit("时", "時", "点", "시") {
		s.spaces()
		if s.number(1, 2, &s.c.min) && s.unit("分", "분") {
			s.clock = true
			minute := *s
			if s.spaces(); !s.number(1, 2, &s.c.sec) || !s.unit("秒", "초") {
				*s = minute
			}
			return true
		}
	}
	*s = hour
	if s.timeOfDay() {
		s.clock = true
		if s.c.hasPM {
			return true
		}
		s.clockTail()
		return true
	}
	*s = before
	return true // a day alone, its year first
}

// secondsAhead tells whether a clock with seconds follows at once, so that two numbers before it are a date.
func (s *stamper) secondsAhead() bool {
	rest := s.rest()
	if len(rest) < 9 || rest[0] != ' ' && rest[0] != '-' && rest[0] != 'T' {
		return false
	}
	rest = bytes.TrimLeft(rest[1:], " ")
	return len(rest) >= 8 && rest[2] == ':' && rest[5] == ':'
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
	if s.spaces() > 0 && !s.c.hasOffset {
		if s.numeric() || s.dayMonth() || s.monthFirst() {
			return true
		}
	}
	*s = before
	s.c.noDate, s.c.month, s.c.day = true, 1, 1
	return true
}

func (s *stamper) inReach(year int) bool { return year >= 1970 && year < 2200 }

func (s *stamper) dayAndMonth(a, b int, sep byte) {
	if sep == '/' && b > 12 || sep == '/' && a <= 12 || sep != '/' && b > 12 {
		a, b = b, a
	}
	s.c.day, s.c.month = a, b
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
	case len(rest) > 1 && (rest[0] == 'T' || rest[0] == 't' || rest[0] == '_' || rest[0] == ':' || rest[0] == '-') && rest[1] >= '0' && rest[1] <= '9':
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
	if ok && (k == 6 || k == 4) && (s.n+k == len(s.p) || s.p[s.n+k] != ':') {
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
	if off, k, ok := zoneOffset(s.rest()); ok && (k > 1 || s.n == was.n || s.n+k == len(s.p) || letters(s.p[s.n+k:]) == 0) {
		s.c.offset, s.c.hasOffset = off, true
		s.n += k
		return
	}
	if s.zoneName() {
		return
	}
	*s = was
}

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
			} else if h, k, ok := digits(rest[min(1, len(rest)):], 1, 2); ok && off == 0 && k == 1 && (rest[0] == '+' || rest[0] == '-') { // UTC+2
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

// tai64n reads a TAI64N label (cr.yp.to/libtai/tai64.html), as the programs that write it count: ten seconds before UTC.
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

// monthsOfTheWorld are names of months in many languages of Europe, in lower case; where two disagree, the larger one counts.
var monthsOfTheWorld = func() map[string]int {
	m := map[string]int{}
	for i, names := range []string{
		"january jan januar jänner januari janvier janv enero ene janeiro gennaio gen января январь янв stycznia styczeń sty januar januari led ledna ianuarie ian ocak oca tammikuuta tammi január",
		"february feb februar februari février févr fevrier fevr febrero fevereiro fev febbraio февраля февраль фев lutego luty lut februari únor února úno februarie şubat şub helmikuuta helmi február febr",
		"march mar märz mär mrz maart mrt mars marzo março marco марта март мар marca marzec mars březen března bře martie mart maaliskuuta maalis március márc",
		"april apr avril avr abril abr aprile апреля апрель апр kwietnia kwiecień kwi duben dubna dub aprilie nisan nis huhtikuuta huhti április ápr",
		"may mai mei mayo maio maggio mag мая май maja maj květen května kvě mayıs toukokuuta touko május máj",
		"june jun juni juin junio junho giugno giu июня июнь июн czerwca czerwiec cze červen června čvn iunie iun haziran haz kesäkuuta kesä június jún",
		"july jul juli juillet juil julio julho luglio lug июля июль июл lipca lipiec lip července červenec čvc iulie iul temmuz tem heinäkuuta heinä július júl",
		"august aug augustus août aout agosto ago августа август авг sierpnia sierpień sie augusti srpen srpna srp ağustos ağu elokuuta elo augusztus",
		"september sep sept septembre septiembre setembro set settembre сентября сентябрь сен сент września wrzesień wrz září zář septembrie eylül eyl syyskuuta syys szeptember szept",
		"october oct oktober okt octobre octubre outubro out ottobre ott октября октябрь окт października październik paź říjen října říj octombrie ekim eki lokakuuta loka október",
		"november nov novembre noviembre novembro ноября ноябрь ноя listopada listopad lis noiembrie noi kasım kas marraskuuta marras",
		"december dec dezember dez décembre déc decembre diciembre dic dezembro dicembre декабря декабрь дек grudnia grudzień gru prosinec prosince pro decembrie desember des aralık ara joulukuuta joulu",
	} {
		for _, name := range bytes.Fields([]byte(names)) {
			m[string(name)] = i + 1
		}
	}
	return m
}()

// weekdays are names of days in the same languages.
var weekdays = func() map[string]bool {
	m := map[string]bool{}
	for _, name := range bytes.Fields([]byte(`mon tue tues wed thu thur thurs fri sat sun monday tuesday wednesday thursday friday saturday sunday
		mo di mi do fr sa so montag dienstag mittwoch donnerstag freitag samstag sonntag lun mar mer jeu ven sam dim lundi mardi mercredi jeudi vendredi samedi dimanche
		mié jue vie sáb dom lunes martes miércoles jueves viernes sábado domingo seg ter qua qui sex gio sab ma woe don vri zat zon
		пн вт ср чт пт сб вс понедельник вторник среда четверг пятница суббота воскресенье pon wto wt śr śro czw pt pią sob nie niedz mån tis ons tor fre lör sön man lør søn po út st čt pá so ne pzt sal çar per cum cmt paz`)) {
		m[string(name)] = true
	}
	return m
}()

// zoneNames are abbreviations of zones that mean one offset almost everywhere, in minutes east of UTC.
var zoneNames = map[string]int{"UTC": 0, "GMT": 0, "UT": 0, "WET": 0, "WEST": 60, "BST": 60, "CET": 60, "MEZ": 60, "CEST": 120, "MESZ": 120, "EET": 120, "EEST": 180, "MSK": 180,
	"JST": 540, "KST": 540, "AEST": 600, "AEDT": 660, "NZST": 720, "NZDT": 780, "EST": -300, "EDT": -240, "CST": -360, "CDT": -300, "MST": -420, "MDT": -360, "PST": -480, "PDT": -420, "AKST": -540, "AKDT": -480, "HST": -600}

// Recognise tells how many bytes of a text's front are a time stamp; ok is false when there is none.
func Recognise(p []byte) (n int, ok bool) {
	_, n, ok = recognise(p)
	return n, ok
}
