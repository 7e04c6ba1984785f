package format

import (
	"bytes"
	"math"
	"math/bits"
	"time"

	"synaxis/internal/core/record"
)

// civil is a time as it is written: without a zone until offset is set.
type civil struct {
	year, month, day, hour, min, sec, nano int
	offset                                 int // seconds east of UTC
	hasOffset, noYear, noDate, pm, hasPM   bool
	epoch                                  int64 // nanoseconds, when isEpoch
	isEpoch                                bool
	place                                  *time.Location // that the text names, or nil
}

func (c civil) valid() bool {
	return c.month >= 1 && c.month <= 12 && c.day >= 1 && c.day <= daysIn(c.year, c.month, c.noYear) && c.hour < 24 &&
		c.min < 60 &&
		c.sec <= 60
}

func daysIn(year, month int, noYear bool) int {
	switch month {
	case 4, 6, 9, 11:
		return 30
	case 2:
		if noYear || year%4 == 0 && (year%100 != 0 || year%400 == 0) {
			return 29
		}
		return 28
	}
	return 31
}

// epoch reads seconds since 1970 with or without a fraction, or milli-, micro- or nanoseconds by their size.
func epoch(p []byte) (c civil, n int, ok bool) {
	var v int64
	for n < len(p) && p[n] >= '0' && p[n] <= '9' {
		if v > math.MaxInt64/10-10 {
			return c, 0, false
		}
		v = v*10 + int64(p[n]-'0')
		n++
	}
	if n == 0 || n > 19 {
		return c, 0, false
	}
	c.isEpoch = true
	switch {
	case n <= 11 && v > math.MaxInt64/int64(time.Second)-1:
		return c, 0, false
	case n <= 11:
		c.epoch = v * 1e9
		if n+1 < len(p) && p[n] == '.' {
			if nano, k := fraction(p[n+1:]); k > 0 {
				c.epoch += int64(nano)
				n += 1 + k
			}
		}
	case n <= 14:
		c.epoch = v * 1e6
	case n <= 17:
		c.epoch = v * 1e3
	default:
		c.epoch = v
	}
	return c, n, true
}

// clock turns written times into Unix nanoseconds. It caches the last minute, since the lookup of a zone costs more
// than reading the digits.
type clock struct {
	layout *layout
	zone   *time.Location
	key    int64
	base   int64 // nanoseconds of the cached minute
	note   record.TimeNote
	cached bool

	last  [maxLast]byte // the text that was read last, up to its fraction
	lastN int           // its length; 0 for none
	stop  byte          // what stood behind it
	was   civil         // what it was
	frac  bool          // the layout ends in a fraction, which is read anew
	quick settled

	month  [maxMonth]byte // "Apr  2 06:15:09" with the word behind it, as it was read last without a layout
	monthN int            // its length; 0 for none
	wasM   civil

	solved solved // the time that was resolved last

	by     int64 // by what a year was found last, with the zone and what that is as a date
	byZone *time.Location
	byDate [3]int
}

// solved is what a written time was resolved to; at is 0 for none.
type solved struct {
	of                    civil
	observed, written, at int64
	zone                  *time.Location
	note                  record.TimeNote
}

// maxMonth bounds a time that begins with its month, with the word behind it.
const maxMonth = 48

// settled is the second that was read last, in Unix nanoseconds: as UTC, and in the zone of the clock with its note.
type settled struct {
	ready, good bool
	utc, zoned  int64
	note        record.TimeNote
	iso         bool      // its text is YYYY-MM-DD hh:mm:ss, as these bytes
	bytes       [3]uint64 // from 0, 8 and 11 on
}

// settle reckons the second that was read last, once; good is false for one that depends on more than its text.
func (c *clock) settle() {
	c.quick = settled{ready: true}
	if c.was.noYear || c.was.noDate || c.was.isEpoch || c.was.place != nil {
		return
	}
	v := c.was
	if c.layout == nil || c.frac { // otherwise the fraction is a part of the text that is remembered
		v.nano = 0
	}
	c.quick.good = true
	if v.hasOffset {
		c.quick.zoned, c.quick.note = c.resolve(&v, 0, 0)
		return
	}
	if c.zone != nil {
		c.quick.zoned, c.quick.note = c.resolve(&v, 0, 0)
	} else {
		c.quick.note = record.TimeNoZone
	}
	v.hasOffset = true
	c.quick.utc, _ = c.resolve(&v, 0, 0)
	c.quick.iso = c.layout == nil && c.lastN == len("2031-04-02 06:15:09")
	c.quick.bytes = [3]uint64{eight(c.last[:], 0), eight(c.last[:], 8), eight(c.last[:], 11)}
}

