package main

import (
	"bytes"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	common "go.opentelemetry.io/proto/otlp/common/v1"
	logs "go.opentelemetry.io/proto/otlp/logs/v1"
	resource "go.opentelemetry.io/proto/otlp/resource/v1"
	"google.golang.org/protobuf/proto"

	"synaxis/internal/core/expr"
	"synaxis/internal/core/format"
	"synaxis/internal/core/guess"
	"synaxis/internal/core/mask"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/record"
	"synaxis/internal/core/yamldoc"
)

// webLog is an access log with private data in one line of each hundred.
func webLog() []byte {
	return made(func(i int) string {
		path := fmt.Sprintf("/sailings/%d?seat=%d", i%977, i%80)
		if i%100 == 7 {
			path = fmt.Sprintf("/manage/kelp.%d@skerry.example?doc=PA%07d", i, i)
		}
		return fmt.Sprintf(
			`198.51.100.%d - - [%s] "GET %s HTTP/1.1" %d %d "https://whimbrel.example/fares" "WhimbrelApp/4.%d (tide)"`,
			i%250,
			readFrom.Add(time.Duration(i/200)*time.Second).Format("02/Jan/2006:15:04:05 -0700"),
			path,
			[]int{200, 304, 404, 503}[i%4],
			200+i%9000,
			i%10,
		)
	})
}

// parsed is a log as batches that were read already.
func parsed(data []byte, src pipeline.Source) ([]*record.Batch, error) {
	spec, _ := format.BuiltIn("web-combined")
	t, err := pipeline.Compile(src, spec, pipeline.Parts{})
	if err != nil {
		return nil, err
	}
	var out []*record.Batch
	for done := 0; done < len(data); {
		b := &record.Batch{
			Origin: record.NewOrigin(
				"booking-1",
				"",
				"booking-web",
				"/srv/web/access.log",
				[]record.Label{{Key: "site", Value: "northpier"}},
			),
		}
		b.Arena = append(b.Arena, data[done:min(done+256<<10, len(data))]...)
		used, c := t.Run(b, int64(done), 0, 2000, done+len(b.Arena) == len(data))
		if c.Unparsed > 0 || used == 0 {
			return nil, fmt.Errorf("%d not read", c.Unparsed)
		}
		done += used
		out = append(out, b)
	}
	return out, nil
}

const condition = `fields.http.response.status_code >= 500 || fields.http.request.method == "POST" && fields.url.path.startsWith("/book")`

// conditions is a condition as closures, against the same one in cel-go, which gets a map of the fields made before.
func conditions() (pair, error) {
	batches, err := parsed(webLog(), pipeline.Source{})
	if err != nil {
		return pair{}, err
	}
	const met = readLines / 4
	prog, err := expr.Compile(condition, true, batches[0].Schema)
	if err != nil {
		return pair{}, err
	}
	ours := func() (int, error) {
		n, all := 0, 0
		for _, b := range batches {
			for i := range b.Records {
				if ok, _ := prog.Met(b, &b.Records[i]); ok {
					n++
				}
				all++
			}
		}
		if n != met {
			return 0, fmt.Errorf("%d met of %d", n, met)
		}
		return all, nil
	}
	env, err := cel.NewEnv(cel.Variable("fields", cel.MapType(cel.StringType, cel.DynType)))
	if err != nil {
		return pair{}, err
	}
	tree, issues := env.Compile(
		`fields["http.response.status_code"] >= 500 || fields["http.request.method"] == "POST" && fields["url.path"].startsWith("/book")`,
	)
	if issues.Err() != nil {
		return pair{}, issues.Err()
	}
	plain, err := env.Program(tree)
	if err != nil {
		return pair{}, err
	}
	var rows []map[string]any
	for _, b := range batches {
		for i := range b.Records {
			fields := map[string]any{}
			for _, v := range b.Fields(&b.Records[i]) {
				if v.Kind == record.Int {
					fields[b.Schema.Name(v.Slot)] = int64(v.Num)
				} else {
					fields[b.Schema.Name(v.Slot)] = string(b.Bytes(v.Span))
				}
			}
			rows = append(rows, map[string]any{"fields": fields})
		}
	}
	base := func() (int, error) {
		n := 0
		for _, row := range rows {
			out, _, err := plain.Eval(row)
			if err != nil {
				return 0, err
			}
			if out == types.True {
				n++
			}
		}
		if n != met {
			return 0, fmt.Errorf("%d met of %d", n, met)
		}
		return len(rows), nil
	}
	return pair{"conditions, against cel-go over ready maps", "records/s", 10, ours, base, func() {}}, nil
}

