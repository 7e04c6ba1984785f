package lines

import (
	"bytes"
	"encoding/binary"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// cut cuts all of the data, given in pieces of the sizes that step returns.
func cut(t require.TestingT, spec Spec, data string, step func() int) []string {
	c, err := Compile(spec)
	require.NoError(t, err)
	var out []string
	have, pos := 0, 0
	for {
		have = min(len(data), have+step())
		flush := have == len(data)
		for {
			k := c.Over([]byte(data[pos:have]), int64(pos))
			short := k
			body, size := short.Line()
			p, ok := k.Next(flush)
			if size > 0 { // the short way is that of Next
				require.Equal(t, Piece{Body: body, Size: size}, p)
				require.Equal(t, size, short.Used())
			}
			if !ok {
				break
			}
			require.Positive(t, p.Size)
			require.LessOrEqual(t, p.Skip+p.Body, p.Size)
			out = append(out, string(k.Decode(nil, []byte(data[pos+p.Skip:pos+p.Skip+p.Body]))))
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
				assert.Equal(
					t,
					c.want,
					cut(t, Spec{Begin: c.begin}, c.data, func() int { return size }),
					"in pieces of %d",
					size,
				)
			}
		})
	}
}

func TestWaitsForMore(t *testing.T) {
	t.Parallel()
	c, err := Compile(Spec{Begin: `^\d`})
	require.NoError(t, err)
	next := func(text string) (Piece, bool) {
		k := c.Over([]byte(text), 0)
		return k.Next(false)
	}
	_, ok := next("1 a\n b\n")
	assert.False(t, ok, "the record may go on")
	p, ok := next("1 a\n b\n2")
	assert.False(t, ok, "2 may become a longer line: %v", p)
	p, ok = next("1 a\n b\n2\n")
	assert.True(t, ok)
	assert.Equal(t, 7, p.Size)
}

func TestBound(t *testing.T) {
	t.Parallel()
	for most, want := range map[int]int{0: MaxRecord, 100: 100, MostRecord * 2: MostRecord} {
		c, err := Compile(Spec{Most: most})
		require.NoError(t, err)
		require.Equal(t, want, c.Most())
		k := c.Over([]byte(strings.Repeat("x", want+10)+"\n"), 0)
		p, ok := k.Next(false)
		require.True(t, ok)
		assert.Equal(t, Piece{Body: want, Size: want, Truncated: true}, p)
		k.Take(p)
		p, ok = k.Next(false)
		require.True(t, ok)
		assert.Equal(t, Piece{Body: 10, Size: 11}, p)
	}
	many, err := Compile(Spec{Begin: "^never"})
	require.NoError(t, err)
	k := many.Over(bytes.Repeat([]byte("line\n"), MaxRecord/4), 0)
	p, ok := k.Next(false)
	require.True(t, ok)
	assert.True(t, p.Truncated)
	assert.LessOrEqual(t, p.Size, MaxRecord)

	assert.Equal(
		t,
		[]string{"aé", "éa"},
		cut(t, Spec{Most: 4}, "aééa", func() int { return 5 }),
		"no character is cut in two",
	)
	assert.Equal(
		t,
		[]string{"ab", "cd"},
		cut(t, Spec{Most: 5, Encoding: "utf-16le"}, "a\x00b\x00c\x00d\x00", func() int { return 8 }),
	)
}

// wide writes a text in UTF-16.
func wide(text string, order binary.AppendByteOrder) string {
	var out []byte
	for _, u := range utf16.Encode([]rune(text)) {
		out = order.AppendUint16(out, u)
	}
	return string(out)
}

func TestEncodings(t *testing.T) {
	t.Parallel()
	text := "1 tide ü 潮\r\n  goes on \U0001f30a\n2 ebb Ċ\n"
	want := []string{"1 tide ü 潮\r\n  goes on \U0001f30a", "2 ebb Ċ"} // Ċ has a byte like a newline
	for name, c := range map[string]struct{ encoding, data string }{
		"little":                  {"utf-16le", wide(text, binary.LittleEndian)},
		"big":                     {"utf-16be", wide(text, binary.BigEndian)},
		"little with its mark":    {"utf-16", wide("\ufeff"+text, binary.LittleEndian)},
		"big with its mark":       {"utf-16", wide("\ufeff"+text, binary.BigEndian)},
		"little by how it looks":  {"utf-16", wide(text, binary.LittleEndian)},
		"big by how it looks":     {"utf-16", wide(text, binary.BigEndian)},
		"UTF-8 with a mark":       {"utf-8", "\xef\xbb\xbf" + text},
		"the mark of a big order": {"utf-16be", wide("\ufeff"+text, binary.BigEndian)},
	} {
		for _, size := range []int{20, 64, 1000} {
			assert.Equal(
				t,
				want,
				cut(t, Spec{Begin: `^\d`, Encoding: c.encoding}, c.data, func() int { return size }),
				"%s in pieces of %d",
				name,
				size,
			)
		}
	}
	assert.Equal(
		t,
		[]string{"Möwe", "ÿ"},
		cut(t, Spec{Encoding: "latin-1"}, "M\xf6we\n\xff\n", func() int { return 3 }),
	)
	assert.Equal(
		t,
		[]string{"a\ufffdb\ufffd"},
		cut(t, Spec{Encoding: "utf-16le"}, "a\x00\x00\xd8b\x00x", func() int { return 100 }),
		"half a pair, and half a unit",
	)
	_, err := Compile(Spec{Encoding: "utf-9"})
	require.ErrorContains(t, err, "utf-9")
}

func TestBadExpression(t *testing.T) {
	t.Parallel()
	_, err := Compile(Spec{Begin: "("})
	require.ErrorContains(t, err, "records.begin")
}

// FuzzChunking: the same bytes give the same records however they arrive.
func FuzzChunking(f *testing.F) {
	f.Add("1 a\n b\r\n2 c\n\n", byte(3), true, byte(0), byte(200))
	f.Add(wide("1 ab\n c\r\n2 Ċ\n", binary.LittleEndian), byte(1), true, byte(2), byte(9))
	f.Add(wide("1 ab\n c\r\n2 Ċ\n", binary.BigEndian), byte(5), false, byte(3), byte(12))
	f.Fuzz(func(t *testing.T, data string, size byte, several bool, encoding, most byte) {
		s := Spec{Encoding: []string{"utf-8", "latin-1", "utf-16le", "utf-16be"}[encoding%4], Most: int(most) + 4}
		if several {
			s.Begin = `^\d`
		}
		n := int(size)%7 + 1
		whole := cut(t, s, data, func() int { return len(data) + 1 })
		require.Equal(t, whole, cut(t, s, data, func() int { return n }))
	})
}
