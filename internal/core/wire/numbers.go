package wire

import (
	"maps"
	"slices"
	"sort"
	"time"

	colmetrics "go.opentelemetry.io/proto/otlp/collector/metrics/v1"
	common "go.opentelemetry.io/proto/otlp/common/v1"
	metrics "go.opentelemetry.io/proto/otlp/metrics/v1"
	resource "go.opentelemetry.io/proto/otlp/resource/v1"
)

// Numbers are what an agent has counted of one source since its state began. They survive a restart of the agent.
type Numbers struct {
	Read       int64                     `json:"read"`       // records
	Bytes      int64                     `json:"bytes"`      // of input
	Unparsed   int64                     `json:"unparsed"`   // records that the format could not read
	Dropped    int64                     `json:"dropped"`    // records that the source's own rules drop, for any reason
	Drops      map[string]int64          `json:"drops"`      // the same by reason: unparsed, keep, drop, sample, limit, no-route
	Failed     int64                     `json:"failed"`     // conditions and values that could not be computed; their records went on
	Masked     int64                     `json:"masked"`     // records in which a mask found something
	Blank      int64                     `json:"blank"`      // lines skipped
	Truncated  int64                     `json:"truncated"`  // times a file shrank under the reader: lines may be lost
	Pending    int64                     `json:"pending"`    // records read and not settled yet
	LastRecord int64                     `json:"lastRecord"` // Unix nanoseconds, when the last record was read
	Deliveries map[string]DeliveryCounts `json:"deliveries"` // by destination
}

// DeliveryCounts are what became of a source's records at one destination.
type DeliveryCounts struct {
	Acknowledged int64 `json:"acknowledged"`
	Refused      int64 `json:"refused"` // put into the rejects
}

// Names of the metrics.
const (
	metricRead         = "synaxis.source.read"
	metricBytes        = "synaxis.source.read.bytes"
	metricUnparsed     = "synaxis.source.unparsed"
	metricDropped      = "synaxis.source.dropped"
	metricDrops        = "synaxis.source.dropped.by_reason"
	metricFailed       = "synaxis.source.steps.failed"
	metricMasked       = "synaxis.source.masked"
	metricBlank        = "synaxis.source.blank"
	metricTruncated    = "synaxis.source.truncations"
	metricPending      = "synaxis.source.pending"
	metricLastRecord   = "synaxis.source.last_record"
	metricAcknowledged = "synaxis.delivery.acknowledged"
	metricRefused      = "synaxis.delivery.refused"
)

