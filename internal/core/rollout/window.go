package rollout

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	_ "time/tzdata" // zones must be known on any machine
)

// Window is when waves may begin, by the clock of a zone: on some days of the week, from a time to another. Where it
// ends before it begins, it ends on the next day.
type Window struct {
	days     [7]bool // from Sunday
	from, to int     // minutes of the day; to may be 24:00
	zone     *time.Location
}

var dayNames = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// ParseWindow reads a window: days, times and a zone, such as "Mon-Thu 09:00-16:00 Europe/Lisbon".
func ParseWindow(text string) (w Window, err error) {
	const form = `a window is written as "Mon-Thu 09:00-16:00 Europe/Lisbon"`
	parts := strings.Fields(text)
	if len(parts) != 3 {
		return w, errors.New(form + ": days, times and a time zone")
	}
	for days := range strings.SplitSeq(strings.ToLower(parts[0]), ",") {
		first, last, span := strings.Cut(days, "-")
		from := slices.Index(dayNames, first)
		to := from
		if span {
			to = slices.Index(dayNames, last)
		}
		if from < 0 || to < 0 {
			return w, fmt.Errorf("%q are no days; %s", parts[0], form)
		}
		for d := from; ; d = (d + 1) % 7 {
			w.days[d] = true
			if d == to {
				break
			}
		}
	}
	from, to, _ := strings.Cut(parts[1], "-")
	if w.from, err = minutes(from); err == nil {
		w.to, err = minutes(to)
	}
	if err != nil || w.from == w.to || w.from == 24*60 {
		return w, fmt.Errorf("%q is no span of a day; %s", parts[1], form)
	}
	if parts[2] == "Local" {
		return w, errors.New("say a time zone by its name, such as Europe/Lisbon, since the service may be anywhere")
	}
	if w.zone, err = time.LoadLocation(parts[2]); err != nil {
		return w, fmt.Errorf("%q is no time zone; %s", parts[2], form)
	}
	return w, nil
}

func minutes(text string) (int, error) {
	if text == "24:00" {
		return 24 * 60, nil
	}
	t, err := time.Parse("15:04", text)
	return t.Hour()*60 + t.Minute(), err
}

// Open tells whether the window is open at a time, by the clock on the wall of its zone.
func (w Window) Open(at time.Time) bool {
	t := at.In(w.zone)
	minute, day := t.Hour()*60+t.Minute(), int(t.Weekday())
	if w.from < w.to {
		return w.days[day] && minute >= w.from && minute < w.to
	}
	return w.days[day] && minute >= w.from || w.days[(day+6)%7] && minute < w.to
}

// Next is the first minute, not before a time, at which the window is open.
func (w Window) Next(at time.Time) time.Time {
	if w.Open(at) {
		return at
	}
	t := at.Truncate(time.Minute).Add(time.Minute)
	for range 24 * 60 * 15 { // a window opens once a week, but where the clock skips it
		if w.Open(t) {
			return t
		}
		t = t.Add(time.Minute)
	}
	return time.Time{}
}
