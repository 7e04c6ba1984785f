package guess

import (
	"net/netip"
	"regexp"
	"strings"

	"synaxis/internal/core/format"
)

// token is one piece of a line, with the separator before it.
type token struct {
	sep  string // spaces and marks before it
	text string
	kind string // time, level, int, float, ip, quoted, bracket, pair, word
	key  string // of a pair
	open string // of a bracket
	shut string
	tail string // marks right behind it: a colon, a comma
}

var (
	spacing      = regexp.MustCompile(`^[ \t]*(?:(?:[-|;>]|-- :|--|=>|->) )?[ \t]*(?:={1,6} ?)?`)
	prefixed     = regexp.MustCompile(`^([A-Za-z]{3,11})([:/|])(\S)`) // a level with something right behind it
	moduled      = regexp.MustCompile(`^(\w[\w .#-]*)([:/])(\w+)$`)
	seconds      = regexp.MustCompile(`^(?:1\d{9}|20\d{8}|1\d{12})$`)       // since 1970, from 2001 to 2036
	plainSeconds = regexp.MustCompile(`^(?:1\d{9}|20\d{8})(?:\d{3}){0,3}$`) // the same down to nanoseconds
	pair         = regexp.MustCompile(`^[A-Za-z_][\w.-]{0,40}=(?:[^=]|$)`)
	lettered     = regexp.MustCompile(
		`^([VDIWEF])(/)\w`,
	) // the letter of a level, and who says so
	serial = regexp.MustCompile(
		`^((?:[A-Za-z_]\w{0,30}=)?[A-Za-z_]\w{0,30}[(\[])(1\d{9}\.\d{1,9})(:)\d{1,18}[)\]]`,
	) // seconds behind a word, before a serial number
	number = regexp.MustCompile(`^[-+]?\d{1,18}$`)

	bracketed  = regexp.MustCompile(`^([A-Z]{3,11})\[\d`) // a level, and who says so
	numberShut = regexp.MustCompile(`^[1-9]\d{0,8}[\])]`) // the rest of that
	mnemonic   = regexp.MustCompile(
		`^%[A-Z][A-Z0-9_]*-[0-7]-[A-Z0-9_]+`,
	) // a part of a device, a severity of RFC 5424, and what happened
	columned = regexp.MustCompile(`^(\S{2,})[ \t]+: `)
	joined   = regexp.MustCompile(`^([A-Za-z_][\w.-]*):[^/:\s]`)
	failing  = regexp.MustCompile(`^(?:Fatal|Parse|Core|Compile|Recoverable fatal) (?:error|warning)`)
	decimal  = regexp.MustCompile(`^[-+]?\d+\.\d+(?:[eE][-+]?\d+)?$`)
)

// next cuts the next token off a line; ok is false at its end.
func next(line string, first bool) (t token, rest string, ok bool) {
	t.sep = spacing.FindString(line)
	line = line[len(t.sep):]
	t.sep = squeeze(t.sep)
	if line == "" {
		return t, "", false
	}
	if len(line) > 1 && (line[0] == '*' || line[0] == '.') { // before the time of a clock that is not set
		if n, ok := format.Recognise([]byte(line[1:])); ok && n >= 10 && line[1] > '9' {
			t.sep, line = t.sep+line[:1], line[1:]
		}
	}
	if m := serial.FindStringSubmatch(line); m != nil { // audit(1932873309.243:24287)
		t.kind, t.open, t.text, t.tail = "time", m[1], m[2], m[3]
		return t, line[len(m[1])+len(m[2])+len(m[3]):], true
	}
	if n, ok := format.Recognise([]byte(line)); ok && countsSeconds(line[:n]) &&
		(n >= 8 && strings.ContainsAny(line[:n], ":-/") || first && n >= 10) &&
		(n == len(line) || !wordByte(line[n])) {
		t.kind, t.text = "time", line[:n]
		return tail(t, line[n:])
	}
	for _, read := range [...]func(t token, line string) (token, string, bool){framedToken, pairToken} {
		if t, rest, ok := read(t, line); ok {
			return t, rest, true
		}
	}
	if t.sep == "" && !first {
		if t, rest, ok := gluedToken(t, line); ok {
			return t, rest, true
		}
	}
	if near := line[:min(len(line), 120)]; !first && strings.Contains(near, " : ") {
		if m := columned.FindStringSubmatch(near); m != nil { // a column that is filled up before a colon
			t.kind, t.text, t.tail = kindOf(m[1]), m[1], " :"
			return t, line[len(m[0])-1:], true
		}
	}
	t, rest = wordToken(t, line)
	return t, rest, true
}

