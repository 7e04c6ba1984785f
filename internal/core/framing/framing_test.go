package framing

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type message struct {
	Text string
	Torn bool
}

// cut feeds bytes in the given pieces, as a connection would, and keeps no more than it must.
func cut(kind Kind, most int, pieces [][]byte) (out []message, err error) {
	c := New(kind, most)
	var have []byte
	take := func(end bool) error {
		for {
			p, ok, err := c.Next(have, end)
			if err != nil || !ok {
				return err
			}
			out = append(out, message{string(have[p.Skip : p.Skip+p.Body]), p.Truncated})
			have = have[p.Size:]
		}
	}
	for _, p := range pieces {
		have = append(have, p...)
		if err := take(false); err != nil {
			return out, err
		}
	}
	return out, take(true)
}

func whole(text string) []message { return []message{{text, false}} }

func TestKinds(t *testing.T) {
	t.Parallel()
	of := func(texts ...string) (out []message) {
		for _, x := range texts {
			out = append(out, message{x, false})
		}
		return out
	}
	for name, c := range map[string]struct {
		kind Kind
		data string
		want []message
		err  string
	}{
		"lines":                       {Newline, "one\ntwo\r\n\nthree", of("one", "two", "", "three"), ""},
		"nulls":                       {Null, "one\ntwo\x00three\r\x00four", of("one\ntwo", "three\r", "four"), ""},
		"counted":                     {OctetCount, "3 one5 t\nwo 4 four", of("one", "t\nwo ", "four"), ""},
		"counted, ends early":         {OctetCount, "3 one9 half", append(of("one"), message{"half", true}), ""},
		"counted, no length":          {OctetCount, "3 onetwo", of("one"), "expected the length"},
		"counted, ends in the length": {OctetCount, "3 one12", of("one"), "expected the length"},
		"counted, a length too long":  {OctetCount, "1234567890 x", nil, "expected the length"},
		"counted, a zero before":      {OctetCount, "03 one", nil, "expected the length"},
		"counted, too long": {OctetCount, "25 0123456789abcdefghijklmno3 two", []message{{"0123456789",
			true}, {"abcdefghij", true}, {"klmno", false}, {"two", false}}, ""},
		"a line too long": {Newline, "0123456789abcde\nf", []message{{"0123456789", true}, {"abcde",
			false}, {"f", false}}, ""},
		"a line just not too long":        {Newline, "0123456789\nf", of("0123456789", "f"), ""},
		"syslog, both ways":               {Syslog, "<13>a\n5 <14>b<15>c\n6 <16>de", of("<13>a", "<14>b", "<15>c", "<16>de"), ""},
		"syslog, a long line with digit":  {Syslog, "<13>567890123 4\n<14>b\n", []message{{"<13>567890", true}, {"123 4", false}, {"<14>b", false}}, ""},
		"syslog, digits and no length":    {Syslog, "2031-04 x\n12\n5 y\n9", of("2031-04 x", "12", "5 y", "9"), ""},
		"syslog, counted and then lost":   {Syslog, "3 <a>9-2 x", of("<a>"), "expected the length"},
		"syslog, counted, no priority":    {Syslog, "3 abc4 d\nef3 <g>", of("abc", "d\nef", "<g>"), ""},
		"syslog, counted, one alone":      {Syslog, "7 pump on", of("pump on"), ""},
		"syslog, counted with its end":    {Syslog, "4 abc\n\n4 def\n", of("abc\n", "", "def\n"), ""},
		"syslog, lines with numbers":      {Syslog, "4 times5\n3 abc4x\n2 a\nb\n3 abc12", of("4 times5", "3 abc4x", "2 a", "b", "3 abc12"), ""},
		"syslog, a line with a large one": {Syslog, "99 x\n12345 y\n", of("99 x", "12345 y"), ""},
		"syslog, counted without <":       {Syslog, "3 <a>4 a2 <", of("<a>", "a2 <"), ""},
		"syslog, nulls":                   {Syslog, "<13>a\x00<14>b\x00<15>c", of("<13>a", "<14>b", "<15>c"), ""},
		"syslog, nulls after lines": {Syslog, "<13>a\x00<14>b\nc\r\n\x00<15>d\n<x>\x00", of("<13>a", "<14>b\nc\r\n", "<15>d\n<x>"),
			""},
		"syslog, both at an end":   {Syslog, "<13>a\n\x00<14>b\nc\n\x00<15>d\n\x00", of("<13>a", "", "<14>b\nc\n", "<15>d\n"), ""},
		"syslog, a null in a line": {Syslog, "<13>a\x00b\n<14>c\nd\n<15>e\n", of("<13>a", "b", "<14>c", "d", "<15>e"), ""},
		"syslog, a long one with lines": {Syslog, "\x00<13>a\nb\nc\nd\ne\x00<14>", []message{{"", false}, {"<13>a\nb\nc\n", true},
			{"d\ne", false}, {"<14>", false}}, ""},
		"nothing": {Syslog, "", nil, ""},
	} {
		got, err := cut(c.kind, 10, [][]byte{[]byte(c.data)})
		if c.err != "" {
			assert.ErrorContains(t, err, c.err, name)
		} else {
			require.NoError(t, err, name)
		}
		assert.Equal(t, c.want, got, name)
	}
	got, err := cut(Packet, 10, [][]byte{[]byte("a\nb\x00c")})
	require.NoError(t, err)
	assert.Equal(t, whole("a\nb\x00c"), got)
	got, err = cut(Packet, 10, [][]byte{[]byte("0123456789abc")})
	require.NoError(t, err)
	assert.Equal(t, []message{{"0123456789", true}}, got)
}

