package rollout

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"synaxis/internal/core/expr"
)

// GateNames are the numbers that a gate may look at, each of the hosts of a wave that the rollout has changed. Counts
// and shares are of hosts that are so now and were not before; ratios are against the hour before the change.
var GateNames = []string{
	"failing", "failing_share", "degraded", "degraded_share", "silent", "silent_share",
	"refused", "refused_share", "timed_out", "timed_out_share",
	"unparsed_share", "rejected_share", "read_ratio", "delivered_ratio", "cpu_share",
}

// refusals are the names that tell of hosts which did not take the config.
var refusals = []string{"refused", "refused_share", "failing", "failing_share"}

var timeouts = []string{"timed_out", "timed_out_share"}

// Evidence is what is known of the hosts of a wave.
type Evidence struct {
	Wave    int                // from 0
	Numbers map[string]float64 // by GateNames; what is not there is not known
	Enough  bool               // it proves that the wave is well, where the gate does not stop it
	Missing string             // what it lacks, when it is not enough
	Wrong   string             // what is wrong with its hosts, in words
}

// words are the numbers of an evidence that a gate looks at.
func (e Evidence) words(names []string) string {
	var parts []string
	for _, n := range slices.Sorted(slices.Values(names)) {
		if v, ok := e.Numbers[n]; ok {
			parts = append(parts, n+" "+strconv.FormatFloat(v, 'g', 3, 64))
		} else {
			parts = append(parts, n+" not known")
		}
	}
	return strings.Join(parts, ", ")
}

// after puts a text behind a head, where there is one.
func after(head, text string) string {
	if text == "" {
		return ""
	}
	return head + text
}

// Patience is how long a wave without evidence waits beyond its soak before it asks a person.
const Patience = 10 * time.Minute

// CheckGate tells what is wrong with the condition of a gate.
func CheckGate(text string) error {
	_, err := expr.ParseNumbers(text, GateNames)
	return err
}

// gate is the condition of the plan, or nil.
func (s *State) gateOf() *expr.NumberCondition {
	if s.gate == nil && s.Plan.StopWhen != "" {
		s.gate, _ = expr.ParseNumbers(s.Plan.StopWhen, GateNames) // checked before it was published
	}
	return s.gate
}

// looksAt tells whether the gate looks at one of these numbers.
func (s *State) looksAt(names []string) bool {
	g := s.gateOf()
	return g != nil && slices.ContainsFunc(g.Uses(), func(n string) bool { return slices.Contains(names, n) })
}

// measured judges a wave by what is known of it.
func (m *moves) measured(e Evidence, now time.Time) {
	g := m.gateOf()
	if g == nil || m.status != Running || e.Wave > m.wave {
		return
	}
	met, known := g.Met(e.Numbers)
	if met {
		m.stop(Decision{At: now, What: "gate", Numbers: maps.Clone(e.Numbers),
			Why: fmt.Sprintf("wave %d: %s, and the plan stops when %s%s", e.Wave+1, e.words(g.Uses()), g.Text,
				after("; ", e.Wrong))}, now)
		return
	}
	if e.Wave != m.wave {
		return
	}
	m.evidence = e
	switch {
	case !known:
		m.evidence.Enough, m.evidence.Missing = false, "not known: "+e.words(g.Uses())
	case m.phase == Soaking && now.Before(m.until), m.phase == Changing, m.phase == Closed:
		return
	}
	m.judge(now)
}

// judge decides what follows a soak that is over.
func (m *moves) judge(now time.Time) {
	if m.phase != Soaking && m.phase != Proving || now.Before(m.until) && m.phase == Soaking {
		return
	}
	g := m.gateOf()
	switch {
	case g == nil && m.Plan.Soak == 0:
		m.next(Decision{}, now)
	case g == nil:
		m.next(Decision{At: now, What: "passed", Why: fmt.Sprintf("wave %d soaked for %s", m.wave+1, m.Plan.Soak)},
			now)
	case m.evidence.Enough:
		m.next(Decision{At: now, What: "passed", Numbers: maps.Clone(m.evidence.Numbers),
			Why: fmt.Sprintf("wave %d: %s", m.wave+1, m.evidence.words(g.Uses()))}, now)
	case m.phase == Soaking:
		m.to(Proving, m.until.Add(Patience), now)
		m.asks = "nothing is known of wave " + strconv.Itoa(m.wave+1) + " yet"
		if m.evidence.Missing != "" {
			m.asks = m.evidence.Missing
		}
	case !now.Before(m.until):
		m.ask(m.asks, now)
	default:
		if m.evidence.Missing != "" {
			m.asks = m.evidence.Missing
		}
	}
}

// ask waits for a person.
func (m *moves) ask(why string, now time.Time) {
	m.to(Asking, time.Time{}, now)
	m.asks = why
	m.decisions = append(m.decisions, Decision{At: now, What: "asks",
		Why: fmt.Sprintf("wave %d waits for a person: %s", m.wave+1, why), Numbers: maps.Clone(m.evidence.Numbers)})
}
