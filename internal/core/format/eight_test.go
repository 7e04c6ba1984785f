package format

import (
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/record"
)

// TestEight: what reads eight bytes at a time ends where one looks at each byte, with every byte at every place.
func TestEight(t *testing.T) {
	t.Parallel()
	for n := range 20 {
		for c := range 256 {
			for _, rest := range []string{"", "x", " 7 more than eight"} {
				end := string(rune(0)) + rest
				end = string([]byte{byte(c)}) + end[1:]
				word, spaces := "("+strings.Repeat("z", n)+end, "("+strings.Repeat(" ", n)+end
				digits := "(" + strings.Repeat("4", n) + end
				want := 1 + n
				for want < len(word) && word[want] > ' ' {
					want++
				}
				require.Equal(t, want, wordEnd([]byte(word), 1), "%q", word)
				for want = 1 + n; want < len(spaces) && spaces[want] == ' '; want++ {
				}
				require.Equal(t, want, spacesEnd([]byte(spaces), 1), "%q", spaces)
				for want = 1 + n; want < len(digits) && digits[want] >= '0' && digits[want] <= '9'; want++ {
				}
				v, at, ok := digitsAt([]byte(digits), 1)
				require.Equal(t, want > 1 && want < 19, ok, "%q", digits)
				if ok {
					require.Equal(t, want, at, "%q", digits)
					num, err := strconv.ParseUint(digits[1:want], 10, 64)
					require.NoError(t, err)
					require.Equal(t, num, v, "%q", digits)
				}
			}
		}
	}
}

// FuzzTemplate: the short ways to read a template read what the plain walk over its parts reads.
func FuzzTemplate(f *testing.F) {
	f.Add("{a} {b:int}{c:token} - {d:remainder}", "x  -12abc  - rest")
	f.Add(" {a:token} lane={b:int} {c:quoted}; {d}", ` é lane=44444444444444444444 "a\"b"; x;`)
	f.Add("[{a}] {-:float}/{c:ip}  {d} ({e})", "[] 1.5e3/::1   x (y) (z)")
	f.Add("{t:time} {a} :: {b}", "2031-04-02 06:15:09  x ::  y ::")
	f.Fuzz(func(t *testing.T, template, line string) {
		p, err := Compile(Spec{Name: "t", Kind: "template", Template: template}, Time{}, nil)
		if err != nil || len(line) > 1<<12 {
			return
		}
		span := record.Span{Off: 3, Len: uint32(len(line))}
		fast := &record.Batch{Arena: []byte("pad" + line), Schema: p.Schema()}
		r := record.Record{Body: span}
		ok := p.Read(fast, &r)
		plain := &record.Batch{Arena: []byte("pad" + line), Schema: p.Schema()}
		var want []record.Value
		read := p.kind.(*templateKind).walk(&p.reading, plain, span, func(i, _, _ int, v record.Value) {
			if op := &p.kind.(*templateKind).ops[i]; op.typ != "" && !op.skip {
				want = append(want, v)
			}
		})
		require.Equal(t, read, ok)
		if ok {
			assert.Equal(t, want, append([]record.Value(nil), fast.Values...))
			assert.Equal(t, plain.Arena, fast.Arena)
		}
	})
}

// FuzzWeb: the short way to read a line of a web server reads what the long one reads.
func FuzzWeb(f *testing.F) {
	for _, line := range []string{`198.51.100.7 - kelp [02/Apr/2031:06:15:09 +0000] "GET /a?b=c HTTP/1.1" 200 17 "-" "x y"`, `198.51.100.7 - - [02/Apr/2031:06:15:09 +0000] "A" 200 5 HTTP/1.1" 200 17 "-" "x"`,
		`- - - [02/Apr/2031:06:15:09 +0000] "GET / HTTP/1.1" 304 - "a" "-"`,
		`h - - [02/Apr/2031:06:15:09 +0000] "GET /a?? HTTP/1.1" 200 123456789012345678 "" ""`} {
		f.Add(line, true)
		f.Add(line, false)
	}
	f.Fuzz(func(t *testing.T, line string, combined bool) {
		kind := "web-common"
		if combined {
			kind = "web-combined"
		}
		if len(line) > 1<<12 {
			return
		}
		read := func(fast bool) (*record.Batch, bool) {
			p, err := Compile(Spec{Name: "t", Kind: Kind(kind)}, Time{}, nil)
			require.NoError(t, err)
			b := &record.Batch{Arena: []byte(line), Schema: p.Schema()}
			span := record.Span{Len: uint32(len(line))}
			p.Expect(b.Arena)
			if fast {
				return b, p.kind.(*webKind).fast(&p.reading, b, span)
			}
			return b, p.kind.(*webKind).long(&p.reading, b, span)
		}
		fast, ok := read(true)
		if !ok {
			return
		}
		long, ok := read(false)
		require.True(t, ok)
		assert.Equal(t, long.Values, fast.Values)
		assert.Equal(t, long.Arena, fast.Arena)
	})
}