// pieces cuts bytes anywhere.
func pieces(r *rand.Rand, data []byte) (out [][]byte) {
	for len(data) > 0 {
		n := 1 + r.IntN(min(len(data), 1+r.IntN(40)))
		out = append(out, data[:n])
		data = data[n:]
	}
	return out
}

// TestEveryChunking: messages that were framed come out as they were, in whatever pieces their bytes arrive.
func TestEveryChunking(t *testing.T) {
	t.Parallel()
	for seed := range uint64(400) {
		r := rand.New(rand.NewPCG(seed, 3))
		for _, kind := range []Kind{Newline, Null, OctetCount, Syslog} {
			var data bytes.Buffer
			var want []message
			nulls := kind == Null || kind == Syslog && seed%2 == 1
			if nulls && kind == Syslog { // as it is known by the first message
				data.WriteByte(0)
				want = append(want, message{})
			}
			for range r.IntN(30) {
				text := "<" + strings.Map(func(c rune) rune {
					if nulls && c == 0 || !nulls && (c == '\n' || c == '\r') || kind == Syslog && !nulls && c == 0 {
						return 'x'
					}
					return c
				}, string(randomText(r)))
				if nulls && kind == Syslog {
					text = strings.ReplaceAll(text, "\n<", "\n-") + "."
				}
				want = append(want, message{text, false})
				switch {
				case nulls:
					data.WriteString(text + "\x00")
				case kind == Newline, kind == Syslog && r.IntN(2) == 0:
					data.WriteString(text + "\n")
				default:
					fmt.Fprintf(&data, "%d %s", len(text), text)
				}
			}
			got, err := cut(kind, 1000, pieces(r, data.Bytes()))
			require.NoError(t, err)
			require.Equal(t, want, got, "%s, seed %d", kind, seed)
		}
	}
}

func randomText(r *rand.Rand) []byte {
	out := make([]byte, r.IntN(60))
	for i := range out {
		out[i] = "ab \x00\n\r09<>é"[r.IntN(12)]
	}
	return out
}

// FuzzChunks: whatever comes, one byte at a time gives what all at once gives, and nothing is longer than the bound.
func FuzzChunks(f *testing.F) {
	f.Add("newline", "a\nb", 5)
	f.Add("syslog", "5 <13>a<14>b\n", 4)
	f.Add("octet-count", "3 abc12 d", 2)
	f.Add("null", "a\x00b", 1)
	f.Add("syslog", "\x00<13>a\nb\n<14>c\n\x00<1", 8)
	f.Add("syslog", "12 x\n3 <a>12 ", 9)
	f.Fuzz(func(t *testing.T, kind, data string, most int) {
		if most < 1 || most > 1<<16 {
			return
		}
		switch Kind(kind) {
		case Newline, Null, OctetCount, Syslog:
		default:
			return
		}
		one, err := cut(Kind(kind), most, [][]byte{[]byte(data)})
		var each [][]byte
		for i := range len(data) {
			each = append(each, []byte(data[i:i+1]))
		}
		many, again := cut(Kind(kind), most, each)
		assert.Equal(t, err == nil, again == nil)
		assert.Equal(t, one, many)
		for _, m := range one {
			assert.LessOrEqual(t, len(m.Text), most)
		}
	})
}
