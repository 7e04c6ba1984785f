package wire

import (
	"math"
	"time"

	"google.golang.org/protobuf/encoding/protowire"

	"synaxis/internal/core/protofields"
)

// Report is what an agent tells of its numbers at once.
type Report struct {
	Sources      map[string]Numbers
	Destinations map[string]Destination
	Start        time.Time // since when its sums count; zero where it has none
	At           time.Time // when it was written; zero where it has nothing
	Process      Process
	ProcessAt    time.Time // when the process was looked at; zero for not told
}

// ReadReport reads an OTLP ExportMetricsServiceRequest that EncodeNumbers, AddDestinations and AddProcess made,
// straight from its bytes: a service that hears of ten thousand hosts would otherwise spend most of its time on making
// messages that it drops. Metrics that it does not know are passed over. It fails with ErrElements, or where data is
// no protobuf. https://protobuf.dev/programming-guides/encoding and opentelemetry/proto/metrics/v1/metrics.proto
func ReadReport(data []byte) (Report, error) {
	r := reportReader{left: MaxElements, reading: map[string]*Numbers{}}
	r.Destinations = map[string]Destination{}
	err := r.each(data, resourceMetrics, func(data []byte) error {
		return r.each(data, scopeMetrics, func(data []byte) error {
			return r.each(data, metricsOfScope, r.metric)
		})
	})
	r.Sources = make(map[string]Numbers, len(r.reading))
	for name, n := range r.reading {
		r.Sources[name] = *n
	}
	return r.Report, err
}

// Brief is a message of an agent that has nothing but its numbers, or not even those, in parts of the frame that it
// came in.
type Brief struct {
	UID      []byte
	Sequence uint64
	Numbers  []byte // an ExportMetricsServiceRequest; nil for none
}

// ReadBrief reads an AgentToServer from a WebSocket frame, without making a message. It answers false where the
// message has more in it, or may be none.
func ReadBrief(frame []byte) (b Brief, ok bool) {
	more := false
	err := protofields.Each(message(frame), func(v protofields.Field) error {
		switch {
		case v.Is(agentUID, protowire.BytesType):
			b.UID = v.Bytes
		case v.Is(agentSequence, protowire.VarintType):
			b.Sequence = v.Bits
		case v.Is(agentCapabilities, protowire.VarintType):
		case v.Is(agentCustom, protowire.BytesType) && b.Numbers == nil:
			numbers, ok := briefNumbers(v.Bytes)
			b.Numbers, more = numbers, more || !ok
		default:
			more = true
		}
		return nil
	})
	return b, err == nil && !more
}

// briefNumbers are those in a CustomMessage; false where it holds something else.
func briefNumbers(data []byte) (numbers []byte, ok bool) {
	var capability, kind []byte
	err := protofields.Each(data, func(v protofields.Field) error {
		switch {
		case v.Is(customCapability, protowire.BytesType):
			capability = v.Bytes
		case v.Is(customType, protowire.BytesType):
			kind = v.Bytes
		case v.Is(customData, protowire.BytesType):
			numbers = v.Bytes
		}
		return nil
	})
	return numbers, err == nil && numbers != nil && string(capability) == NumbersCapability &&
		string(kind) == TypeNumbers
}

// Numbers of fields.
const (
	agentUID          = 1 // AgentToServer
	agentSequence     = 2
	agentCapabilities = 4
	agentCustom       = 13

	customCapability = 1 // CustomMessage
	customType       = 2
	customData       = 3

	resourceMetrics = 1 // ExportMetricsServiceRequest
	scopeMetrics    = 2 // ResourceMetrics
	metricsOfScope  = 2 // ScopeMetrics

	metricName  = 1 // Metric
	metricGauge = 5
	metricSum   = 7

	dataPoints = 1 // Gauge and Sum

	pointStart      = 2 // NumberDataPoint
	pointTime       = 3
	pointDouble     = 4
	pointInt        = 6
	pointAttributes = 7

	pairKey    = 1 // KeyValue
	pairValue  = 2
	textOfPair = 1 // AnyValue
)

