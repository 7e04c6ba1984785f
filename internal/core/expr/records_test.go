package expr

import (
	"fmt"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"cel.dev/cel-go/common/types"

	"synaxis/internal/core/record"
)

// aRecord is one record with a field of each kind.
func aRecord() *record.Batch {
	b := &record.Batch{
		Schema: record.NewSchema(),
		Origin: record.NewOrigin("gate-1", "", "gate-scans", "", []record.Label{{Key: "site", Value: "northpier"}}),
	}
	r := record.Record{Time: 1e18, Observed: 2e18, Level: record.Warn, Body: b.Put([]byte("lane 4 denied, ünder way"))}
	add := func(name string, v record.Value) {
		v.Slot, _ = b.Schema.Slot([]byte(name))
		b.Values = append(b.Values, v)
	}
	add("lane", record.Value{Kind: record.Int, Num: 4})
	add("big", record.Value{Kind: record.Int, Num: math.MaxInt64})
	add("load", record.Value{Kind: record.Float, Num: math.Float64bits(17.25)})
	add("nan", record.Value{Kind: record.Float, Num: math.Float64bits(math.NaN())})
	add("result", record.Value{Span: b.Put([]byte("DENIED"))})
	add("digits", record.Value{Span: b.Put([]byte("42"))})
	add("ok", record.Value{Kind: record.Bool, Num: 1})
	add("http.status", record.Value{Kind: record.Int, Num: 503})
	add("tags", record.Value{Kind: record.JSON, Span: b.Put([]byte(`["urgent", 4, 2.5]`))})
	r.N = uint16(len(b.Values))
	b.Records = append(b.Records, r)
	return b
}

func TestConditions(t *testing.T) {
	t.Parallel()
	const failed = "failed"
	for text, want := range map[string]any{
		`level >= WARN`:                                            true,
		`level < WARN || fields.lane == 4`:                         true,
		`fields.result == "DENIED" && fields.lane != 0`:            true,
		`fields.lane > 3.5 && fields.load < 18`:                    true,
		`fields.load == 17.25`:                                     true,
		`fields.lane == "4"`:                                       false, // values of different kinds are not equal
		`fields.lane < "4"`:                                        failed,
		`fields.missing == 1`:                                      failed,
		`fields.missing == 1 && false`:                             false, // what is false either way
		`fields.missing == 1 || fields.ok`:                         true,
		`!(fields.missing == 1)`:                                   failed,
		`has(fields.lane) && !has(fields.missing)`:                 true,
		`has(fields.http.status)`:                                  true,
		`fields.http.status >= 500`:                                true,
		`fields["http.status"] >= 500`:                             true,
		`labels.site == "northpier" && host == "gate-1"`:           true,
		`labels.lane == "1"`:                                       failed,
		`has(labels.lane)`:                                         false,
		`fields.result in ["DENIED", "HELD"]`:                      true,
		`fields.lane in [1, 2.0, 4.0]`:                             true,
		`fields.result.startsWith("DEN") && body.contains("lane")`: true,
		`fields.result.matches("^D.*D$")`:                          true,
		`fields.lane.startsWith("4")`:                              failed,
		`size(body) == 24 && body.size() == 24`:                    true,
		`fields.big + 1 > 0`:                                       failed, // does not fit
		`fields.lane / 0 == 1`:                                     failed,
		`fields.lane % 3 == 1 && -fields.lane == -4`:               true,
		`fields.nan == fields.nan`:                                 false,
		`fields.nan < 1.0`:                                         false,
		`int(fields.digits) == 42 && double(fields.lane) == 4.0`:   true,
		`int(fields.result) == 1`:                                  failed,
		`string(fields.lane) + "!" == "4!"`:                        true,
		`fields.ok ? fields.lane == 4 : fields.missing == 1`:       true,
		`"urgent" in fields.tags`:                                  true,
		`fields.tags == 4`:                                         false,
		`fields.tags[1] == 4`:                                      true,
		`fields.tags.exists(x, x == 2.5)`:                          true,
		`observed - time > duration("1h")`:                         true,
		`time < observed`:                                          true,
		`time < timestamp("2031-04-02T00:00:00Z")`:                 true,
		`fields.ok`:   true,
		`fields.lane`: failed,
	} {
		b := aRecord()
		p, err := Compile(text, true, b.Schema)
		require.NoError(t, err, text)
		met, bad := p.Met(b, &b.Records[0])
		var got any = met
		if bad {
			got = failed
		}
		assert.Equal(t, want, got, text)
	}
	b := aRecord()
	b.Records[0].Level = 0
	p, err := Compile("level < WARN", true, b.Schema)
	require.NoError(t, err)
	_, bad := p.Met(b, &b.Records[0])
	assert.True(t, bad, "a level that was never set has no order")
	for _, text := range []string{"level <", "lane == 4", `level + "x"`, `"text"`} {
		_, err := Compile(text, true, b.Schema)
		assert.Error(t, err, text)
	}
}

