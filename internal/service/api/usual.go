package api

import (
	"context"
	"fmt"
	"time"

	"synaxis/internal/contract"
	"synaxis/internal/core/expect"
	"synaxis/internal/core/series"
	past "synaxis/internal/service/numbers"
	"synaxis/internal/service/store"
)

// learnedFrom is how long ago numbers are that what is usual is learned from.
const learnedFrom = 28 * 24 * time.Hour

// GetUsual tells how many records of a source usually come.
func (a *API) GetUsual(ctx context.Context, r contract.GetUsualRequestObject) (contract.GetUsualResponseObject,
	error) {
	source := a.Hosts.Expected(r.Source)
	if source == nil {
		return nil, store.Missingf("there is no source %s", r.Source)
	}
	now := a.Now()
	hour := now.Truncate(time.Hour) // the one that is under way says too little
	got, err := a.Numbers.Ask(ctx, past.Question{From: hour.Add(-learnedFrom), To: hour, Step: time.Hour,
		Numbers: []string{series.Read}, Source: r.Source})
	if err != nil {
		return nil, err
	}
	var hours []expect.Counted
	for _, l := range got.Lines {
		for i, v := range l.Points {
			if l.Heard[i] {
				hours = append(hours, expect.Counted{At: got.Start.Add(time.Duration(i) * got.Step), Records: v})
			}
		}
	}
	zone, err := time.LoadLocation(a.Hosts.Zone(r.Source))
	if err != nil {
		zone = time.UTC
	}
	usual := expect.Learn(hours, zone)
	out := contract.GetUsual200JSONResponse{}
	last, err := a.Numbers.Ask(ctx, past.Question{From: now.Add(-time.Hour), To: now, Step: 30 * time.Second,
		Numbers: []string{series.Read}, Source: r.Source})
	if err != nil {
		return nil, err
	}
	for _, l := range last.Lines {
		out.Now += l.Sum()
	}
	text, why := usual.Suggest()
	out.Suggestion, out.Why = optional(text), optional(why)
	at, known := usual.At(now)
	out.Known, out.Low, out.High = known, at.Low, at.High
	out.Words = "what is usual at this hour is known after two weeks"
	if known {
		out.Words = fmt.Sprintf("usually %d to %d records at this hour; %d in the last hour", at.Low, at.High, out.Now)
	}
	return out, nil
}
