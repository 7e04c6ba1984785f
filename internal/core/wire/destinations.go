package wire

import (
	"maps"
	"slices"
	"time"

	colmetrics "go.opentelemetry.io/proto/otlp/collector/metrics/v1"
	metrics "go.opentelemetry.io/proto/otlp/metrics/v1"
)

// Destination is how a destination is on one host, beside what became of each source's records there.
type Destination struct {
	Room int64 `json:"room,omitempty"` // bytes that its buffer on disk may take
	// seconds until that is full at the present rate; 0 for never
	FullIn      int64            `json:"fullIn,omitempty"`
	Rejects     int64            `json:"rejects,omitempty"`     // records that are kept among the rejects
	RejectBytes int64            `json:"rejectBytes,omitempty"` // and their bytes
	RejectsGone int64            `json:"rejectsGone,omitempty"` // that went by the bounds since the agent started
	Answers     map[string]int64 `json:"answers,omitempty"`     // of the last five minutes, by kind
}

// destinationGauges are the numbers of a destination.
var destinationGauges = []struct {
	metric, unit string
	of           func(*Destination) *int64
}{
	{"synaxis.destination.buffer.room", "By", func(d *Destination) *int64 { return &d.Room }},
	{"synaxis.destination.buffer.full_in", "s", func(d *Destination) *int64 { return &d.FullIn }},
	{"synaxis.destination.rejects", "{record}", func(d *Destination) *int64 { return &d.Rejects }},
	{"synaxis.destination.rejects.bytes", "By", func(d *Destination) *int64 { return &d.RejectBytes }},
	{"synaxis.destination.rejects.gone", "{record}", func(d *Destination) *int64 { return &d.RejectsGone }},
}

const metricAnswers = "synaxis.destination.answers"

// AddDestinations writes how destinations are into a request with numbers.
func AddDestinations(req *colmetrics.ExportMetricsServiceRequest, now time.Time, all map[string]Destination) {
	scope := req.ResourceMetrics[0].ScopeMetrics[0]
	point := func(v int64, attributes ...string) *metrics.NumberDataPoint {
		p := &metrics.NumberDataPoint{TimeUnixNano: uint64(now.UnixNano()),
			Value: &metrics.NumberDataPoint_AsInt{AsInt: v}}
		for i := 0; i < len(attributes); i += 2 {
			p.Attributes = append(p.Attributes, otlpText(attributes[i], attributes[i+1]))
		}
		return p
	}
	add := func(metric, unit string, points []*metrics.NumberDataPoint) {
		if len(points) > 0 {
			scope.Metrics = append(scope.Metrics, &metrics.Metric{Name: metric, Unit: unit,
				Data: &metrics.Metric_Gauge{Gauge: &metrics.Gauge{DataPoints: points}}})
		}
	}
	names := slices.Sorted(maps.Keys(all))
	for _, g := range destinationGauges {
		var points []*metrics.NumberDataPoint
		for _, name := range names {
			d := all[name]
			if v := *g.of(&d); v != 0 {
				points = append(points, point(v, "destination", name))
			}
		}
		add(g.metric, g.unit, points)
	}
	var points []*metrics.NumberDataPoint
	for _, name := range names {
		for _, kind := range slices.Sorted(maps.Keys(all[name].Answers)) {
			points = append(points, point(all[name].Answers[kind], "destination", name, "answer", kind))
		}
	}
	add(metricAnswers, "{answer}", points)
}
