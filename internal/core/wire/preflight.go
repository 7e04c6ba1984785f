package wire

import "time"

// AskPreflight is the question by which the desk lets a host rehearse a config: nothing is changed.
const AskPreflight = "preflight"

// What a rehearsal looks at.
const (
	TryConfig      = "config"      // the agent can run all of it
	TryPath        = "path"        // files are there and can be read
	TryPort        = "port"        // a listener can be bound
	TryProgram     = "program"     // a program that is run is there
	TryDestination = "destination" // it is found, connects, is safe, lets the host in, and takes records
	TryDisk        = "disk"        // room for the buffers
	TryClock       = "clock"       // against the service
)

// Levels of what a rehearsal found.
const (
	TryFine    = "fine"
	TryNote    = "note"    // worth a look; it does not keep the config from running
	TryTrouble = "trouble" // records would not be collected, or not delivered
)

// Tried is what came of one thing that was tried.
type Tried struct {
	Kind   string    `json:"kind"`
	Name   string    `json:"name"` // of the source with its pattern, or of the destination
	Level  string    `json:"level"`
	Code   string    `json:"code,omitempty"`
	Words  string    `json:"words"`
	Todo   string    `json:"todo,omitempty"`
	Files  int64     `json:"files,omitempty"`
	Bytes  int64     `json:"bytes,omitempty"`
	Newest time.Time `json:"newest,omitzero"`
}

// MaxTried bounds how much a host tells of one rehearsal.
const MaxTried = 500
