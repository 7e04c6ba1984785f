package api

import (
	"context"
	"fmt"
	"time"

	"synaxis/internal/contract"
	"synaxis/internal/service/store"
)

// GetUsual tells how many records of a source usually come.
func (a *API) GetUsual(ctx context.Context, r contract.GetUsualRequestObject) (contract.GetUsualResponseObject,
	error) {
	source := a.Hosts.Expected(r.Source)
	if source == nil {
		return nil, store.Missingf("there is no source %s", r.Source)
	}
	zone, err := time.LoadLocation(a.Hosts.Zone(r.Source))
	if err != nil {
		zone = time.UTC
	}
	out := contract.GetUsual200JSONResponse{}
	usual, last, err := a.Numbers.Usual(ctx, r.Source, zone)
	if err != nil {
		return nil, err
	}
	out.Now = last
	text, why := usual.Suggest()
	out.Suggestion, out.Why = optional(text), optional(why)
	at, known := usual.At(a.Now())
	out.Known, out.Low, out.High = known, at.Low, at.High
	out.Words = "what is usual at this hour is known after two weeks"
	if known {
		out.Words = fmt.Sprintf("usually %d to %d records at this hour; %d in the last hour", at.Low, at.High, out.Now)
	}
	return out, nil
}
