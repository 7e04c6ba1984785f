package wire

import "time"

// AskSenders is the question by which the desk asks who sends to the listeners of a host. Ask.Source chooses a source;
// without it all are told.
const AskSenders = "senders"

// MaxSenders bounds the senders of one answer.
const MaxSenders = 2000

// Sender is who sends to a listener.
type Sender struct {
	Source   string    `json:"source"`
	Name     string    `json:"name,omitempty"` // "" for one that is in no definition
	Address  string    `json:"address"`
	First    time.Time `json:"first,omitzero"` // zero for one that is expected and was never heard
	Last     time.Time `json:"last,omitzero"`
	Messages int64     `json:"messages"`
	Minute   int64     `json:"minute,omitempty"` // messages of the last minute, about
	Bytes    int64     `json:"bytes"`
	Unparsed int64     `json:"unparsed,omitempty"`
	Missed   int64     `json:"missed,omitempty"` // for which there was no room
	Examples []string  `json:"examples,omitempty"`
	// what format: recognise has taken for it, and which share of its lines that read
	Format string  `json:"format,omitempty"`
	Share  float64 `json:"share,omitempty"`
}
