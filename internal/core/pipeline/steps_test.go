package pipeline

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/format"
	"synaxis/internal/core/mask"
	"synaxis/internal/core/record"
	"synaxis/internal/core/wire"
	"synaxis/internal/core/yamldoc"
)

// source reads a source as a host config has it.
func source(t require.TestingT, text string) Source {
	docs, problems := yamldoc.Parse("test", []byte(text))
	require.Empty(t, problems)
	return Decode(docs[0].Root, "gate-scans")
}

var passport = mask.Spec{Name: "passport", Find: `\b[A-Z]{2}\d{7}\b`, Fill: mask.Fill{Text: "[passport]"}, Mark: true}

func parts(masks ...mask.Spec) Parts {
	return Parts{Masks: func(name string) (mask.Spec, bool) {
		i := slices.IndexFunc(masks, func(m mask.Spec) bool { return m.Name == name })
		if i < 0 {
			return mask.Spec{}, false
		}
		return masks[i], true
	}}
}

// sent treats a log and gives what leaves, as NDJSON from the fields on, with destinations in front.
func sent(t require.TestingT, src, kind, log string, p Parts) ([]string, Counts) {
	spec, ok := format.BuiltIn(kind)
	if !ok {
		spec = format.Spec{Name: "own", Kind: "template", Template: kind}
	}
	tr, err := Compile(source(t, src), spec, p)
	require.NoError(t, err)
	b := &record.Batch{Arena: []byte(log), Origin: record.NewOrigin("h", "", "s", "", nil)}
	_, c := tr.Run(b, 0, 1e18, 1e6, true)
	var out []string
	var e record.Encoder
	for i := range b.Records {
		r := &b.Records[i]
		var to []string
		for k, name := range tr.Destinations() {
			if r.Routes>>k&1 != 0 {
				to = append(to, name)
			}
		}
		text := string(e.AppendNDJSON(nil, b, r))
		_, text, _ = strings.Cut(text, `"observed":`)
		_, text, _ = strings.Cut(text, ",")
		out = append(
			out,
			strings.Join(
				to,
				"+",
			)+" "+strings.Replace(
				strings.TrimSuffix(text, "}\n"),
				`,"host":"h","source":"s"`,
				"",
				1,
			),
		)
	}
	return out, c
}

