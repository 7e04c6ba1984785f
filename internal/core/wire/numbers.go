package wire

import (
	"maps"
	"slices"
	"sync"
	"time"

	colmetrics "go.opentelemetry.io/proto/otlp/collector/metrics/v1"
	common "go.opentelemetry.io/proto/otlp/common/v1"
	metrics "go.opentelemetry.io/proto/otlp/metrics/v1"
	resource "go.opentelemetry.io/proto/otlp/resource/v1"
)

// Numbers are what an agent has counted of one source since its state began. They survive a restart of the agent.
type Numbers struct {
	Read     int64 `json:"read,omitempty"`     // records
	Bytes    int64 `json:"bytes,omitempty"`    // of input
	Unparsed int64 `json:"unparsed,omitempty"` // records that the format could not read
	// records that the source's own rules drop, for any reason
	Dropped int64 `json:"dropped,omitempty"`
	// the same by reason: unparsed, keep, drop, sample, limit, no-route
	Drops map[string]int64 `json:"drops,omitempty"`
	// records that all of their destinations have, and a position has moved over
	Acknowledged int64 `json:"acknowledged,omitempty"`
	// conditions and values that could not be computed; their records went on
	Failed int64 `json:"failed,omitempty"`
	Masked int64 `json:"masked,omitempty"` // records in which a mask found something
	// the same by mask; a record may count for several
	Masks map[string]int64 `json:"masks,omitempty"`
	// records that the format read and a watched field is in, by field
	Filled map[string]int64 `json:"filled,omitempty"`
	Blank  int64            `json:"blank,omitempty"` // lines skipped
	// times a file shrank under the reader: lines may be lost
	Truncated int64 `json:"truncated,omitempty"`
	// records whose time says no zone, where none is given
	NoZone int64 `json:"noZone,omitempty"`
	Zeros  int64 `json:"zeros,omitempty"` // NUL bytes skipped at the begin of lines
	// bytes of deleted files that were let go before they were read: their records are lost
	Lost int64 `json:"lost,omitempty"`
	// packed files that a pattern takes and that cannot be unpacked
	Packed int64 `json:"packed,omitempty"`
	// Unix nanoseconds, until when the certificate of a listener is good that the service signed; 0 for none
	CertificateEnds int64 `json:"certificateEnds,omitempty"`
	// messages to a listener that were lost, since they came faster than they could be taken
	Missed int64 `json:"missed,omitempty"`
	// messages, connections and requests that a listener turned away, by reason
	TurnedAway map[string]int64 `json:"turnedAway,omitempty"`
	// of senders that are known by their name: records, bytes, and records that the format could not read, that were
	// dropped, and in which a mask found something
	Senders        map[string]int64 `json:"senders,omitempty"`
	SenderBytes    map[string]int64 `json:"senderBytes,omitempty"`
	SenderUnparsed map[string]int64 `json:"senderUnparsed,omitempty"`
	SenderDropped  map[string]int64 `json:"senderDropped,omitempty"`
	SenderMasked   map[string]int64 `json:"senderMasked,omitempty"`
	// what they were dropped for and which mask found something in them, by SenderOf the reason and the mask
	SenderDrops map[string]int64 `json:"senderDrops,omitempty"`
	SenderMasks map[string]int64 `json:"senderMasks,omitempty"`
	// what became of their records, by SenderOf the destination
	SenderAcknowledged map[string]int64 `json:"senderAcknowledged,omitempty"`
	SenderSent         map[string]int64 `json:"senderSent,omitempty"` // bytes
	SenderRefused      map[string]int64 `json:"senderRefused,omitempty"`
	// records that wait, 0 too; and Unix nanoseconds, since when the oldest of them waits, by SenderOf the destination
	SenderWaiting map[string]int64 `json:"senderWaiting,omitempty"`
	SenderOldest  map[string]int64 `json:"senderOldest,omitempty"`

	Pending int64 `json:"pending,omitempty"` // records that wait for a destination, on disk or in memory
	Unread  int64 `json:"unread,omitempty"`  // bytes of its files that were not read yet
	// of them, those of files that are being read for the first time
	FirstRead int64 `json:"firstRead,omitempty"`
	// Unix nanoseconds, when the oldest was written that is not settled yet; 0 for none
	Oldest int64 `json:"oldest,omitempty"`
	// Unix nanoseconds, when the last record was read
	// milliseconds by which the time of the latest record is ahead of when it was read, where the file was read as it
	// grew; 0 for not known
	TimeOffset int64                     `json:"timeOffset,omitempty"`
	LastRecord int64                     `json:"lastRecord,omitempty"`
	Deliveries map[string]DeliveryCounts `json:"deliveries,omitempty"` // by destination
}

