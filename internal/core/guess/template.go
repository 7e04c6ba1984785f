package guess

import (
	"bytes"
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"synaxis/internal/core/format"
	"synaxis/internal/core/record"
)

// A template is proposed by walking all lines at once from the left: a time, words in brackets or quotes, key=value, numbers,
// addresses, levels. As long as the lines agree on what stands there it becomes a field or a literal; where they part, the
// rest is the message.

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
	spacing  = regexp.MustCompile(`^[ \t]*(?:(?:[-|;>]|-- :|--|=>|->) )?[ \t]*(?:={1,6} ?)?`)
	prefixed = regexp.MustCompile(`^([A-Za-z]{3,11})([:/|])(\S)`) // a level with something right behind it
	moduled  = regexp.MustCompile(`^(\w[\w .#-]*)([:/])(\w+)$`)
	seconds  = regexp.MustCompile(`^(?:1\d{9}|20\d{8}|1\d{12})$`) // since 1970, from 2001 to 2036
	pair     = regexp.MustCompile(`^[A-Za-z_][\w.-]{0,40}=(?:[^=]|$)`)
	lettered = regexp.MustCompile(`^([VDIWEF])(/)\w`) // the letter of a level, and who says so
	number   = regexp.MustCompile(`^[-+]?\d{1,18}$`)

	bracketed  = regexp.MustCompile(`^([A-Z]{3,11})\[\d`)                 // a level, and who says so
	numberShut = regexp.MustCompile(`^[1-9]\d{0,8}\]`)                    // the rest of that
	mnemonic   = regexp.MustCompile(`^%[A-Z][A-Z0-9_]*-[0-7]-[A-Z0-9_]+`) // a part of a device, a severity of RFC 5424, and what happened
	columned   = regexp.MustCompile(`^(\S{2,})[ \t]+: `)
	joined     = regexp.MustCompile(`^([A-Za-z_][\w.-]*):[^/:\s]`)
	failing    = regexp.MustCompile(`^(?:Fatal|Parse|Core|Compile|Recoverable fatal) (?:error|warning)`)
	decimal    = regexp.MustCompile(`^[-+]?\d+\.\d+(?:[eE][-+]?\d+)?$`)
)

