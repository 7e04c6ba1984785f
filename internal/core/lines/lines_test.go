package lines

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// cut cuts all of the data, given in pieces of the sizes that step returns.
func cut(t require.TestingT, begin, data string, step func() int) []string {
	c, err := Compile(Spec{Begin: begin})
	require.NoError(t, err)
	var out []string
	have, pos := 0, 0
	for {
		have = min(len(data), have+step())
		flush := have == len(data)
		for {
			p, ok := c.Next([]byte(data[pos:have]), flush)
			if !ok {
				break
			}
			require.Positive(t, p.Size)
			require.LessOrEqual(t, p.Body, p.Size)
			out = append(out, data[pos:pos+p.Body])
			pos += p.Size
		}
		if flush {
			require.Equal(t, len(data), pos, "every byte is in a record")
			return out
		}
	}
}

func TestCut(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		begin, data string
		want        []string
	}{
		"lines":           {"", "a\nb\r\n\nc", []string{"a", "b", "", "c"}},
		"several lines":   {`^\d`, "1 a\n b\n c\n2 d\n3 e", []string{"1 a\n b\n c", "2 d", "3 e"}},
		"begins inside":   {`^\d`, "rest\nmore\n1 a\n", []string{"rest\nmore", "1 a"}},
		"last unfinished": {`^\d`, "1 a\n b\n2", []string{"1 a\n b", "2"}},
		"empty":           {"", "", nil},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			for _, size := range []int{1, 2, 3, 1000} {
				assert.Equal(t, c.want, cut(t, c.begin, c.data, func() int { return size }), "in pieces of %d", size)
			}
		})
	}
}

func TestWaitsForMore(t *testing.T) {
	t.Parallel()
	c, err := Compile(Spec{Begin: `^\d`})
	require.NoError(t, err)
	_, ok := c.Next([]byte("1 a\n b\n"), false)
	assert.False(t, ok, "the record may go on")
	p, ok := c.Next([]byte("1 a\n b\n2"), false)
	assert.False(t, ok, "2 may become a longer line: %v", p)
	p, ok = c.Next([]byte("1 a\n b\n2\n"), false)
	assert.True(t, ok)
	assert.Equal(t, 7, p.Size)
}

func TestBound(t *testing.T) {
	t.Parallel()
	long := []byte(strings.Repeat("x", MaxRecord+10) + "\n")
	c := &Cutter{}
	p, ok := c.Next(long, false)
	require.True(t, ok)
	assert.True(t, p.Truncated)
	assert.Equal(t, MaxRecord, p.Size)
	p, ok = c.Next(long[p.Size:], false)
	require.True(t, ok)
	assert.Equal(t, 11, p.Size)
	many, err := Compile(Spec{Begin: "^never"})
	require.NoError(t, err)
	p, ok = many.Next(bytes.Repeat([]byte("line\n"), MaxRecord/4), false)
	require.True(t, ok)
	assert.True(t, p.Truncated)
	assert.LessOrEqual(t, p.Size, MaxRecord)
}

func TestBadExpression(t *testing.T) {
	t.Parallel()
	_, err := Compile(Spec{Begin: "("})
	require.ErrorContains(t, err, "records.begin")
}

func FuzzChunking(f *testing.F) {
	f.Add("1 a\n b\r\n2 c\n\n", byte(3), true)
	f.Fuzz(func(t *testing.T, data string, size byte, several bool) {
		begin := ""
		if several {
			begin = `^\d`
		}
		n := int(size)%7 + 1
		whole := cut(t, begin, data, func() int { return len(data) + 1 })
		require.Equal(t, whole, cut(t, begin, data, func() int { return n }))
	})
}