// DeliveryCounts are what became of a source's records at one destination. They balance at any moment:
//
//	Read = Dropped + Elsewhere + Acknowledged + Refused + Discarded + OnDisk + InMemory
type DeliveryCounts struct {
	// records that were read, as far as they were brought to this destination
	Read         int64 `json:"read,omitempty"`
	Dropped      int64 `json:"dropped,omitempty"`   // of them, those that the source's own rules dropped
	Elsewhere    int64 `json:"elsewhere,omitempty"` // those that go to other destinations only
	Acknowledged int64 `json:"acknowledged"`
	Sent         int64 `json:"sent,omitempty"`      // bytes of the acknowledged ones, before compression
	Refused      int64 `json:"refused"`             // put into the rejects
	Discarded    int64 `json:"discarded,omitempty"` // given up, since there was no room, or lost to damage on disk
	OnDisk       int64 `json:"onDisk,omitempty"`    // that wait in the buffer on disk
	InMemory     int64 `json:"inMemory,omitempty"`  // that wait or are under way, and are not on disk
	DiskBytes    int64 `json:"diskBytes,omitempty"` // of the buffer on disk
	// Unix nanoseconds, when the oldest was read that waits on disk; 0 for none
	Oldest int64 `json:"oldest,omitempty"`
}

// Difference is what the books do not account for. It is zero.
func (c DeliveryCounts) Difference() int64 {
	return c.Read - c.Dropped - c.Elsewhere - c.Acknowledged - c.Refused - c.Discarded - c.OnDisk - c.InMemory
}

// Waiting is how many records wait, on disk and in memory.
func (c DeliveryCounts) Waiting() int64 { return c.OnDisk + c.InMemory }

// Kind says how a counter of several spans or sources adds up.
type Kind uint8

// The kinds.
const (
	Sum    Kind = iota // it only grows
	Gauge              // as of now
	Latest             // a time, of which the later counts
)

// Counter is one of the numbers of a source: everything that counts, keeps, sends or shows them goes round Counters.
type Counter struct {
	Key          string // in the answers of the API
	Metric, Unit string // OpenTelemetry's conventions; units by UCUM
	Kind         Kind
	Of           func(*Numbers) *int64
}

