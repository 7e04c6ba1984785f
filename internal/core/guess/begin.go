package guess

import (
	"bytes"
	"regexp"
	"strings"

	"synaxis/internal/core/format"
)

// stampAt finds the first time at the beginning of a line, behind brackets, marks and words: what stands before it,
// and its length.
func stampAt(line []byte) (before, n int, ok bool) {
	most := maxBefore
	if len(line) > 0 && line[0] == '<' { // attributes of an element have no order
		most *= 5
	}
	for p := 0; p < min(len(line), most); p++ {
		if p > 0 && wordByte(line[p-1]) {
			continue
		}
		if n, ok := format.Recognise(line[p:]); ok && (n >= 8 && p == 0 || n >= 10) {
			return p, n, true
		}
	}
	return 0, 0, false
}

// maxBefore is how far into a line its time may stand, for it to begin a record.
const maxBefore = 32

// lookOf writes a text as an expression for all that look like it.
func lookOf(text []byte, loose bool) string {
	var b strings.Builder
	last := ""
	for _, c := range string(text) {
		class := regexp.QuoteMeta(string(c))
		switch {
		case c >= '0' && c <= '9':
			class = `\d`
		case c >= 'A' && c <= 'Z':
			class = `[A-Z]`
		case c >= 'a' && c <= 'z':
			class = `[a-z]`
		}
		if loose && len(class) > 2 && class[0] == '[' {
			class = `[A-Za-z]`
		}
		if loose && class == last && (class == `\d` || class[0] == '[') {
			continue
		}
		if loose && last != class && (last == `\d` || strings.HasPrefix(last, "[")) {
			b.WriteByte('+')
		}
		b.WriteString(class)
		last = class
	}
	if loose && (last == `\d` || strings.HasPrefix(last, "[")) {
		b.WriteByte('+')
	}
	return b.String()
}

// beginning finds how records of several lines begin: with a time, where the lines between look like what goes on; or,
// where lines have no time, at the margin.
func beginning(lines [][]byte) string {
	exactly := func(stamp []byte) string {
		if hexStamp.Match(stamp) {
			return hexLook
		}
		if stamp[0] < '0' || stamp[0] > '9' { // whose days have one digit or two
			return stampLook(stamp)
		}
		return lookOf(stamp[:min(len(stamp), 10)], false)
	}
	if begin := beginningBy(lines, exactly); begin != "" {
		return begin
	}
	return beginningBy(lines, stampLook)
}

// hexLook is how seconds look that are written as hexadecimal digits.
const hexLook = `[0-9a-f]{8}\.[0-9a-f]{8}`

var hexStamp = regexp.MustCompile("^" + hexLook + "$")

// stampLook writes the first three numbers and words of a time as an expression for all times that are written so,
// whatever the day.
func stampLook(stamp []byte) string {
	if hexStamp.Match(stamp) {
		return hexLook
	}
	var b strings.Builder
	for _, part := range stampParts.FindAllSubmatch(stamp, 3) {
		switch n := len(part[1]); {
		case n > 2:
			b.WriteString(strings.Repeat(`\d`, n))
		case n > 0:
			b.WriteString(`\d\d?`)
		default:
			b.WriteString(`[A-Za-z]+`)
		}
		if rest := string(part[3]); strings.Trim(rest, " ") == "" && rest != "" {
			b.WriteString(" +")
		} else {
			b.WriteString(regexp.QuoteMeta(rest))
		}
	}
	return b.String()
}

var stampParts = regexp.MustCompile(`(?:(\d+)|([A-Za-z]+))([^\dA-Za-z]*)`)