type reportReader struct {
	Report
	left     int      // elements
	points   [][]byte // of the metric that is read
	reading  map[string]*Numbers
	delivery DeliveryCounts // the one that is written, here so that it is not made for each point
}

// point is one number.
type point struct {
	start, at                                 uint64
	whole                                     int64
	real                                      float64
	isReal                                    bool
	source, destination, answer, sender, part []byte
	partKey                                   []byte
}

// next is the first field of a message, and what comes behind it. What takes memory is counted.
func (r *reportReader) next(data []byte) (v protofields.Field, rest []byte, err error) {
	v, rest, err = protofields.Next(data)
	if err == nil && v.Type == protowire.BytesType {
		if r.left--; r.left < 0 {
			err = ErrElements
		}
	}
	return v, rest, err
}

// each calls f with each embedded message of a field.
func (r *reportReader) each(data []byte, number protowire.Number, f func([]byte) error) error {
	for len(data) > 0 {
		v, rest, err := r.next(data)
		if err == nil && v.Is(number, protowire.BytesType) {
			err = f(v.Bytes)
		}
		if err != nil {
			return err
		}
		data = rest
	}
	return nil
}

// metric reads one metric. Its name may stand behind its points.
func (r *reportReader) metric(data []byte) error {
	var name []byte
	gauge := false
	r.points = r.points[:0]
	for len(data) > 0 {
		v, rest, err := r.next(data)
		switch {
		case err != nil:
		case v.Is(metricName, protowire.BytesType):
			name = v.Bytes
		case v.Is(metricGauge, protowire.BytesType), v.Is(metricSum, protowire.BytesType):
			gauge = v.Number == metricGauge
			err = r.keepPoints(v.Bytes)
		}
		if err != nil {
			return err
		}
		data = rest
	}
	of := metricOf[string(name)]
	for _, data := range r.points {
		p, err := r.point(data)
		if at := time.Unix(0, int64(p.at)); p.at > 0 && at.After(r.At) {
			r.At = at
		}
		switch {
		case err != nil:
			return err
		case string(name) == metricCPU && !gauge && len(r.points) == 1:
			r.process(p)
		case len(p.source) > 0:
			r.source(of, p)
		case len(p.destination) > 0 && gauge:
			r.destination(of, p)
		}
	}
	return nil
}

// keepPoints keeps the points of a metric, since its name may come behind them.
func (r *reportReader) keepPoints(data []byte) error {
	for len(data) > 0 {
		v, rest, err := r.next(data)
		if err != nil {
			return err
		}
		if v.Is(dataPoints, protowire.BytesType) {
			r.points = append(r.points, v.Bytes)
		}
		data = rest
	}
	return nil
}

func (r *reportReader) point(data []byte) (p point, err error) {
	for len(data) > 0 {
		v, rest, err := r.next(data)
		switch {
		case err != nil:
		case v.Is(pointStart, protowire.Fixed64Type):
			p.start = v.Bits
		case v.Is(pointTime, protowire.Fixed64Type):
			p.at = v.Bits
		case v.Is(pointInt, protowire.Fixed64Type):
			p.whole, p.isReal = int64(v.Bits), false
		case v.Is(pointDouble, protowire.Fixed64Type):
			p.real, p.isReal = math.Float64frombits(v.Bits), true
		case v.Is(pointAttributes, protowire.BytesType):
			err = r.attribute(v.Bytes, &p)
		}
		if err != nil {
			return p, err
		}
		data = rest
	}
	return p, nil
}

func (r *reportReader) attribute(data []byte, p *point) error {
	var key, text []byte
	for len(data) > 0 {
		v, rest, err := r.next(data)
		switch {
		case err != nil:
		case v.Is(pairKey, protowire.BytesType):
			key = v.Bytes
		case v.Is(pairValue, protowire.BytesType):
			text, err = r.text(v.Bytes, text)
		}
		if err != nil {
			return err
		}
		data = rest
	}
	switch string(key) {
	case "source":
		p.source = text
	case "destination":
		p.destination = text
	case "answer":
		p.answer = text
	case "sender":
		p.sender = text
	default:
		p.partKey, p.part = key, text
	}
	return nil
}

