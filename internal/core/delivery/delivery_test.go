package delivery

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	collogs "go.opentelemetry.io/proto/otlp/collector/logs/v1"
	"google.golang.org/protobuf/proto"

	"synaxis/internal/core/record"
	"synaxis/internal/core/schema"
	"synaxis/internal/core/yamldoc"
)

func TestBodies(t *testing.T) {
	t.Parallel()
	a, b := record.NewOrigin("h", "", "a", "", nil), record.NewOrigin("h", "", "b", "", nil)
	batch := func(o *record.Origin, text string) record.Encoded {
		x := &record.Batch{Origin: o, Schema: record.NewSchema()}
		x.Records = []record.Record{{Body: x.Put([]byte(text))}}
		var e record.Encoder
		return e.Encode(record.OTLP, x)
	}
	one, two, three := batch(a, "1"), batch(a, "2"), batch(b, "3")
	var req collogs.ExportLogsServiceRequest
	require.NoError(
		t,
		proto.Unmarshal(
			Spec{Kind: "otlp"}.AppendBody(nil, []Segment{{a, one.Bytes}, {a, two.Bytes}, {b, three.Bytes}}),
			&req,
		),
	)
	require.Len(t, req.ResourceLogs, 2, "neighbours of one origin share their resource")
	assert.Len(t, req.ResourceLogs[0].ScopeLogs[0].LogRecords, 2)
	assert.Equal(t, "3", req.ResourceLogs[1].ScopeLogs[0].LogRecords[0].Body.GetStringValue())

	lines := []Segment{{a, []byte("{\"x\":1}\n{\"x\":2}\n")}, {b, []byte("{\"x\":3}\n")}}
	assert.Equal(
		t,
		"{\"x\":1}\n{\"x\":2}\n{\"x\":3}\n",
		string(Spec{Kind: "http", Encoded: "ndjson"}.AppendBody(nil, lines)),
	)
	var list []map[string]int
	require.NoError(t, json.Unmarshal(Spec{Kind: "http", Encoded: "json-array"}.AppendBody(nil, lines), &list))
	assert.Len(t, list, 3)
}

func TestClassify(t *testing.T) {
	t.Parallel()
	for status, want := range map[int]Outcome{200: Accepted, 204: Accepted, 400: Refused, 413: Refused, 422: Refused,
		401: Again, 403: Again, 404: Again, 429: Again, 500: Again, 503: Again, 301: Again} {
		assert.Equal(t, want, Classify(status), status)
	}
}

func TestPauseGrows(t *testing.T) {
	t.Parallel()
	r := Retry{First: time.Second, Longest: 30 * time.Second}
	last := time.Duration(0)
	for n := 1; n < 60; n++ {
		low, high := r.Pause(n, 0), r.Pause(n, 0.999)
		assert.LessOrEqual(t, low, high)
		assert.LessOrEqual(t, high, r.Longest)
		assert.GreaterOrEqual(t, low, last)
		last = low
	}
	assert.Equal(t, 15*time.Second, last)
}

func decode(t *testing.T, text string) (Spec, []string) {
	docs, problems := yamldoc.Parse("f", []byte(text))
	require.Empty(t, problems)
	r := &yamldoc.Reader{File: "f"}
	schema.Obj("a destination", Keys...).Validate(r, docs[0].Root, "", schema.Where{})
	s := Decode(r, docs[0].Root, "d")
	var all []string
	for _, p := range r.Problems {
		all = append(all, p.Code+" "+p.Reason)
	}
	return s, all
}

func TestYAMLRoundTrip(t *testing.T) {
	t.Parallel()
	for _, text := range []string{
		"deliver: {otlp: {url: \"http://a.example/v1/logs\", headers: {X-A: \"b\"}}}\ncompress: zstd\nbatch: " +
			"{records: 5, bytes: 2KiB, wait: 30ms}\nretry: {first: 20ms, longest: 1h, give-up: 14d}\n",
		"deliver: {http: {url: \"https://a.example\", encoding: json-array}}\n",
		"deliver: {file: {path: /a/b}}\n",
		"deliver: {discard: {}}\n",
	} {
		s, problems := decode(t, text)
		require.Empty(t, problems, text)
		docs, _ := yamldoc.Parse("f", []byte(text))
		canonical := schema.Obj("a destination", Keys...).AppendCanonical(nil, docs[0].Root, "", schema.DeskKeys, nil)
		again, problems := decode(t, string(canonical))
		require.Empty(t, problems)
		assert.Equal(t, s, again)
	}
}

func TestDecodeRefuses(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"deliver: {otlp: {url: nowhere}}":                              "not an http or https address",
		"deliver: {file: {path: a/b}}":                                 "not an absolute path",
		"deliver: {syslog: {}}":                                        `needs "address"`,
		"deliver: {relay: x}":                                          "not-yet",
		"deliver: {syslog: {address: nowhere}}":                        "not a host with its port",
		"deliver: {discard: {}}\nlimit: 500/s":                         "counts no bytes",
		"deliver: {discard: {}}\nauth: {bearer: a, header: {b: c}}":    "exactly one of bearer, basic, header",
		"deliver: {otlp: {url: \"http://a\"}, discard: {}}":            "exactly one",
		"compress: gzip":                                               "deliver",
		"deliver: {file: {path: /a}}\ncompress: gzip":                  "not available yet for a file",
		"deliver: {discard: {}}\ncompress: brotli":                     "one of: none, gzip, zstd",
		"deliver: {discard: {}}\nbatch: {records: 0}":                  "1 or more",
		"deliver: {http: {url: \"http://a\", encoding: xml}}":          "one of: ndjson, json-array",
		"deliver: {discard: {}}\nretry: {first: 500}":                  "with its unit",
		"deliver: {http: {url: \"http://a\", headers: [a]}}\nbatch: 3": "a map",
	} {
		_, problems := decode(t, text)
		require.NotEmpty(t, problems, text)
		assert.Contains(t, problems[0]+problems[len(problems)-1], want, text)
	}
}