// EncodeNumbers writes numbers as OTLP metrics. Sums are cumulative since start.
func EncodeNumbers(host string, start, now time.Time, all map[string]Numbers) *colmetrics.ExportMetricsServiceRequest {
	points := map[string][]*metrics.NumberDataPoint{}
	var names []string
	add := func(name string, v int64, attrs ...string) {
		if _, ok := points[name]; !ok {
			names = append(names, name)
		}
		p := &metrics.NumberDataPoint{StartTimeUnixNano: uint64(start.UnixNano()), TimeUnixNano: uint64(now.UnixNano()), Value: &metrics.NumberDataPoint_AsInt{AsInt: v}}
		for i := 0; i < len(attrs); i += 2 {
			p.Attributes = append(p.Attributes, otlpText(attrs[i], attrs[i+1]))
		}
		points[name] = append(points[name], p)
	}
	sources := make([]string, 0, len(all))
	for s := range all {
		sources = append(sources, s)
	}
	sort.Strings(sources)
	for _, s := range sources {
		n := all[s]
		add(metricRead, n.Read, "source", s)
		add(metricBytes, n.Bytes, "source", s)
		add(metricUnparsed, n.Unparsed, "source", s)
		add(metricDropped, n.Dropped, "source", s)
		for _, reason := range slices.Sorted(maps.Keys(n.Drops)) {
			add(metricDrops, n.Drops[reason], "source", s, "reason", reason)
		}
		add(metricFailed, n.Failed, "source", s)
		add(metricMasked, n.Masked, "source", s)
		add(metricBlank, n.Blank, "source", s)
		add(metricTruncated, n.Truncated, "source", s)
		add(metricPending, n.Pending, "source", s)
		add(metricLastRecord, n.LastRecord, "source", s)
		for d, c := range n.Deliveries {
			add(metricAcknowledged, c.Acknowledged, "source", s, "destination", d)
			add(metricRefused, c.Refused, "source", s, "destination", d)
		}
	}
	scope := &metrics.ScopeMetrics{Scope: &common.InstrumentationScope{Name: ServiceName}}
	for _, name := range names {
		m := &metrics.Metric{Name: name, Unit: "{record}"}
		switch name {
		case metricBytes:
			m.Unit = "By"
		case metricLastRecord:
			m.Unit = "ns"
		}
		if name == metricPending || name == metricLastRecord {
			m.Data = &metrics.Metric_Gauge{Gauge: &metrics.Gauge{DataPoints: points[name]}}
		} else {
			m.Data = &metrics.Metric_Sum{Sum: &metrics.Sum{IsMonotonic: true, DataPoints: points[name],
				AggregationTemporality: metrics.AggregationTemporality_AGGREGATION_TEMPORALITY_CUMULATIVE}}
		}
		scope.Metrics = append(scope.Metrics, m)
	}
	return &colmetrics.ExportMetricsServiceRequest{ResourceMetrics: []*metrics.ResourceMetrics{{
		Resource:     &resource.Resource{Attributes: []*common.KeyValue{otlpText("host.name", host)}},
		ScopeMetrics: []*metrics.ScopeMetrics{scope},
	}}}
}

func otlpText(key, value string) *common.KeyValue {
	return &common.KeyValue{Key: key, Value: &common.AnyValue{Value: &common.AnyValue_StringValue{StringValue: value}}}
}

// DecodeNumbers reads what EncodeNumbers wrote. Metrics that it does not know are passed over.
func DecodeNumbers(req *colmetrics.ExportMetricsServiceRequest) map[string]Numbers {
	out := map[string]Numbers{}
	for _, rm := range req.GetResourceMetrics() {
		for _, sm := range rm.GetScopeMetrics() {
			for _, m := range sm.GetMetrics() {
				points := m.GetSum().GetDataPoints()
				if m.GetGauge() != nil {
					points = m.GetGauge().GetDataPoints()
				}
				for _, p := range points {
					take(out, m.GetName(), p)
				}
			}
		}
	}
	return out
}

func take(out map[string]Numbers, name string, p *metrics.NumberDataPoint) {
	source, destination, reason := "", "", ""
	for _, a := range p.GetAttributes() {
		switch a.GetKey() {
		case "source":
			source = a.GetValue().GetStringValue()
		case "destination":
			destination = a.GetValue().GetStringValue()
		case "reason":
			reason = a.GetValue().GetStringValue()
		}
	}
	if source == "" {
		return
	}
	n, v := out[source], p.GetAsInt()
	d := n.Deliveries[destination]
	switch name {
	case metricRead:
		n.Read = v
	case metricBytes:
		n.Bytes = v
	case metricUnparsed:
		n.Unparsed = v
	case metricDropped:
		n.Dropped = v
	case metricDrops:
		if n.Drops == nil {
			n.Drops = map[string]int64{}
		}
		n.Drops[reason] = v
	case metricFailed:
		n.Failed = v
	case metricMasked:
		n.Masked = v
	case metricBlank:
		n.Blank = v
	case metricTruncated:
		n.Truncated = v
	case metricPending:
		n.Pending = v
	case metricLastRecord:
		n.LastRecord = v
	case metricAcknowledged:
		d.Acknowledged = v
	case metricRefused:
		d.Refused = v
	default:
		return
	}
	if destination != "" {
		if n.Deliveries == nil {
			n.Deliveries = map[string]DeliveryCounts{}
		}
		n.Deliveries[destination] = d
	}
	out[source] = n
}
