package run

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	collogs "go.opentelemetry.io/proto/otlp/collector/logs/v1"
	common "go.opentelemetry.io/proto/otlp/common/v1"
	logs "go.opentelemetry.io/proto/otlp/logs/v1"
	resource "go.opentelemetry.io/proto/otlp/resource/v1"
	"google.golang.org/protobuf/encoding/protojson"
	"google.golang.org/protobuf/proto"

	"synaxis/internal/core/hostconfig"
)

// TestListenHTTP: each form of a body, packed and plain, is taken after its records are settled; each that cannot be
// is answered in words, and nothing of it is taken.
func TestListenHTTP(t *testing.T) {
	t.Parallel()
	b := newBench(t, t.TempDir())
	defer b.Stop()
	port := freePort(t, "tcp")
	c := b.listens(fmt.Sprintf("http: {listen: {address: 127.0.0.1, port: %d}, path: /in, token: '${secret.push@1}'}", port),
		"    format: json\n")
	c.Secrets = map[string]string{"push@1": "word"}
	require.NoError(t, b.Apply(c))
	dial(t, "tcp", port)
	gz := func(s string) string {
		var out bytes.Buffer
		z := gzip.NewWriter(&out)
		_, _ = io.WriteString(z, s)
		z.Close()
		return out.String()
	}
	zs := func(s string) string {
		z, _ := zstd.NewWriter(nil)
		return string(z.EncodeAll([]byte(s), nil))
	}
	n := 0
	for _, x := range []struct {
		name, path, token, kind, encoding, body string
		status, more                            int
		words                                   string
	}{
		{"lines", "/in", "word", "application/x-ndjson", "", "{\"n\":1}\n{\"n\":2}\r\n\n", 204, 2, ""},
		{"an array", "/in", "word", "application/json", "", " [{\"n\":3},\n {\"n\": 4}]\n", 204, 2, ""},
		{"an object", "/in", "word", "application/json; charset=utf-8", "", "{\"n\":\n 5}", 204, 1, ""},
		{"objects", "/in", "word", "application/json", "", "{\"n\":6} {\"n\":7}", 204, 2, ""},
		{"plain", "/in", "word", "text/plain", "", "no json\n", 204, 1, ""},
		{"gzip", "/in", "word", "application/json", "gzip", gz("[{\"n\":8}]"), 204, 1, ""},
		{"zstd", "/in", "word", "application/json", "zstd", zs("[{\"n\":9}]"), 204, 1, ""},
		{"a byte order mark", "/in", "word", "application/json", "", "\ufeff[{\"n\":10}]", 204, 1, ""},
		{"a byte order mark before lines", "/in", "word", "application/x-ndjson", "", "\ufeff{\"n\":11}\n", 204, 1, ""},
		{"an array of texts", "/in", "word", "application/json", "", `["no json", "{\"n\":12}", {"n":13}]`, 204, 3, ""},
		{"a text that is no text", "/in", "word", "application/json", "", `["\ud800"]`, 204, 1, ""},
		{"nothing", "/in", "word", "application/json", "", "", 204, 0, ""},
		{"an empty array", "/in", "word", "application/json", "", "[]", 204, 0, ""},
		{"another path", "/", "word", "application/json", "", "{}", 404, 0, "/in"},
		{"no token", "/in", "", "application/json", "", "{}", 401, 0, "token"},
		{"another token", "/in", "word2", "application/json", "", "{}", 401, 0, "token"},
		{"another kind", "/in", "word", "image/png", "", "{}", 415, 0, "image/png"},
		{"another packing", "/in", "word", "application/json", "br", "{}", 415, 0, "br"},
		{"half an array", "/in", "word", "application/json", "", "[{\"n\":1},", 400, 0, "no JSON"},
		{"an array and more", "/in", "word", "application/json", "", "[{\"n\":1}] x", 400, 0, "no JSON"},
		{"no gzip", "/in", "word", "application/json", "gzip", "{}", 400, 0, "no gzip"},
		{"torn gzip", "/in", "word", "application/json", "gzip", gz(strings.Repeat("{}", 100))[:20], 400, 0, "torn"},
		{"a bomb", "/in", "word", "application/json", "gzip", gz("[" + strings.Repeat(" ", 20<<20) + "]"), 413, 0, "16777216 bytes"},
		{"a bomb of zstd", "/in", "word", "application/json", "zstd", zs("[" + strings.Repeat(" ", 200<<20) + "]"),
			413, 0, "bytes"},
		{"too large", "/in", "word", "text/plain", "", strings.Repeat("x", 17<<20), 413, 0, "bytes"},
		{"too many", "/in", "word", "text/plain", "", strings.Repeat("x\n", 100_001), 413, 0, "100000 records"},
	} {
		req, err := http.NewRequest(http.MethodPost, fmt.Sprintf("http://127.0.0.1:%d%s", port, x.path),
			strings.NewReader(x.body))
		require.NoError(t, err)
		req.Header.Set("Content-Type", x.kind)
		req.Header.Set("Content-Encoding", x.encoding)
		if x.token != "" {
			req.Header.Set("Authorization", "Bearer "+x.token)
		}
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err, x.name)
		text, _ := io.ReadAll(resp.Body)
		resp.Body.Close()
		assert.Equal(t, x.status, resp.StatusCode, "%s: %s", x.name, text)
		assert.Contains(t, string(text), x.words, x.name)
		n += x.more
		have, _ := b.Numbers()
		assert.Equal(t, int64(n), have["in"].Read, x.name)
		d := have["in"].Deliveries["out"]
		assert.Equal(t, d.Read, d.Acknowledged+d.OnDisk, "%s: what was answered is settled", x.name)
	}
	got := b.await1(n)
	for i, r := range got {
		if r.Body != "no json" && r.Body != "\ufffd" {
			assert.NotNil(t, r.Fields["n"], i)
		}
	}
	have, _ := b.Numbers()
	assert.Zero(t, have["in"].Missed)
}

