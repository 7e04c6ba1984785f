package record

import (
	"bytes"
	"encoding/json"
	"math"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	collogs "go.opentelemetry.io/proto/otlp/collector/logs/v1"
	common "go.opentelemetry.io/proto/otlp/common/v1"
	"google.golang.org/protobuf/proto"
)

// sample is a batch of one record that has everything.
func sample() *Batch {
	b := &Batch{
		Schema: NewSchema(),
		Origin: NewOrigin(
			"gate-1",
			"id-1",
			"gate-scans",
			"/var/log/gate.log",
			[]Label{{"site", "northpier"}, {"team", "boarding"}},
		),
	}
	r := Record{
		Time:     time.Date(2031, 4, 2, 5, 15, 9, 120, time.UTC).UnixNano(),
		Observed: time.Date(2031, 4, 2, 5, 15, 10, 0, time.UTC).UnixNano(),
		Level:    Warn,
		Flags:    HasOriginal,
		TimeNote: TimeRepeated,
		Body:     b.Put([]byte("denied \"x\"\n\té")),
		Original: b.Put([]byte("the line")),
	}
	add := func(name string, v Value) {
		v.Slot, _ = b.Schema.Slot([]byte(name))
		b.Values = append(b.Values, v)
		r.N++
	}
	add("result", Value{Span: b.Put([]byte("DENIED"))})
	add("lane", Value{Kind: Int, Num: uint64(4)})
	add("below", Value{Kind: Int, Num: 1<<64 - 7})
	add("share", Value{Kind: Float, Num: math.Float64bits(0.25)})
	add("open", Value{Kind: Bool, Num: 1})
	add("seats", Value{Kind: JSON, Span: b.Put([]byte(`[1,"a",{"b":null}]`))})
	b.Records = append(
		b.Records,
		r,
		Record{Body: b.Put([]byte("plain")), First: uint32(r.N), Flags: Unparsed | Truncated},
	)
	return b
}

// TestFaces holds what a record looks like, over NDJSON (and the file destination, which is the same bytes) and OTLP.
func TestFaces(t *testing.T) {
	t.Parallel()
	b := sample()
	var e Encoder
	ndjson := e.Encode(NDJSON, b)
	assert.Equal(
		t,
		`{"time":"2031-04-02T05:15:09.000000120Z","observed":"2031-04-02T05:15:10.000000000Z","level":"WARN","body":"denied \"x\"\n\té","original":"the line",`+
			`"fields":{"result":"DENIED","lane":4,"below":-7,"share":0.25,"open":true,"seats":[1,"a",{"b":null}]},`+
			`"host":"gate-1","source":"gate-scans","labels":{"site":"northpier","team":"boarding"},"file":"/var/log/gate.log","notes":{"time":"repeated-hour"}}`+"\n",
		string(ndjson.Bytes[:ndjson.Ends[0]]),
	)
	assert.Equal(
		t,
		`{"time":"1970-01-01T00:00:00.000000000Z","observed":"1970-01-01T00:00:00.000000000Z","body":"plain","host":"gate-1","source":"gate-scans",`+
			`"labels":{"site":"northpier","team":"boarding"},"file":"/var/log/gate.log","notes":{"parsed":false,"truncated":true}}`+"\n",
		string(ndjson.Bytes[ndjson.Ends[0]:]),
	)
	require.True(t, json.Valid(ndjson.Bytes[:ndjson.Ends[0]]))

	otlp := e.Encode(OTLP, b)
	var req collogs.ExportLogsServiceRequest
	require.NoError(t, proto.Unmarshal(AppendResourceLogs(nil, b.Origin, otlp.Bytes), &req))
	require.Len(t, req.ResourceLogs, 1)
	res := req.ResourceLogs[0]
	assert.Equal(
		t,
		map[string]string{
			"host.name":  "gate-1",
			"host.id":    "id-1",
			"label.site": "northpier",
			"label.team": "boarding",
		},
		texts(res.Resource.Attributes),
	)
	assert.Equal(t, "gate-scans", res.ScopeLogs[0].Scope.Name)
	require.Len(t, res.ScopeLogs[0].LogRecords, 2)
	lr := res.ScopeLogs[0].LogRecords[0]
	assert.Equal(t, uint64(b.Records[0].Time), lr.TimeUnixNano)
	assert.Equal(t, uint64(b.Records[0].Observed), lr.ObservedTimeUnixNano)
	assert.EqualValues(t, 13, lr.SeverityNumber)
	assert.Equal(t, "WARN", lr.SeverityText)
	assert.Equal(t, "denied \"x\"\n\té", lr.Body.GetStringValue())
	assert.Equal(
		t,
		map[string]string{
			"result":              "DENIED",
			"log.record.original": "the line",
			"log.file.path":       "/var/log/gate.log",
			"synaxis.time":        "repeated-hour",
		},
		texts(lr.Attributes),
	)
	got := map[string]*common.AnyValue{}
	for _, kv := range lr.Attributes {
		got[kv.Key] = kv.Value
	}
	assert.EqualValues(t, 4, got["lane"].GetIntValue())
	assert.EqualValues(t, -7, got["below"].GetIntValue())
	assert.InDelta(t, 0.25, got["share"].GetDoubleValue(), 0)
	assert.True(t, got["open"].GetBoolValue())
	assert.Len(t, got["seats"].GetArrayValue().GetValues(), 3)
	second := res.ScopeLogs[0].LogRecords[1]
	assert.EqualValues(t, 0, second.SeverityNumber)
	for _, kv := range second.Attributes {
		if kv.Key == "synaxis.parsed" {
			assert.IsType(t, &common.AnyValue_BoolValue{}, kv.Value.Value)
			assert.False(t, kv.Value.GetBoolValue())
		}
	}
}