// Counters are all numbers of a source but those by reason and by destination.
var Counters = []Counter{
	{"read", "synaxis.source.read", "{record}", Sum, func(n *Numbers) *int64 { return &n.Read }},
	{"bytes", "synaxis.source.read.bytes", "By", Sum, func(n *Numbers) *int64 { return &n.Bytes }},
	{"unparsed", "synaxis.source.unparsed", "{record}", Sum, func(n *Numbers) *int64 { return &n.Unparsed }},
	{"dropped", "synaxis.source.dropped", "{record}", Sum, func(n *Numbers) *int64 { return &n.Dropped }},
	{
		"acknowledged",
		"synaxis.source.acknowledged",
		"{record}",
		Sum,
		func(n *Numbers) *int64 { return &n.Acknowledged },
	},
	{"failed", "synaxis.source.steps.failed", "{error}", Sum, func(n *Numbers) *int64 { return &n.Failed }},
	{"masked", "synaxis.source.masked", "{record}", Sum, func(n *Numbers) *int64 { return &n.Masked }},
	{"noZone", "synaxis.source.no_zone", "{record}", Sum, func(n *Numbers) *int64 { return &n.NoZone }},
	{"blank", "synaxis.source.blank", "{line}", Sum, func(n *Numbers) *int64 { return &n.Blank }},
	{
		"truncations",
		"synaxis.source.truncations",
		"{truncation}",
		Sum,
		func(n *Numbers) *int64 { return &n.Truncated },
	},
	{"zeros", "synaxis.source.zeros", "By", Sum, func(n *Numbers) *int64 { return &n.Zeros }},
	{"lost", "synaxis.source.lost.bytes", "By", Sum, func(n *Numbers) *int64 { return &n.Lost }},
	{
		"certificateEnds", "synaxis.source.certificate_ends", "ns", Gauge,
		func(n *Numbers) *int64 { return &n.CertificateEnds },
	},
	{"missed", "synaxis.source.missed", "{message}", Sum, func(n *Numbers) *int64 { return &n.Missed }},
	{"packed", "synaxis.source.packed", "{file}", Gauge, func(n *Numbers) *int64 { return &n.Packed }},
	{"pending", "synaxis.source.pending", "{record}", Gauge, func(n *Numbers) *int64 { return &n.Pending }},
	{"unread", "synaxis.source.unread", "By", Gauge, func(n *Numbers) *int64 { return &n.Unread }},
	{"firstRead", "synaxis.source.first_read", "By", Gauge, func(n *Numbers) *int64 { return &n.FirstRead }},
	{"oldest", "synaxis.source.oldest_waiting", "ns", Gauge, func(n *Numbers) *int64 { return &n.Oldest }},
	{
		"timeOffset",
		"synaxis.source.time_offset",
		"ms",
		Gauge,
		func(n *Numbers) *int64 { return &n.TimeOffset },
	},
	{"lastRecord", "synaxis.source.last_record", "ns", Latest, func(n *Numbers) *int64 { return &n.LastRecord }},
}

// DeliveryCounter is one of the numbers of a source at a destination.
type DeliveryCounter struct {
	Key          string
	Metric, Unit string
	Kind         Kind
	Of           func(*DeliveryCounts) *int64
}

// DeliveryCounters are all of them.
var DeliveryCounters = []DeliveryCounter{
	{"read", "synaxis.delivery.read", "{record}", Sum, func(c *DeliveryCounts) *int64 { return &c.Read }},
	{"dropped", "synaxis.delivery.dropped", "{record}", Sum, func(c *DeliveryCounts) *int64 { return &c.Dropped }},
	{
		"elsewhere", "synaxis.delivery.elsewhere", "{record}", Sum,
		func(c *DeliveryCounts) *int64 { return &c.Elsewhere },
	},
	{
		"acknowledged",
		"synaxis.delivery.acknowledged",
		"{record}",
		Sum,
		func(c *DeliveryCounts) *int64 { return &c.Acknowledged },
	},
	{"sent", "synaxis.delivery.sent.bytes", "By", Sum, func(c *DeliveryCounts) *int64 { return &c.Sent }},
	{"refused", "synaxis.delivery.refused", "{record}", Sum, func(c *DeliveryCounts) *int64 { return &c.Refused }},
	{
		"discarded", "synaxis.delivery.discarded", "{record}", Sum,
		func(c *DeliveryCounts) *int64 { return &c.Discarded },
	},
	{"onDisk", "synaxis.delivery.on_disk", "{record}", Gauge, func(c *DeliveryCounts) *int64 { return &c.OnDisk }},
	{
		"inMemory", "synaxis.delivery.in_memory", "{record}", Gauge,
		func(c *DeliveryCounts) *int64 { return &c.InMemory },
	},
	{"diskBytes", "synaxis.delivery.disk_bytes", "By", Gauge, func(c *DeliveryCounts) *int64 { return &c.DiskBytes }},
	{"oldest", "synaxis.delivery.oldest_waiting", "ns", Gauge, func(c *DeliveryCounts) *int64 { return &c.Oldest }},
}

