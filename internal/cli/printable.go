package cli

import (
	"fmt"
	"io"
	"unicode"
	"unicode/utf8"
)

// printable writes text to a terminal. What hosts and definitions bring may hold control characters, which would move the cursor, hide text or
// answer for the person at the keyboard: they are shown as \x1b, and characters that turn the direction of text as \u202e.
type printable struct {
	to   io.Writer
	rest []byte // the beginning of a character
}

func (p *printable) Write(text []byte) (int, error) {
	in := append(p.rest, text...)
	p.rest = nil
	out := make([]byte, 0, len(in))
	for i := 0; i < len(in); {
		if !utf8.FullRune(in[i:]) {
			p.rest = append([]byte{}, in[i:]...)
			break
		}
		r, n := utf8.DecodeRune(in[i:])
		switch {
		case r == utf8.RuneError && n == 1:
			out = fmt.Appendf(out, `\x%02x`, in[i])
		case r == '\n', r == '\t', r == '\r' && i+1 < len(in) && in[i+1] == '\n':
			out = append(out, in[i])
		case r < 0x80 && unicode.IsControl(r):
			out = fmt.Appendf(out, `\x%02x`, r)
		case unicode.IsControl(r), r >= 0x202a && r <= 0x202e, r >= 0x2066 && r <= 0x2069, r == 0x2028, r == 0x2029:
			out = fmt.Appendf(out, `\u%04x`, r)
		default:
			out = append(out, in[i:i+n]...)
		}
		i += n
	}
	if _, err := p.to.Write(out); err != nil {
		return 0, err
	}
	return len(text), nil
}