// isoAgain is again for the most frequent of times, with a fraction or without, where a space or a bracket ends it; n
// is 0 where again must look.
func (q *settled) isoAgain(p []byte) (frac int64, n int) {
	if len(p) < 32 || eight(p, 0) != q.bytes[0] || eight(p, 8) != q.bytes[1] || eight(p, 11) != q.bytes[2] {
		return 0, 0
	}
	n = 19
	if p[19] == '.' || p[19] == ',' {
		x := eight(p, 20)
		d := x ^ ('0' * ones)
		k := bits.TrailingZeros64(((d+0x76*ones)|x)&tops) / 8
		if k == 0 || k == 8 {
			return 0, 0
		}
		frac = int64(decimal(d<<(64-8*k))) * tens[9-k]
		n += 1 + k
	}
	switch c, next := p[n], p[n+1]; {
	case c == ']',
		c == ' ' && (next >= 'b' && next <= 'z' && next != 'p' || next == '[' || next == '"' || next-'0' <= 9):
		return frac, n
	}
	return 0, 0
}

// tens are the powers of ten.
var tens = [...]int64{1, 10, 100, 1000, 10_000, 100_000, 1_000_000, 10_000_000, 100_000_000, 1_000_000_000}

// again reads a time of the second that was read last, which is what most lines have; ok is false for any other.
func (c *clock) again(p []byte, observed int64) (t int64, note record.TimeNote, n int, ok bool) {
	if n = c.lastN; n == 0 || len(p) < n {
		return 0, 0, 0, false
	}
	if n >= 16 && n <= 24 { // as most are, in words that overlap
		if eight(p, 0) != eight(c.last[:], 0) || eight(p, 8) != eight(c.last[:], 8) ||
			eight(p, n-8) != eight(c.last[:], n-8) {
			return 0, 0, 0, false
		}
	} else if string(p[:n]) != string(c.last[:n]) {
		return 0, 0, 0, false
	}
	if !c.quick.ready {
		c.settle()
	}
	if !c.quick.good {
		return 0, 0, 0, false
	}
	q := &c.quick
	frac := int64(0)
	switch {
	case c.layout != nil && c.frac, c.layout == nil && len(p) > n+1 && (p[n] == '.' || p[n] == ','):
		if c.layout == nil {
			n++
		}
		v, end, ok := digitsAt(p, n)
		if !ok {
			return 0, 0, 0, false
		}
		if frac = int64(v); end-n <= 9 {
			frac *= tens[9-(end-n)]
		} else {
			frac /= tens[end-n-9]
		}
		n = end
	case c.layout != nil:
		if len(p) > n && p[n] != c.stop || len(p) == n && c.stop != 0 {
			return 0, 0, 0, false
		}
	}
	if c.layout == nil && n < len(p) {
		switch ch := p[n]; {
		case ch == 'Z':
			return q.utc + frac, record.TimeGood, n + 1, true
		case ch == '+' || ch == '-':
			off, k, ok := zoneOffset(p[n:])
			return q.utc - int64(off)*1e9 + frac, record.TimeGood, n + k, ok
		case ch-'0' <= 9,
			ch == ':',
			ch == 'z',
			ch == ' ' && n+1 < len(p) && !(p[n+1] >= 'b' && p[n+1] <= 'z' && p[n+1] != 'p' || p[n+1] == '[' || p[n+
				1] == '"' || p[n+1]-'0' <= 9):
			return 0, 0, 0, false // more of the time may follow
		}
	}
	if q.note == record.TimeNoZone {
		return observed, q.note, n, true
	}
	return q.zoned + frac, q.note, n, true
}

// maxLast bounds the text that is remembered.
const maxLast = 40

func newClock(t Time) (*clock, error) {
	c := &clock{}
	if t.Layout != "" {
		l, err := compileLayout(t.Layout)
		if err != nil {
			return nil, err
		}
		c.layout = l
	}
	if t.Zone != "" {
		if err := CheckZone(t.Zone); err != nil {
			return nil, err
		}
		loc, err := time.LoadLocation(t.Zone)
		if err != nil {
			return nil, err
		}
		c.zone = loc
	}
	return c, nil
}

