package wire

import (
	"encoding/json"
	"time"
)

// AskProbe is the question by which the desk sends a marked record along the path of a source. The first question with
// an ID begins it; an agent answers when something happened to the record since, or after a moment.
const AskProbe = "probe"

// Bounds of a probe.
const (
	MaxProbeLine    = 64 << 10
	MaxProbeSeconds = 600
	MaxProbeHops    = 200
)

// ProbeLabel is the label that marks the record: its value is the ID of the probe.
const ProbeLabel = "synaxis-probe"

// ProbeAsk is what is sent.
type ProbeAsk struct {
	ID      string         `json:"id"`
	Source  string         `json:"source"`
	Line    string         `json:"line,omitempty"`   // none: one that the agent makes, or a copy of its newest
	Fields  map[string]any `json:"fields,omitempty"` // of a line that the agent makes
	Seconds int            `json:"seconds"`
	Seen    int            `json:"seen,omitempty"` // hops that the desk knows
	Stop    bool           `json:"stop,omitempty"`
}

// Hop is one thing that happened to the record.
type Hop string

// The hops, in the order in which they come.
const (
	HopWritten      Hop = "written"
	HopRead         Hop = "read"    // and treated; it goes to destinations
	HopDropped      Hop = "dropped" // by a step of its source
	HopQueued       Hop = "queued"  // for a destination
	HopBuffered     Hop = "buffered"
	HopAcknowledged Hop = "acknowledged"
	HopRefused      Hop = "refused"
	HopDiscarded    Hop = "discarded"
	HopFound        Hop = "found" // at the receiver, by its look-up address
	HopMissing      Hop = "missing"
)

// ProbeHop is a hop with what is to be said of it.
type ProbeHop struct {
	Hop         Hop             `json:"hop"`
	At          time.Time       `json:"at"`
	Destination string          `json:"destination,omitempty"`
	Words       string          `json:"words,omitempty"`
	Record      json.RawMessage `json:"record,omitempty"` // of read and dropped, in the form of the workbench
}

// Probe is how far the record has come.
type Probe struct {
	Hops  []ProbeHop `json:"hops,omitempty"`
	Ended bool       `json:"ended,omitempty"`
	Stuck string     `json:"stuck,omitempty"` // where it hangs and why, when it has ended on its way
}
