package pipeline

import (
	"time"

	"synaxis/internal/core/yamldoc"
)

// Program is a program that the agent runs, with its arguments. Every 0 keeps it running.
type Program struct {
	Run          []string
	Every        time.Duration
	IgnoreErrors bool // what it says on standard error is no trouble while it goes well otherwise
}

// DefaultAsk is how often a program is asked which files to read.
const DefaultAsk = 10 * time.Minute

// Generate makes records up: so many in so long, with a text.
type Generate struct {
	Records float64
	Per     time.Duration
	Text    string // with {n} for the number of the record, and {time} for the time in RFC 3339
}

// Journal is the system's journal. Units are patterns; none for all.
type Journal struct{ Units []string }

func decodeProgram(n *yamldoc.Node, key string, every time.Duration) *Program {
	if n == nil {
		return nil
	}
	p := &Program{Run: n.Get(key).Texts(), Every: every, IgnoreErrors: n.Get("standard-error").Text() == "ignore"}
	if d, err := yamldoc.ParseDuration(n.Get("every").Text()); err == nil && d > 0 {
		p.Every = d
	}
	return p
}

func decodeGenerate(n *yamldoc.Node) *Generate {
	amount, _, per, err := yamldoc.ParseRate(n.Get("rate").Text())
	if err != nil || amount <= 0 {
		amount, per = 1, time.Second
	}
	return &Generate{Records: amount, Per: per, Text: n.Get("template").Text()}
}
