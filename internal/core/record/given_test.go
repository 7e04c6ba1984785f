package record

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	collogs "go.opentelemetry.io/proto/otlp/collector/logs/v1"
	common "go.opentelemetry.io/proto/otlp/common/v1"
	logs "go.opentelemetry.io/proto/otlp/logs/v1"
	resource "go.opentelemetry.io/proto/otlp/resource/v1"
	"google.golang.org/protobuf/proto"
)

func valueOf(v any) *common.AnyValue {
	switch v := v.(type) {
	case string:
		return &common.AnyValue{Value: &common.AnyValue_StringValue{StringValue: v}}
	case int:
		return &common.AnyValue{Value: &common.AnyValue_IntValue{IntValue: int64(v)}}
	case float64:
		return &common.AnyValue{Value: &common.AnyValue_DoubleValue{DoubleValue: v}}
	case bool:
		return &common.AnyValue{Value: &common.AnyValue_BoolValue{BoolValue: v}}
	case []byte:
		return &common.AnyValue{Value: &common.AnyValue_BytesValue{BytesValue: v}}
	case []any:
		list := &common.ArrayValue{}
		for _, x := range v {
			list.Values = append(list.Values, valueOf(x))
		}
		return &common.AnyValue{Value: &common.AnyValue_ArrayValue{ArrayValue: list}}
	case [][2]any:
		list := &common.KeyValueList{}
		for _, x := range v {
			list.Values = append(list.Values, &common.KeyValue{Key: x[0].(string), Value: valueOf(x[1])})
		}
		return &common.AnyValue{Value: &common.AnyValue_KvlistValue{KvlistValue: list}}
	}
	return &common.AnyValue{}
}

func otlpRequest(r *logs.LogRecord) []byte {
	data, _ := proto.Marshal(&collogs.ExportLogsServiceRequest{ResourceLogs: []*logs.ResourceLogs{{
		Resource: &resource.Resource{Attributes: []*common.KeyValue{{Key: "service.name", Value: valueOf("tide")}}},
		ScopeLogs: []*logs.ScopeLogs{{Scope: &common.InstrumentationScope{Name: "lib", Attributes: []*common.KeyValue{
			{Key: "a", Value: valueOf(1)}}}, LogRecords: []*logs.LogRecord{r}}}}}})
	return data
}

// TestReadOTLP: every kind of value, as a field and as a body, keeps its type; what is deeper than it may be is
// refused.
func TestReadOTLP(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		value any
		kind  Kind
		num   uint64
		text  string
		body  string
	}{
		"text":    {"a\"b", Text, 0, "a\"b", "a\"b"},
		"int":     {-7, Int, uint64(math.MaxUint64 - 6), "", "-7"},
		"float":   {1.5, Float, math.Float64bits(1.5), "", "1.5"},
		"truth":   {true, Bool, 1, "", "true"},
		"bytes":   {[]byte("hi"), Text, 0, "aGk=", "aGk="},
		"list":    {[]any{"a\"", 1, []any{}, nil}, JSON, 0, `["a\"",1,[],null]`, `["a\"",1,[],null]`},
		"map":     {[][2]any{{"x", 1.5}, {"y\"", true}}, JSON, 0, `{"x":1.5,"y\"":true}`, `{"x":1.5,"y\"":true}`},
		"no text": {"\xff", Text, 0, "", ""}, // which the generated types refuse to write
	} {
		n := 0
		err := ReadOTLP(otlpRequest(&logs.LogRecord{TimeUnixNano: 5, SeverityNumber: 17, Body: valueOf(c.value),
			Attributes: []*common.KeyValue{{Key: "k", Value: valueOf(c.value)}, {Key: "none"}, {Value: valueOf(1)}}}),
			func(body []byte, g *Given) error {
				n++
				assert.Equal(t, c.body, string(body), name)
				assert.Equal(t, int64(5), g.Time)
				assert.Equal(t, Error, g.Level)
				require.Len(t, g.Fields, 4, name)
				f := g.Fields[0]
				assert.Equal(t, c.kind, f.Kind, name)
				assert.Equal(t, c.num, f.Num, name)
				assert.Equal(t, c.text, string(f.Text), name)
				assert.Equal(t, "resource.service.name", string(g.Fields[1].Name))
				assert.Equal(t, "scope.name", string(g.Fields[2].Name))
				assert.Equal(t, "scope.a", string(g.Fields[3].Name))
				return nil
			})
		if name == "no text" {
			assert.Zero(t, n)
			continue
		}
		require.NoError(t, err, name)
		assert.Equal(t, 1, n, name)
	}
	deep := any("in")
	for range deepest + 2 {
		deep = []any{deep}
	}
	assert.Error(t, ReadOTLP(otlpRequest(&logs.LogRecord{Body: valueOf(deep)}), func([]byte,
		*Given) error {
		return nil
	}))
	assert.Error(t, ReadOTLP([]byte("no protobuf"), func([]byte, *Given) error { return nil }))
}