// otlpRequest has a record with every kind of value.
func otlpRequest() *collogs.ExportLogsServiceRequest {
	text := func(s string) *common.AnyValue {
		return &common.AnyValue{Value: &common.AnyValue_StringValue{StringValue: s}}
	}
	kv := func(k string, v *common.AnyValue) *common.KeyValue { return &common.KeyValue{Key: k, Value: v} }
	return &collogs.ExportLogsServiceRequest{ResourceLogs: []*logs.ResourceLogs{{
		Resource: &resource.Resource{Attributes: []*common.KeyValue{kv("service.name", text("tide"))}},
		ScopeLogs: []*logs.ScopeLogs{{
			Scope: &common.InstrumentationScope{Name: "lib", Version: "1"},
			LogRecords: []*logs.LogRecord{{
				TimeUnixNano: 1932883509000000007, SeverityNumber: 13, SeverityText: "careful", Body: text("water is high"),
				TraceId: bytes.Repeat([]byte{0xab}, 16), SpanId: bytes.Repeat([]byte{0xcd}, 8),
				Attributes: []*common.KeyValue{
					kv("level_cm", &common.AnyValue{Value: &common.AnyValue_IntValue{IntValue: 412}}),
					kv("rate", &common.AnyValue{Value: &common.AnyValue_DoubleValue{DoubleValue: 1.5}}),
					kv("alarm", &common.AnyValue{Value: &common.AnyValue_BoolValue{BoolValue: true}}),
					kv("raw", &common.AnyValue{Value: &common.AnyValue_BytesValue{BytesValue: []byte("hi")}}),
					kv("list", &common.AnyValue{Value: &common.AnyValue_ArrayValue{ArrayValue: &common.ArrayValue{
						Values: []*common.AnyValue{text("a\"b"), {Value: &common.AnyValue_IntValue{IntValue: -1}}}}}}),
					kv("map", &common.AnyValue{Value: &common.AnyValue_KvlistValue{KvlistValue: &common.KeyValueList{
						Values: []*common.KeyValue{kv("x", text("y")), kv("z", nil)}}}}),
					kv("none", nil),
				},
			}, {ObservedTimeUnixNano: 1932883510000000000, SeverityText: "error", Body: &common.AnyValue{
				Value: &common.AnyValue_KvlistValue{KvlistValue: &common.KeyValueList{Values: []*common.KeyValue{
					kv("what", text("pump"))}}}}}},
		}},
	}}}
}

