package lines

import (
	"encoding/binary"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func latin(text string) []byte {
	var out []byte
	for _, r := range text {
		out = append(out, byte(r))
	}
	return out
}

// TestDetect: what bytes look like, and the characters that they then are; what fits an encoding is not called
// another.
func TestDetect(t *testing.T) {
	t.Parallel()
	const german = "2031-04-02 06:15:09 INFO Fähre ist bereit\r\n2031-04-02 06:15:10 WARN Brücke zu 😀\r\n"
	cyrillic := strings.Repeat("паром у причала номер 4, трап убран\n", 20)
	for name, c := range map[string]struct {
		data     []byte
		encoding string
		text     string
		fits     string // encodings that are no wrong ones, beside it
	}{
		"plain":             {[]byte("a b\nc\n"), "", "a b\nc\n", "utf-8 latin-1"},
		"utf-8":             {[]byte(german), "", german, "utf-8"},
		"utf-8 with a mark": {[]byte("\xef\xbb\xbf" + german), "", german, "utf-8"},
		"utf-8, cut in a character": {[]byte(german)[:len(german)-4], "", strings.TrimSuffix(german, "😀\r\n") +
			`\xf0\x9f`, "utf-8"},
		"utf-16le with a mark": {[]byte(wide("\ufeff"+german, binary.LittleEndian)), "utf-16le", german,
			"utf-16"},
		"utf-16be with a mark":      {[]byte(wide("\ufeff"+german, binary.BigEndian)), "utf-16be", german, "utf-16"},
		"utf-16le without":          {[]byte(wide(german, binary.LittleEndian)), "utf-16le", german, "utf-16"},
		"utf-16be without":          {[]byte(wide(german, binary.BigEndian)), "utf-16be", german, "utf-16"},
		"utf-16le, no Latin letter": {[]byte(wide(cyrillic, binary.LittleEndian)), "utf-16le", cyrillic, "utf-16"},
		"utf-16be, no Latin letter": {[]byte(wide(cyrillic, binary.BigEndian)), "utf-16be", cyrillic, "utf-16"},
		"latin-1":                   {latin("Fähre zurück nach Küste\n"), "latin-1", "Fähre zurück nach Küste\n", ""},
		"broken bytes among utf-8": {[]byte("Fähre zurück \xe4 Küste größer\n"), "",
			"Fähre zurück \\xe4 Küste größer\n", "utf-8"},
		"control bytes": {[]byte("a\x81\x82\x83\xe4\n"), "", "a\\x81\\x82\\x83\\xe4\n", "utf-8"},
		"a lone zero": {[]byte("ramp\x00 is shut and stays so\n"), "", "ramp\x00 is shut and stays so\n",
			"utf-8 latin-1"},
		"zeros between": {[]byte("a\x00b\n"), "", "a\x00b\n", "utf-8 latin-1"},
		"nothing":       {nil, "", "", "utf-8 latin-1"},
	} {
		t.Run(name, func(t *testing.T) {
			assert.Equal(t, c.encoding, Detect(c.data))
			assert.Equal(t, c.text, string(Text(c.data, c.encoding)))
			for _, e := range Encodings {
				fits := e == c.encoding || e == "utf-8" && c.encoding == "" || strings.Contains(c.fits+" ", e+" ")
				assert.Equal(t, fits, Looks(c.data, e) == "", "%s: %s", e, Looks(c.data, e))
			}
			assert.True(t, IsText(c.data, c.encoding) || name == "control bytes" || name == "zeros between")
		})
	}
}

func TestIsText(t *testing.T) {
	t.Parallel()
	assert.True(t, IsText([]byte("\x1b[31mred\x1b[0m\tramp\r\n\f"), ""))
	assert.False(t, IsText([]byte("\x7fELF\x02\x01\x01\x00\x00\x00\x00\x03\x00\x3e\x00\x01"), ""))
	assert.False(t, IsText([]byte("\xfd7zXZ\x00\x00\x04\xe6\xd6\xb4\x46\x02\x00\x21\x01\x1c"), ""))
	assert.True(t, IsText([]byte(wide("\ufeffтрап убран\n", binary.LittleEndian)), "utf-16le"))
}

// TestEnds: a newline in UTF-16 is two bytes, and one of them alone is none.
func TestEnds(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		encoding, text string
		n, rest        int
	}{{"utf-8", "a\nb\nc", 2, 1}, {"utf-16le", "Ċ\nਊ\nĊ", 2, 2}, {"utf-16be", "Ċ\nਊ\n", 2, 0}, {"utf-16le", "", 0,
		0}} {
		data := []byte(c.text)
		switch c.encoding {
		case "utf-16le":
			data = []byte(wide(c.text, binary.LittleEndian))
		case "utf-16be":
			data = []byte(wide(c.text, binary.BigEndian))
		}
		cut := (&Cutter{encoding: c.encoding}).Over(data, 0)
		n, rest := cut.Ends(data)
		assert.Equal(t, []int{c.n, c.rest}, []int{n, rest}, "%s %q", c.encoding, c.text)
	}
}

// FuzzText: whatever bytes are taken for, they become characters, and the same ones as when they are cut into lines.
func FuzzText(f *testing.F) {
	for _, s := range []string{"a\nb\r\n", wide("\ufeffFähre\nĊ\n潮", binary.LittleEndian), wide("Fähre\r\n😀\n",
		binary.BigEndian), "F\xe4hre\n", "a\x00b\n\xff", "\xef\xbb\xbfx\n", "\xf0\x9f\x98"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		IsText(data, Detect(data))
		assert.True(t, utf8.Valid(Text(data, Detect(data))))
		for _, encoding := range Encodings {
			text := Text(data, encoding)
			require.True(t, utf8.Valid(text), encoding)
			if strings.HasPrefix(encoding, "utf-16") && len(data)%2 != 0 {
				continue // half a character at the end
			}
			c, err := Compile(Spec{Encoding: encoding})
			require.NoError(t, err)
			k := c.Over(data, 0)
			var got, want []string
			for {
				at := k.Used()
				p, ok := k.Next(true)
				if !ok {
					break
				}
				k.Take(p)
				got = append(got, string(Visible(nil, k.Decode(nil, data[at+p.Skip:at+p.Skip+p.Body]))))
			}
			for line := range strings.Lines(string(text)) {
				want = append(want, strings.TrimSuffix(strings.TrimSuffix(line, "\n"), "\r"))
			}
			if len(text) == 0 { // nothing, or a mark alone
				require.LessOrEqual(t, strings.Join(got, ""), "")
				continue
			}
			require.Equal(t, want, got, encoding)
		}
	})
}
