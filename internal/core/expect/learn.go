package expect

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Counted is how many records came in an hour.
type Counted struct {
	At      time.Time // when the hour began
	Records int64
}

// Range is how many records usually come in an hour.
type Range struct {
	Low, High int64
	Weeks     int // in how many weeks the hour was seen
}

// Usual is how many records usually come, by the hour of the week from Monday's midnight on the clock on the wall.
type Usual struct {
	Hours [7 * 24]Range
	zone  *time.Location
}

// enoughWeeks is in how many weeks an hour must have been seen for its range to say something.
const enoughWeeks = 2

// Learn learns what is usual from hours that were counted. zone is nil for UTC.
func Learn(hours []Counted, zone *time.Location) Usual {
	if zone == nil {
		zone = time.UTC
	}
	u := Usual{zone: zone}
	for _, h := range hours {
		r := &u.Hours[u.hour(h.At)]
		if r.Weeks == 0 || h.Records < r.Low {
			r.Low = h.Records
		}
		r.High = max(r.High, h.Records)
		r.Weeks++
	}
	return u
}

func (u *Usual) hour(t time.Time) int {
	w := t.In(u.zone)
	return (int(w.Weekday())+6)%7*24 + w.Hour()
}

// At is what is usual in the hour of a moment; false where it is not known.
func (u *Usual) At(t time.Time) (Range, bool) {
	r := u.Hours[u.hour(t)]
	return r, r.Weeks >= enoughWeeks
}

// nice are spans that people write.
var nice = []time.Duration{time.Minute, 5 * time.Minute, 10 * time.Minute, 30 * time.Minute, time.Hour, 3 * time.Hour,
	6 * time.Hour, 12 * time.Hour, 24 * time.Hour}

// gaps is how many times longer than the usual pause between two records a silence must be.
const gaps = 10

// Suggest writes the expectation that what is usual comes to, as a definition has it. It answers why there is none.
func (u *Usual) Suggest() (text, why string) {
	var alive [24]bool // the hours of the day in which something came on each day that was seen
	seen := [24]int{}
	for d := range 24 {
		alive[d] = true
	}
	for i, r := range u.Hours {
		if r.Weeks < enoughWeeks {
			continue
		}
		seen[i%24]++
		alive[i%24] = alive[i%24] && r.Low > 0
	}
	for d := range 24 {
		if seen[d] == 0 {
			return "", "too little was counted: each hour of the day must have been seen in two weeks"
		}
	}
	from, length := longest(alive)
	if length == 0 {
		return "", "there is no hour of the day in which something comes on each day"
	}
	low := int64(-1)
	for i, r := range u.Hours {
		if at := (i%24 - from + 24) % 24; r.Weeks >= enoughWeeks && at < length && (low < 0 || r.Low < low) {
			low = r.Low
		}
	}
	pause := time.Hour / time.Duration(max(1, low))
	every := nice[len(nice)-1]
	for _, n := range slices.Backward(nice) {
		if n >= gaps*pause {
			every = n
		}
	}
	parts := []string{"every: " + short(every)}
	if length < 24 {
		parts = append(parts, fmt.Sprintf("during: \"%02d:00-%02d:00\"", from, (from+length)%24))
	}
	if half := low / 2; half >= 10 {
		parts = append(parts, fmt.Sprintf("at-least: %d/h", half))
	}
	return "expect: {" + strings.Join(parts, ", ") + "}", ""
}

// longest is the longest run of hours around the clock.
func longest(alive [24]bool) (from, length int) {
	for start := range 24 {
		n := 0
		for n < 24 && alive[(start+n)%24] {
			n++
		}
		if n > length {
			from, length = start, n
		}
	}
	return from, length
}

func short(d time.Duration) string {
	if d%time.Hour == 0 {
		return fmt.Sprintf("%dh", d/time.Hour)
	}
	return fmt.Sprintf("%dm", d/time.Minute)
}
