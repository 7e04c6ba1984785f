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

// DecodeProcess reads what AddProcess wrote; at is when it was written. ok is false where there is nothing of it, or
// nothing that can be: a process does not use time before it starts, and not more than thousand cores.
func DecodeProcess(req *colmetrics.ExportMetricsServiceRequest) (p Process, at time.Time, ok bool) {
	for _, rm := range req.GetResourceMetrics() {
		for _, sm := range rm.GetScopeMetrics() {
			for _, m := range sm.GetMetrics() {
				points := m.GetSum().GetDataPoints()
				if m.GetName() != metricCPU || len(points) != 1 {
					continue
				}
				used, start, now := points[0].GetAsDouble(), points[0].GetStartTimeUnixNano(),
					points[0].GetTimeUnixNano()
				if start == 0 || now <= start || !(used >= 0 && used <= 1000*float64(now-start)/1e9) {
					continue
				}
				p = Process{Started: time.Unix(0, int64(start)), CPU: time.Duration(used * float64(time.Second))}
				return p, time.Unix(0, int64(now)), true
			}
		}
	}
	return Process{}, time.Time{}, false
}