// next cuts the next token off a line; ok is false at its end.
func next(line string, first bool) (t token, rest string, ok bool) {
	t.sep = spacing.FindString(line)
	line = line[len(t.sep):]
	if line == "" {
		return t, "", false
	}
	if len(line) > 1 && (line[0] == '*' || line[0] == '.') { // before the time of a clock that is not set
		if n, ok := format.Recognise([]byte(line[1:])); ok && n >= 10 && line[1] > '9' {
			t.sep, line = t.sep+line[:1], line[1:]
		}
	}
	if n, ok := format.Recognise([]byte(line)); ok && (n >= 8 && strings.ContainsAny(line[:n], ":-/") || first && n >= 10) && (n == len(line) || !wordByte(line[n])) {
		t.kind, t.text = "time", line[:n]
		return tail(t, line[n:])
	}
	switch c := line[0]; c {
	case '[', '(', '<', '{':
		shut := map[byte]byte{'[': ']', '(': ')', '<': '>', '{': '}'}[c]
		if k := strings.IndexByte(line, shut); k > 1 && k < 80 && !strings.ContainsAny(line[1:k], "[(<{") && !(c == '<' && strings.Contains(line[1:k], "=")) {
			inner := line[1:k]
			t.open, t.shut, t.text = string(c), string(shut), inner
			t.kind = "bracket"
			n, ok := format.Recognise([]byte(inner))
			m := moduled.FindStringSubmatch(inner)
			switch {
			case ok && n == len(inner) && n >= 8:
				t.kind = "time"
			case ok && n < len(inner) && strings.IndexByte(": #,", inner[n]) >= 0 && (n >= 10 || n >= 8 && levelWord(strings.TrimSpace(inner[n+1:]))): // a time and more in one bracket
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
	case '"':
		if k := strings.IndexByte(line[1:], '"'); k >= 0 {
			t.kind, t.text = "quoted", line[1:1+k]
			return tail(t, line[k+2:])
		}
	}
	if pair.MatchString(line) {
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
		t.text = value[:end]
		return t, value[end:], true
	}
	switch c := line[0]; {
	case t.sep != "" || first:
	case c >= '1' && c <= '9':
		if n := len(numberShut.FindString(line)); n > 0 { // the rest of a bracket that stood right behind a level
			t.kind, t.text, t.tail = "int", line[:n-1], line[n-1:n]
			return t, line[n:], true
		}
	case wordByte(c):
		if m := joined.FindStringSubmatch(line); m != nil { // who says it, behind a level and a colon
			t.kind, t.text, t.tail = kindOf(m[1]), m[1], ":"
			return t, line[len(m[1])+1:], true
		}
	}
	if near := line[:min(len(line), 120)]; !first && strings.Contains(near, " : ") {
		if m := columned.FindStringSubmatch(near); m != nil { // a column that is filled up before a colon
			t.kind, t.text, t.tail = kindOf(m[1]), m[1], " :"
			return t, line[len(m[0])-1:], true
		}
	}
	switch line[0] {
	case '%':
		if m := mnemonic.FindString(line); m != "" {
			t.kind, t.text = "mnemonic", m
			return tail(t, line[len(m):])
		}
	case 'F', 'P', 'C', 'R':
		if m := failing.FindString(line); m != "" {
			t.kind, t.text = "level", m
			return tail(t, line[len(m):])
		}
	}
	end := strings.IndexAny(line, " \t")
	if end < 0 {
		end = len(line)
	}
	word := line[:end]
	if k := strings.IndexByte(word, '['); k >= 3 && k <= 11 && bracketed.MatchString(word) && levelWord(word[:k]) {
		t.text, t.tail, t.kind = word[:k], "[", "level"
		return t, line[k+1:], true
	}
	if m := prefixed.FindStringSubmatch(word); m != nil && levelWord(m[1]) {
		t.text, t.tail, t.kind = m[1], m[2], "level"
		return t, line[len(m[1])+1:], true
	}
	if m := lettered.FindStringSubmatch(word); m != nil {
		t.text, t.tail, t.kind = m[1], m[2], "letter"
		return t, line[2:], true
	}
	// A word may end in marks, and a level may stand before a bracket.
	for len(word) > 1 && len(t.tail) < 3 {
		mark := word[len(word)-1:]
		open := map[string]string{"]": "[", ")": "(", ">": "<", ":": "", ",": "", ";": ""}
		before, ok := open[mark]
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
	return t, line[len(word)+len(t.tail):], true
}

func tail(t token, rest string) (token, string, bool) {
	if rest != "" && strings.IndexByte(":,;", rest[0]) >= 0 {
		t.tail, rest = rest[:1], rest[1:]
	}
	return t, rest, true
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

// agree is the share of lines that must have the same thing in a place.
const agree = 0.95

// maxPlaces bounds the fields of a proposed template.
const maxPlaces = 24

// proposals proposes templates for lines: one for each of the shapes that they begin with, the most frequent first. With begin only
// those are looked at that begin a record.
func proposals(lines [][]byte, begin string) []format.Spec {
	var rests []string
	var re *regexp.Regexp
	if begin != "" {
		re = regexp.MustCompile(begin)
	}
	follows := map[string][]string{} // the lines behind those that begin a record, by their text
	for i, l := range lines {
		l = bytes.TrimRight(l, "\r")
		if len(bytes.TrimSpace(l)) > 0 && (l[0] != '#' || re != nil) && (re == nil || re.Match(l)) && len(rests) < 2000 {
			rests = append(rests, string(l))
			if re != nil && i+1 < len(lines) && !re.Match(lines[i+1]) {
				follows[string(l)] = append(follows[string(l)], string(bytes.TrimRight(lines[i+1], "\r")))
			}
		}
	}
	if len(rests) < 2 {
		return nil
	}
	groups := map[string][]string{}
	for _, r := range rests {
		t, _, ok := next(r, true)
		if ok {
			groups[t.shape()] = append(groups[t.shape()], r)
		}
	}
	var out []format.Spec
	for _, key := range slices.SortedFunc(maps.Keys(groups), func(a, b string) int {
		return cmp.Or(cmp.Compare(len(groups[b]), len(groups[a])), strings.Compare(a, b))
	}) {
		group := groups[key]
		if len(out) < maxShapes && len(group) > 1 && len(group)*20 >= len(rests) {
			for _, part := range byLevel(group) {
				out = append(out, propose(part, begin, follows)...)
			}
		}
	}
	return out
}

// byLevel parts lines whose level stands in one of a few places, since something before it is not in all of them; the most
// frequent first. Where it stands in one place, or some have none, they stay together.
func byLevel(lines []string) [][]string {
	places := map[int][]string{}
	n := 0
	for i, l := range lines {
		if i == 100 && len(places) < 2 { // the others hardly differ
			break
		}
		r := l
		for i := range 7 {
			t, rest, ok := next(r, i == 0)
			if !ok {
				break
			}
			known := t.kind == "level" || slices.Contains(alsoLevels, strings.ToLower(t.text))
			if known && (t.tail == ":" || t.open != "") && t.text == strings.ToUpper(t.text) {
				places[i], n = append(places[i], l), n+1
				break
			}
			r = rest
		}
	}
	if len(places) < 2 || len(places) > 3 || float64(n) < agree*float64(len(lines)) {
		return [][]string{lines}
	}
	var out [][]string
	for _, i := range slices.SortedFunc(maps.Keys(places), func(a, b int) int {
		return cmp.Or(cmp.Compare(len(places[b]), len(places[a])), cmp.Compare(a, b))
	}) {
		if len(places[i]) < 2 || len(places[i])*20 < len(lines) {
			return [][]string{lines}
		}
		out = append(out, places[i])
	}
	return out
}

// maxShapes bounds the templates that are proposed for one log.
const maxShapes = 4

// shape is what tokens have in common that may stand in one place.
func (t token) shape() string {
	sep := t.sep
	if len(sep) > 1 && strings.Trim(sep, " ") == "" {
		sep = " " // columns that are lined up
	}
	key := sep + "\x00" + t.open + t.tail + "\x00" + t.key
	if t.kind == "time" {
		key += "\x00time"
	}
	return key
}

// propose proposes a template for lines that begin in one way; follows are the second lines of records of several.
func propose(rests []string, begin string, follows map[string][]string) []format.Spec {
	if len(rests) < 2 {
		return nil
	}
	var second []string
	for _, r := range rests {
		if f := follows[r]; len(f) > 0 {
			second, follows[r] = append(second, f[0]), f[1:]
		}
	}
	if len(second) < len(rests) { // a message that may go on, or end with its line
		second = nil
	}
	w := walker{names: map[string]int{}}
	var shapes []*place
	var before [][]string
	for len(shapes) < maxPlaces {
		s, next := vote(rests, len(shapes) == 0)
		if s == nil || len(shapes) > 0 && shapes[len(shapes)-1].says() && s.worded() { // a message begins behind a level and a colon
			break
		}
		shapes, before = append(shapes, s), append(before, rests)
		rests = next
	}
	// Words before a message are its beginning.
	for n := len(shapes); n > 0 && shapes[n-1].plain() && strings.Trim(separator(rests), " ") == "" && slices.ContainsFunc(rests, func(r string) bool { return strings.TrimSpace(r) != "" }); n-- {
		shapes, rests = shapes[:n-1], before[n-1]
	}
	if !slices.ContainsFunc(shapes, func(s *place) bool { return !s.plain() }) {
		return nil // sentences
	}
	for _, s := range shapes {
		w.add(s)
	}
	if w.fields == 0 {
		return nil
	}
	left := 0
	for _, r := range rests {
		if strings.TrimSpace(r) != "" {
			left++
		}
	}
	if end := separator(rests); left > 0 && second != nil && marks.MatchString(end) && !slices.ContainsFunc(rests, func(r string) bool { return strings.TrimSpace(r) != strings.TrimSpace(end) }) {
		w.text.WriteString(escape(end)) // the frame of a head
		left = 0
	}
	var out []format.Spec
	if left == len(rests) && w.level == "" && leads(second) { // the level, and what happened, are on the second line
		w.text.WriteString(escape(separator(rests)) + "{" + w.name("source") + "}")
		w.fields++
		w.goOn(second)
	} else if left > 0 {
		w.text.WriteString(escape(separator(rests)) + "{message:remainder}")
		w.body = "message"
	} else if second != nil {
		w.goOn(second)
	} else if begin != "" { // the lines that follow
		w.text.WriteString("{more:remainder}")
	}
	spec := format.Spec{Kind: "template", Template: w.text.String(), Time: format.Time{Field: w.time}, Body: w.body, Level: format.Level{Field: w.level}}
	if w.level != "" && len(w.levels) > 0 {
		spec.Level.Map = w.levels
	}
	if !printable(strings.ReplaceAll(spec.Template, "\n", "")) {
		return nil
	}
	return append(out, spec)
}

var marks = regexp.MustCompile(`^[ \t]*[-=|;>]+[ \t]*$`)

// goOn writes what stands behind the first line of records of several: a level, where the second line begins with one, and the rest.
func (w *walker) goOn(second []string) {
	w.text.WriteString("\n")
	if w.level == "" && leads(second) {
		s, rest := vote(second, false)
		w.add(s)
		w.text.WriteString(escape(separator(rest)))
	}
	w.text.WriteString("{message:remainder}")
	w.body = "message"
}

// leads tells whether all lines begin with a level and a colon.
func leads(lines []string) bool {
	if len(lines) < 2 {
		return false
	}
	s, _ := vote(lines, false)
	return s != nil && s.n == len(lines) && (s.all("level") || s.leveled()) && s.token.tail == ":" && s.token.sep == ""
}

// separator is what stands before the message in nearly all lines, or the space before what differs.
func separator(rests []string) string {
	seps := map[string]int{}
	n := 0
	for _, r := range rests {
		if strings.TrimSpace(r) == "" {
			continue
		}
		n++
		sep := spacing.FindString(r)
		if strings.Trim(sep, " ") == "" && sep != "" {
			sep = " "
		}
		seps[sep]++
	}
	spaced := true
	for sep, k := range seps {
		if float64(k) >= agree*float64(n) {
			return sep
		}
		spaced = spaced && strings.HasPrefix(sep, " ")
	}
	if spaced {
		return " "
	}
	return ""
}

// walker writes the template.
type walker struct {
	text              strings.Builder
	names             map[string]int
	fields            int
	time, level, body string
	levels            map[string]uint8
	before            string // the word that all lines have right before the place at hand
	leveled           bool   // and whether a level is
	requested         bool   // a request, or what was asked for, has been seen
}

// vote finds what nearly all lines have next, and gives what is left of those that have it.
func vote(rests []string, first bool) (*place, []string) {
	type one struct {
		t    token
		rest string
	}
	counts := map[string]int{}
	all := make([]one, len(rests))
	keys := make([]string, len(rests))
	for i, r := range rests {
		t, rest, ok := next(r, first)
		if !ok {
			continue
		}
		all[i] = one{t, rest}
		if len(t.sep) > 1 && strings.Trim(t.sep, " ") == "" {
			all[i].t.sep = " " // columns that are lined up
		}
		keys[i] = t.shape()
		counts[keys[i]]++
	}
	best, n := "", 0
	for k, c := range counts {
		if k != "" && (c > n || c == n && k < best) {
			best, n = k, c
		}
	}
	if odd := len(rests) - n; best == "" || float64(n) < agree*float64(len(rests)) && (odd > 1 || n < 8) {
		return nil, nil
	}
	s := &place{kinds: map[string]int{}, texts: map[string]int{}}
	var left []string
	widths := map[int]int{}
	for i := range all {
		if keys[i] != best {
			continue
		}
		s.token = all[i].t
		s.kinds[all[i].t.kind]++
		s.texts[all[i].t.text]++
		s.n++
		if text := all[i].t.text; len(text) < len(s.last) || len(text) == len(s.last) && text < s.last {
			s.falls++
		}
		s.last = all[i].t.text
		left = append(left, all[i].rest)
		widths[len(all[i].t.text)+len(all[i].rest)-len(strings.TrimLeft(all[i].rest, " "))]++
	}
	lengths := map[int]bool{}
	for t := range s.texts {
		lengths[len(t)] = true
	}
	s.column = len(widths) == 1 && len(lengths) > 1 && s.n > 2 // filled up with spaces
	// Words that vary freely, each with nothing of its own, are the beginning of a sentence.
	if s.kinds["word"]*2 > s.n && s.token.key == "" && s.token.open == "" && s.token.tail == "" && !s.constant() && !s.graded() && !s.column && !s.chosen() && (!s.few() || s.wordy() && sentence(left)) && !ahead(left) && strings.Trim(separator(left), " ") == "" {
		return nil, nil
	}
	return s, left
}

var dottedName = regexp.MustCompile(`^[A-Za-z_$][\w$]*(?:\.[A-Za-z_$][\w$]*)+$`)

// dotted tells whether a place has names of parts of a program, as most that log say who does it.
func (s *place) dotted() bool {
	n := 0
	for t, k := range s.texts {
		if dottedName.MatchString(t) {
			n += k
		}
	}
	return n*10 >= s.n*9
}

// wordy tells whether a place mostly has words of small letters, as sentences do.
func (s *place) wordy() bool {
	n := 0
	for t, k := range s.texts {
		if strings.Trim(t, "abcdefghijklmnopqrstuvwxyz'") == "" {
			n += k
		}
	}
	return n*10 >= s.n*9
}

// sentence tells whether nothing but words is left of most lines.
func sentence(rests []string) bool {
	n := 0
	for _, r := range rests {
		words := 0
		for {
			t, rest, ok := next(r, false)
			if !ok {
				if words > 0 {
					n++
				}
				break
			}
			if t.kind != "word" || t.key != "" || t.open != "" || strings.Trim(t.sep, " \t") != "" {
				break
			}
			words++
			r = rest
		}
	}
	return n*10 >= len(rests)*8
}

// ahead tells whether all lines have a level, in large letters, or a time, in the same place among their next words.
func ahead(rests []string) bool {
	var levels, times [3]int
	for _, r := range rests {
		for i := range levels {
			t, rest, ok := next(r, false)
			if !ok {
				break
			}
			if t.kind == "level" && t.text == strings.ToUpper(t.text) {
				levels[i]++
			}
			if t.kind == "time" {
				times[i]++
			}
			r = rest
		}
	}
	return slices.ContainsFunc(append(levels[:], times[:]...), func(n int) bool { return n > 1 && float64(n) >= agree*float64(len(rests)) })
}

// place is what the lines have in one place.
type place struct {
	token  token
	kinds  map[string]int
	texts  map[string]int
	n      int
	last   string
	column bool // words of several lengths are filled up to one
	falls  int  // how often the text of a line comes before that of the line above
}

func (s *place) constant() bool { return len(s.texts) == 1 && s.n > 1 }

// methods of HTTP (RFC 9110) are a choice, even where a log holds but one.
var methods = map[string]bool{"GET": true, "HEAD": true, "POST": true, "PUT": true, "DELETE": true, "CONNECT": true, "OPTIONS": true, "TRACE": true, "PATCH": true}

// fixed tells whether what is the same in all lines belongs to the format, and not to the host or the hour that wrote it.
func (s *place) fixed() bool {
	w := s.token.text
	joined := len(w) > 2 && strings.Contains(w[1:len(w)-1], "-") && wordByte(w[0]) // as names of hosts are
	return !joined && !strings.ContainsAny(w, "0123456789/@.") && !methods[w]
}

// says tells whether a place has a level and a colon.
func (s *place) says() bool {
	return s.token.tail == ":" && s.token.open == "" && (s.all("level") || s.leveled())
}

// worded tells whether a place has nothing but words, with no mark of their own.
func (s *place) worded() bool {
	return s.all("word") && s.token.key == "" && s.token.open == "" && s.token.tail == "" && s.token.sep == " "
}

// padded tells whether words are filled up with spaces in their bracket.
func (s *place) padded() bool {
	for t := range s.texts {
		if strings.TrimSpace(t) != t {
			return true
		}
	}
	return false
}

// spaced tells whether a text of a place has a space in it.
func (s *place) spaced() bool {
	for t := range s.texts {
		if strings.Contains(t, " ") {
			return true
		}
	}
	return false
}

// plain tells whether a place has words of no kind, with nothing around them.
func (s *place) plain() bool {
	return s.kinds["word"] > 0 && s.token.key == "" && s.token.open == "" && s.token.tail == "" && !s.graded() && !s.column && !s.chosen() && !(s.n > 2 && s.dotted())
}

// chosen tells whether a place has words that are a choice, and no beginning of a sentence: streams of a process, methods of HTTP.
func (s *place) chosen() bool {
	for t := range s.texts {
		if !methods[t] && t != "stdout" && t != "stderr" {
			return false
		}
	}
	return true
}

// few tells whether a place takes one of a few words, or one that looks like an identifier in each line.
func (s *place) few() bool {
	if s.n >= 4 && len(s.texts)*3 <= s.n {
		return true
	}
	marked := 0
	for t, n := range s.texts {
		if strings.ContainsAny(t, "0123456789._-/:@#") {
			marked += n
		}
	}
	return marked*10 >= s.n*9
}

var withUnit = regexp.MustCompile(`^[-+]?\d{1,15}(\.\d+)?(ns|us|µs|ms|s|%|B|KB|kB|MB|KiB|MiB|m|C|V|kg)$`)

// unit is the unit that all numbers of a place have; "" when they have none, or differ.
func (s *place) unit() string {
	unit, dots := "", -1
	for t := range s.texts {
		m := withUnit.FindStringSubmatch(t)
		if m == nil || unit != "" && unit != m[2] || dots >= 0 && dots != min(1, len(m[1])) {
			return ""
		}
		unit, dots = m[2], min(1, len(m[1]))
	}
	return unit
}

// rising tells whether the numbers of a place go up, or hardly down, from line to line, as time does.
func (s *place) rising() bool { return s.falls*10 <= s.n }

// leveled tells whether a place mostly has levels, and beside them some words of the same kind that programs use for one.
func (s *place) leveled() bool {
	if s.graded() {
		return true
	}
	also := 0
	for t, n := range s.texts {
		switch w := strings.TrimSpace(t); {
		case levelWord(w):
		case slices.Contains(alsoLevels, strings.ToLower(w)):
			also += n
		default:
			return false
		}
	}
	if also > 0 && s.kinds["level"] > 0 && s.token.tail == ":" && s.token.text == strings.ToUpper(s.token.text) {
		return true
	}
	return s.kinds["level"]*2 >= s.n && !s.onlyLog() || also > 0 && s.token.open == "[" // brackets hold what is counted among few
}

// graded tells whether a place has a few words over and over, several levels among them: then the others are a program's own levels.
func (s *place) graded() bool {
	if len(s.texts) > 10 || s.n < 6*len(s.texts) || s.kinds["level"]+s.kinds["word"] != s.n {
		return false
	}
	levels := map[uint8]bool{}
	for t := range s.texts {
		w := strings.TrimSpace(t)
		if len(w) > 12 || strings.ContainsFunc(w, func(r rune) bool { return !unicode.IsLetter(r) }) {
			return false
		}
		if levelWord(w) {
			levels[record.ParseLevel(strings.ToLower(w))] = true
		}
	}
	return len(levels) > 1 && len(levels)*2 >= len(s.texts)
}

// onlyLog tells whether there is but the word log, which some programs write for a level, and many begin their sentences with.
func (s *place) onlyLog() bool {
	return s.constant() && strings.EqualFold(s.token.text, "log") && s.token.open == "" && s.token.tail != ":"
}

// alsoLevels are words that stand in the place of a level and say that nothing is wrong.
var alsoLevels = []string{"system", "note", "statement", "detail", "hint", "context", "audit", "success", "status", "config", "finer", "finest"}

// smallLevels are words for levels below the usual.
var smallLevels = []string{"fine", "finer", "finest", "silly"}

func (s *place) all(kinds ...string) bool {
	n := 0
	for _, k := range kinds {
		n += s.kinds[k]
	}
	return n == s.n
}

func escape(literal string) string {
	return strings.NewReplacer("{", "{{", "}", "}}").Replace(literal)
}

// add writes one place.
func (w *walker) add(s *place) {
	t := s.token
	before, leveled := w.before, w.leveled
	w.before, w.leveled = "", false
	called := func(base string) string { // by the word before it, as in lane 4
		if before != "" && t.sep == " " && t.open == "" {
			return w.name(before)
		}
		return w.name(base)
	}
	w.text.WriteString(escape(t.sep))
	close := escape(t.shut + t.tail)
	w.text.WriteString(escape(t.open))
	if t.key != "" {
		w.text.WriteString(t.key + "=")
	}
	switch {
	case s.all("time"), s.all("epoch") && w.time == "" && t.key == "" && s.rising():
		name := w.name("ts")
		if w.time == "" {
			w.time = name
		}
		w.field(name, "time")
	case s.all("level") && !s.onlyLog(), s.leveled(), s.kinds["letter"] == s.n && (len(s.texts) > 1 || w.time != "" && w.level == "" && strings.Contains("DIWEV", t.text)):
		name := w.name("level")
		if w.level == "" {
			w.level = name
			w.takeLevels(s)
		}
		w.leveled = true
		if s.padded() || s.spaced() {
			w.field(name, "")
		} else {
			w.field(name, "token")
		}
	case s.all("mnemonic"):
		w.text.WriteString("%")
		w.field(w.name("facility"), "")
		w.text.WriteString("-")
		severity := w.name("severity")
		w.field(severity, "int")
		w.text.WriteString("-")
		w.field(w.name("mnemonic"), "token")
		if w.level == "" {
			w.level = severity
		}
	case s.all("int") && t.tail == "]" && t.open == "":
		w.field(w.name("pid"), "int")
	case s.constant() && s.fixed() && t.key == "" && t.kind == "quoted":
		w.text.WriteString(`"` + escape(t.text) + `"`)
	case s.constant() && s.fixed() && t.key == "":
		w.text.WriteString(escape(t.text))
		if t.tail == "" && t.open == "" && calling.MatchString(t.text) && !joining[strings.ToLower(t.text)] {
			w.before = strings.ToLower(t.text)
		}
	case t.key != "" && w.time == "" && s.every(isTime):
		w.time = w.name(t.key)
		w.text.WriteString(s.quote())
		w.field(w.time, "time")
		w.text.WriteString(s.quote())
	case t.key != "" && w.level == "" && s.every(levelWord):
		w.level = w.name(t.key)
		s.unquote()
		w.takeLevels(s)
		w.field(w.level, map[bool]string{true: "quoted", false: "token"}[s.quote() != ""])
	case t.key != "" && s.unit() != "":
		typ := "int"
		if strings.Contains(t.text, ".") {
			typ = "float"
		}
		w.field(w.name(t.key), typ)
		w.text.WriteString(s.unit())
	case t.key != "":
		w.field(w.name(t.key), w.valueType(s))
	case s.all("int", "epoch"):
		base := "number"
		switch {
		case t.open != "":
			base = "pid"
		case w.requested && s.looks(status):
			base = "status"
		}
		w.field(called(base), "int")
	case s.all("int", "float", "epoch"):
		w.field(called("value"), "float")
	case s.all("ip"):
		w.field(called("address"), "ip")
	case s.all("quoted"):
		base := "text"
		for _, m := range meanings {
			if s.looks(m.quoted) {
				base = m.name
				break
			}
		}
		w.requested = w.requested || base == "request" || base == "url" || base == "path"
		w.field(w.name(base), "quoted")
	case t.open != "":
		w.field(w.name("context"), "")
	case t.tail == ":":
		name := w.name("component")
		if w.level == "" && s.kinds["level"] > 0 && s.kinds["word"] > 0 { // who says it, or how bad it is
			w.level = name
		}
		w.field(name, "token")
	case strings.HasPrefix(t.tail, " "):
		w.field(w.name("logger"), "token")
	case s.chosen():
		name := "stream"
		if methods[t.text] {
			name = "method"
		}
		w.field(w.name(name), "token")
	case (leveled || s.n > 2) && s.dotted():
		w.field(w.name("logger"), "token")
	default:
		base := "word"
		for _, m := range meanings {
			if s.looks(m.word) {
				base = m.name
				break
			}
		}
		w.requested = w.requested || base == "url" || base == "path"
		w.field(called(base), "token")
	}
	w.text.WriteString(close)
}

// meanings are what texts in quotes and words are that all look so, with the name that a field gets.
var meanings = []struct {
	name         string
	quoted, word *regexp.Regexp
}{
	{"request", regexp.MustCompile(`^[A-Z]{3,9} \S+(?: HTTP/[\d.]+)?$`), nil},
	{"url", regexp.MustCompile(`^https?://\S+$`), regexp.MustCompile(`^https?://`)},
	{"path", regexp.MustCompile(`^/\S*$`), regexp.MustCompile(`^/`)},
	{"id", nil, regexp.MustCompile(`^(?:[0-9a-fA-F]{8}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{12}|(?:[0-9a-f]{12,}|[0-9A-F]{12,}))$`)},
	{"peer", nil, regexp.MustCompile(`^(?:\d{1,3}(?:\.\d{1,3}){3}|\[[0-9a-f:]+\]):\d{1,5}$`)},
}

var status = regexp.MustCompile(`^[1-5]\d\d$`)

// looks tells whether all texts of a place look so.
func (s *place) looks(like *regexp.Regexp) bool {
	if like == nil {
		return false
	}
	for t := range s.texts {
		if !like.MatchString(t) {
			return false
		}
	}
	return true
}

// every tells whether all values of a place are so, without their quotes; all of them have quotes, or none.
func (s *place) every(is func(string) bool) bool {
	for t := range s.texts {
		if strings.HasPrefix(t, `"`) != (s.quote() != "") || !is(strings.Trim(t, `"`)) {
			return false
		}
	}
	return true
}

// quote is the quote in which the values of a place stand, or "".
func (s *place) quote() string {
	if strings.HasPrefix(s.token.text, `"`) {
		return `"`
	}
	return ""
}

func (s *place) unquote() {
	bare := map[string]int{}
	for t, n := range s.texts {
		bare[strings.Trim(t, `"`)] += n
	}
	s.texts = bare
}

func isTime(text string) bool {
	n, ok := format.Recognise([]byte(text))
	return ok && n == len(text) && n >= 10
}

var calling = regexp.MustCompile(`^[A-Za-z][a-z_]{1,20}$`)

// joining are words that join others and name nothing.
var joining = map[string]bool{"the": true, "an": true, "is": true, "was": true, "are": true, "of": true, "in": true, "on": true, "at": true, "to": true, "for": true, "by": true, "with": true, "and": true, "or": true, "as": true, "it": true, "no": true, "not": true, "be": true}

func (w *walker) valueType(s *place) string {
	ints, floats, quoted := 0, 0, 0
	for t, n := range s.texts {
		switch {
		case strings.HasPrefix(t, `"`):
			quoted += n
		case kindOf(t) == "int", kindOf(t) == "epoch":
			ints += n
		case kindOf(t) == "float":
			floats += n
		}
	}
	switch {
	case ints == s.n:
		return "int"
	case ints+floats == s.n:
		return "float"
	case quoted == s.n:
		return "quoted"
	}
	return "token"
}

func (w *walker) field(name, typ string) {
	w.fields++
	if typ == "" {
		w.text.WriteString("{" + name + "}")
		return
	}
	w.text.WriteString("{" + name + ":" + typ + "}")
}

// name makes a name that is not there yet.
func (w *walker) name(base string) string {
	w.names[base]++
	if n := w.names[base]; n > 1 {
		return fmt.Sprintf("%s%d", base, n)
	}
	return base
}

// takeLevels maps words for levels that are not ours.
func (w *walker) takeLevels(s *place) {
	unknown := false
	for t := range s.texts {
		unknown = unknown || record.ParseLevel(strings.TrimSpace(t)) == 0
	}
	if !unknown {
		return
	}
	w.levels = map[string]uint8{}
	for t := range s.texts {
		low := strings.ToLower(strings.TrimSpace(t))
		switch l := record.ParseLevel(low); {
		case l != 0:
			w.levels[low] = l
		case slices.Contains(smallLevels, low):
			w.levels[low] = record.Debug
		default:
			w.levels[low] = record.Info
		}
	}
}

// columnNames is a head that names the columns.
var columnNames = regexp.MustCompile(`^#(?:Fields:|fields\t)(.*)$`)

// barred proposes a template for lines whose parts stand between bars with spaces; the last may be anything.
func barred(lines [][]byte) []format.Spec {
	const bar = " | "
	var rows [][]string
	n := 0
	for _, l := range lines {
		if len(bytes.TrimSpace(l)) > 0 {
			rows = append(rows, strings.Split(string(bytes.TrimRight(l, "\r")), bar))
			if c := len(rows[len(rows)-1]); n == 0 || c < n {
				n = c
			}
		}
	}
	if len(rows) < 2 || n < 3 {
		return nil
	}
	w := walker{names: map[string]int{}}
	for i := range n {
		times, levels, ints := 0, 0, 0
		seen := &place{texts: map[string]int{}}
		for _, r := range rows {
			v := strings.TrimSpace(r[i])
			if k, ok := format.Recognise([]byte(v)); ok && k == len(v) && k >= 8 {
				times++
			}
			if levelWord(v) || slices.Contains(alsoLevels, strings.ToLower(v)) {
				levels++
			}
			if number.MatchString(v) {
				ints++
			}
			seen.texts[v]++
		}
		if i > 0 {
			w.text.WriteString(bar)
		}
		switch {
		case i == n-1:
			w.body = w.name("message")
			w.field(w.body, "remainder")
		case times == len(rows):
			name := w.name("ts")
			if w.time == "" {
				w.time = name
			}
			w.field(name, "time")
		case levels == len(rows) && w.level == "":
			w.level = w.name("level")
			w.takeLevels(seen)
			w.field(w.level, "token")
		case ints == len(rows):
			w.field(w.name("number"), "int")
		default:
			w.field(w.name("part"), "")
		}
	}
	if w.time == "" && w.level == "" {
		return nil
	}
	return []format.Spec{{Kind: "template", Template: w.text.String(), Time: format.Time{Field: w.time}, Body: w.body, Level: format.Level{Field: w.level, Map: w.levels}}}
}

// tables proposes csv with each separator that all lines have equally often.
func tables(lines [][]byte) []format.Spec {
	var out []format.Spec
	var fields []string // that a head behind a # names
	lines = slices.DeleteFunc(slices.Clone(lines), func(l []byte) bool {
		if m := columnNames.FindSubmatch(l); m != nil {
			fields = strings.Fields(string(m[1]))
		}
		return len(bytes.TrimSpace(l)) == 0 || l[0] == '#'
	})
	if len(lines) == 0 {
		return nil
	}
	seps := []string{",", ";", "\t", "|"}
	if len(fields) > 2 {
		seps = append(seps, " ")
	}
	for _, sep := range seps {
		n, spaced, cells := 0, 0, 0
		counts := map[int]int{}
		for _, l := range lines {
			values := split(l, sep)
			counts[len(values)]++
			if c := counts[len(values)]; c > counts[n] || c == counts[n] && len(values) < n {
				n = len(values)
			}
			for _, v := range values[1:] {
				if cells++; strings.HasPrefix(v, " ") {
					spaced++
				}
			}
		}
		if sep != "\t" && spaced*5 > cells { // a sentence, not a table
			continue
		}
		same := counts[n]
		if short := len(split(lines[0], sep)); short == n-1 && len(lines) > 3 { // a head that does not name the text at the end
			same++
		}
		if n < 3 || float64(same) < agree*float64(len(lines)) || sep == " " && n != len(fields) {
			continue
		}
		spec := format.Spec{Kind: "csv", Separator: sep}
		if sep == "," {
			spec.Separator = ""
		}
		spec.Columns, spec.Fields, spec.Time.Field = described(lines, fields, sep, n)
		out = append(out, spec)
	}
	return out
}

// numbers proposes csv for lines that are many values with spaces between them, most of them numbers, addresses, or a dash for none.
func numbers(lines [][]byte) []format.Spec {
	n, values, plain := 0, 0, 0
	lines = slices.DeleteFunc(slices.Clone(lines), func(l []byte) bool { return len(bytes.TrimSpace(l)) == 0 || l[0] == '#' })
	for _, l := range lines {
		row := split(l, " ")
		if n == 0 {
			n = len(row)
		}
		if len(row) != n {
			return nil
		}
		for _, v := range row {
			if values++; v == "-" || kindOf(v) != "word" {
				plain++
			}
		}
	}
	if n < 8 || len(lines) < 2 || plain*10 < values*6 {
		return nil
	}
	spec := format.Spec{Kind: "csv", Separator: " "}
	spec.Columns, spec.Fields, spec.Time.Field = described(lines, nil, " ", n)
	return []format.Spec{spec}
}

func split(l []byte, sep string) []string {
	var out []string
	from, quoted := 0, false
	l = bytes.TrimRight(l, "\r")
	for i := 0; i < len(l); i++ {
		switch {
		case l[i] == '"':
			quoted = !quoted
		case !quoted && l[i] == sep[0]:
			out = append(out, strings.Trim(string(l[from:i]), `"`))
			from = i + 1
		}
	}
	return append(out, strings.Trim(string(l[from:]), `"`))
}

var columnName = regexp.MustCompile(`^[A-Za-z_@][\w.@ -]{0,40}$`)

var (
	dayAlone   = regexp.MustCompile(`^(?:\d{4}[-/.]\d{1,2}[-/.]\d{1,2}|\d{1,2}[-/.]\d{1,2}[-/.](?:\d{4}|\d{2}))$`)
	clockAlone = regexp.MustCompile(`^\d{1,2}:\d\d:\d\d(?:[.,]\d+)?$`)
)

// described names the columns: by the head, when the first line is one, and types them by what stands in all lines.
func described(lines [][]byte, fields []string, sep string, n int) (names []string, types map[string]string, timeField string) {
	head := split(lines[0], sep)
	headed := len(fields) != n && len(head) >= n-1 && len(head) <= n
	for _, v := range head {
		headed = headed && columnName.MatchString(v) && kindOf(v) == "word"
	}
	body := lines
	if headed {
		for _, v := range head {
			names = append(names, strings.ReplaceAll(strings.ToLower(v), " ", "_"))
		}
		if len(names) < n {
			names = append(names, "message")
		}
		body = lines[1:]
	} else if len(fields) == n {
		names = fields
	} else {
		for i := range n {
			names = append(names, fmt.Sprintf("column%d", i+1))
		}
	}
	types = map[string]string{}
	named := headed || len(fields) == n
	usual := func(i int, name string) string { // what is read without a say, where nobody named the columns
		if named || slices.Contains(names, name) {
			return names[i]
		}
		names[i] = name
		return name
	}
	day, longest, words := "", -1, 0
	for i, name := range names {
		kinds, full, spaces := map[string]int{}, 0, 0
		for _, l := range body {
			v := split(l, sep)
			if len(v) != n || v[i] == "" {
				continue
			}
			full++
			spaces += strings.Count(v[i], " ")
			k, ok := format.Recognise([]byte(v[i]))
			switch {
			case dayAlone.MatchString(v[i]):
				kinds["day"]++
			case ok && k == len(v[i]) && k >= 8 && (seconds.MatchString(v[i]) || !number.MatchString(v[i])):
				kinds["time"]++
				if clockAlone.MatchString(v[i]) {
					kinds["clock"]++
				}
			case levelWord(v[i]):
				kinds["level"]++
			default:
				kinds[kindOf(v[i])]++
			}
		}
		switch {
		case full == 0:
		case kinds["day"] == full && !named:
			day = usual(i, "date")
		case kinds["day"] == full && strings.EqualFold(name, "date"):
			day = name
		case kinds["clock"] == full && day != "" && timeField == "":
			timeField = usual(i, "time")
		case kinds["time"] == full && kinds["clock"] == 0 && timeField == "":
			timeField = usual(i, "time")
		case kinds["time"] == full && timeField == "":
			timeField = name
		case kinds["level"] == full:
			usual(i, "level")
		case kinds["int"]+kinds["epoch"] == full:
			types[name] = "int"
		case kinds["int"]+kinds["float"] == full:
			types[name] = "float"
		case kinds["ip"] == full:
			types[name] = "ip"
		case kinds["day"]+kinds["time"] == full:
		case spaces > words && spaces >= full:
			longest, words = i, spaces
		}
	}
	if longest >= 0 {
		usual(longest, "message")
	}
	if timeField == "" && day != "" {
		timeField = day
	}
	if len(types) == 0 {
		types = nil
	}
	return names, types, timeField
}
