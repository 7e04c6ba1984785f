package wire

import "encoding/json"

// AskPeek is the question by which the desk looks at records of a source as they come. An agent answers with what came
// since it was asked last, or after a moment with nothing.
const AskPeek = "peek"

// Bounds of a look.
const (
	MaxPeekRecords = 50      // of one answer
	MaxPeekBytes   = 8 << 10 // of one text of a record
	MaxPeekSeconds = 600
)

// PeekAsk is what is looked at. The first question with an ID begins the look.
type PeekAsk struct {
	ID      string  `json:"id"`
	Source  string  `json:"source"`
	Where   string  `json:"where,omitempty"` // a condition over the record as it leaves, or as it was dropped
	Seconds int     `json:"seconds"`
	Rate    float64 `json:"rate"` // records a second
	Clear   bool    `json:"clear,omitempty"`
	Stop    bool    `json:"stop,omitempty"`
}

// Peek is what came.
type Peek struct {
	Records []PeekRecord `json:"records,omitempty"`
	Passed  int64        `json:"passed"` // records that the source made meanwhile, since the look began
	Looked  int64        `json:"looked"` // of them it looked at
	Met     int64        `json:"met"`    // of those met the condition; above the rate they are not shown
	Ended   bool         `json:"ended,omitempty"`
}

// PeekRecord is a record, in the form of the workbench, with the file that it came from.
type PeekRecord struct {
	File   string          `json:"file,omitempty"`
	Record json.RawMessage `json:"record"`
}