func TestValues(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		`"pier-" + string(fields.lane)`:          "pier-4",
		`fields.lane * 2`:                        "8",
		`fields.load / 2.0`:                      "8.625",
		`fields.lane > 3`:                        "true",
		`time`:                                   "2001-09-09T01:46:40Z",
		`[fields.lane, fields.result]`:           `[4,"DENIED"]`,
		`fields.tags`:                            `["urgent", 4, 2.5]`,
		`observed - time`:                        "277777h46m40s",
		`{"a": fields.lane}`:                     `{"a":4}`,
		`fields.missing`:                         "failed",
		`null`:                                   "nothing",
		`fields.ok ? "open" : "shut"`:            "open",
		`fields.result == "OK" ? 1 : size(body)`: "24",
	} {
		b := aRecord()
		p, err := Compile(text, false, b.Schema)
		require.NoError(t, err, text)
		v, there, failed := p.Value(b, &b.Records[0])
		got := ""
		switch r := (row{b: b}); {
		case failed:
			got = "failed"
		case !there:
			got = "nothing"
		case v.Kind == record.Text || v.Kind == record.JSON:
			got = string(b.Bytes(v.Span))
		default:
			got = fmt.Sprint(r.of(v).cel())
		}
		assert.Equal(t, want, got, text)
	}
}

// TestCostIsBounded: an expression that would go on for long is an error, for this record only.
func TestCostIsBounded(t *testing.T) {
	t.Parallel()
	b := aRecord()
	list := []byte("[1")
	for range 2000 {
		list = append(list, ",1"...)
	}
	slot, _ := b.Schema.Slot([]byte("tags"))
	for i := range b.Values {
		if b.Values[i].Slot == slot {
			b.Values[i].Span = b.Put(append(list, ']'))
		}
	}
	p, err := Compile("fields.tags.all(x, fields.tags.all(y, x == y))", true, b.Schema)
	require.NoError(t, err)
	assert.False(t, p.Native())
	_, failed := p.Met(b, &b.Records[0])
	assert.True(t, failed)
}

// TestNoAllocation: the usual conditions allocate nothing.
func TestNoAllocation(t *testing.T) {
	b := aRecord()
	for _, text := range []string{`level >= WARN && fields.lane == 4`, `fields.result in ["OK", "DENIED"]`,
		`has(fields.lane) && fields.load > 2`, `fields.http.status >= 500 || body.contains("x")`} {
		p, err := Compile(text, true, b.Schema)
		require.NoError(t, err)
		require.True(t, p.Native(), text)
		assert.Zero(t, testing.AllocsPerRun(100, func() { p.Met(b, &b.Records[0]) }), text)
	}
}

// grown makes an expression of bytes.
type grown struct{ from []byte }

func (g *grown) pick(n int) int {
	if len(g.from) == 0 {
		return 0
	}
	c := int(g.from[0])
	g.from = g.from[1:]
	return c % n
}

func (g *grown) expr(depth int) string {
	leaves := []string{
		"fields.lane",
		"fields.load",
		"fields.result",
		"fields.digits",
		"fields.ok",
		"fields.tags",
		"fields.missing",
		"fields.nan",
		"fields.big",
		`fields["http.status"]`,
		"level",
		"body",
		"time",
		"labels.site",
		"labels.none",
		"host",
		"4",
		"0",
		"-1",
		"17.25",
		"9223372036854775807",
		"9007199254740993",
		"9007199254740992.0",
		`"DENIED"`,
		`"42"`,
		`""`,
		"true",
		"WARN",
		"has(fields.lane)",
		"has(fields.missing)",
		"has(labels.site)",
	}
	if depth == 0 {
		return leaves[g.pick(len(leaves))]
	}
	one := func() string { return g.expr(depth - 1) }
	binary := []string{"&&", "||", "==", "!=", "<", "<=", ">", ">=", "+", "-", "*", "/", "%"}
	switch k := g.pick(20); {
	case k < 13:
		return "(" + one() + " " + binary[k] + " " + one() + ")"
	case k == 13:
		return "!(" + one() + ")"
	case k == 14:
		return "(" + one() + " ? " + one() + " : " + one() + ")"
	case k == 15:
		return "(" + one() + " in [" + g.expr(0) + ", " + g.expr(0) + "])"
	case k == 16:
		return []string{"string", "int", "double", "size"}[g.pick(4)] + "(" + one() + ")"
	case k == 17:
		return "(" + one() + ")." + []string{"startsWith", "endsWith", "contains", "matches"}[g.pick(4)] + "(" +
			g.expr(
				0,
			) + ")"
	case k == 18:
		return "-(" + one() + ")"
	}
	return g.expr(0)
}

// FuzzClosures holds the closures against cel-go: what they make of an expression is the same, errors included.
func FuzzClosures(f *testing.F) {
	for i := range 40 {
		f.Add([]byte{byte(i), byte(i * 7), byte(i * 3), byte(i + 5), 1, 2, byte(i), 9, 30, 12})
	}
	f.Fuzz(func(t *testing.T, from []byte) {
		if len(from) > 64 {
			return
		}
		g := &grown{from}
		text := g.expr(1 + g.pick(4))
		b := aRecord()
		p, err := Compile(text, false, b.Schema)
		if err != nil || !p.Native() {
			return
		}
		r := &row{b: b, r: &b.Records[0]}
		got := p.fn(r)
		if r.punt {
			return
		}
		want, _, err := p.slow.Eval(activation{b, &b.Records[0]})
		if err != nil {
			require.Equal(t, isError, got.kind, "%s: cel-go says %v, the closures %v", text, err, got.cel())
			return
		}
		require.NotEqual(t, isError, got.kind, "%s: cel-go says %v", text, want)
		have := types.DefaultTypeAdapter.NativeToValue(got.cel())
		if f, ok := have.(types.Double); ok && math.IsNaN(float64(f)) {
			require.True(t, math.IsNaN(float64(want.(types.Double))), text)
			return
		}
		require.Equal(t, want.Type().TypeName(), have.Type().TypeName(), text)
		require.Equal(t, types.True, want.Equal(have), "%s: cel-go says %v, the closures %v", text, want, have)
	})
}
