package wire

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/open-telemetry/opamp-go/protobufs"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	colmetrics "go.opentelemetry.io/proto/otlp/collector/metrics/v1"
	"google.golang.org/protobuf/proto"
	"google.golang.org/protobuf/reflect/protoreflect"
)

func report(t testing.TB, req *colmetrics.ExportMetricsServiceRequest) Report {
	data, err := proto.Marshal(req)
	require.NoError(t, err)
	r, err := ReadReport(data)
	require.NoError(t, err)
	return r
}

// randomNumbers has some of all counters, parts and deliveries.
func randomNumbers(r *rand.Rand) map[string]Numbers {
	all := map[string]Numbers{}
	for i := range r.IntN(5) {
		n := Numbers{Read: r.Int64N(3)}
		for _, c := range Counters {
			if r.IntN(3) == 0 {
				*c.Of(&n) = r.Int64() - r.Int64()
			}
		}
		for _, p := range Parts {
			for j := range r.IntN(3) {
				name := fmt.Sprint("part", j)
				if p.With != "" {
					name = SenderOf(fmt.Sprint("to", r.IntN(2)), name)
				}
				put(p.Of(&n), name, r.Int64())
			}
		}
		for j := range r.IntN(3) {
			var d DeliveryCounts
			for _, c := range DeliveryCounters {
				if r.IntN(2) == 0 {
					*c.Of(&d) = r.Int64()
				}
			}
			if n.Deliveries == nil {
				n.Deliveries = map[string]DeliveryCounts{}
			}
			n.Deliveries[fmt.Sprint("to", j)] = d
		}
		all[fmt.Sprint("source", i)] = n
	}
	return all
}

// TestReports: whatever an agent counts, of sources, destinations and its process, arrives as it was.
func TestReports(t *testing.T) {
	t.Parallel()
	for seed := range uint64(500) {
		r := rand.New(rand.NewPCG(seed, 1))
		all, at := randomNumbers(r), time.Unix(2000, 0)
		destinations := map[string]Destination{}
		for i := range r.IntN(3) {
			d := Destination{Answers: map[string]int64{"503": 1 + r.Int64N(9)}}
			for _, g := range destinationGauges {
				*g.of(&d) = r.Int64()
			}
			destinations[fmt.Sprint("to", i)] = d
		}
		req := EncodeNumbers("h", time.Unix(1000, 0), at, all)
		AddDestinations(req, at, destinations)
		AddProcess(req, at, Process{Started: time.Unix(900, 0), CPU: 5 * time.Second})
		back := report(t, req)
		assert.Equal(t, all, back.Sources, seed)
		assert.Equal(t, destinations, back.Destinations, seed)
		assert.Equal(t, Process{Started: time.Unix(900, 0), CPU: 5 * time.Second}, back.Process)
		assert.Equal(t, at, back.ProcessAt)
	}
}

// TestReportOfNothing: an agent without a source says when it reports, and not since when it counts.
func TestReportOfNothing(t *testing.T) {
	t.Parallel()
	at := time.Unix(2000, 0)
	req := EncodeNumbers("h", time.Unix(1000, 0), at, nil)
	assert.Empty(t, report(t, req).Sources)
	assert.Zero(t, report(t, req).At)
	AddProcess(req, at, Process{Started: time.Unix(1500, 0), CPU: time.Second})
	back := report(t, req)
	assert.Equal(t, at, back.At)
	assert.Zero(t, back.Start)
	req = EncodeNumbers("h", time.Unix(1000, 0), at, map[string]Numbers{"a": {Read: 1}})
	AddProcess(req, at, Process{Started: time.Unix(1500, 0), CPU: time.Second})
	assert.Equal(t, time.Unix(1000, 0), report(t, req).Start, "that of the sums, not of the process")
}

// FuzzReport: it takes what the generated messages take, and reads the same sources where both read it.
func FuzzReport(f *testing.F) {
	for seed := range uint64(5) {
		req := EncodeNumbers("h", time.Unix(1, 0), time.Unix(2, 0), randomNumbers(rand.New(rand.NewPCG(seed, 2))))
		data, err := proto.Marshal(req)
		require.NoError(f, err)
		f.Add(data)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		r, err := ReadReport(data)
		var req colmetrics.ExportMetricsServiceRequest
		if proto.Unmarshal(data, &req) != nil || err != nil {
			return
		}
		names := map[string]bool{}
		for _, rm := range req.GetResourceMetrics() {
			for _, sm := range rm.GetScopeMetrics() {
				for _, m := range sm.GetMetrics() {
					for _, p := range append(m.GetSum().GetDataPoints(), m.GetGauge().GetDataPoints()...) {
						for _, a := range p.GetAttributes() {
							if a.GetKey() == "source" {
								names[a.GetValue().GetStringValue()] = true
							}
						}
					}
				}
			}
		}
		for name := range r.Sources {
			assert.True(t, names[name], "a source %q that nobody named", name)
		}
	})
}

