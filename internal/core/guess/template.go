package guess

import (
	"bytes"
	"cmp"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"synaxis/internal/core/format"
	"synaxis/internal/core/record"
)

// A template is proposed by walking all lines at once from the left: a time, words in brackets or quotes, key=value,
// numbers, addresses, levels. As long as the lines agree on what stands there it becomes a field or a literal; where
// they part, the rest is the message.

// agree is the share of lines that must have the same thing in a spot.
const agree = 0.95

// maxPlaces bounds the fields of a proposed template.
const maxPlaces = 24

// proposals proposes templates for lines: one for each of the shapes that they begin with, the most frequent first.
// With begin only those are looked at that begin a record.
func proposals(lines [][]byte, begin string) []format.Spec {
	var rests []string
	var re *regexp.Regexp
	if begin != "" {
		re = regexp.MustCompile(begin)
	}
	follows := map[string][]string{} // the lines behind those that begin a record, by their text
	for i, l := range lines {
		l = bytes.TrimRight(l, "\r")
		if len(bytes.TrimSpace(l)) > 0 && (l[0] != '#' || re != nil) && (re == nil || re.Match(l)) &&
			len(rests) < 2000 {
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

// byLevel parts lines whose level stands in one of a few spots, since something before it is not in all of them; the
// most frequent first. Where it stands in one spot, or some have none, they stay together.
func byLevel(lines []string) [][]string {
	spots := map[int][]string{}
	n := 0
	for i, l := range lines {
		if i == 100 && len(spots) < 2 { // the others hardly differ
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
				spots[i], n = append(spots[i], l), n+1
				break
			}
			r = rest
		}
	}
	if len(spots) < 2 || len(spots) > 3 || float64(n) < agree*float64(len(lines)) {
		return [][]string{lines}
	}
	var out [][]string
	for _, i := range slices.SortedFunc(maps.Keys(spots), func(a, b int) int {
		return cmp.Or(cmp.Compare(len(spots[b]), len(spots[a])), cmp.Compare(a, b))
	}) {
		if len(spots[i]) < 2 || len(spots[i])*20 < len(lines) {
			return [][]string{lines}
		}
		out = append(out, spots[i])
	}
	return out
}

// maxShapes bounds the templates that are proposed for one log.
const maxShapes = 4

// shape is what tokens have in common that may stand in one spot.
func (t token) shape() string {
	key := t.sep + "\x00" + t.open + t.tail + "\x00" + t.key
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
	var shapes []*spot
	var before [][]string
	for len(shapes) < maxPlaces {
		s, next := vote(rests, len(shapes) == 0)
		if s == nil ||
			len(shapes) > 0 && shapes[len(shapes)-1].says() &&
				s.worded() { // a message begins behind a level and a colon
			break
		}
		shapes, before = append(shapes, s), append(before, rests)
		rests = next
	}
	// Words before a message are its beginning.
	for n := len(shapes); n > 0 && shapes[n-1].plain() && strings.Trim(separator(rests), " ") == "" &&
		slices.ContainsFunc(rests, func(r string) bool { return strings.TrimSpace(r) != "" }); n-- {
		shapes, rests = shapes[:n-1], before[n-1]
	}
	// So are several words of running text that are all that is left.
	prose := len(shapes)
	for prose > 0 && shapes[prose-1].plain() && shapes[prose-1].wordy() && shapes[prose-1].token.sep == " " {
		prose--
	}
	if len(shapes)-prose >= 2 &&
		!slices.ContainsFunc(rests, func(r string) bool { return strings.TrimSpace(r) != "" }) {
		rests, shapes = before[prose], shapes[:prose]
	}
	if !slices.ContainsFunc(shapes, func(s *spot) bool { return !s.plain() }) {
		return nil // sentences
	}
	for i, s := range shapes {
		s.cell = i+1 < len(shapes) && strings.ContainsAny(s.token.sep, cells) &&
			strings.ContainsAny(shapes[i+1].token.sep, cells)
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
	if end := separator(rests); left > 0 && second != nil && marks.MatchString(end) &&
		!slices.ContainsFunc(rests, func(r string) bool { return strings.TrimSpace(r) != strings.TrimSpace(end) }) {
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
	spec := format.Spec{
		Kind:     "template",
		Template: w.text.String(),
		Time:     format.Time{Field: w.time},
		Body:     w.body,
		Level:    format.Level{Field: w.level},
	}
	if w.level != "" && len(w.levels) > 0 {
		spec.Level.Map = w.levels
	}
	if !printable(strings.ReplaceAll(spec.Template, "\n", "")) {
		return nil
	}
	return append(out, spec)
}

var marks = regexp.MustCompile(`^[ \t]*[-=|;>]+[ \t]*$`)

// goOn writes what stands behind the first line of records of several: a level, where the second line begins with one,
// and the rest.
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
		sep := squeeze(spacing.FindString(r))
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
	before            string // the word that all lines have right before the spot at hand
	leveled           bool   // and whether a level is
	dated             bool   // the time has a day
	requested         bool   // a request, or what was asked for, has been seen
}

// vote finds what nearly all lines have next, and gives what is left of those that have it.
func vote(rests []string, first bool) (*spot, []string) {
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
	s := &spot{kinds: map[string]int{}, texts: map[string]int{}}
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
	if s.kinds["word"]*2 > s.n && s.token.key == "" && s.token.open == "" && s.token.tail == "" && !s.constant() &&
		!s.graded() &&
		!s.column &&
		!s.chosen() &&
		(!s.few() || s.wordy() && sentence(left)) &&
		!ahead(left) &&
		strings.Trim(separator(left), " ") == "" {
		return nil, nil
	}
	return s, left
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

// ahead tells whether all lines have a level, in large letters, or a time, in the same spot among their next words.
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
	return slices.ContainsFunc(
		append(levels[:], times[:]...),
		func(n int) bool { return n > 1 && float64(n) >= agree*float64(len(rests)) },
	)
}

func escape(literal string) string {
	return strings.NewReplacer("{", "{{", "}", "}}").Replace(literal)
}

// add writes one spot.
func (w *walker) add(s *spot) {
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
		if dated := s.every(isDated); w.time == "" || dated && !w.dated { // a whole date says more than a time of day
			w.time, w.dated = name, dated
		}
		w.field(name, "time")
	case s.all("level") && !s.onlyLog(),
		s.leveled(),
		s.kinds["letter"] == s.n && (len(s.texts) > 1 || w.time != "" && w.level == "" && strings.Contains("DIWEV",
			t.text)):
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
	case s.all("int") && t.tail == ")" && t.open == "" && t.sep == "":
		w.field(w.name("serial"), "int")
	case s.constant() && s.fixed() && t.key == "" && t.kind == "quoted":
		w.text.WriteString(`"` + escape(t.text) + `"`)
	case s.constant() && s.fixed() && t.key == "" && !s.cell:
		w.text.WriteString(escape(t.text))
		if t.tail == "" && t.open == "" && calling.MatchString(t.text) && !joining[strings.ToLower(t.text)] {
			w.before = strings.ToLower(t.text)
		}
	case t.key != "" && w.time == "" && s.every(isTime):
		w.time, w.dated = w.name(t.key), s.every(isDated)
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
	{
		"id",
		nil,
		regexp.MustCompile(
			`^(?:[0-9a-fA-F]{8}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{12}|(?:[0-9a-f]{12,}|[0-9A-F]{12,}))$`,
		),
	},
	{"peer", nil, regexp.MustCompile(`^(?:\d{1,3}(?:\.\d{1,3}){3}|\[[0-9a-f:]+\]):\d{1,5}$`)},
}

var status = regexp.MustCompile(`^[1-5]\d\d$`)

func isTime(text string) bool {
	n, ok := format.Recognise([]byte(text))
	return ok && n == len(text) && n >= 10 && countsSeconds(text)
}

func isDated(text string) bool { return format.Dated([]byte(text)) }

var calling = regexp.MustCompile(`^[A-Za-z][a-z_]{1,20}$`)

// joining are words that join others and name nothing.
var joining = map[string]bool{
	"the":  true,
	"an":   true,
	"is":   true,
	"was":  true,
	"are":  true,
	"of":   true,
	"in":   true,
	"on":   true,
	"at":   true,
	"to":   true,
	"for":  true,
	"by":   true,
	"with": true,
	"and":  true,
	"or":   true,
	"as":   true,
	"it":   true,
	"no":   true,
	"not":  true,
	"be":   true,
}

func (w *walker) valueType(s *spot) string {
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
func (w *walker) takeLevels(s *spot) {
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