func TestSteps(t *testing.T) {
	t.Parallel()
	const log = `{"lane":4,"result":"DENIED","doc":"PA1234567","note":"{\"crew\":2,\"level\":\"warn\"}"}` + "\n" +
		`{"lane":0,"result":"OK"}` + "\n"
	const rest = "\nbody: x\nsend: [d]"
	for name, c := range map[string]struct {
		steps  string
		want   []string // what stays of fields, by record
		failed int64
		drops  string
	}{
		"keep":                  {`[{keep: 'fields.lane == 4'}]`, []string{`"lane":4,`}, 0, "map[keep:1]"},
		"keep that fails keeps": {`[{keep: 'fields.doc == "x"'}]`, []string{`"lane":0`}, 1, "map[keep:1]"},
		"drop": {`[{drop: 'fields.result == "OK" && fields.lane == 0'}]`, []string{`"lane":4`}, 0,
			"map[drop:1]"},
		"drop that fails passes": {`[{drop: 'fields.doc != ""'}]`, []string{`"lane":0`}, 1, "map[drop:1]"},
		"set":                    {`[{set: {dock: '"pier-" + string(fields.lane)', lane: 'fields.lane + 1', was: fields.lane}}]`, []string{`"lane":5,"result":"DENIED","doc":"PA1234567"`, `"lane":1,"result":"OK","dock":"pier-0","was":0`}, 0, "map[]"},
		"set to nothing": {`[{set: {result: 'null', other: 'fields.none'}}]`, []string{`{"lane":4,"doc"`,
			`{"lane":0}`}, 2, "map[]"},
		"rename": {`[{rename: {doc: document, lane: result}}]`, []string{
			`"note":"{\"crew\":2,\"level\":\"warn\"}","document":"PA1234567"`, `{"result":0}`}, 0, "map[]"},
		"rename in a ring": {`[{rename: {lane: result, result: lane}}]`, []string{`"result":4,"lane":"DENIED"`,
			`{"result":0,"lane":"OK"}`}, 0, "map[]"},
		"remove": {`[{remove: [note, doc, none]}]`, []string{`{"lane":4,"result":"DENIED"}`,
			`{"lane":0,"result":"OK"}`}, 0, "map[]"},
		"parse": {`[{parse: {from: note, format: json, prefix: inner}}, {remove: [note]}]`,
			[]string{`"level":"WARN"`, `"lane":0,"result":"OK"}`}, 1, "map[]"},
		"parse without a prefix": {`[{parse: {from: note, format: json}}, {keep: 'has(fields.crew)'}]`, []string{
			`"crew":2,"level":"warn"`}, 1, "map[keep:1]"},
		"mask": {`[{mask: [passport]}, {keep: 'has(fields.doc)'}]`, []string{`"doc":"[passport]"`},
			0, "map[keep:1]"},
		"a step sees those before": {`[{set: {lane: '7'}}, {keep: 'fields.lane == 7'}, {rename: {lane: gate}}, {drop: 'fields.gate == 7 && fields.result == "OK"'}]`, []string{`"gate":7`}, 0, "map[drop:1]"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			got, counts := sent(t, "steps: "+c.steps+rest, "json", log, parts(passport))
			assert.Equal(t, c.failed, counts.Failed)
			assert.Equal(t, c.drops, fmt.Sprint(counts.All().Drops))
			assert.Equal(t, int64(2), counts.Read)
			assert.EqualValues(t, len(got), counts.Read-counts.All().Dropped, "the books balance")
			if strings.Contains(c.steps, "keep that fails") || name == "keep that fails keeps" {
				assert.Contains(t, got[0], c.want[0])
				return
			}
			if name == "drop that fails passes" {
				assert.Contains(t, got[0], c.want[0])
				return
			}
			require.Len(t, got, len(c.want), got)
			for i := range got {
				assert.Contains(t, got[i], c.want[i])
			}
		})
	}
	for _, bad := range []string{`[{keep: 'fields.'}]`, `[{set: {a: '1 +'}}]`, `[{mask: [unheard-of]}]`,
		`[{parse: {from: a, format: unheard-of}}]`, `[{sample: {keep: 10 in 1}}]`, `[{limit: {records: 5MiB/s}}]`} {
		spec, _ := format.BuiltIn("json")
		_, err := Compile(source(t, "steps: "+bad), spec, Parts{})
		assert.ErrorContains(t, err, "source gate-scans: step 1", bad)
	}
}

func TestSampleAndLimit(t *testing.T) {
	t.Parallel()
	var log strings.Builder
	for i := range 100 {
		fmt.Fprintf(&log, "n=%d level=%s\n", i, map[bool]string{true: "error", false: "info"}[i%10 == 5])
	}
	got, c := sent(
		t,
		"steps: [{sample: {keep: 1 in 10, when: level < WARN}}]\nsend: [d]",
		"keyvalue",
		log.String(),
		Parts{},
	)
	assert.Equal(t, int64(100-10-9), c.ByRule[dropSample])
	require.Len(t, got, 19)
	assert.Contains(t, got[0], `"notes":{"weight":10}`)
	weights := 0
	for _, g := range got {
		if strings.Contains(g, `"weight":10`) {
			weights += 10
		} else {
			assert.Contains(t, g, `"level":"ERROR"`)
			weights++
		}
	}
	assert.Equal(t, 100, weights, "what stays stands for all")

	_, c = sent(
		t,
		"steps: [{limit: {records: 30/s, when: level < WARN}}]\nsend: [d]",
		"keyvalue",
		log.String(),
		Parts{},
	)
	assert.Equal(
		t,
		int64(100-10-30),
		c.ByRule[dropLimit],
		"a second's worth at once, and what the condition leaves out",
	)

	spec, _ := format.BuiltIn("keyvalue")
	tr, err := Compile(source(t, "steps: [{limit: {records: 10/s}}]\nsend: [d]"), spec, Parts{})
	require.NoError(t, err)
	passed := []int{}
	for second := range 3 {
		b := &record.Batch{Arena: []byte(log.String())}
		tr.Run(b, 0, int64(second)*int64(time.Second)/2, 1000, true)
		passed = append(passed, len(b.Records))
	}
	assert.Equal(t, []int{10, 5, 5}, passed)
}

