package pipeline

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/format"
	"synaxis/internal/core/wire"
)

func TestTry(t *testing.T) {
	t.Parallel()
	keyvalue, _ := format.BuiltIn("keyvalue")
	tr, err := Compile(Source{}, keyvalue, Parts{})
	require.NoError(t, err)
	observed := time.Date(2031, 4, 2, 12, 0, 0, 0, time.UTC)
	got, c := tr.Try([]byte("ts=2031-04-02T06:15:09Z level=warn n=7\r\n\n\nlane 4 rebooted\nn=+Inf l=x"), observed)
	require.Len(t, got, 3)
	assert.Equal(
		t,
		wire.Numbers{Read: 3, Bytes: 68, Unparsed: 1, Blank: 2},
		wire.Numbers{Read: c.Read, Bytes: c.Bytes, Unparsed: c.Unparsed, Blank: c.Blank},
	)
	assert.Equal(t, []int{1, 4, 5}, []int{got[0].Line, got[1].Line, got[2].Line})
	assert.Equal(t, "WARN", got[0].Level)
	assert.Equal(t, "2031-04-02T06:15:09Z", got[0].Time.Format(time.RFC3339))
	assert.Equal(t, "ts=2031-04-02T06:15:09Z level=warn n=7", got[0].Original)
	assert.Equal(t, TriedField{"n", "int", int64(7)}, got[0].Fields[2])
	assert.False(t, got[1].Read)
	assert.Equal(t, "lane 4 rebooted", got[1].Body)
	assert.True(t, got[2].Read)

	// Several lines a record, more records than one batch.
	raw, _ := format.BuiltIn("raw")
	tr, err = Compile(Source{Begin: `^== `}, raw, Parts{})
	require.NoError(t, err)
	got, _ = tr.Try([]byte("== a\n  b\n\n  c\n== d\n"+strings.Repeat("== e\n x\n", 1500)), observed)
	require.Len(t, got, 1502)
	assert.Equal(t, []int{1, 4}, []int{got[0].Line, got[0].Lines})
	assert.Equal(t, "== a\n  b\n\n  c", got[0].Body)
	assert.Equal(t, []int{5, 1}, []int{got[1].Line, got[1].Lines})
	assert.Equal(t, []int{3004, 2}, []int{got[1501].Line, got[1501].Lines})
	got, _ = tr.Try(nil, observed)
	assert.Empty(t, got)
}