func beginningBy(lines [][]byte, lookOfStamp func(stamp []byte) string) string {
	if len(lines) < 3 {
		return ""
	}
	stamped, going, indented, other := 0, 0, 0, 0
	if n, _ := objectLines(lines); n > 0 { // each is a record, and none goes on with another
		return ""
	}
	looks := map[string]int{}
	leads := "" // how the first line with a time looks
	for _, l := range lines {
		p, n, ok := stampAt(l)
		switch {
		case len(bytes.TrimSpace(l)) == 0: // belongs to anything
		case ok:
			stamped++
			before := lookOf(l[:p], true)
			if p <= 3 {
				before = lookOf(l[:p], false)
			}
			look := before + lookOfStamp(l[p:p+n])
			if m := element.Find(l); m != nil { // whose attributes vary
				look = regexp.QuoteMeta(string(m))
			}
			if looks[look]++; leads == "" {
				leads = look
			}
		case l[0] == ' ' || l[0] == '\t':
			going++
			indented++
		case goesOn.Match(l):
			going++
		default:
			other++
		}
	}
	if stamped == 0 && going > 0 {
		if begin := levelsFirst(lines); begin != "" {
			return begin
		}
	}
	if stamped == 0 && indented > 0 && other > 1 && indented*4 >= other {
		return `^\S`
	}
	if begin := paragraphs(lines); begin != "" {
		return begin
	}
	look, most := "", 0
	for l, n := range looks {
		if n > most || n == most && l < look {
			look, most = l, n
		}
	}
	if most >= 2 && most*10 < stamped*9 && len(leads) > 0 { // a head with a time, and lines below it that have one too
		if n := looks[leads]; n >= 2 && n*10 >= most*9 && framed(lines, leads) {
			return "^" + leads
		}
	}
	if most < 2 || most*10 < stamped*9 || going+other == 0 || going*3 < other && !framed(lines, look) {
		return ""
	}
	return "^" + look
}

// element is how an element with attributes begins.
var element = regexp.MustCompile(`^<[A-Za-z][\w:.-]* `)

// levelsFirst finds how records begin that have no time and a level first, in large letters; "" when they do not, or
// nothing goes on.
func levelsFirst(lines [][]byte) string {
	looks, odd := map[string]int{}, 0
	for _, l := range lines {
		if m := levelFirst.FindSubmatch(l); m != nil && levelWord(string(m[2])) {
			looks["^"+regexp.QuoteMeta(string(m[1]))+"[A-Z]+"+regexp.QuoteMeta(string(m[3]))]++
		} else if len(bytes.TrimSpace(l)) > 0 && l[0] != ' ' && l[0] != '\t' && !goesOn.Match(l) {
			odd++
		}
	}
	for look, n := range looks {
		if len(looks) == 1 && n > 1 && odd*5 <= n {
			return look
		}
	}
	return ""
}

var levelFirst = regexp.MustCompile(`^([\[<(]?)([A-Z]{3,11})([\]>):|])`)

// paragraphs finds the word with which all paragraphs of a log begin, and no other line; "" when there is none.
func paragraphs(lines [][]byte) string {
	word, heads, apart := "", 0, true
	for _, l := range lines {
		l = bytes.TrimRight(l, " \t\r")
		first := apart
		apart = len(l) == 0
		if apart {
			continue
		}
		w := string(paragraphWord.Find(l))
		switch {
		case first && heads == 0:
			word = w
		case first != (w == word):
			return ""
		}
		if first {
			heads++
		}
	}
	if heads < 2 || word == "" || heads*2 > len(lines) {
		return ""
	}
	return "^" + regexp.QuoteMeta(word)
}

var paragraphWord = regexp.MustCompile(`^[A-Za-z#][A-Za-z-]*: ?`)

// framed tells whether lines with a time stand apart from those without: never, or seldom, one after the other, or
// nothing else on their line but a frame.
func framed(lines [][]byte, look string) bool {
	re, err := regexp.Compile("^" + look)
	if err != nil {
		return false
	}
	heads, bare, twice, last := 0, 0, 0, -2
	var second []string
	for i, l := range lines {
		if !re.Match(l) {
			continue
		}
		if heads++; last == i-1 {
			twice++
		}
		last = i
		if i+1 < len(lines) {
			second = append(second, string(lines[i+1]))
		}
		p, n, _ := stampAt(l)
		if len(bytes.Trim(l[p+n:], " \t\r=-#*]>)")) == 0 {
			bare++
		}
	}
	return bare*10 >= heads*9 || heads >= 3 && twice == 0 || twice == 0 && len(second) == heads && leads(second)
}

// goesOn is how lines begin that belong to the record before.
var goesOn = regexp.MustCompile(
	`^(?:at |Caused by|\.\.\. \d+ more|Traceback |File "|goroutine \d|[a-zA-Z_.]+(?:Exception|Error)\b|[})\]]|--+|==+$|\||#\d+ |\S+:\d+:in [\x60']|Stack trace:)`,
)