// TestBrokenReports: any byte cut off is told or leaves what came before; too many parts are refused.
func TestBrokenReports(t *testing.T) {
	t.Parallel()
	req := EncodeNumbers("h", time.Unix(1, 0), time.Unix(2, 0), map[string]Numbers{"a": {Read: 5, Bytes: 7}})
	data, err := proto.Marshal(req)
	require.NoError(t, err)
	for n := 1; n < len(data); n++ {
		_, err := ReadReport(data[:n])
		assert.Error(t, err, n)
	}
	many := map[string]Numbers{}
	for i := range MaxElements / 3 {
		many[fmt.Sprint("s", i)] = Numbers{Read: 1}
	}
	data, err = proto.Marshal(EncodeNumbers("h", time.Unix(1, 0), time.Unix(2, 0), many))
	require.NoError(t, err)
	_, err = ReadReport(data)
	assert.ErrorIs(t, err, ErrElements)
}

// TestBriefMessages: a message is brief that has numbers and nothing else in it, whichever other part is added.
func TestBriefMessages(t *testing.T) {
	t.Parallel()
	numbers := func() *protobufs.CustomMessage {
		return &protobufs.CustomMessage{Capability: NumbersCapability, Type: TypeNumbers, Data: []byte("numbers")}
	}
	base := func() *protobufs.AgentToServer {
		return &protobufs.AgentToServer{InstanceUid: []byte("0123456789abcdef"), SequenceNum: 7, Capabilities: 3,
			CustomMessage: numbers()}
	}
	frame, err := Marshal(base())
	require.NoError(t, err)
	b, ok := ReadBrief(frame)
	require.True(t, ok)
	assert.Equal(t, Brief{UID: []byte("0123456789abcdef"), Sequence: 7, Numbers: []byte("numbers")}, b)
	_, ok = ReadBrief(frame[1:])
	assert.True(t, ok, "without the header")

	bare := base()
	bare.CustomMessage = nil
	frame, err = Marshal(bare)
	require.NoError(t, err)
	b, ok = ReadBrief(frame)
	assert.True(t, ok)
	assert.Nil(t, b.Numbers)

	plain := map[string]bool{"instance_uid": true, "sequence_num": true, "capabilities": true, "custom_message": true}
	fields := base().ProtoReflect().Descriptor().Fields()
	for i := range fields.Len() {
		f, m := fields.Get(i), base()
		if plain[string(f.Name())] {
			continue
		}
		if f.Kind() == protoreflect.MessageKind {
			m.ProtoReflect().Set(f, m.ProtoReflect().NewField(f))
		} else {
			m.ProtoReflect().Set(f, protoreflect.ValueOfUint64(1))
		}
		frame, err := Marshal(m)
		require.NoError(t, err)
		_, ok := ReadBrief(frame)
		assert.False(t, ok, f.Name())
	}
	for name, change := range map[string]func(*protobufs.CustomMessage){
		"another capability": func(m *protobufs.CustomMessage) { m.Capability = DeskCapability },
		"another type":       func(m *protobufs.CustomMessage) { m.Type = AskSecret },
		"nothing in it":      func(m *protobufs.CustomMessage) { m.Data = nil },
	} {
		m := base()
		change(m.CustomMessage)
		frame, err := Marshal(m)
		require.NoError(t, err)
		_, ok := ReadBrief(frame)
		assert.False(t, ok, name)
	}
}

// FuzzBrief: whatever is taken as a brief message says the same, and nothing else, as the generated types read it.
func FuzzBrief(f *testing.F) {
	frame, err := Marshal(&protobufs.AgentToServer{InstanceUid: []byte("0123456789abcdef"), SequenceNum: 7,
		CustomMessage: &protobufs.CustomMessage{Capability: NumbersCapability, Type: TypeNumbers, Data: []byte{1}}})
	require.NoError(f, err)
	f.Add(frame)
	f.Add(append(frame, frame[1:]...))
	f.Fuzz(func(t *testing.T, frame []byte) {
		b, ok := ReadBrief(frame)
		if !ok {
			return
		}
		var m protobufs.AgentToServer
		require.NoError(t, Unmarshal(frame, &m))
		assert.Equal(t, string(m.GetInstanceUid()), string(b.UID))
		assert.Equal(t, m.GetSequenceNum(), b.Sequence)
		assert.Equal(t, string(m.GetCustomMessage().GetData()), string(b.Numbers))
		m.InstanceUid, m.SequenceNum, m.Capabilities, m.CustomMessage = nil, 0, 0, nil
		assert.Zero(t, proto.Size(&m))
	})
}