// framedToken cuts what stands in brackets or quotes.
func framedToken(t token, line string) (token, string, bool) {
	c := line[0]
	if c == '"' {
		k := strings.IndexByte(line[1:], '"')
		if k < 0 {
			return t, "", false
		}
		t.kind, t.text = "quoted", line[1:1+k]
		return tail(t, line[k+2:])
	}
	if c == '\'' {
		n, ok := format.Recognise([]byte(line[1:]))
		if !ok || n < 10 || n+1 >= len(line) || line[n+1] != c {
			return t, "", false
		}
		t.kind, t.open, t.shut, t.text = "time", "'", "'", line[1:n+1]
		return tail(t, line[n+2:])
	}
	shut, ok := map[byte]byte{'[': ']', '(': ')', '<': '>', '{': '}'}[c]
	if !ok {
		return t, "", false
	}
	k := strings.IndexByte(line, shut)
	if k <= 1 || k >= 80 || strings.ContainsAny(line[1:k], "[(<{") || c == '<' && strings.Contains(line[1:k], "=") {
		return t, "", false
	}
	inner := line[1:k]
	t.open, t.shut, t.text = string(c), string(shut), inner
	t.kind = "bracket"
	n, ok := format.Recognise([]byte(inner))
	m := moduled.FindStringSubmatch(inner)
	switch {
	case ok && n == len(inner) && n >= 8:
		t.kind = "time"
	// a time and more in one bracket
	case ok && n < len(inner) && strings.IndexByte(": #,", inner[n]) >= 0 && (n >= 10 || n >= 8 && levelWord(
		strings.TrimSpace(inner[n+1:]))):
		t.kind, t.shut, t.text = "time", "", inner[:n]
		return tail(t, line[1+n:])
	case m != nil && levelWord(m[3]):
		t.kind, t.shut, t.text = "word", m[2], m[1]
		return t, line[1+len(t.text)+1:], true
	case levelWord(strings.TrimSpace(inner)):
		t.kind = "level"
	case number.MatchString(inner) && inner[0] != '0':
		t.kind = "int"
	}
	return tail(t, line[k+1:])
}

// pairToken cuts key=value.
func pairToken(t token, line string) (token, string, bool) {
	if !pair.MatchString(line) {
		return t, "", false
	}
	k := strings.IndexByte(line, '=')
	t.kind, t.key = "pair", line[:k]
	value := line[k+1:]
	end := strings.IndexAny(value, " \t")
	if strings.HasPrefix(value, `"`) {
		if q := strings.IndexByte(value[1:], '"'); q >= 0 {
			end = q + 2
		}
	}
	if end < 0 {
		end = len(value)
	}
	if n, ok := format.Recognise([]byte(value)); ok && n > end && n >= 10 &&
		(n == len(value) || !wordByte(value[n])) { // a stamp with spaces
		t.text, t.kind = value[:n], "time"
		return tail(t, value[n:])
	}
	t.text = value[:end]
	return t, value[end:], true
}

