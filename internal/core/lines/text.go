package lines

import (
	"bytes"
	"fmt"
	"strings"
	"unicode/utf8"
)

// Detect tells the encoding that bytes look like: utf-16le or utf-16be by its mark or by where the zeros are, latin-1
// by accented letters that UTF-8 cannot have, and "" for utf-8, which is also the answer for what is no text at all.
func Detect(data []byte) string {
	data = data[:min(len(data), 64<<10)]
	switch {
	case bytes.HasPrefix(data, []byte("\xff\xfe")):
		return "utf-16le"
	case bytes.HasPrefix(data, []byte("\xfe\xff")):
		return "utf-16be"
	}
	var zeros [2]int
	for i, c := range data {
		if c == 0 {
			zeros[i&1]++
		}
	}
	if pairs := len(data) / 2; zeros[0]+zeros[1] > 0 { // line ends, spaces and digits have their zero in each script
		order := byte(0)
		switch {
		case pairs < 4: // too few to tell
			return ""
		case zeros[1]*8 >= pairs && zeros[0]*10 <= zeros[1]:
			order = 'l'
		case zeros[0]*8 >= pairs && zeros[1]*10 <= zeros[0]:
			order = 'b'
		default:
			return ""
		}
		k := Cursor{order: order}
		if n, _ := k.Ends(data); n*2 < bytes.Count(
			data,
			[]byte{'\n'},
		) { // the ends of its lines would be halves of other characters
			return ""
		}
		return map[byte]string{'l': "utf-16le", 'b': "utf-16be"}[order]
	}
	high, multi, control := 0, 0, 0
	for p := data; len(p) > 0; {
		r, n := utf8.DecodeRune(p)
		switch {
		case n > 1:
			high, multi = high+n, multi+n
		case r == utf8.RuneError && utf8.FullRune(p):
			if high++; p[0] < 0xa0 { // a control character in Latin-1
				control++
			}
		}
		p = p[n:]
	}
	if high > multi && multi*2 <= high && control*10 <= high {
		return "latin-1"
	}
	return ""
}

// Looks tells which encoding bytes look like that are to be read in another; "" when they may be in that one.
func Looks(data []byte, encoding string) string {
	looks := Detect(data)
	switch {
	case encoding == "utf-8":
		encoding = ""
	case encoding == "utf-16" && strings.HasPrefix(looks, encoding):
		return ""
	case encoding == "latin-1" && looks == "" && !bytes.ContainsFunc(data, func(
		r rune) bool {
		return r >= utf8.RuneSelf
	}):
		return ""
	}
	switch looks {
	case encoding:
		return ""
	case "":
		return "utf-8"
	}
	return looks
}

// Text makes bytes of an encoding into UTF-8, as hosts do, without a byte order mark. Broken bytes are written as
// Visible does.
func Text(data []byte, encoding string) []byte {
	c := Cutter{encoding: encoding}
	k := c.Over(data, 0)
	data = data[k.mark(data):]
	if k.order == 0 && encoding != "latin-1" {
		if utf8.Valid(data) {
			return data
		}
		return Visible(nil, data)
	}
	return k.Decode(make([]byte, 0, len(data)), data)
}

// Visible appends a text with each byte that is no UTF-8 written as \xNN, since neither JSON nor OTLP may carry it and
// nothing may be lost.
func Visible(dst, text []byte) []byte {
	for len(text) > 0 {
		r, n := utf8.DecodeRune(text)
		if r == utf8.RuneError && n == 1 {
			dst = fmt.Appendf(dst, `\x%02x`, text[0])
		} else {
			dst = append(dst, text[:n]...)
		}
		text = text[n:]
	}
	return dst
}

// NotText says what bytes may be that IsText does not take for text.
const NotText = "much of it is not text: it may be compressed, or not a log"

// IsText tells whether bytes of an encoding look like text: at most one character of ten is broken, or a control
// character other than those that logs hold: ends of lines, tabs and escape sequences for colours.
func IsText(data []byte, encoding string) bool {
	text := data[:min(len(data), 64<<10)]
	if encoding != "" {
		text = Text(text[:len(text)&^1], encoding)
	}
	odd, n := 0, 0
	for ; len(text) > 0; n++ {
		r, size := utf8.DecodeRune(text)
		if r == utf8.RuneError && (size > 1 || utf8.FullRune(text)) ||
			r < ' ' && !bytes.ContainsRune([]byte("\t\n\r\f\x1b"), r) ||
			r == 0x7f {
			odd++
		}
		text = text[size:]
	}
	return odd*10 <= n
}

// Ends counts the lines that end in a piece of the stream, and the bytes behind the last of them.
func (k *Cursor) Ends(p []byte) (n, rest int) {
	for {
		end := k.lineEnd(p)
		if end < 0 {
			return n, len(p)
		}
		n, p = n+1, p[end:]
	}
}