func TestRoutes(t *testing.T) {
	t.Parallel()
	log := "lane=4 level=error\nlane=0 level=info\nlane=2\nno fields here\n"
	got, c := sent(
		t,
		"unparsed: junk\nsend: [{to: desk, when: level >= WARN}, {to: archive, when: fields.lane != 0}, {otherwise: "+
			"held}]",
		"keyvalue",
		log,
		Parts{},
	)
	require.Len(t, got, 4)
	for i, want := range []string{"desk+archive ", "held ", "archive ", "junk "} {
		assert.True(t, strings.HasPrefix(got[i], want), got[i])
	}
	assert.Equal(t, int64(1), c.Failed, "a level that was never set")
	assert.Equal(t, int64(1), c.Unparsed)

	got, c = sent(t, "send: [{to: desk, when: level >= WARN}]", "keyvalue", log, Parts{})
	assert.Len(t, got, 1)
	assert.Equal(t, int64(3), c.ByRule[dropNoRoute], "what ends nowhere is counted")
}

// TestMasks: private data leaves neither in the body, nor in the original, nor in a field, whichever way it is
// written.
func TestMasks(t *testing.T) {
	t.Parallel()
	card := "4111 1111 1111 1111"
	for name, c := range map[string]struct {
		src, format, line string
		masks             []mask.Spec
		want              string // what leaves
		not               string // what does not
	}{
		"body, original and field": {"keep-original: true\nguards: [passport]", "lane={lane:int} doc={doc}",
			"lane=4 doc=PA1234567", []mask.Spec{passport},
			`"body":"lane=4 doc=[passport]","original":"lane=4 doc=[passport]","fields":{"lane":4,"doc":"[passport]"},"notes":{"masked":["passport"]}`, "PA1234567"},
		"an integer": {"guards: [payment-card]", "keyvalue", "card=4111111111111111 n=7", nil,
			`"body":"card=******** n=7","fields":{"card":"********","n":7}`, "4111"},
		"a computed value": {"steps: [{set: {copy: 'fields.doc + \"/\" + string(fields.n)'}}]\nguards: " +
			"[passport]", "keyvalue", "doc=PA1234567 n=1", []mask.Spec{passport}, `"copy":"[passport]/1"`,
			"PA1234567"},
		"split over fields": {"guards: [payment-card]", "{a:int} {b:int} {c:int} {d:int}", card, nil,
			`"body":"********","fields":{"a":"********","b":"********"`, "1111"},
		"seen in the field only": {"guards: [passport]", "id{doc}x", "idPA1234567x", []mask.Spec{passport},
			`"body":"id[passport]x","fields":{"doc":"[passport]"}`, "PA1234567"},
		"named by its field": {"guards: [password]", "json", `{"password":"low tide","n":1}`, nil,
			`"password":"********"`, "tide"},
		"written with escapes": {"keep-original: true\nguards: [passport]", "json", `{"doc":"PA\u0031234567"}`,
			[]mask.Spec{passport}, `"original":"{\"doc\":\"********\"}","fields":{"doc":"[passport]"}`, "234567"},
		"quotes beside it": {"guards: [passport]", "json", `{"note":"doc \"PA1234567\" shown"}`, []mask.Spec{
			passport}, `"note":"doc \"[passport]\" shown"`, "PA1234567"},
		"in a list": {"guards: [payment-card, passport]", "json",
			`{"seen":["PA1234567",4111111111111111]}`, []mask.Spec{passport}, `"seen":"[\"[passport]\",********]"`,
			"1111"},
		"in the name of a field": {"guards: [email]", "json", `{"crew@whimbrel.example":3}`, nil,
			`"fields":{"********":3}`, "crew@"},
		"read from a field": {"steps: [{parse: {from: note, format: keyvalue}}]\nguards: [passport]", "json",
			`{"note":"doc=PA1234567 lane=4"}`, []mask.Spec{passport}, `"doc":"[passport]","lane":4`, "PA1234567"},
		"not read": {"unparsed: junk\nguards: [passport]", "keyvalue", `went by: PA1234567`,
			[]mask.Spec{passport}, `"body":"went by: [passport]"`, "PA1234567"},
		"by another's step": {"steps: [{mask: [passport]}]", "keyvalue", `doc=PA1234567`, []mask.Spec{passport},
			`"doc":"[passport]"`, "PA1234567"},
		"a guard looks everywhere": {"guards: [only-note]", "keyvalue", `doc=PA1234567 note=x`, []mask.Spec{
			{Name: "only-note", Find: `PA\d+`, Only: []string{"note"}, Fill: mask.Fill{Character: "#"}}},
			`"body":"doc=######## note=x","fields":{"doc":"########"`, "PA1"},
		"two that overlap": {"guards: [long, passport]", "raw", `x PA1234567 y`, []mask.Spec{passport, {
			Name: "long", Find: `x PA\d{3}`, Fill: mask.Fill{Text: "<>"}}}, `"body":"<> y"`, "4567"},
		"keep-last": {"guards: [tail]", "raw", `doc PA1234567`, []mask.Spec{{Name: "tail",
			Find: `PA\d+`, Fill: mask.Fill{KeepLast: 2}}}, `"body":"doc ********67"`, "567"},
		"broken bytes": {"guards: [passport]", "raw", "doc \xff PA1234567", []mask.Spec{passport},
			`"body":"doc \\xff [passport]"`, "PA1234567"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			if !strings.Contains(c.src, "send:") {
				c.src += "\nsend: [d]"
			}
			got, counts := sent(t, c.src, c.format, c.line, parts(c.masks...))
			require.Len(t, got, 1)
			assert.Contains(t, got[0], c.want)
			assert.NotContains(t, got[0], c.not)
			assert.Equal(t, int64(1), counts.Masked)
		})
	}
	got, counts := sent(
		t,
		"steps: [{mask: [note-only]}]\nsend: [d]",
		"keyvalue",
		"doc=PA1234567 note=x",
		parts(mask.Spec{Name: "note-only", Find: `PA\d+`, Only: []string{"note"}, Fill: mask.Fill{Character: "#"}}),
	)
	assert.Contains(t, got[0], "PA1234567", "only holds in a step")
	assert.Zero(t, counts.Masked)
}