// otlpBytes is writing OTLP, against the generated types.
func otlpBytes() (pair, error) {
	batches, err := parsed(webLog(), pipeline.Source{})
	if err != nil {
		return pair{}, err
	}
	var e record.Encoder
	var body []byte
	size := 0
	ours := func() (int, error) {
		n := 0
		size = 0
		for _, b := range batches {
			out := e.Encode(record.OTLP, b)
			n += len(out.Ends)
			body = record.AppendResourceLogs(body[:0], b.Origin, out.Bytes) // the sender's buffer, which it uses again
			size += len(body)
			out.Release()
		}
		return n, nil
	}
	text := func(key, v string) *common.KeyValue {
		return &common.KeyValue{Key: key, Value: &common.AnyValue{Value: &common.AnyValue_StringValue{StringValue: v}}}
	}
	base := func() (int, error) {
		n := 0
		for _, b := range batches {
			req := &logs.LogsData{
				ResourceLogs: []*logs.ResourceLogs{
					{
						Resource: &resource.Resource{
							Attributes: []*common.KeyValue{
								text("host.name", b.Origin.Host),
								text("label.site", "northpier"),
							},
						},
						ScopeLogs: []*logs.ScopeLogs{{Scope: &common.InstrumentationScope{Name: b.Origin.Source}}},
					},
				},
			}
			list := &req.ResourceLogs[0].ScopeLogs[0].LogRecords
			for i := range b.Records {
				r := &b.Records[i]
				*list = append(*list, generated(b, r, text))
			}
			out, err := proto.Marshal(req)
			if err != nil {
				return 0, err
			}
			n += len(*list)
			if len(out) == 0 {
				return 0, fmt.Errorf("nothing was written")
			}
		}
		return n, nil
	}
	return pair{"OTLP bytes, against the generated types", "records/s", 20, ours, base, func() {}}, nil
}

// generated is a record in the generated types.
func generated(b *record.Batch, r *record.Record, text func(key, v string) *common.KeyValue) *logs.LogRecord {
	lr := &logs.LogRecord{
		TimeUnixNano:         uint64(r.Time),
		ObservedTimeUnixNano: uint64(r.Observed),
		Body: &common.AnyValue{
			Value: &common.AnyValue_StringValue{StringValue: string(b.Bytes(r.Body))},
		},
	}
	for _, v := range b.Fields(r) {
		if v.Kind == record.Int {
			lr.Attributes = append(
				lr.Attributes,
				&common.KeyValue{
					Key:   b.Schema.Name(v.Slot),
					Value: &common.AnyValue{Value: &common.AnyValue_IntValue{IntValue: int64(v.Num)}},
				},
			)
		} else {
			lr.Attributes = append(lr.Attributes, text(b.Schema.Name(v.Slot), string(b.Bytes(v.Span))))
		}
	}
	return lr
}