// Part is a number that is told apart by names: what sums up in it is a number of its own for each.
type Part struct {
	Metric, Attribute string
	Of                func(*Numbers) *map[string]int64
	With              string // the attribute of what SenderOf puts before its names; "" where they are no such pairs
	Kind              Kind   // Sum or Gauge
}

// Senders tells whether its names are those of senders.
func (p Part) Senders() bool { return p.Attribute == "sender" }

// AtDestinations tells whether its names are SenderOf a destination.
func (p Part) AtDestinations() bool { return p.With == "destination" }

// Parts are all of them.
var Parts = []Part{
	ofSource("dropped.by_reason", "reason", func(n *Numbers) *map[string]int64 { return &n.Drops }),
	ofSource("masked.by_mask", "mask", func(n *Numbers) *map[string]int64 { return &n.Masks }),
	ofSource("filled.by_field", "field", func(n *Numbers) *map[string]int64 { return &n.Filled }),
	ofSource("turned_away.by_reason", "reason", func(n *Numbers) *map[string]int64 { return &n.TurnedAway }),
	ofSender("read", "", Sum, func(n *Numbers) *map[string]int64 { return &n.Senders }),
	ofSender("read.bytes", "", Sum, func(n *Numbers) *map[string]int64 { return &n.SenderBytes }),
	ofSender("unparsed", "", Sum, func(n *Numbers) *map[string]int64 { return &n.SenderUnparsed }),
	ofSender("dropped", "", Sum, func(n *Numbers) *map[string]int64 { return &n.SenderDropped }),
	ofSender("masked", "", Sum, func(n *Numbers) *map[string]int64 { return &n.SenderMasked }),
	ofSender("dropped.by_reason", "reason", Sum, func(n *Numbers) *map[string]int64 { return &n.SenderDrops }),
	ofSender("masked.by_mask", "mask", Sum, func(n *Numbers) *map[string]int64 { return &n.SenderMasks }),
	ofSender("acknowledged", "destination", Sum, func(n *Numbers) *map[string]int64 { return &n.SenderAcknowledged }),
	ofSender("sent.bytes", "destination", Sum, func(n *Numbers) *map[string]int64 { return &n.SenderSent }),
	ofSender("refused", "destination", Sum, func(n *Numbers) *map[string]int64 { return &n.SenderRefused }),
	ofSender("waiting", "destination", Gauge, func(n *Numbers) *map[string]int64 { return &n.SenderWaiting }),
	ofSender("oldest_waiting", "destination", Gauge, func(n *Numbers) *map[string]int64 { return &n.SenderOldest }),
}

func ofSource(metric, attribute string, of func(*Numbers) *map[string]int64) Part {
	return Part{Metric: "synaxis.source." + metric, Attribute: attribute, Of: of}
}

func ofSender(metric, with string, kind Kind, of func(*Numbers) *map[string]int64) Part {
	return Part{"synaxis.sender." + metric, "sender", of, with, kind}
}

// Count adds to the number of a name.
func Count(m *map[string]int64, name string, v int64) {
	if v != 0 {
		put(m, name, (*m)[name]+v)
	}
}

// put sets the number of a name.
func put(m *map[string]int64, name string, v int64) {
	if *m == nil {
		*m = map[string]int64{}
	}
	(*m)[name] = v
}

// Add counts what n counted into to: sums add up, of times the later stays, and what is as of now is n's where it says
// anything.
func (to *Numbers) Add(n Numbers) {
	for _, c := range Counters {
		switch t, v := c.Of(to), *c.Of(&n); c.Kind {
		case Sum:
			*t += v
		case Latest:
			*t = max(*t, v)
		case Gauge:
			if v != 0 {
				*t = v
			}
		}
	}
	for _, p := range Parts {
		have := p.Of(to)
		for name, v := range *p.Of(&n) {
			if p.Kind == Sum {
				v += (*have)[name]
			}
			put(have, name, v)
		}
	}
	for name, d := range n.Deliveries {
		if to.Deliveries == nil {
			to.Deliveries = map[string]DeliveryCounts{}
		}
		have := to.Deliveries[name]
		for _, c := range DeliveryCounters {
			if v := *c.Of(&d); c.Kind == Sum {
				*c.Of(&have) += v
			} else if v != 0 {
				*c.Of(&have) = v
			}
		}
		to.Deliveries[name] = have
	}
}