// read reads a time at the front of p. n is how many bytes it took; ok is false when there is none.
func (c *clock) read(p []byte) (v civil, n int, ok bool) {
	if c.layout == nil {
		return c.recognise(p)
	}
	if n = c.lastN; n > 0 && len(p) >= n && string(p[:n]) == string(c.last[:n]) {
		switch {
		case c.frac:
			if nano, k := fraction(p[n:]); k > 0 {
				v = c.was
				v.nano = nano
				return v, n + k, true
			}
		case len(p) == n && c.stop == 0, len(p) > n && p[n] == c.stop:
			return c.was, n, true
		}
	}
	if v, n, ok = c.layout.parse(p); !ok {
		return v, n, ok
	}
	c.lastN, c.quick.ready = 0, false
	end := n
	if c.frac = c.layout.ops[len(c.layout.ops)-1].verb == 'f'; c.frac {
		for end > 0 && p[end-1] >= '0' && p[end-1] <= '9' {
			end--
		}
	}
	if end <= maxLast && !v.isEpoch {
		c.lastN, c.was, c.stop = copy(c.last[:], p[:end]), v, 0
		if n < len(p) {
			c.stop = p[n]
		}
	}
	return v, n, ok
}

// recognise is recognise, with the date and the second that most lines share with the one before read but once.
func (c *clock) recognise(p []byte) (v civil, n int, ok bool) {
	const second = len("2031-04-02T06:15:09")
	if c.lastN == second && len(p) > second && string(p[:second]) == string(c.last[:second]) &&
		(p[second] < '0' || p[second] > '9') {
		v, n = isoTail(p, c.was, second)
		return v, n, v.valid()
	}
	if c.sameMonth(p) {
		return c.wasM, monthSize, true
	}
	if v, n, ok = isoStamp(p); ok && n >= second && p[16] == ':' && len(p) > second {
		c.lastN, c.quick.ready = copy(c.last[:], p[:second]), false
		c.was = v
		c.was.nano, c.was.offset, c.was.hasOffset = 0, 0, false
		if v.hasPM {
			c.lastN = 0
		}
		return v, n, true
	}
	v, n, ok = recognise(p)
	if ok && n == monthSize && v.noYear && p[3] == ' ' && p[12] == ':' && len(p) > monthSize+1 && p[monthSize] == ' ' {
		// what is behind it says whether it is a part of the time: a year, a zone, the half of the day
		if k := bytes.IndexByte(p[monthSize+1:min(len(p), maxMonth)], ' '); k > 0 {
			c.monthN, c.wasM = copy(c.month[:], p[:monthSize+1+k+1]), v
		}
	}
	return v, n, ok
}

// sameMonth tells whether p begins with the time wasM, of monthSize bytes.
func (c *clock) sameMonth(p []byte) bool {
	return c.monthN > 0 && len(p) > monthSize && eight(p, 0) == eight(c.month[:], 0) &&
		eight(p, 7) == eight(c.month[:], 7) && (plainWord(p[monthSize:]) || len(p) >= c.monthN &&
		string(p[monthSize:c.monthN]) == string(c.month[monthSize:c.monthN]))
}

// monthSize is the length of a time of RFC 3164.
const monthSize = len("Apr  2 06:15:09")

// plainWord tells whether a space and a word follow that can be no part of a time.
func plainWord(p []byte) bool {
	return len(p) > 1 && p[0] == ' ' && p[1] >= 'b' && p[1] <= 'y' && p[1] != 'p'
}

// resolve turns a written time into nanoseconds; observed stands in where that is impossible. What the text leaves
// out, the year or the day, is measured by written, or by observed where that is 0.
func (c *clock) resolve(v *civil, observed, written int64) (int64, record.TimeNote) {
	if v.isEpoch {
		return v.epoch, record.TimeGood
	}
	s := &c.solved
	if s.at == 0 || s.observed != observed || s.written != written || s.zone != c.zone || s.of != *v {
		at, note := c.resolveAnew(*v, observed, written)
		*s = solved{*v, observed, written, at, c.zone, note}
	}
	return s.at, s.note
}