// text is that of a value, or the one before where it has none.
func (r *reportReader) text(data, before []byte) ([]byte, error) {
	for len(data) > 0 {
		v, rest, err := r.next(data)
		if err != nil {
			return nil, err
		}
		if v.Is(textOfPair, protowire.BytesType) {
			before = v.Bytes
		}
		data = rest
	}
	return before, nil
}

// metricFor says what a metric's name stands for.
type metricFor struct {
	source      func(*Numbers) *int64
	part        *Part
	delivery    func(*DeliveryCounts) *int64
	destination func(*Destination) *int64
	answers     bool
}

var metricOf = func() map[string]metricFor {
	out := map[string]metricFor{metricAnswers: {answers: true}}
	for _, c := range Counters {
		out[c.Metric] = metricFor{source: c.Of}
	}
	for i := range Parts {
		out[Parts[i].Metric] = metricFor{part: &Parts[i]}
	}
	for _, c := range DeliveryCounters {
		out[c.Metric] = metricFor{delivery: c.Of}
	}
	for _, g := range destinationGauges {
		out[g.metric] = metricFor{destination: g.of}
	}
	return out
}()

func (r *reportReader) source(of metricFor, p point) {
	if t := time.Unix(0, int64(p.start)); t.After(r.Start) {
		r.Start = t
	}
	switch {
	case of.source != nil:
		*of.source(r.numbers(p)) = p.whole
	case of.part != nil:
		if name := p.nameIn(of.part); name != "" {
			put(of.part.Of(r.numbers(p)), name, p.whole)
		}
	case of.delivery != nil && len(p.destination) > 0:
		n := r.numbers(p)
		r.delivery = n.Deliveries[string(p.destination)]
		*of.delivery(&r.delivery) = p.whole
		if n.Deliveries == nil {
			n.Deliveries = map[string]DeliveryCounts{}
		}
		n.Deliveries[string(p.destination)] = r.delivery
	}
}

// nameIn is the name that a point has in a part; "" where it has none.
func (p point) nameIn(part *Part) string {
	with := p.part
	switch {
	case part.AtDestinations():
		with = p.destination
	case part.With != "" && string(p.partKey) != part.With, !part.Senders() && string(p.partKey) != part.Attribute:
		return ""
	}
	switch {
	case !part.Senders():
		return string(p.part)
	case len(p.sender) == 0:
		return ""
	case part.With != "":
		return SenderOf(string(with), string(p.sender))
	}
	return string(p.sender)
}

// numbers are those of the source of a point.
func (r *reportReader) numbers(p point) *Numbers {
	n := r.reading[string(p.source)]
	if n == nil {
		n = &Numbers{}
		r.reading[string(p.source)] = n
	}
	return n
}

func (r *reportReader) destination(of metricFor, p point) {
	d := r.Destinations[string(p.destination)]
	switch {
	case of.answers && len(p.answer) > 0:
		if d.Answers == nil {
			d.Answers = map[string]int64{}
		}
		d.Answers[string(p.answer)] = p.whole
	case of.destination != nil:
		*of.destination(&d) = p.whole
	default:
		return
	}
	r.Destinations[string(p.destination)] = d
}

// process takes what a process has used, where that can be: it does not use time before it starts, and not more than a
// thousand cores.
func (r *reportReader) process(p point) {
	if !p.isReal || p.start == 0 || p.at <= p.start || !(p.real >= 0 && p.real <= 1000*float64(p.at-p.start)/1e9) {
		return
	}
	r.Process = Process{Started: time.Unix(0, int64(p.start)), CPU: time.Duration(p.real * float64(time.Second))}
	r.ProcessAt = time.Unix(0, int64(p.at))
}