// TestHash: a keyed hash is the same for the same value under the same secret, and without the secret nothing runs.
func TestHash(t *testing.T) {
	t.Parallel()
	spec := mask.Spec{Name: "who", Find: `PA\d+`, Fill: mask.Fill{Hash: "${secret.mask_key@7}"}}
	p := parts(spec)
	p.Secret = func(text string) ([]byte, bool) { return []byte("k"), text == "${secret.mask_key@7}" }
	got, _ := sent(t, "guards: [who]\nsend: [d]", "raw", "PA1\nPA1\nPA2\n", p)
	require.Len(t, got, 3)
	assert.Equal(t, got[0], got[1])
	assert.NotEqual(t, got[0], got[2])
	assert.Contains(t, got[0], `"body":"#`)
	p.Secret = func(string) ([]byte, bool) { return nil, false }
	raw, _ := format.BuiltIn("raw")
	_, err := Compile(source(t, "guards: [who]"), raw, p)
	require.ErrorContains(t, err, "the secret ${secret.mask_key@7} is not here")
}

// TestExplain: a try tells of every record what each step did, what was masked where, and where it goes.
func TestExplain(t *testing.T) {
	t.Parallel()
	src := source(t, `
steps:
  - mask: [passport]
  - set: {dock: '"pier-" + string(fields.lane)'}
  - drop: fields.lane == 0
unparsed: junk
guards: [email]
send: [{to: desk, when: 'fields.result == "DENIED"'}, {otherwise: archive}]
`)
	kv, _ := format.BuiltIn("keyvalue")
	tr, err := Compile(src, kv, parts(passport))
	require.NoError(t, err)
	got, c := tr.Try(
		[]byte("lane=4 doc=PA1234567 who=crew@whimbrel.example result=DENIED\n\nlane=0 x=1\nsome words\n"),
		time.Unix(0, 0),
	)
	require.Len(t, got, 3)
	assert.Equal(
		t,
		Counts{
			Numbers: wire.Numbers{Read: 3, Bytes: c.Bytes, Unparsed: 1, Blank: 1, Failed: 2, Masked: 1,
				Masks: map[string]int64{"passport": 1, "email": 1}},
			ByRule: [reasons]int64{dropDrop: 1},
		},
		c,
	)
	first := got[0]
	assert.Equal(t, []string{"desk"}, first.To)
	assert.Equal(t, []string{"passport"}, first.Masked)
	assert.Equal(t, "lane=4 doc=PA1234567 who=crew@whimbrel.example result=DENIED", first.Original)
	assert.Equal(t, "lane=4 doc=[passport] who=******** result=DENIED", first.Body)
	var private, marks []string
	for _, m := range first.Private {
		private = append(private, m.Mask+":"+first.Original[m.Start:m.End])
	}
	assert.Equal(t, []string{"passport:PA1234567", "email:crew@whimbrel.example"}, private)
	for _, m := range first.Marks {
		text := first.Body
		for _, f := range first.Fields {
			if f.Name == m.In {
				text = ShowValue(f)
			}
		}
		marks = append(marks, m.In+":"+m.Mask+":"+text[m.Start:m.End])
	}
	assert.ElementsMatch(
		t,
		[]string{"body:passport:[passport]", "doc:passport:[passport]", "body:email:********", "who:email:********"},
		marks,
	)
	var effects []string
	for _, e := range first.Effects {
		for _, ch := range e.Changes {
			effects = append(effects, fmt.Sprintf("%d %s %s: %s -> %s", e.Step, e.Kind, ch.Name, ch.Before, ch.After))
		}
	}
	assert.Equal(t, []string{
		"1 mask doc: PA1234567 -> [passport]",
		"1 mask body: lane=4 doc=PA1234567 who=crew@whimbrel.example result=DENIED -> lane=4 doc=[passport] " +
			"who=crew@whimbrel.example result=DENIED",
		"2 set dock:  -> pier-4",
		"0 guards who: crew@whimbrel.example -> ********",
		"0 guards body: lane=4 doc=[passport] who=crew@whimbrel.example result=DENIED -> lane=4 doc=[passport] " +
			"who=******** result=DENIED",
	}, effects)
	assert.Equal(t, "drop", got[1].Dropped)
	assert.Equal(t, 3, got[1].Line)
	assert.True(t, got[1].Effects[2].Drops)
	assert.Empty(t, got[1].To)
	assert.Equal(t, []string{"junk"}, got[2].To)
	assert.Equal(t, 1, got[2].Effects[1].Failed)
}

// FuzzMasks: whatever a line looks like, no passport leaves.
func FuzzMasks(f *testing.F) {
	for _, s := range []string{`{"doc":"PA1234567"}`, `doc=PA1234567`, `"PA1234567",2`,
		`{"a\u0022":"\u0050A1234567 PA1234567"}`, `a="x \" PA1234567"`, "<13>gate: {\"n\":[\"PA1234567\"]}"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, line string) {
		for _, kind := range []string{"raw", "json", "keyvalue", "csv", "syslog"} {
			got, _ := sent(
				t,
				"keep-original: true\nsteps: [{parse: {from: body, format: json}}]\nguards: [every]\nsend: [d]",
				kind,
				line,
				parts(mask.Spec{Name: "every", Find: `PA\d{7}`, Fill: mask.Fill{Character: "#"}}),
			)
			for _, g := range got {
				require.NotContains(t, g, "PA1234567", "%s of %q", kind, line)
			}
		}
	})
}
