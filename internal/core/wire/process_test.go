package wire

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	otlp "go.opentelemetry.io/proto/otlp/metrics/v1"
)

func TestProcess(t *testing.T) {
	start := time.Unix(100, 0)
	for name, c := range map[string]struct {
		at   time.Time
		cpu  time.Duration
		edit func(v *float64)
		ok   bool
	}{
		"a share of a core":       {at: time.Unix(160, 0), cpu: 3 * time.Second, ok: true},
		"nothing":                 {at: time.Unix(160, 0), ok: true},
		"all of eight cores":      {at: time.Unix(160, 0), cpu: 480 * time.Second, ok: true},
		"before it started":       {at: time.Unix(99, 0), cpu: time.Second},
		"more than there is":      {at: time.Unix(101, 0), cpu: 1001 * time.Second},
		"below nothing":           {at: time.Unix(160, 0), cpu: -time.Second},
		"not a number":            {at: time.Unix(160, 0), edit: func(v *float64) { *v = math.NaN() }},
		"more than can be stored": {at: time.Unix(160, 0), edit: func(v *float64) { *v = math.Inf(1) }},
	} {
		t.Run(name, func(t *testing.T) {
			req := EncodeNumbers("h", start, c.at, nil)
			AddProcess(req, c.at, Process{Started: start, CPU: c.cpu})
			metrics := req.ResourceMetrics[0].ScopeMetrics[0].Metrics
			if c.edit != nil {
				v := metrics[len(metrics)-1].GetSum().DataPoints[0].GetAsDouble()
				c.edit(&v)
				metrics[len(metrics)-1].GetSum().DataPoints[0].Value = &otlp.NumberDataPoint_AsDouble{AsDouble: v}
			}
			back := report(t, req)
			assert.Equal(t, c.ok, !back.ProcessAt.IsZero())
			if c.ok {
				assert.Equal(t, Process{Started: start, CPU: c.cpu}, back.Process)
				assert.Equal(t, c.at, back.ProcessAt)
			}
			assert.Empty(t, back.Sources, "it is not a number of a source")
		})
	}
	back := report(t, EncodeNumbers("h", start, time.Unix(160, 0), nil))
	assert.Zero(t, back.ProcessAt, "an agent that does not tell")
}
