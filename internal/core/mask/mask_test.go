package mask

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/schema"
	"synaxis/internal/core/yamldoc"
)

func decode(t *testing.T, text string) (Spec, []yamldoc.Problem) {
	docs, problems := yamldoc.Parse("m.yaml", []byte(text))
	require.Empty(t, problems)
	require.Len(t, docs, 1)
	r := &yamldoc.Reader{File: "m.yaml"}
	schema.Obj("a mask", Keys...).With("find", "detector").Validate(r, docs[0].Root, "mask", schema.Where{})
	return Decode(docs[0].Root, "mm"), r.Problems
}

func TestDecode(t *testing.T) {
	t.Parallel()
	s, problems := decode(
		t,
		"find: 'PA\\d{7}'\nnear: [doc]\nonly: [body]\nfill: {keep-last: 2}\nmark: true\nsamples: {hits: "+
			"[PA1234567], misses: [PA1]}\n",
	)
	require.Empty(t, problems)
	assert.Equal(
		t,
		Spec{
			Name:   "mm",
			Find:   `PA\d{7}`,
			Near:   []string{"doc"},
			Only:   []string{"body"},
			Fill:   Fill{KeepLast: 2},
			Mark:   true,
			Hits:   []string{"PA1234567"},
			Misses: []string{"PA1"},
		},
		s,
	)
	s, problems = decode(t, "detector: iban\n")
	require.Empty(t, problems)
	assert.Equal(t, Fill{Character: "*"}, s.Fill, "a fill is never missing")
	for _, bad := range []string{"find: x\ndetector: iban\n", "near: [x]\n", "find: '('\n", "find: '(?=x)'\n",
		"detector: cards\n", "find: x\nfill: '**'\n", "find: x\nfill: {text: a, hash: b}\n",
		"find: x\nfill: {keep-last: 0}\n", "find: ''\n", "find: 'a*'\n"} {
		_, problems := decode(t, bad)
		assert.NotEmpty(t, problems, "%q", bad)
	}
}

func TestSamples(t *testing.T) {
	t.Parallel()
	s := Spec{Find: `PA\d{7}`, Hits: []string{"doc PA1234567", "PA1"}, Misses: []string{"x", "PA7654321"}}
	assert.Equal(t, []Failure{{false, "PA1"}, {true, "PA7654321"}}, s.CheckSamples())
	s = Spec{
		Detector: "ipv4",
		Near:     []string{"peer"},
		Hits:     []string{"x", "from 192.0.2.1"},
		Misses:   []string{"y", "192.0.2.2"},
	}
	assert.Equal(t, []Failure{{false, "x"}, {true, "192.0.2.2"}}, s.CheckSamples())
	assert.Empty(t, Spec{Detector: "barnacle", Hits: []string{"x"}}.CheckSamples())
}

func TestNeeds(t *testing.T) {
	t.Parallel()
	for find, want := range map[string]string{`\b[A-Z]{2}\d{7}\b`: "[A-Z]", `name=\w+`: "name=",
		`(?i)passport`: "PASSPORT", `\d+`: "[0-9]", `.*x`: "x", `(gate|lane)-\d`: "gate|lane", `.*`: "",
		`\w+@\w+`: "@", `(a?)+`: "", `[^ ]+`: "", `x|.`: ""} {
		got := Spec{Find: find}.Needs()
		assert.Equal(t, strings.ToLower(want), strings.ToLower(got), find)
	}
}

// TestMeasure: the measure is the best of three by the clock that is given, and real work is measured.
func TestMeasure(t *testing.T) {
	t.Parallel()
	ticks := []time.Duration{0, 50, 100, 120, 200, 290}
	got := Measure(Spec{Find: "x"}, func() time.Time {
		at := time.Unix(0, int64(ticks[0]))
		ticks = ticks[1:]
		return at
	})
	assert.Equal(t, time.Duration(20), got)
	assert.Positive(t, Measure(Spec{Find: `([a-z]+=)+`}, time.Now))
}
