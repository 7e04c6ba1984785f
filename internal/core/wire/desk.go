package wire

import (
	"encoding/json"
	"fmt"
	"regexp"
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
	// of rejects: whose, which, and those behind a number; what is empty chooses all
	Destination string `json:"destination,omitempty"`
	Cause       string `json:"cause,omitempty"`
	Source      string `json:"source,omitempty"`
	After       int64  `json:"after,omitempty"`
	// of a preflight: what is rehearsed, the clock of the service, and whether a test record is sent
	Config   string    `json:"config,omitempty"`
	Desk     time.Time `json:"desk,omitzero"`
	SendTest bool      `json:"sendTest,omitempty"`
	Trial    *TrialAsk `json:"trial,omitempty"`
	Peek     *PeekAsk  `json:"peek,omitempty"`
	Probe    *ProbeAsk `json:"probe,omitempty"`
}

// Reply is what the agent answers: one of its parts, or why there is none.
type Reply struct {
	ID    string `json:"id"`
	Error string `json:"error,omitempty"`
	Lines *Lines `json:"lines,omitempty"`
	Logs  *Logs  `json:"logs,omitempty"`

	Peek      *Peek       `json:"peek,omitempty"`
	Unclaimed []Unclaimed `json:"unclaimed,omitempty"`
	Senders   []Sender    `json:"senders,omitempty"`
	Probe     *Probe      `json:"probe,omitempty"`
	Rejects   *Rejects    `json:"rejects,omitempty"`
	Preflight []Tried     `json:"preflight,omitempty"`
	Trial     *Trial      `json:"trial,omitempty"`
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

// Kinds of questions about rejects, and the newest value of a secret, which an agent asks of the desk.
const (
	AskRejects       = "rejects"
	AskRejectRecords = "reject-records"
	AskResend        = "resend-rejects"
	AskDiscard       = "discard-rejects"
	AskSecret        = "newest-secret" // from the agent to the service
	TypeSecret       = "secret"        // and back
)

// RejectGroup are rejects of one cause.
type RejectGroup struct {
	Cause   string    `json:"cause"`  // in short, such as 422
	Reason  string    `json:"reason"` // the destination's answer, in words
	Source  string    `json:"source"`
	Records int64     `json:"records"`
	Bytes   int64     `json:"bytes"`
	First   time.Time `json:"first"`
	Last    time.Time `json:"last"`
}

var digits = regexp.MustCompile(`[0-9]+`)

// Shape is an answer without its numbers: answers of one shape have one cause.
func Shape(answer string) string { return digits.ReplaceAllString(answer, "0") }

// RejectRecord is one of them. Its record is as it would be in a file: JSON, masked as it was sent.
type RejectRecord struct {
	Number   int64           `json:"number"`
	Rejected time.Time       `json:"rejected"`
	Cause    string          `json:"cause"`
	Reason   string          `json:"reason"`
	Source   string          `json:"source"`
	Record   json.RawMessage `json:"record"`
}

// Rejects are what a host keeps of what a destination refused.
type Rejects struct {
	Groups  []RejectGroup  `json:"groups,omitempty"`
	Gone    int64          `json:"gone,omitempty"` // that went by the bounds since the agent started
	Records []RejectRecord `json:"records,omitempty"`
	More    bool           `json:"more,omitempty"`
	Done    int64          `json:"done,omitempty"`   // that were resent or discarded
	Answer  string         `json:"answer,omitempty"` // why resending ended before all was done
}

// MaxRejectRecords bounds how many records are listed at once, MaxRejectBytes their bytes.
const (
	MaxRejectRecords = 500
	MaxRejectBytes   = 512 << 10
)

// Secret is a value that an agent asked for, by its reference.
type Secret struct {
	ID    string `json:"id"`
	Ref   string `json:"ref"` // NAME@VERSION of the one that it has
	Value string `json:"value,omitempty"`
	Found bool   `json:"found,omitempty"`
	// Request asks for a certificate of a listener, as PKCS #10 in PEM. Ref is then the source, and Value the
	// certificate with that of the authority, or why there is none.
	Request string `json:"request,omitempty"`
}