func (c *clock) resolveAnew(v civil, observed, written int64) (int64, record.TimeNote) {
	note := record.TimeGood
	if written == 0 {
		written = observed
	}
	if v.noDate {
		c.nearestDay(&v, written)
		note = record.TimeGuessedDate
	} else if v.noYear {
		v.year = c.newestYear(v, written)
		note = record.TimeGuessedYear
	}
	tail := int64(v.sec)*1e9 + int64(v.nano)
	if v.hasOffset {
		return c.minute(v, time.UTC, 1) - int64(v.offset)*1e9 + tail, note
	}
	if v.place != nil {
		t, odd := settleWall(
			time.Date(v.year, time.Month(v.month), v.day, v.hour, v.min, 0, 0, v.place),
			v.hour,
			v.min,
		)
		if odd != record.TimeGood {
			note = odd
		}
		return t.UnixNano() + tail, note
	}
	if c.zone == nil {
		return observed, record.TimeNoZone
	}
	t := c.minute(v, c.zone, 2) + tail
	if c.note != record.TimeGood {
		note = c.note
	}
	return t, note
}

func (c *clock) minute(v civil, zone *time.Location, which int64) int64 {
	key := ((((int64(v.year)*16+int64(v.month))*32+int64(v.day))*32+int64(v.hour))*64+int64(v.min))*4 + which
	if c.cached && c.key == key {
		return c.base
	}
	c.key, c.cached, c.note = key, true, record.TimeGood
	t := time.Date(v.year, time.Month(v.month), v.day, v.hour, v.min, 0, 0, zone)
	if zone != time.UTC {
		t, c.note = settleWall(t, v.hour, v.min)
	}
	c.base = t.UnixNano()
	return c.base
}

// settleWall takes the earlier of two instants that a repeated hour names, and marks an hour that never was.
// The standard library promises neither (time.Date).
func settleWall(t time.Time, hour, min int) (time.Time, record.TimeNote) {
	if t.Hour() != hour || t.Minute() != min {
		return t, record.TimeSkipped
	}
	for _, shift := range []time.Duration{30 * time.Minute, time.Hour, 2 * time.Hour} {
		if e := t.Add(-shift); e.Hour() == hour && e.Minute() == min && e.Day() == t.Day() {
			return e, record.TimeRepeated
		}
		if l := t.Add(shift); l.Hour() == hour && l.Minute() == min && l.Day() == t.Day() {
			return t, record.TimeRepeated
		}
	}
	return t, record.TimeGood
}

// nearestDay gives a time of day the day that brings it closest to a time.
func (c *clock) nearestDay(v *civil, observed int64) {
	zone := time.UTC
	if v.hasOffset {
		zone = time.FixedZone("", v.offset)
	} else if v.place != nil {
		zone = v.place
	} else if c.zone != nil {
		zone = c.zone
	}
	at := time.Unix(0, observed).In(zone)
	best, gap := at, time.Duration(math.MaxInt64)
	for day := -1; day <= 1; day++ {
		d := at.AddDate(0, 0, day)
		t := time.Date(d.Year(), d.Month(), d.Day(), v.hour, v.min, v.sec, 0, d.Location())
		if g := t.Sub(at).Abs(); g < gap {
			best, gap = t, g
		}
	}
	v.year, v.month, v.day = best.Year(), int(best.Month()), best.Day()
}

// aheadOfClock is how much later a record may be than what its date without a year is measured by: clocks differ.
const aheadOfClock = 48 * time.Hour

// newestYear is the newest year that puts a date without one at most two days after a time.
func (c *clock) newestYear(v civil, by int64) int {
	zone := time.UTC
	if v.hasOffset {
		zone = time.FixedZone("", v.offset)
	} else if v.place != nil {
		zone = v.place
	} else if c.zone != nil {
		zone = c.zone
	}
	latest := time.Unix(0, by).Add(aheadOfClock)
	if c.by != by || c.byZone != zone {
		year, month, day := latest.In(zone).Date()
		c.by, c.byZone, c.byDate = by, zone, [3]int{year, int(month), day}
	}
	year, month, day := c.byDate[0], time.Month(c.byDate[1]), c.byDate[2]
	if v.month > int(month) || v.month == int(month) && v.day > day {
		year--
	} else if v.month == int(month) && v.day == day && time.Date(year, month, day, v.hour, v.min, v.sec, v.nano,
		zone).After(latest) {
		year--
	}
	for v.day > daysIn(year, v.month, false) { // the 29th of February
		year--
	}
	return year
}