// Settled are the numbers without what is only so now.
func (n Numbers) Settled() Numbers {
	for _, c := range Counters {
		if c.Kind == Gauge {
			*c.Of(&n) = 0
		}
	}
	for _, p := range Parts {
		if p.Kind == Gauge {
			*p.Of(&n) = nil
		}
	}
	n.Deliveries = maps.Clone(n.Deliveries)
	for name, d := range n.Deliveries {
		for _, c := range DeliveryCounters {
			if c.Kind == Gauge {
				*c.Of(&d) = 0
			}
		}
		n.Deliveries[name] = d
	}
	return n
}

// Clone copies the numbers.
func (n Numbers) Clone() Numbers {
	n.own()
	return n
}

// own makes its maps its own.
func (n *Numbers) own() {
	for _, p := range Parts {
		*p.Of(n) = maps.Clone(*p.Of(n))
	}
	n.Deliveries = maps.Clone(n.Deliveries)
}

// Since is what was counted beyond an earlier state: the sums that grew, and by how much. any tells whether one did.
func (n Numbers) Since(was Numbers) (d Numbers, any bool) {
	p := scratch.Get().(*[3]Numbers)
	defer scratch.Put(p)
	p[0], p[1], p[2] = n, was, Numbers{}
	any = since(&p[0], &p[1], &p[2])
	d = p[2]
	*p = [3]Numbers{}
	return d, any
}

// scratch is where numbers lie while the tables of counters go round them: they would be made anew for each report.
var scratch = sync.Pool{New: func() any { return new([3]Numbers) }}

func since(n, was, d *Numbers) (any bool) {
	for _, c := range Counters {
		if c.Kind == Sum {
			v := max(0, *c.Of(n)-*c.Of(was))
			any = any || v > 0
			*c.Of(d) = v
		}
	}
	for _, p := range Parts {
		if p.Kind == Gauge {
			continue
		}
		before := *p.Of(was)
		for name, v := range *p.Of(n) {
			if v > before[name] {
				put(p.Of(d), name, v-before[name])
				any = true
			}
		}
	}
	var at [3]DeliveryCounts // now, before, and by how much they grew
	for name, now := range n.Deliveries {
		at = [3]DeliveryCounts{now, was.Deliveries[name]}
		grew := false
		for _, c := range DeliveryCounters {
			if c.Kind == Sum {
				v := max(0, *c.Of(&at[0])-*c.Of(&at[1]))
				*c.Of(&at[2]) = v
				grew = grew || v > 0
			}
		}
		if grew {
			if d.Deliveries == nil {
				d.Deliveries = map[string]DeliveryCounts{}
			}
			d.Deliveries[name], any = at[2], true
		}
	}
	return any
}

// NotBelow lifts sums to what they were: an agent that was killed counts some of its records again, and a number that
// people audit never falls. What waits of senders that are not told this time stays.
func (n Numbers) NotBelow(was Numbers) Numbers {
	p := scratch.Get().(*[3]Numbers)
	defer scratch.Put(p)
	p[0], p[1] = n, was
	p[0].own()
	lift(&p[0], &p[1])
	n = p[0]
	*p = [3]Numbers{}
	return n
}

func lift(n, was *Numbers) {
	for _, c := range Counters {
		if c.Kind == Sum {
			*c.Of(n) = max(*c.Of(n), *c.Of(was))
		}
	}
	for name, v := range was.SenderWaiting {
		if _, told := n.SenderWaiting[name]; told {
			continue
		}
		if put(&n.SenderWaiting, name, v); v > 0 {
			put(&n.SenderOldest, name, was.SenderOldest[name])
		}
	}
	for _, p := range Parts {
		if p.Kind == Gauge {
			continue
		}
		now := p.Of(n)
		for name, v := range *p.Of(was) {
			if v > (*now)[name] {
				put(now, name, v)
			}
		}
	}
	var at [2]DeliveryCounts // now and before
	for name, before := range was.Deliveries {
		at = [2]DeliveryCounts{n.Deliveries[name], before}
		for _, c := range DeliveryCounters {
			if c.Kind == Sum {
				*c.Of(&at[0]) = max(*c.Of(&at[0]), *c.Of(&at[1]))
			}
		}
		if n.Deliveries == nil {
			n.Deliveries = map[string]DeliveryCounts{}
		}
		n.Deliveries[name] = at[0]
	}
}

