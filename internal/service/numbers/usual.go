package numbers

import (
	"context"
	"time"

	"synaxis/internal/core/expect"
	"synaxis/internal/core/series"
)

// Volume is how many bytes were read in the last 24 hours, and what a day of the week before came to on average; 0 for
// not known.
func (n *Numbers) Volume(ctx context.Context) (day, usual int64, err error) {
	const hours = 24
	now := n.now()
	got, err := n.Ask(ctx, Question{From: now.AddDate(0, 0, -8), To: now, Step: time.Hour,
		Numbers: []string{series.Bytes}})
	if err != nil || len(got.Lines) == 0 {
		return 0, 0, err
	}
	l := got.Lines[0]
	heard, before := int64(0), int64(0)
	for i, v := range l.Points {
		switch {
		case i >= len(l.Points)-hours:
			day += v
		case l.Heard[i]:
			heard++
			before += v
		}
	}
	if heard >= hours {
		usual = before * hours / heard
	}
	return day, usual, nil
}

// learnedFrom is how long ago numbers are that what is usual is learned from.
const learnedFrom = 28 * 24 * time.Hour

// Usual is how many records of a source usually come in each hour of the week on the clock of a zone, and how many
// came in the last hour.
func (n *Numbers) Usual(ctx context.Context, source string, zone *time.Location) (u expect.Usual, last int64,
	err error) {
	now := n.now()
	hour := now.Truncate(time.Hour) // the one that is under way says too little
	q := Question{From: hour.Add(-learnedFrom), To: hour, Step: time.Hour, Numbers: []string{series.Read},
		Source: source}
	got, err := n.Ask(ctx, q)
	if err != nil {
		return u, 0, err
	}
	var hours []expect.Counted
	for _, l := range got.Lines {
		for i, v := range l.Points {
			if l.Heard[i] {
				hours = append(hours, expect.Counted{At: got.Start.Add(time.Duration(i) * got.Step), Records: v})
			}
		}
	}
	q.From, q.To, q.Step = now.Add(-time.Hour), now, 30*time.Second
	got, err = n.Ask(ctx, q)
	for _, l := range got.Lines {
		last += l.Sum()
	}
	return expect.Learn(hours, zone), last, err
}
