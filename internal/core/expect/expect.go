// Package expect tells when the next record of a source is due, by what its definition says is normal for it.
package expect

import (
	"fmt"
	"strings"
	"time"
)

// Expectation is what is normal for a source. The zero value expects nothing.
type Expectation struct {
	Every   time.Duration // a record comes at least this often; 0 for no such wish
	During  Hours
	Zone    *time.Location // of During; nil for UTC
	Per     string         // host, source or file: who is expected to deliver
	AtLeast int64          // records in each hour of During; 0 for no such wish
	Filled  []Filled       // fields that must be there, by name
}

// Filled is in which share of the records that a format reads a field must be there, from 0 to 1.
type Filled struct {
	Field string
	Share float64
}

// Any tells whether anything is expected.
func (e Expectation) Any() bool { return e.Every > 0 || e.AtLeast > 0 }

func (e Expectation) zone() *time.Location {
	if e.Zone == nil {
		return time.UTC
	}
	return e.Zone
}

// Hours are hours of each day, in minutes since midnight by the clock on the wall. Where From is not before To they go
// over midnight; where both are equal they are the whole day.
type Hours struct{ From, To int }

// ParseHours reads hours such as 05:00-23:00. "" is the whole day.
func ParseHours(s string) (h Hours, err error) {
	if s == "" {
		return h, nil
	}
	from, to, ok := strings.Cut(s, "-")
	for _, x := range []struct {
		text string
		into *int
	}{{from, &h.From}, {to, &h.To}} {
		t, perr := time.Parse("15:04", strings.TrimSpace(x.text))
		if perr != nil || !ok {
			return Hours{}, fmt.Errorf("%q is not a time of day such as 05:00-23:00", s)
		}
		*x.into = t.Hour()*60 + t.Minute()
	}
	return h, nil
}

// String writes the hours as they are parsed.
func (h Hours) String() string {
	if h.From == h.To {
		return ""
	}
	return fmt.Sprintf("%02d:%02d-%02d:%02d", h.From/60, h.From%60, h.To/60, h.To%60)
}

// Words tell in which hours something is expected, in words that follow others; "" for at all hours.
func (e Expectation) Words() string {
	hours := e.During.String()
	if hours == "" {
		return ""
	}
	return fmt.Sprintf(" during %s (%s)", hours, e.zone())
}

// In tells whether a moment is within the hours. What the clock on the wall shows counts, so that an hour that comes
// twice counts twice and one that is left out does not count.
func (e Expectation) In(t time.Time) bool {
	h := e.During
	if h.From == h.To {
		return true
	}
	w := t.In(e.zone())
	m := w.Hour()*60 + w.Minute()
	if h.From < h.To {
		return m >= h.From && m < h.To
	}
	return m >= h.From || m < h.To
}

// turn is the next moment after t at which In changes; zero where the hours are the whole day.
func (e Expectation) turn(t time.Time) time.Time {
	const day = 24 * time.Hour
	if e.During.From == e.During.To {
		return time.Time{}
	}
	now := e.In(t)
	for {
		w := t.In(e.zone())
		sinceMidnight := time.Duration(w.Hour())*time.Hour + time.Duration(w.Minute())*time.Minute +
			time.Duration(w.Second())*time.Second + time.Duration(w.Nanosecond())
		next := day
		for _, m := range []int{e.During.From, e.During.To} {
			if d := (time.Duration(m)*time.Minute - sinceMidnight + day) % day; d > 0 {
				next = min(next, d)
			}
		}
		_, end := w.ZoneBounds() // until then the clock on the wall goes evenly
		if end.IsZero() || end.After(t.Add(next)) {
			if t = t.Add(next); e.In(t) != now {
				return t
			}
			continue
		}
		if t = end; e.In(t) != now {
			return t
		}
	}
}

// Due is when the next record is due after one at last: when as much time of During has passed as Every says. It is
// zero where nothing is due ever.
func (e Expectation) Due(last time.Time) time.Time {
	if e.Every <= 0 {
		return time.Time{}
	}
	if e.During.From == e.During.To {
		return last.Add(e.Every)
	}
	left, t := e.Every, last
	for range 20_000 { // many years of short hours
		next := e.turn(t)
		if next.IsZero() {
			return time.Time{}
		}
		if e.In(t) {
			have := next.Sub(t)
			if have >= left {
				return t.Add(left)
			}
			left -= have
		}
		t = next
	}
	return time.Time{}
}

// Within is how much of a span is within the hours.
func (e Expectation) Within(from, to time.Time) (sum time.Duration) {
	if e.During.From == e.During.To {
		return to.Sub(from)
	}
	for t := from; t.Before(to); {
		next := e.turn(t)
		if next.IsZero() || next.After(to) {
			next = to
		}
		if e.In(t) {
			sum += next.Sub(t)
		}
		t = next
	}
	return sum
}
