package deliver

import (
	"context"

	"synaxis/internal/core/delivery"
	"synaxis/internal/core/record"
)

// discardSender keeps nothing, so it wants nothing but the number of records.
type discardSender struct{}

func newDiscard(delivery.Spec, Deps) (Sender, error) { return discardSender{}, nil }

func (discardSender) Encoding() record.Encoding                           { return record.Nothing }
func (discardSender) Send(context.Context, []delivery.Segment) (a Answer) { return a }
func (discardSender) Close()                                              {}