// TestListenOTLP: a request in protobuf and one in JSON give the same records, with typed fields, levels and times.
func TestListenOTLP(t *testing.T) {
	t.Parallel()
	b := newBench(t, t.TempDir())
	defer b.Stop()
	port := freePort(t, "tcp")
	require.NoError(t, b.Apply(b.listens(fmt.Sprintf("otlp: {listen: {address: 127.0.0.1, port: %d}}", port),
		"    format: raw\n")))
	dial(t, "tcp", port)
	send := func(kind string, body []byte) (int, string) {
		resp, err := http.Post(fmt.Sprintf("http://127.0.0.1:%d/v1/logs", port), kind, bytes.NewReader(body))
		require.NoError(t, err)
		defer resp.Body.Close()
		text, _ := io.ReadAll(resp.Body)
		return resp.StatusCode, string(text)
	}
	binary, err := proto.Marshal(otlpRequest())
	require.NoError(t, err)
	status, _ := send("application/x-protobuf", binary)
	assert.Equal(t, 200, status)
	text, err := protojson.Marshal(otlpRequest())
	require.NoError(t, err)
	// as the specification says, ids are hexadecimal in JSON
	var tree map[string]any
	require.NoError(t, json.Unmarshal(text, &tree))
	one := tree
	for _, key := range []string{"resourceLogs", "scopeLogs", "logRecords"} {
		one = one[key].([]any)[0].(map[string]any)
	}
	one["traceId"], one["spanId"] = strings.Repeat("ab", 16), strings.Repeat("cd", 8)
	text, err = json.Marshal(tree)
	require.NoError(t, err)
	status, words := send("application/json", text)
	assert.Equal(t, 200, status)
	assert.Equal(t, "{}", words)
	status, words = send("application/x-protobuf", []byte("no protobuf"))
	assert.Equal(t, 400, status, words)
	status, words = send("application/json", []byte("{\"resourceLogs\": 7}"))
	assert.Equal(t, 400, status, words)
	status, words = send("text/plain", text)
	assert.Equal(t, 415, status, words)

	got := b.await1(4)
	for _, i := range []int{0, 2} {
		r := got[i]
		assert.Equal(t, "water is high", r.Body)
		assert.Equal(t, "WARN", r.Level)
		assert.Equal(t, time.Unix(0, 1932883509000000007).UTC(), r.Time)
		assert.Equal(t, map[string]any{"level_cm": 412.0, "rate": 1.5, "alarm": true, "raw": "aGk=", "list": []any{"a\"b", -1.0},
			"map": map[string]any{"x": "y", "z": nil}, "trace_id": strings.Repeat("ab", 16), "span_id": strings.Repeat("cd", 8),
			"severity_text": "careful", "resource.service.name": "tide", "scope.name": "lib", "scope.version": "1"},
			r.Fields)
		second := got[i+1]
		assert.Equal(t, `{"what":"pump"}`, second.Body)
		assert.Equal(t, "ERROR", second.Level)
		assert.Equal(t, time.Unix(1932883510, 0).UTC(), second.Time)
	}
}

// TestHeldCallers: while a destination has no room callers are told to come again, and nothing is lost or taken twice.
func TestHeldCallers(t *testing.T) {
	t.Parallel()
	b := newBench(t, t.TempDir())
	defer b.Stop()
	port := freePort(t, "tcp")
	dead := freePort(t, "tcp")
	c, err := hostconfig.Read(fmt.Appendf(nil, "synaxis: 1\nhost: h\nsources:\n  - source: in\n    read: {http: {listen: {address: "+
		"127.0.0.1, port: %d}}}\n    format: raw\n    send: [out]\ndestinations:\n  - destination: out\n    deliver: {http: {url: "+
		"\"http://127.0.0.1:%d/\"}}\n    buffer: {disk: 1MiB}\n", port, dead), hostconfig.Runs)
	require.NoError(t, err)
	require.NoError(t, b.Apply(c))
	dial(t, "tcp", port)
	line := strings.Repeat("x", 1000) + "\n"
	took, told := 0, 0
	require.Eventually(t, func() bool {
		ctx := &http.Client{Timeout: 2 * time.Second}
		resp, err := ctx.Post(fmt.Sprintf("http://127.0.0.1:%d/", port), "text/plain",
			strings.NewReader(strings.Repeat(line, 200)))
		if err != nil {
			return false
		}
		defer resp.Body.Close()
		switch resp.StatusCode {
		case 204:
			took++
		case 429:
			told++
			assert.NotEmpty(t, resp.Header.Get("Retry-After"))
		}
		return told > 0
	}, longest, 10*time.Millisecond)
	assert.Positive(t, took, "on disk counts")
	n, _ := b.Numbers()
	assert.GreaterOrEqual(t, n["in"].Deliveries["out"].OnDisk, int64(200*took))
	assert.Zero(t, n["in"].Deliveries["out"].Difference())
}