// EncodeNumbers writes numbers as OTLP metrics. Sums are cumulative since start. What is not there is 0.
func EncodeNumbers(host string, start, now time.Time, all map[string]Numbers) *colmetrics.ExportMetricsServiceRequest {
	scope := &metrics.ScopeMetrics{Scope: &common.InstrumentationScope{Name: ServiceName}}
	add := func(name, unit string, kind Kind, points []*metrics.NumberDataPoint) {
		if len(points) == 0 {
			return
		}
		m := &metrics.Metric{Name: name, Unit: unit}
		if kind == Sum {
			m.Data = &metrics.Metric_Sum{Sum: &metrics.Sum{IsMonotonic: true, DataPoints: points,
				AggregationTemporality: metrics.AggregationTemporality_AGGREGATION_TEMPORALITY_CUMULATIVE}}
		} else {
			m.Data = &metrics.Metric_Gauge{Gauge: &metrics.Gauge{DataPoints: points}}
		}
		scope.Metrics = append(scope.Metrics, m)
	}
	point := func(v int64, attrs ...string) *metrics.NumberDataPoint {
		p := &metrics.NumberDataPoint{
			StartTimeUnixNano: uint64(start.UnixNano()),
			TimeUnixNano:      uint64(now.UnixNano()),
			Value:             &metrics.NumberDataPoint_AsInt{AsInt: v},
		}
		for i := 0; i < len(attrs); i += 2 {
			p.Attributes = append(p.Attributes, otlpText(attrs[i], attrs[i+1]))
		}
		return p
	}
	sources := slices.Sorted(maps.Keys(all))
	for _, c := range Counters {
		var points []*metrics.NumberDataPoint
		for _, s := range sources {
			n := all[s]
			if v := *c.Of(&n); v != 0 || c.Key == "read" { // which tells that there is this source
				points = append(points, point(v, "source", s))
			}
		}
		add(c.Metric, c.Unit, c.Kind, points)
	}
	for _, p := range Parts {
		var points []*metrics.NumberDataPoint
		for _, s := range sources {
			n := all[s]
			of := *p.Of(&n)
			for _, name := range slices.Sorted(maps.Keys(of)) {
				if p.With != "" {
					with, sender := CutSenderOf(name)
					points = append(points, point(of[name], "source", s, p.With, with, p.Attribute, sender))
					continue
				}
				points = append(points, point(of[name], "source", s, p.Attribute, name))
			}
		}
		add(p.Metric, "{record}", p.Kind, points)
	}
	for _, c := range DeliveryCounters {
		var points []*metrics.NumberDataPoint
		for _, s := range sources {
			for _, d := range slices.Sorted(maps.Keys(all[s].Deliveries)) {
				counts := all[s].Deliveries[d]
				if v := *c.Of(&counts); v != 0 ||
					c.Key == "acknowledged" { // which tells that there is this destination
					points = append(points, point(v, "source", s, "destination", d))
				}
			}
		}
		add(c.Metric, c.Unit, c.Kind, points)
	}
	return &colmetrics.ExportMetricsServiceRequest{ResourceMetrics: []*metrics.ResourceMetrics{{
		Resource:     &resource.Resource{Attributes: []*common.KeyValue{otlpText("host.name", host)}},
		ScopeMetrics: []*metrics.ScopeMetrics{scope},
	}}}
}

func otlpText(key, value string) *common.KeyValue {
	return &common.KeyValue{Key: key, Value: &common.AnyValue{Value: &common.AnyValue_StringValue{StringValue: value}}}
}