// treatment is everything that a host does to a record: web-combined, three masks, two conditions, OTLP bytes. The
// plain way below does the same with the standard library's regexp, cel-go, and the generated types of OTLP.
func treatment() (pair, error) {
	data := webLog()
	docs, problems := yamldoc.Parse(
		"bench",
		[]byte(
			"guards: [passport, email, payment-card]\nsteps:\n  - drop: fields.http.response.status_code == "+
				"304\nsend:\n  - {to: desk, when: fields.http.response.status_code >= 500}\n  - otherwise: archive\n",
		),
	)
	if len(problems) > 0 {
		return pair{}, problems[0]
	}
	const kept = readLines * 3 / 4
	src := pipeline.Decode(docs[0].Root, "booking-web")
	spec, _ := format.BuiltIn("web-combined")
	passport := mask.Spec{Name: "passport", Find: `\b[A-Z]{2}\d{7}\b`, Fill: mask.Fill{Character: "*"}}
	t, err := pipeline.Compile(src, spec, pipeline.Parts{Masks: func(name string) (mask.Spec, bool) {
		if name == "passport" {
			return passport, true
		}
		return mask.BuiltIn(name), true
	}})
	if err != nil {
		return pair{}, err
	}
	origin := record.NewOrigin(
		"booking-1",
		"",
		"booking-web",
		"/srv/web/access.log",
		[]record.Label{{Key: "site", Value: "northpier"}},
	)
	b := &record.Batch{Origin: origin}
	var e record.Encoder
	ours := func() (int, error) {
		n, masked := 0, int64(0)
		for done := 0; done < len(data); {
			b.Reset()
			b.Arena = append(b.Arena[:0], data[done:min(done+256<<10, len(data))]...)
			used, c := t.Run(b, int64(done), 0, 2000, done+len(b.Arena) == len(data))
			n, masked, done = n+int(c.Read), masked+c.Masked, done+used
			out := e.Encode(record.OTLP, b)
			for bit := range t.Destinations() {
				one := out.Only(b, bit)
				if bytes.Contains(one.Bytes, []byte("skerry.example")) {
					return 0, fmt.Errorf("private data is left")
				}
				one.Release()
			}
			out.Release()
		}
		if n != readLines || masked != readLines/100 {
			return 0, fmt.Errorf("%d records, %d masked", n, masked)
		}
		return n, nil
	}

	line := regexp.MustCompile(
		`^(?P<client_address>\S+) \S+ (?P<user_name>\S+) \[(?P<time>[^\]]+)\] "(?P<method>\S+) (?P<path>[^ ?]*)(?:\?(?P<query>\S*))? HTTP/(?P<version>[\d.]+)" (?P<status>\d{3}) (?P<size>\d+|-) "(?P<referer>[^"]*)" "(?P<agent>[^"]*)"$`,
	)
	names := line.SubexpNames()
	masks := []*regexp.Regexp{
		regexp.MustCompile(`\b[A-Z]{2}\d{7}\b`),
		regexp.MustCompile(`[\w.+-]+@[\w-]+(?:\.[\w-]+)+`),
		regexp.MustCompile(`\b(?:\d[ -]?){12,18}\d\b`),
	}
	env, err := cel.NewEnv(cel.Variable("fields", cel.MapType(cel.StringType, cel.DynType)))
	if err != nil {
		return pair{}, err
	}
	var programs []cel.Program
	for _, c := range []string{`fields["status"] == 304`, `fields["status"] >= 500`} {
		tree, issues := env.Compile(c)
		if issues.Err() != nil {
			return pair{}, issues.Err()
		}
		p, err := env.Program(tree)
		if err != nil {
			return pair{}, err
		}
		programs = append(programs, p)
	}
	hide := func(s string) string {
		for _, m := range masks {
			s = m.ReplaceAllString(s, "********")
		}
		return s
	}
	text := func(key, v string) *common.KeyValue {
		return &common.KeyValue{Key: key, Value: &common.AnyValue{Value: &common.AnyValue_StringValue{StringValue: v}}}
	}
	base := func() (int, error) {
		n, left := 0, 0
		send := map[string]*logs.ScopeLogs{"desk": {}, "archive": {}}
		for raw := range bytes.Lines(data) {
			n++
			body := strings.TrimSuffix(string(raw), "\n")
			m := line.FindStringSubmatch(body)
			if m == nil {
				return 0, fmt.Errorf("not read: %s", body)
			}
			at, err := time.Parse("02/Jan/2006:15:04:05 -0700", m[3])
			if err != nil {
				return 0, err
			}
			fields := map[string]any{}
			for i, name := range names[1:] {
				fields[name] = m[i+1]
			}
			for _, name := range []string{"status", "size"} {
				v, err := strconv.ParseInt(fields[name].(string), 10, 64)
				if err != nil {
					return 0, err
				}
				fields[name] = v
			}
			row := map[string]any{"fields": fields}
			if out, _, err := programs[0].Eval(row); err != nil || out == types.True {
				if err != nil {
					return 0, err
				}
				continue
			}
			left++
			lr := &logs.LogRecord{
				TimeUnixNano: uint64(at.UnixNano()),
				Body:         &common.AnyValue{Value: &common.AnyValue_StringValue{StringValue: hide(body)}},
			}
			for _, name := range names[1:] {
				if v, ok := fields[name].(string); ok {
					v = hide(v)
					fields[name] = v
					lr.Attributes = append(lr.Attributes, text(name, v))
				} else {
					lr.Attributes = append(lr.Attributes, &common.KeyValue{Key: name, Value: &common.AnyValue{
						Value: &common.AnyValue_IntValue{IntValue: fields[name].(int64)}}})
				}
			}
			to := "archive"
			out, _, err := programs[1].Eval(row)
			if err != nil {
				return 0, err
			}
			if out == types.True {
				to = "desk"
			}
			send[to].LogRecords = append(send[to].LogRecords, lr)
			if len(send[to].LogRecords) == 2000 {
				if _, err := proto.Marshal(send[to]); err != nil {
					return 0, err
				}
				send[to].LogRecords = send[to].LogRecords[:0]
			}
		}
		if left != kept {
			return 0, fmt.Errorf("%d left of %d", left, kept)
		}
		return n, nil
	}
	return pair{"web-combined, three masks, two conditions, OTLP bytes", "records/s", 25, ours, base, func() {}}, nil
}

// guessing tells how long a guess over a thousand lines takes, against the bound of 300 ms.
func guessing() (pair, error) {
	var b bytes.Buffer
	for i := range 1000 {
		fmt.Fprintf(
			&b,
			"%s [pool-%d] %-5s booking.Desk - seat %d held for W%03d, took %d ms\n",
			readFrom.Add(time.Duration(i)*time.Second).Format("2006-01-02 15:04:05.000"),
			i%7,
			[]string{"INFO", "WARN", "ERROR"}[i%3],
			i%80,
			i%400,
			i%90,
		)
	}
	ours := func() (int, error) {
		best := guess.Guess(b.Bytes(), guess.Options{Zone: "UTC", Observed: readFrom})[0]
		if best.Share < 1 || best.Spec.Kind != "template" {
			return 0, fmt.Errorf("%s reads %.2f", best.Spec.Kind, best.Share)
		}
		return 1, nil
	}
	base := func() (int, error) { time.Sleep(300 * time.Millisecond); return 1, nil }
	return pair{"a guess over 1,000 lines, against 300 ms", "guesses/s", 1, ours, base, func() {}}, nil
}
