// Package input is where records come from. Files are one kind of input among others; the engine knows them all by
// this face alone.
package input

import (
	"context"
	"log/slog"
	"time"

	"synaxis/internal/agent/position"
	"synaxis/internal/agent/settle"
	"synaxis/internal/core/format"
	"synaxis/internal/core/health"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/record"
	"synaxis/internal/core/wire"
)

// Input reads the records of one source. It cuts and treats them by Parts.Treatment, opens an entry in the book for
// each batch, with a cursor of its own kind, and hands the batch to Parts.Out.
type Input interface {
	// Run reads until ctx ends. What it holds open stays open, for the input that takes its place, or for Close.
	Run(ctx context.Context)
	// Complaint is what is wrong, or an empty one.
	Complaint() Complaint
	// Waiting are the gauges of what is not read, or not settled yet.
	Waiting() wire.Numbers
	// Save puts what has settled into the store; writing that to disk is the caller's.
	Save()
	// Close gives everything back. Positions are kept.
	Close()
}

// Ender is an input that takes what others send. End takes nothing new, and waits until what has come is treated, as
// long as ctx lasts; Run goes on meanwhile.
type Ender interface{ End(ctx context.Context) }

// PathReader is an input that reads paths of the host.
type PathReader interface {
	// Takes tells whether it reads a path.
	Takes(path string) bool
}

// Complaint is what is wrong with a source as its input sees it.
type Complaint struct {
	Code   health.Code
	Reason string
	Since  time.Time
}

// Out takes what is read. Ways tells how many records of a batch go to each destination; a destination that is ahead
// has them from before, and gets none of them again. Send hands the batch to them and calls waiting now and then while
// there is no room.
type Out interface {
	Ways(b *record.Batch, ahead func(destination string) bool) []settle.Way
	Send(ctx context.Context, b *record.Batch, e *settle.Entry, waiting func())
}

// Parts are what every kind of input is made of.
type Parts struct {
	Spec      pipeline.Source
	Treatment *pipeline.Treatment
	Origin    func(path string) *record.Origin
	// Sender makes the origin of what an address sends, with labels over those of the source.
	Sender func(address string, labels map[string]string) *record.Origin
	// Senders are treatments of senders with a format or a zone of their own, by name.
	Senders map[string]*pipeline.Treatment
	Secret  func(ref string) ([]byte, bool)
	// Compile makes a treatment of the source with another format, which may name others.
	Compile func(f format.Spec, others []format.Spec) (*pipeline.Treatment, error)
	// Certificate asks the service for a certificate of the source's listener, by a request in PEM.
	Certificate func(source, request string) (chain, words string)
	Dir         string // the agent's own folder
	Out         Out
	Store       *position.Store
	Book        *settle.Book
	Log         *slog.Logger
	Now         func() time.Time
}

// Maker makes an input, which may take over from the one that served the source before; that one has ended, and may be
// nil or of another kind.
type Maker func(p Parts, before Input) Input
