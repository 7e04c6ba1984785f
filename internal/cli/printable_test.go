package cli

import (
	"bytes"
	"testing"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestPrintable: nothing that moves a terminal gets through, and what is text stays, however it is cut.
func TestPrintable(t *testing.T) {
	t.Parallel()
	write := func(pieces ...string) string {
		var b bytes.Buffer
		w := &printable{to: &b}
		for _, s := range pieces {
			n, err := w.Write([]byte(s))
			require.NoError(t, err)
			assert.Equal(t, len(s), n)
		}
		return b.String()
	}
	for in, want := range map[string]string{
		"plain\ttext\nanother\r\n": "plain\ttext\nanother\r\n", "\x1b[31mred": `\x1b[31mred`,
		"over\rwritten": `over\x0dwritten`, "\x00\a\b\x7f": `\x00\x07\x08\x7f`,
		"\u009b31m": `\u009b31m`, "\x9b": `\x9b`, "\u202elive": `\u202elive`, "⚠ état 日本": "⚠ état 日本", "": "",
	} {
		assert.Equal(t, want, write(in))
		var pieces []string
		for i := range len(in) {
			pieces = append(pieces, in[i:i+1])
		}
		if in != "plain\ttext\nanother\r\n" && in != "\x9b" { // a line end that is cut is shown
			assert.Equal(t, want, write(pieces...), "a byte at a time")
		}
	}
	assert.Equal(t, "a \x1b[9mb\x1b[0m c", write("a "+paints+"9mb"+paints+"0m c"), "what we paint ourselves")
	for r := rune(0); r < 0x2100; r++ {
		for _, c := range write(string(r) + "x") {
			assert.True(t, c == '\n' || c == '\t' || !unicode.IsControl(c), "%q", r)
		}
	}
}
