package deliver

import (
	"maps"
	"time"
)

// answersFor is over how long answers are counted, and in how many steps.
const (
	answersFor   = 5 * time.Minute
	answersSteps = 10
)

// Answers counts what a destination answered in the last five minutes, by kind: a status of HTTP, "accepted", or the
// code of a trouble.
type Answers struct {
	steps [answersSteps]map[string]int64
	at    [answersSteps]int64 // which step of time each holds
}

func (a *Answers) add(kind string, now time.Time) {
	step := now.UnixNano() / int64(answersFor/answersSteps)
	i := step % answersSteps
	if a.at[i] != step || a.steps[i] == nil {
		a.at[i], a.steps[i] = step, map[string]int64{}
	}
	a.steps[i][kind]++
}

// count is how often each kind of answer came.
func (a *Answers) count(now time.Time) map[string]int64 {
	step := now.UnixNano() / int64(answersFor/answersSteps)
	out := map[string]int64{}
	for i, kinds := range a.steps {
		if step-a.at[i] < answersSteps {
			for kind, n := range maps.All(kinds) {
				out[kind] += n
			}
		}
	}
	return out
}

// answered notes an answer.
func (d *Destination) answered(a Answer, now time.Time) {
	kind := a.Kind
	switch {
	case kind != "":
	case a.Code != "":
		kind = string(a.Code)
	default:
		kind = "accepted"
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.answers.add(kind, now)
}

// Answered is what the destination answered in the last five minutes, by kind.
func (d *Destination) Answered() map[string]int64 {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.answers.count(time.Now())
}
