package health

import (
	"fmt"
	"strings"
	"time"

	"synaxis/internal/core/expect"
)

// Bounds of what is said of times: how many reports must agree, how far times may be off, by how much reports may
// differ, and what a whole number of quarter hours may miss it by.
const (
	enoughOffsets = 3
	offsetNoise   = 5 * time.Minute
	longBehind    = 24 * time.Hour
	quarter       = 15 * time.Minute
	quarterNoise  = 90 * time.Second
	widestZone    = 26 * time.Hour // between the zones that are farthest apart
)

// times tells what is wrong with times that are off by more than noise. What lags by less than a day and by no whole
// quarter hours is taken as late: programs write logs when they come to it.
func times(s Source, now time.Time) Verdict {
	off := s.Offset.Round(quarter)
	switch miss := (s.Offset - off).Abs(); {
	case off != 0 && miss < quarterNoise && off.Abs() <= widestZone:
		return Verdict{
			State: Degraded,
			Code:  ZoneWrong,
			Reason: fmt.Sprintf("its times are %s %s when the records are written; %s", spell(off.Abs()),
				aheadOf(off), looksLike(off, s.Zone, now)),
			Todo: "correct the zone: time: {zone: ...} in the source, or in its format",
		}
	case s.Offset > 0:
		return Verdict{
			State:  Degraded,
			Code:   TimesAhead,
			Reason: fmt.Sprintf("its times are %s ahead of when the records are written", spell(s.Offset)),
			Todo:   "look at the clock of what writes it, and at the layout of its time",
		}
	case s.Offset < -longBehind:
		return Verdict{
			State:  Degraded,
			Code:   TimesBehind,
			Reason: fmt.Sprintf("its times are %s behind when the records are written", spell(-s.Offset)),
			Todo:   "look at the clock of what writes it, and at the layout of its time: day and month may be exchanged",
		}
	}
	return Verdict{}
}

func aheadOf(d time.Duration) string {
	if d > 0 {
		return "ahead of"
	}
	return "behind"
}

// looksLike tells which zone the times are written in, from by how much they are off when they are read as another.
func looksLike(off time.Duration, zone string, now time.Time) string {
	said, loc := "no zone is said", time.UTC
	if zone != "" && !strings.Contains(zone, "${") {
		if z, err := time.LoadLocation(zone); err == nil {
			said, loc = "are read as "+zone, z
		}
	}
	_, seconds := now.In(loc).Zone()
	real := time.Duration(seconds)*time.Second + off
	if real == 0 {
		return "they look like UTC, and " + said
	}
	if real.Abs() > 14*time.Hour {
		return "no zone is so far away; " + said
	}
	sign := "+"
	if real < 0 {
		sign = "-"
	}
	return fmt.Sprintf("they look like UTC%s%02d:%02d, and %s", sign, int(real.Abs().Hours()),
		int(real.Abs().Minutes())%60, said)
}

// Silence tells whether records are due by the expectation of the source, as of when its numbers came last: what came
// since is not known.
func Silence(s Source) Verdict {
	e := s.Expect
	if e.Per == "source" || s.Told.IsZero() {
		return Verdict{}
	}
	last, what := s.Last, "the last record came at "+clock(s.Last)
	if last.Before(s.Began) {
		last = s.Began
		if s.Last.IsZero() {
			what = "none came since it began to read at " + clock(s.Began)
		}
	}
	if due := e.Due(last); e.Per != "file" && !due.IsZero() && !last.IsZero() && s.Told.After(due) {
		return Verdict{
			State: Degraded,
			Code:  Silent,
			Reason: fmt.Sprintf("silent: %s, and the next was due by %s; a record is expected every %s%s", what,
				clock(due), spell(e.Every), s.Expect.Words()),
			Todo:  Todo(Silent),
			Since: due,
		}
	}
	hour := s.Told.Add(-time.Hour)
	if e.AtLeast > 0 && s.HourFull && s.Hour < e.AtLeast && e.Within(hour, s.Told) == time.Hour &&
		!s.Began.After(hour) {
		return Verdict{
			State: Degraded,
			Code:  TooFewRecords,
			Reason: fmt.Sprintf("%d records came in the last hour; at least %d are expected%s", s.Hour, e.AtLeast,
				s.Expect.Words()),
			Todo:  "look whether all that writes it runs; if so few are normal, say so with expect in the source",
			Since: s.Told,
		}
	}
	return Verdict{}
}

// SilentFiles tells which of several files have not grown when they were to by an expectation, as of now. since is
// when the first of them was due; the zero time for none.
func SilentFiles(e expect.Expectation, grew map[string]time.Time, now time.Time) (reason string, since time.Time) {
	name, n := "", 0
	for file, at := range grew {
		due := e.Due(at)
		if due.IsZero() || !now.After(due) {
			continue
		}
		if n++; since.IsZero() || due.Before(since) || due.Equal(since) && file < name {
			name, since = file, due
		}
	}
	if n == 0 {
		return "", time.Time{}
	}
	reason = fmt.Sprintf("silent: %s grew last at %s, and was to grow by %s; each file is expected to every %s%s",
		name,
		clock(grew[name]), clock(since), spell(e.Every), e.Words())
	if len(grew) > 1 {
		reason += fmt.Sprintf("; %d of %d files are silent", n, len(grew))
	}
	return reason, since
}

// SilentSender tells whether a sender is silent by its expectation: it was heard last at a time, or never, and is
// expected since another. since is when it was due.
func SilentSender(name string, e expect.Expectation, last, began, now time.Time) (reason string, since time.Time) {
	what := "it was heard last at " + clock(last)
	from := last
	if last.Before(began) {
		if from = began; last.IsZero() {
			what = "it was never heard, and is expected since " + clock(began)
		}
	}
	due := e.Due(from)
	if due.IsZero() || from.IsZero() || !now.After(due) {
		return "", time.Time{}
	}
	return fmt.Sprintf("sender %s is silent: %s, and was due by %s; a message is expected every %s%s", name, what,
		clock(due),
		spell(e.Every), e.Words()), due
}

// spell writes a span as people say it.
func spell(d time.Duration) string {
	h, m, sec := int(d.Hours()), int(d.Minutes())%60, int(d.Seconds())%60
	switch {
	case h >= 48:
		return fmt.Sprintf("%d days", h/24)
	case h > 0 && m > 0:
		return fmt.Sprintf("%d h %d min", h, m)
	case h > 0:
		return fmt.Sprintf("%d h", h)
	case m > 0 && sec > 0 && m < 10:
		return fmt.Sprintf("%d min %d s", m, sec)
	case m > 0:
		return fmt.Sprintf("%d min", m)
	}
	return fmt.Sprintf("%d s", sec)
}
