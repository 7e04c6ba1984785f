package expr

import (
	"slices"
	"sync"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/traits"
)

// TroubleNames are what a condition over what is wrong may use beside labels of the host. The last three are seconds:
// since when it is wrong, how old the oldest record is that waits, and after how long a buffer is full; 0 for not
// known.
var TroubleNames = map[string]Type{"state": Text, "code": Text, "reason": Text, "host": Text, "source": Text,
	"destination": Text, "age": Float, "oldest": Float, "full_in": Float}

// Trouble is what a condition sees of something that is wrong.
type Trouble struct {
	Texts   map[string]string  // by the names of TroubleNames
	Seconds map[string]float64 // by the names of TroubleNames
	Labels  map[string]string
}

// ResolveName answers one name to the evaluator.
func (t *Trouble) ResolveName(name string) (any, bool) {
	if m := types.DefaultTypeAdapter.NativeToValue(t.Labels).(traits.Mapper); name == "labels" {
		return m, true
	} else if name == lenient+"labels" {
		return hostLabels{m}, true
	}
	switch TroubleNames[name] {
	case Text:
		return t.Texts[name], true
	case Float:
		return t.Seconds[name], true
	}
	return nil, false
}

// Parent is part of the evaluator's interface.
func (t *Trouble) Parent() cel.Activation { return nil }

// TroubleCondition is a condition over what is wrong. It is safe for use by many goroutines.
type TroubleCondition struct {
	Text string
	prog cel.Program

	seconds bool
}

var troubleChecker = sync.OnceValues(func() (*Checker, error) {
	return NewChecker(Scope{Names: TroubleNames, Open: []string{"labels"}, Texts: []string{"labels"}, Empty: "labels"})
})

// ParseTrouble reads a condition over what is wrong, such as state == "failing" && labels.site == "northpier".
func ParseTrouble(text string) (*TroubleCondition, error) {
	c, err := troubleChecker()
	if err != nil {
		return nil, err
	}
	k, p, err := c.condition(text)
	if err != nil {
		return nil, err
	}
	seconds := slices.ContainsFunc(k.Uses(), func(name string) bool { return TroubleNames[name] == Float })
	return &TroubleCondition{text, p, seconds}, nil
}

// Seconds tells whether the condition is over times, so that it may begin to hold by itself.
func (c *TroubleCondition) Seconds() bool { return c.seconds }

// Met tells whether the condition holds. What cannot be computed does not.
func (c *TroubleCondition) Met(t *Trouble) bool {
	out, _, err := c.prog.Eval(t)
	return err == nil && out == types.True
}