// TestContext: what OTLP tells of a record's trace, and of the kind of an event, becomes fields, and fields of these
// names become it again.
func TestContext(t *testing.T) {
	t.Parallel()
	in := &logs.LogRecord{Body: valueOf("x"), TraceId: []byte("0123456789abcdef"), SpanId: []byte("01234567"),
		Flags: 0x301, EventName: "ev.docked"}
	var given *Given
	require.NoError(t, ReadOTLP(otlpRequest(in), func(_ []byte, g *Given) error {
		given = g
		return nil
	}))
	fields := map[string]string{}
	for _, f := range given.Fields {
		fields[string(f.Name)] = string(f.Text)
	}
	for name, want := range map[string]string{"trace_id": "30313233343536373839616263646566", "span_id": "3031323334353637",
		"trace_flags": "01", "event_name": "ev.docked"} {
		assert.Equal(t, want, fields[name], name)
	}
	b := &Batch{Origin: NewOrigin("h", "me", "s", "", nil), Schema: NewSchema(), Records: make([]Record, 1)}
	for _, f := range given.Fields {
		slot, _ := b.Schema.Slot(f.Name)
		b.Values = append(b.Values, Value{Slot: slot, Kind: f.Kind, Num: f.Num, Span: b.Put(f.Text)})
		b.Records[0].N++
	}
	var enc Encoder
	for _, schema := range []*Schema{b.Schema, b.Schema.Frozen()} {
		b.Schema = schema
		encoded := enc.Encode(OTLP, b)
		var scope logs.ScopeLogs
		require.NoError(t, proto.Unmarshal(encoded.Bytes, &scope))
		out := scope.LogRecords[0]
		assert.Equal(t, in.TraceId, out.TraceId)
		assert.Equal(t, in.SpanId, out.SpanId)
		assert.Equal(t, uint32(1), out.Flags)
		assert.Equal(t, in.EventName, out.EventName)
		for _, a := range out.Attributes {
			assert.NotContains(t, []string{"trace_id", "span_id", "trace_flags", "event_name"}, a.Key, "not twice")
		}
	}
}

// FuzzReadOTLP: where the generated types read a request too, both see the same records.
func FuzzReadOTLP(f *testing.F) {
	f.Add(otlpRequest(&logs.LogRecord{TimeUnixNano: 5, SeverityText: "warn", Body: valueOf("x"), TraceId: []byte("0123456789abcdef"),
		Attributes: []*common.KeyValue{{Key: "k", Value: valueOf([]any{1, "y"})}}}))
	f.Fuzz(func(t *testing.T, data []byte) {
		var bodies []string
		var times []int64
		err := ReadOTLP(data, func(body []byte, g *Given) error {
			bodies, times = append(bodies, string(body)), append(times, g.Time)
			return nil
		})
		var req collogs.ExportLogsServiceRequest
		if proto.Unmarshal(data, &req) != nil || err != nil {
			return
		}
		n := 0
		for _, rl := range req.ResourceLogs {
			for _, sl := range rl.ScopeLogs {
				for _, r := range sl.LogRecords {
					require.Less(t, n, len(bodies))
					if v, ok := r.GetBody().GetValue().(*common.AnyValue_StringValue); ok {
						assert.Equal(t, v.StringValue, bodies[n])
					}
					if r.TimeUnixNano > 0 && r.TimeUnixNano < math.MaxInt64 {
						assert.Equal(t, int64(r.TimeUnixNano), times[n])
					}
					n++
				}
			}
		}
		assert.Len(t, bodies, n)
	})
}
