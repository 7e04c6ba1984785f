package wire

import (
	"time"

	colmetrics "go.opentelemetry.io/proto/otlp/collector/metrics/v1"
	metrics "go.opentelemetry.io/proto/otlp/metrics/v1"
)

// metricCPU is the time that a process has had on the processor, by OpenTelemetry's conventions of processes.
const metricCPU = "process.cpu.time"

// Process is what the agent's own process has used.
type Process struct {
	Started time.Time     // by the clock of its host
	CPU     time.Duration // on all cores, since then
}

// AddProcess writes what the agent's process has used into a request with numbers.
func AddProcess(req *colmetrics.ExportMetricsServiceRequest, now time.Time, p Process) {
	scope := req.ResourceMetrics[0].ScopeMetrics[0]
	scope.Metrics = append(scope.Metrics, &metrics.Metric{Name: metricCPU, Unit: "s",
		Data: &metrics.Metric_Sum{Sum: &metrics.Sum{
			IsMonotonic:            true,
			AggregationTemporality: metrics.AggregationTemporality_AGGREGATION_TEMPORALITY_CUMULATIVE,
			DataPoints: []*metrics.NumberDataPoint{{
				StartTimeUnixNano: uint64(p.Started.UnixNano()),
				TimeUnixNano:      uint64(now.UnixNano()),
				Value:             &metrics.NumberDataPoint_AsDouble{AsDouble: p.CPU.Seconds()},
			}},
		}}})
}
