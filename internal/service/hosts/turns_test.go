package hosts

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"synaxis/internal/core/health"
)

// TestSettle: a state that has turned worse twice within two minutes does not turn better before two minutes have
// passed since; it may turn worse at any time, and a source follows its host at once.
func TestSettle(t *testing.T) {
	t.Parallel()
	well := health.Verdict{State: health.Healthy}
	silent := health.Verdict{State: health.Degraded, Code: health.Silent}
	broken := health.Verdict{State: health.Failing, Code: health.NotReadable}
	away := health.Verdict{State: health.Waiting, Code: health.AwayAsUsual}
	at := time.Date(2031, 4, 2, 6, 0, 0, 0, time.UTC)
	type step struct {
		after  int // seconds
		host   health.Verdict
		source health.Verdict
		shown  health.State
	}
	for name, steps := range map[string][]step{
		"once and back": {{0, well, well, health.Healthy}, {10, well, silent, health.Degraded},
			{20, well, well, health.Healthy}},
		"twice and back": {{0, well, well, health.Healthy}, {10, well, silent, health.Degraded},
			{20, well, well, health.Healthy}, {30, well, silent, health.Degraded}, {40, well, well, health.Degraded},
			{149, well, well, health.Degraded}, {150, well, well, health.Healthy}},
		"worse at any time": {{0, well, well, health.Healthy}, {10, well, silent, health.Degraded},
			{20, well, well, health.Healthy}, {30, well, silent, health.Degraded}, {40, well, broken, health.Failing}},
		"slowly": {{0, well, well, health.Healthy}, {10, well, silent, health.Degraded}, {20, well, well,
			health.Healthy},
			{140, well, silent, health.Degraded}, {150, well, well, health.Healthy}},
		"its host is away": {{0, well, well, health.Healthy}, {10, well, silent, health.Degraded},
			{20, well, well, health.Healthy}, {30, well, silent, health.Degraded}, {40, away, away, health.Waiting}},
	} {
		h := &Hosts{}
		var k kept
		for _, s := range steps {
			next := kept{Judgement: Judgement{Host: s.host, By: map[string]health.Verdict{"lines": s.source}}}
			h.settle("a", k, &next, false, at.Add(time.Duration(s.after)*time.Second))
			k = next
			assert.Equal(t, s.shown, k.By["lines"].State, "%s, after %d s", name, s.after)
			assert.Equal(t, 1, k.Sources[s.shown], "%s, after %d s", name, s.after)
		}
		assert.NotEmpty(t, h.turns, name)
	}
}
