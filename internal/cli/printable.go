package cli

import (
	"bytes"
	"crypto/rand"
	"fmt"
	"io"
	"unicode/utf8"

	"synaxis/internal/core/inventory"
)

// paints stands for the beginning of a sequence that paints text, ESC and [. Nobody else can know it, so that no host
// can paint, or move the cursor.
var paints = "⟦" + rand.Text() + "⟧"

// printable writes text to a terminal. What hosts and definitions bring may hold control characters, which would move
// the cursor, hide text or answer for the person at the keyboard: they are shown as \x1b, and characters that turn the
// direction of text as \u202e.
type printable struct {
	to   io.Writer
	rest []byte // the beginning of a character
}

func (p *printable) Write(text []byte) (int, error) {
	in := append(p.rest, text...)
	whole := len(in)
	for i := max(0, len(in)-utf8.UTFMax+1); i < len(in); i++ {
		if utf8.RuneStart(in[i]) && !utf8.FullRune(in[i:]) {
			whole = i
			break
		}
	}
	p.rest = append([]byte{}, in[whole:]...)
	if _, err := p.to.Write(bytes.ReplaceAll(visible(in[:whole]), []byte(paints), []byte("\x1b["))); err != nil {
		return 0, err
	}
	return len(text), nil
}

// visible shows what a terminal would act on. Tables get their cells like this too, since they would take sequences
// for colours.
func visible(in []byte) []byte {
	out := make([]byte, 0, len(in))
	for i := 0; i < len(in); {
		r, n := utf8.DecodeRune(in[i:])
		switch {
		case r == utf8.RuneError && n == 1:
			out = fmt.Appendf(out, `\x%02x`, in[i])
		case r == '\n', r == '\t', r == '\r' && i+1 < len(in) && in[i+1] == '\n':
			out = append(out, in[i])
		case r < 0x80 && inventory.Unseen(r):
			out = fmt.Appendf(out, `\x%02x`, r)
		case inventory.Unseen(r):
			out = fmt.Appendf(out, `\u%04x`, r)
		default:
			out = append(out, in[i:i+n]...)
		}
		i += n
	}
	return out
}
