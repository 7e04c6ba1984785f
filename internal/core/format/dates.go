package format

import (
	"bytes"
	"strings"
	"time"
)

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

func (s *stamper) month() bool {
	m, n := monthName(s.rest())
	if m == 0 {
		return false
	}
	s.c.month, s.named = m, true
	s.n += n
	if s.at('.') {
		s.n++
	}
	return true
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
			return
		}
		if !s.c.hasOffset { // a zone behind the year
			zone := *s
			if s.spaces() == 0 {
				return
			}
			if off, k, ok := zoneOffset(s.rest()); ok && k > 3 {
				s.c.offset, s.c.hasOffset = off, true
				s.n += k
			} else if !s.zoneName() {
				*s = zone
			}
		}
	}
}

// yearHere reads a year of four digits that ends there.
func (s *stamper) yearHere() bool {
	y, k, ok := digits(s.rest(), 4, 4)
	if !ok || y < 1970 || y > 2199 ||
		s.n+k < len(s.p) && (s.p[s.n+k] >= '0' && s.p[s.n+k] <= '9' || s.p[s.n+k] == '-' || s.p[s.n+k] == '.') {
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
			if short, k, ok := digits(s.rest(), 2, 2); sep != 0 && ok &&
				(s.n+k == len(s.p) || s.p[s.n+k] == ' ' || s.p[s.n+k] == ':') {
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

// yearFirst reads "2031-Apr-02 06:15:09" and "2031 Apr  2 06:15:09", of which the year has k digits.
func (s *stamper) yearFirst(year, k int) bool {
	was := *s
	if s.n += k; s.n >= len(s.p) || strings.IndexByte("-/. ", s.p[s.n]) < 0 {
		return s.back(was)
	}
	sep := s.p[s.n]
	s.n++
	if !s.month() || !s.at(sep) && s.p[s.n-1] != sep {
		return s.back(was)
	}
	if s.spaces() == 0 && s.at(sep) {
		s.n++
	}
	s.c.year, s.year = year, true
	if !s.number(1, 2, &s.c.day) {
		return s.back(was)
	}
	if s.toClock(); !s.clock {
		return s.back(was)
	}
	return true
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
	if k == 4 && s.inReach(first) && s.yearFirst(first, k) {
		return true
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
	if !s.clock &&
		(k != 4 || sep == ':' || s.n < len(s.p) && s.p[s.n] != ' ' && s.p[s.n] != ',' && s.p[s.n] != ']' &&
			s.p[s.n] != '"') {
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

// counted reads dates that count days through the year or weeks (ISO 8601, 5.2.2 and 5.2.3), and those of East Asia,
// whose numbers have their units behind them.
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

func (s *stamper) inReach(year int) bool { return year >= 1970 && year < 2200 }

func (s *stamper) dayAndMonth(a, b int, sep byte) {
	if sep == '/' && b > 12 || sep == '/' && a <= 12 || sep != '/' && b > 12 {
		a, b = b, a
	}
	s.c.day, s.c.month = a, b
}