// gluedToken cuts what stands right behind the token before it: the rest of a bracket behind a level, or who says it
// behind a level and a colon.
func gluedToken(t token, line string) (token, string, bool) {
	switch c := line[0]; {
	case c >= '1' && c <= '9':
		if n := len(numberShut.FindString(line)); n > 0 {
			t.kind, t.text, t.tail = "int", line[:n-1], line[n-1:n]
			return t, line[n:], true
		}
	case wordByte(c):
		if m := joined.FindStringSubmatch(line); m != nil {
			t.kind, t.text, t.tail = kindOf(m[1]), m[1], ":"
			return t, line[len(m[1])+1:], true
		}
	}
	return t, "", false
}

// wordToken cuts a word, and the marks behind it.
func wordToken(t token, line string) (token, string) {
	special, kind := "", ""
	switch line[0] {
	case '%':
		special, kind = mnemonic.FindString(line), "mnemonic"
	case 'F', 'P', 'C', 'R':
		special, kind = failing.FindString(line), "level"
	}
	if special != "" {
		t.kind, t.text = kind, special
		t, rest, _ := tail(t, line[len(special):])
		return t, rest
	}
	end := strings.IndexAny(line, " \t")
	if end < 0 {
		end = len(line)
	}
	word := line[:end]
	if k := strings.IndexByte(word, '['); k >= 3 && k <= 11 && bracketed.MatchString(word) && levelWord(word[:k]) {
		t.text, t.tail, t.kind = word[:k], "[", "level"
		return t, line[k+1:]
	}
	if m := prefixed.FindStringSubmatch(word); m != nil && levelWord(m[1]) {
		t.text, t.tail, t.kind = m[1], m[2], "level"
		return t, line[len(m[1])+1:]
	}
	if m := lettered.FindStringSubmatch(word); m != nil {
		t.text, t.tail, t.kind = m[1], m[2], "letter"
		return t, line[2:]
	}
	// A word may end in marks, and a level may stand before a bracket.
	for len(word) > 1 && len(t.tail) < 3 {
		mark := word[len(word)-1:]
		before, ok := opening[mark]
		if !ok || before != "" && strings.Contains(word, before) {
			break
		}
		word, t.tail = word[:len(word)-1], mark+t.tail
	}
	if k := strings.IndexByte(word, '['); k > 0 && t.tail == "" {
		word = word[:k]
	}
	if k := len(word) - 1; k > 0 && word[k] == '(' && t.tail == "" { // name( 1702)
		word = word[:k]
	}
	t.text, t.kind = word, kindOf(word)
	return t, line[len(word)+len(t.tail):]
}

// opening are the marks that may end a word, with those that open what they close.
var opening = map[string]string{"]": "[", ")": "(", ">": "<", ":": "", ",": "", ";": ""}

// squeeze leaves one of several spaces: in a template one takes all, and columns are filled up.
func squeeze(sep string) string {
	if !strings.Contains(sep, "  ") {
		return sep
	}
	return several.ReplaceAllString(sep, " ")
}

var several = regexp.MustCompile(` {2,}`)

func tail(t token, rest string) (token, string, bool) {
	if rest != "" && strings.IndexByte(":,;", rest[0]) >= 0 {
		t.tail, rest = rest[:1], rest[1:]
	}
	return t, rest, true
}

// countsSeconds tells whether a stamp that is but a number may count time since 1970, and is not any large number.
func countsSeconds(stamp string) bool {
	whole, fraction, _ := strings.Cut(stamp, ".")
	return strings.Trim(whole+fraction, "0123456789") != "" || len(whole) == 14 || len(whole) == 17 ||
		plainSeconds.MatchString(whole)
}

func wordByte(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_'
}

func kindOf(w string) string {
	switch {
	case levelWord(w):
		return "level"
	case len(w) == 1 && strings.Contains("TVDINWEFC", w):
		return "letter"
	case seconds.MatchString(w):
		return "epoch"
	case number.MatchString(w) && (len(w) == 1 || w[0] != '0'):
		return "int"
	case decimal.MatchString(w):
		return "float"
	}
	if _, err := netip.ParseAddr(w); err == nil {
		return "ip"
	}
	return "word"
}