func texts(list []*common.KeyValue) map[string]string {
	out := map[string]string{}
	for _, kv := range list {
		if s, ok := kv.Value.Value.(*common.AnyValue_StringValue); ok {
			out[kv.Key] = s.StringValue
		}
	}
	return out
}

func TestSchemaIsBounded(t *testing.T) {
	t.Parallel()
	s := NewSchema("a")
	for i := range maxSlots + 5 {
		s.Slot([]byte{byte(i), byte(i >> 8), 'x'})
	}
	_, ok := s.Slot([]byte("one more"))
	assert.False(t, ok)
	slot, ok := s.Slot([]byte("a"))
	assert.True(t, ok)
	assert.Zero(t, slot)
}

func TestLevels(t *testing.T) {
	t.Parallel()
	for word, want := range map[string]uint8{"WARNING": Warn, "err": Error, "Info": Info, "crit": Fatal, "what": 0,
		"": 0} {
		assert.Equal(t, want, ParseLevel(word), word)
	}
	assert.Equal(t, "ERROR", LevelName(18))
	assert.Empty(t, LevelName(0))
}

func FuzzJSONString(f *testing.F) {
	f.Add("a\"\\\x00\x7f\u2028é")
	f.Fuzz(func(t *testing.T, s string) {
		if !json.Valid([]byte(`"`+"x"+`"`)) || string([]rune(s)) != s {
			return
		}
		var back string
		require.NoError(t, json.Unmarshal(AppendJSONString(nil, []byte(s)), &back))
		require.Equal(t, s, back)
	})
}

func TestTimeBefore1970(t *testing.T) {
	t.Parallel()
	var e Encoder
	want := time.Date(1969, 12, 31, 23, 59, 58, 5, time.UTC)
	assert.Equal(t, want.Format("2006-01-02T15:04:05.000000000Z"), string(e.time.at(want.UnixNano())))
}

// TestRelease: memory is used again when all who hold a run have released it, and not before.
func TestRelease(t *testing.T) {
	t.Parallel()
	batch := func(word string, routes ...uint64) *Batch {
		b := &Batch{Origin: NewOrigin("h", "", "s", "/f", nil), Schema: NewSchema()}
		for _, r := range routes {
			b.Records = append(b.Records, Record{Body: b.Put([]byte(word)), Routes: r})
		}
		return b
	}
	var e Encoder
	for range 50 {
		b := batch("first", 3, 1, 1)
		run := e.Encode(NDJSON, b)
		all, some := run.Only(b, 0), run.Only(b, 1)
		require.Len(t, all.Ends, 3)
		require.Len(t, some.Ends, 1)
		run.Release()
		other := e.Encode(NDJSON, batch("second", 1, 1, 1, 1))
		assert.Equal(t, 3, strings.Count(string(all.Bytes), `"body":"first"`))
		assert.Equal(t, 1, strings.Count(string(some.Bytes), `"body":"first"`))
		assert.Equal(t, 4, strings.Count(string(other.Bytes), `"body":"second"`))
		for _, r := range []*Encoded{&all, &some, &other} {
			r.Release()
			r.Release() // once more does nothing
			assert.Empty(t, r.Bytes)
		}
	}
}

// TestJSONStringOfAnyLength: each byte at each place of a text of each length reads back as it was, behind whatever
// stood there, with room or without.
func TestJSONStringOfAnyLength(t *testing.T) {
	t.Parallel()
	for length := range 26 {
		for place := range length {
			for c := range 0x80 {
				text := bytes.Repeat([]byte("m"), length)
				text[place] = byte(c)
				for _, dst := range [][]byte{nil, []byte("before"), make([]byte, 0, 200)} {
					out := AppendJSONString(dst, text)
					require.Equal(t, string(dst), string(out[:len(dst)]))
					var back string
					require.NoError(t, json.Unmarshal(out[len(dst):], &back), "%q", out)
					require.Equal(t, string(text), back)
				}
			}
		}
	}
}
