package wire

// AskTrial is the question by which the desk lets a host try a config on the records that come, beside the one that
// runs, and send nothing. It starts a trial, asks how it goes, or ends it. A trial that nobody asks about ends by
// itself, so that it does not outlive the desk's interest or the connection.
const AskTrial = "trial"

// TrialAsk is what is asked of a trial.
type TrialAsk struct {
	ID      string `json:"id"`
	Start   bool   `json:"start,omitempty"` // the config is in the question
	Stop    bool   `json:"stop,omitempty"`
	Seconds int    `json:"seconds,omitempty"`
}

// Trial is what a trial has found by now.
type Trial struct {
	ID      string        `json:"id"`
	Ended   bool          `json:"ended,omitempty"`
	Seconds float64       `json:"seconds"` // that it has run
	Skipped int64         `json:"skipped"` // bytes that it passed over, to stay within its share of a core
	Sources []TrialSource `json:"sources"`
}

// TrialSource is one source in the config that runs (Now) and in the one that is tried (Then); one of them is nil
// where only the other has the source.
type TrialSource struct {
	Name     string         `json:"name"`
	Now      *TrialSide     `json:"now,omitempty"`
	Then     *TrialSide     `json:"then,omitempty"`
	Differ   int64          `json:"differ"` // records that come out differently
	Examples []TrialExample `json:"examples,omitempty"`
	Note     string         `json:"note,omitempty"` // why it was not tried
}

// TrialSide is what one treatment made of what was read.
type TrialSide struct {
	Read         int64                     `json:"read"`
	Unparsed     int64                     `json:"unparsed"`
	Dropped      int64                     `json:"dropped"`
	Drops        map[string]int64          `json:"drops,omitempty"` // by reason
	Masked       int64                     `json:"masked"`
	NoZone       int64                     `json:"noZone"`
	Failed       int64                     `json:"failed"`
	Destinations map[string]TrialSent      `json:"destinations,omitempty"`
	Fields       map[string]map[Type]int64 `json:"fields,omitempty"` // how many values of each type
	Levels       map[string]int64          `json:"levels,omitempty"`
	Nanoseconds  int64                     `json:"nanoseconds"` // of a core
}

// Type is the type of a field's value, as the language names it.
type Type = string

// TrialSent is what would go to a destination.
type TrialSent struct {
	Records int64 `json:"records"`
	Bytes   int64 `json:"bytes"`
}

// TrialExample is a record that comes out differently, both ways; "" where it is dropped, or cut otherwise.
type TrialExample struct {
	Now  string `json:"now"`
	Then string `json:"then"`
}

// Bounds of a trial.
const (
	MaxTrialExamples = 5
	MaxTrialFields   = 500
	MaxTrialSources  = 200
	MaxExampleBytes  = 4 << 10
)
