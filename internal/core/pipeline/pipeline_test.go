package pipeline

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/format"
	"synaxis/internal/core/record"
)

func run(t *testing.T, src Source, spec format.Spec, data string, flush bool) (bodies []string, b *record.Batch, used int, c Counts) {
	tr, err := Compile(src, spec, nil)
	require.NoError(t, err)
	b = &record.Batch{Arena: []byte(data)}
	used, c = tr.Run(b, 1000, 42, 100, flush)
	for i := range b.Records {
		bodies = append(bodies, string(b.Bytes(b.Records[i].Body)))
	}
	return bodies, b, used, c
}

func TestRun(t *testing.T) {
	t.Parallel()
	kv, _ := format.BuiltIn("keyvalue")
	raw, _ := format.BuiltIn("raw")
	bodies, b, used, c := run(t, Source{Unparsed: "keep", KeepOriginal: true}, kv, "a=1 msg=x\n\nnothing\nb=2\ntorn", false)
	assert.Equal(t, []string{"x", "nothing", "b=2"}, bodies)
	assert.Equal(t, Counts{Read: 3, Bytes: int64(used), Unparsed: 1, Blank: 1}, c)
	assert.Equal(t, len("a=1 msg=x\n\nnothing\nb=2\n"), used)
	assert.Equal(t, int64(1000+used), b.Records[2].End)
	assert.Equal(t, "a=1 msg=x", string(b.Bytes(b.Records[0].Original)))
	assert.NotZero(t, b.Records[1].Flags&record.Unparsed)

	bodies, _, _, c = run(t, Source{Unparsed: "drop"}, kv, "a=1\nnothing\n", false)
	assert.Equal(t, []string{"a=1"}, bodies)
	assert.Equal(t, int64(1), c.Dropped)

	bodies, _, _, c = run(t, Source{}, raw, "a\n\nb", true)
	assert.Equal(t, []string{"a", "", "b"}, bodies, "blank lines are records of raw")
	assert.Zero(t, c.Blank)

	bodies, _, _, _ = run(t, Source{}, raw, "ok \xff\xfe end\n", false)
	assert.Equal(t, []string{"ok \ufffd\ufffd end"}, bodies)

	bodies, _, _, _ = run(t, Source{Begin: "^=="}, raw, "== 1\n a\n== 2\n b\n", true)
	assert.Equal(t, []string{"== 1\n a", "== 2\n b"}, bodies)
}

func TestRunStopsAtTheLimit(t *testing.T) {
	t.Parallel()
	raw, _ := format.BuiltIn("raw")
	tr, err := Compile(Source{}, raw, nil)
	require.NoError(t, err)
	b := &record.Batch{Arena: []byte(strings.Repeat("x\n", 10))}
	used, c := tr.Run(b, 0, 0, 3, false)
	assert.Equal(t, 6, used)
	assert.Equal(t, int64(3), c.Read)
}