// TestOTLPBombs: a request of a few bytes that would become many in memory is refused.
func TestOTLPBombs(t *testing.T) {
	t.Parallel()
	b := newBench(t, t.TempDir())
	defer b.Stop()
	port := freePort(t, "tcp")
	require.NoError(t, b.Apply(b.listens(fmt.Sprintf("otlp: {listen: {address: 127.0.0.1, port: %d}}", port),
		"    format: raw\n")))
	dial(t, "tcp", port)
	var wide []*common.KeyValue // of a resource, which goes onto every record
	for i := range 2000 {
		wide = append(wide, &common.KeyValue{Key: fmt.Sprint("k", i), Value: &common.AnyValue{
			Value: &common.AnyValue_BoolValue{BoolValue: true}}})
	}
	multiplied, err := proto.Marshal(&collogs.ExportLogsServiceRequest{ResourceLogs: []*logs.ResourceLogs{{
		Resource:  &resource.Resource{Attributes: wide},
		ScopeLogs: []*logs.ScopeLogs{{LogRecords: slices.Repeat([]*logs.LogRecord{{SeverityNumber: 9}}, 90_000)}}}}})
	require.NoError(t, err)
	require.Less(t, len(multiplied), 1<<20)
	many := "{\"resourceLogs\":[" + strings.Repeat("{},", 3_000_000) + "{}]}"
	for name, x := range map[string]struct{ kind, body string }{
		"attributes of a resource": {"application/x-protobuf", string(multiplied)},
		"parts of JSON":            {"application/json", many},
	} {
		resp, err := http.Post(fmt.Sprintf("http://127.0.0.1:%d/v1/logs", port), x.kind, strings.NewReader(x.body))
		require.NoError(t, err)
		text, _ := io.ReadAll(resp.Body)
		resp.Body.Close()
		assert.Equal(t, http.StatusRequestEntityTooLarge, resp.StatusCode, "%s: %s", name, text)
	}
	have, _ := b.Numbers()
	assert.Zero(t, have["in"].Read, "nothing of it is taken")
}

// TestOneRequestOfMany: the records of a request that takes several batches arrive in order and whole, with new fields
// in each batch, while what comes next is treated, and the caller is answered once all are settled.
func TestOneRequestOfMany(t *testing.T) {
	t.Parallel()
	b := newBench(t, t.TempDir())
	defer b.Stop()
	port := freePort(t, "tcp")
	require.NoError(t, b.Apply(b.listens(fmt.Sprintf(
		"http: {listen: {address: 127.0.0.1, port: %d}, path: /in}", port), "    format: json\n")))
	dial(t, "tcp", port)
	const requests, each = 3, 15_000
	for r := range requests {
		var text strings.Builder
		for i := range each {
			n := r*each + i
			fmt.Fprintf(&text, `{"message":"caf\u00e9 %d \"%s\"","n":%d,"field-%d":"%d"}`+"\n", n,
				strings.Repeat("x", n%90), n, n/2000, n)
		}
		answer, err := http.Post(fmt.Sprintf("http://127.0.0.1:%d/in", port), "application/x-ndjson",
			strings.NewReader(text.String()))
		require.NoError(t, err)
		answer.Body.Close()
		require.Equal(t, http.StatusNoContent, answer.StatusCode)
	}
	got := b.await1(requests * each)
	for n, x := range got {
		require.Equal(t, fmt.Sprintf("café %d %q", n, strings.Repeat("x", n%90)), x.Body)
		require.Equal(t, float64(n), x.Fields["n"])
		require.Equal(t, fmt.Sprint(n), x.Fields[fmt.Sprintf("field-%d", n/2000)], "%d: %v", n, x.Fields)
	}
}
