package wire

import "time"

// AskUnclaimed is the question by which the desk asks for examples of records that a format did not read, or that no
// route took. Ask.Source chooses a source; without it all are told.
const AskUnclaimed = "unclaimed"

// MaxUnclaimed bounds the examples of one answer.
const MaxUnclaimed = 500

// Unclaimed are the examples of one source for one reason: unparsed or no-route.
type Unclaimed struct {
	Source   string             `json:"source"`
	Reason   string             `json:"reason"`
	Examples []UnclaimedExample `json:"examples"`
}

// UnclaimedExample is a record without its private data.
type UnclaimedExample struct {
	Text  string    `json:"text"`
	File  string    `json:"file,omitempty"`
	At    time.Time `json:"at"`
	Shape string    `json:"shape"`
}
