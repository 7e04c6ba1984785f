package wire

import (
	"encoding/json"
	"fmt"
	"time"
)

// DeskCapability names the custom messages (OpAMP, section custom messages) by which the desk looks at a host: read
// the last lines of a file, and list logs. Each is JSON with an id that the answer repeats.
const DeskCapability = "example.synaxis.desk/1"

// Types of the custom messages.
const (
	AskLines  = "read-lines"
	AskLogs   = "list-logs"
	TypeReply = "reply"
)

// Bounds of what is read from a host.
const (
	MaxLines     = 200
	MaxLineBytes = 256 << 10
	MaxLogs      = 200
)

// Ask is what the desk asks of an agent.
type Ask struct {
	ID      string   `json:"id"`
	Path    string   `json:"path,omitempty"`
	Lines   int      `json:"lines,omitempty"`
	Folders []string `json:"folders,omitempty"` // to look into, beside those that the agent knows
}

// Reply is what the agent answers: one of its parts, or why there is none.
type Reply struct {
	ID    string `json:"id"`
	Error string `json:"error,omitempty"`
	Lines *Lines `json:"lines,omitempty"`
	Logs  *Logs  `json:"logs,omitempty"`
}

// Lines are the last lines of a file.
type Lines struct {
	Path     string    `json:"path"`
	Size     int64     `json:"size"`
	Modified time.Time `json:"modified"`
	Lines    []string  `json:"lines"`
	More     bool      `json:"more"`               // there are others before them
	Encoding string    `json:"encoding,omitempty"` // how their bytes are characters; none for utf-8
}

// Logs are files of a host that are being written and that no source of its config takes.
type Logs struct {
	Folders []string `json:"folders"` // where it was looked
	More    bool     `json:"more"`    // there are others
	Items   []Log    `json:"items"`
}

// Log is one of them.
type Log struct {
	Path     string    `json:"path"`
	Size     int64     `json:"size"`
	Modified time.Time `json:"modified"`
	Rate     float64   `json:"rate"`              // bytes a second while it was watched
	Program  string    `json:"program,omitempty"` // that has it open
	Kind     string    `json:"kind"`              // the best guess; the lines themselves stay on the host
	Share    float64   `json:"share"`             // of the records that it reads
	NoZone   bool      `json:"noZone"`
	Encoding string    `json:"encoding,omitempty"` // how its bytes are characters; none for utf-8
}

// Encode writes a custom message.
func Encode(v any) []byte {
	text, _ := json.Marshal(v) // texts and numbers always become JSON
	return text
}

// Decode reads a custom message.
func Decode(data []byte, v any) error {
	if len(data) > MaxMessage {
		return fmt.Errorf("the message has %d bytes; at most %d are read", len(data), MaxMessage)
	}
	if err := countJSON(data); err != nil {
		return err
	}
	return json.Unmarshal(data, v)
}
