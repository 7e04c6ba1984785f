package guess

import (
	"bytes"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"

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
	spacing = regexp.MustCompile(`^[ \t]*(?:[-|;>] )?[ \t]*`)
	pair    = regexp.MustCompile(`^[A-Za-z_][\w.-]{0,40}=`)
	number  = regexp.MustCompile(`^[-+]?\d{1,18}$`)
	decimal = regexp.MustCompile(`^[-+]?\d+\.\d+(?:[eE][-+]?\d+)?$`)
)

// next cuts the next token off a line; ok is false at its end.
func next(line string, first bool) (t token, rest string, ok bool) {
	t.sep = spacing.FindString(line)
	line = line[len(t.sep):]
	if line == "" {
		return t, "", false
	}
	if n, ok := format.Recognise([]byte(line)); ok && (n >= 8 && strings.ContainsAny(line[:n], ":-/") || first && n >= 10) && (n == len(line) || !wordByte(line[n])) {
		t.kind, t.text = "time", line[:n]
		return tail(t, line[n:])
	}
	switch c := line[0]; c {
	case '[', '(', '<', '{':
		shut := map[byte]byte{'[': ']', '(': ')', '<': '>', '{': '}'}[c]
		if k := strings.IndexByte(line, shut); k > 1 && k < 80 && !strings.ContainsAny(line[1:k], "[(<{") {
			inner := line[1:k]
			t.open, t.shut, t.text = string(c), string(shut), inner
			t.kind = "bracket"
			if n, ok := format.Recognise([]byte(inner)); ok && n == len(inner) && n >= 8 {
				t.kind = "time"
			} else if levelWord(strings.TrimSpace(inner)) {
				t.kind = "level"
			}
			return tail(t, line[k+1:])
		}
	case '"':
		if k := strings.IndexByte(line[1:], '"'); k >= 0 {
			t.kind, t.text = "quoted", line[1:1+k]
			return tail(t, line[k+2:])
		}
	}
	if k := pair.FindString(line); k != "" {
		t.kind, t.key = "pair", k[:len(k)-1]
		value := line[len(k):]
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
	end := strings.IndexAny(line, " \t")
	if end < 0 {
		end = len(line)
	}
	word := line[:end]
	// A word may end in a mark, and a level may stand before a bracket.
	for _, mark := range []string{":", ",", ";"} {
		if strings.HasSuffix(word, mark) && len(word) > 1 {
			word, t.tail = word[:len(word)-1], mark
			break
		}
	}
	if k := strings.IndexByte(word, '['); k > 0 && t.tail == "" {
		word = word[:k]
		end = k
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

// templates proposes templates for lines; with begin only those are looked at that begin a record.
func templates(lines [][]byte, begin string) []format.Spec {
	var rests []string
	var re *regexp.Regexp
	if begin != "" {
		re = regexp.MustCompile(begin)
	}
	for _, l := range lines {
		l = bytes.TrimRight(l, "\r")
		if len(bytes.TrimSpace(l)) > 0 && l[0] != '#' && (re == nil || re.Match(l)) && len(rests) < 2000 {
			rests = append(rests, string(l))
		}
	}
	if len(rests) < 2 {
		return nil
	}
	w := walker{names: map[string]int{}}
	var shapes []*shape
	var before [][]string
	for len(shapes) < maxPlaces {
		s, next := vote(rests, len(shapes) == 0)
		if s == nil {
			break
		}
		shapes, before = append(shapes, s), append(before, rests)
		rests = next
	}
	// Words before a message are its beginning.
	for n := len(shapes); n > 0 && shapes[n-1].plain() && slices.ContainsFunc(rests, func(r string) bool { return strings.TrimSpace(r) != "" }); n-- {
		shapes, rests = shapes[:n-1], before[n-1]
	}
	if !slices.ContainsFunc(shapes, func(s *shape) bool { return !s.plain() }) {
		return nil // sentences
	}
	for _, s := range shapes {
		w.add(s)
	}
	if w.fields == 0 {
		return nil
	}
	left, empty := 0, 0
	for _, r := range rests {
		if strings.TrimSpace(r) == "" {
			empty++
		} else {
			left++
		}
	}
	var out []format.Spec
	if left > 0 {
		sep := " "
		for _, r := range rests {
			if s := spacing.FindString(r); strings.TrimSpace(r) != "" {
				sep = s
				break
			}
		}
		if strings.Trim(sep, " ") == "" && sep != "" {
			sep = " "
		}
		w.text.WriteString(escape(sep) + "{message:remainder}")
		w.body = "message"
	} else if begin != "" { // the lines that follow
		w.text.WriteString("{more:remainder}")
	}
	spec := format.Spec{Kind: "template", Template: w.text.String(), Time: format.Time{Field: w.time}, Body: w.body, Level: format.Level{Field: w.level}}
	if w.level != "" && len(w.levels) > 0 {
		spec.Level.Map = w.levels
	}
	if !printable(spec.Template) {
		return nil
	}
	return append(out, spec)
}

// walker writes the template.
type walker struct {
	text              strings.Builder
	names             map[string]int
	fields            int
	time, level, body string
	levels            map[string]uint8
}

// vote finds what nearly all lines have next, and gives what is left of those that have it.
func vote(rests []string, first bool) (*shape, []string) {
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
			t.sep = " " // columns that are lined up
		}
		all[i].t.sep = t.sep
		keys[i] = t.sep + "\x00" + t.open + t.tail + "\x00" + t.key
		if t.kind == "time" {
			keys[i] += "\x00time"
		}
		counts[keys[i]]++
	}
	best, n := "", 0
	for k, c := range counts {
		if k != "" && (c > n || c == n && k < best) {
			best, n = k, c
		}
	}
	if best == "" || float64(n) < agree*float64(len(rests)) {
		return nil, nil
	}
	s := &shape{kinds: map[string]int{}, texts: map[string]int{}}
	var left []string
	for i := range all {
		if keys[i] != best {
			continue
		}
		s.token = all[i].t
		s.kinds[all[i].t.kind]++
		s.texts[all[i].t.text]++
		s.n++
		left = append(left, all[i].rest)
	}
	// Words that vary freely, each with nothing of its own, are the beginning of a sentence.
	if s.kinds["word"]*2 > s.n && s.token.key == "" && s.token.open == "" && s.token.tail == "" && !s.constant() && !s.few() {
		return nil, nil
	}
	return s, left
}

// shape is what the lines have in one place.
type shape struct {
	token token
	kinds map[string]int
	texts map[string]int
	n     int
}

func (s *shape) constant() bool { return len(s.texts) == 1 && s.n > 1 }

// methods of HTTP (RFC 9110) are a choice, even where a log holds but one.
var methods = map[string]bool{"GET": true, "HEAD": true, "POST": true, "PUT": true, "DELETE": true, "CONNECT": true, "OPTIONS": true, "TRACE": true, "PATCH": true}

// fixed tells whether what is the same in all lines belongs to the format, and not to the host or the hour that wrote it.
func (s *shape) fixed() bool {
	w := s.token.text
	joined := len(w) > 2 && strings.Contains(w[1:len(w)-1], "-") && wordByte(w[0]) // as names of hosts are
	return !joined && !strings.ContainsAny(w, "0123456789/@.") && !methods[w]
}

// padded tells whether words are filled up with spaces in their bracket.
func (s *shape) padded() bool {
	for t := range s.texts {
		if strings.TrimSpace(t) != t {
			return true
		}
	}
	return false
}

// plain tells whether a place has words of no kind, with nothing around them.
func (s *shape) plain() bool {
	return s.kinds["word"] > 0 && s.token.key == "" && s.token.open == "" && s.token.tail == ""
}

// few tells whether a place takes one of a few words, or one that looks like an identifier in each line.
func (s *shape) few() bool {
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

func (s *shape) all(kinds ...string) bool {
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
func (w *walker) add(s *shape) {
	t := s.token
	w.text.WriteString(escape(t.sep))
	close := escape(t.shut + t.tail)
	w.text.WriteString(escape(t.open))
	if t.key != "" {
		w.text.WriteString(t.key + "=")
	}
	switch {
	case s.all("time"):
		name := w.name("ts")
		if w.time == "" {
			w.time = name
		}
		w.field(name, "time")
	case s.all("level"):
		name := w.name("level")
		if w.level == "" {
			w.level = name
			w.takeLevels(s)
		}
		if s.padded() {
			w.field(name, "")
		} else {
			w.field(name, "token")
		}
	case s.constant() && s.fixed() && t.key == "" && t.kind == "quoted":
		w.text.WriteString(`"` + escape(t.text) + `"`)
	case s.constant() && s.fixed() && t.key == "":
		w.text.WriteString(escape(t.text))
	case t.key != "":
		w.field(w.name(t.key), w.valueType(s))
	case s.all("int"):
		w.field(w.name(map[bool]string{true: "pid", false: "number"}[t.open != ""]), "int")
	case s.all("int", "float"):
		w.field(w.name("value"), "float")
	case s.all("ip"):
		w.field(w.name("address"), "ip")
	case s.all("quoted"):
		w.field(w.name("text"), "quoted")
	case t.open != "":
		w.field(w.name("context"), "")
	case t.tail == ":":
		w.field(w.name("component"), "token")
	default:
		w.field(w.name("word"), "token")
	}
	w.text.WriteString(close)
}

func (w *walker) valueType(s *shape) string {
	ints, floats, quoted := 0, 0, 0
	for t, n := range s.texts {
		switch {
		case strings.HasPrefix(t, `"`):
			quoted += n
		case kindOf(t) == "int":
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
func (w *walker) takeLevels(s *shape) {
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
		case low == "fine":
			w.levels[low] = record.Debug
		default:
			w.levels[low] = record.Info
		}
	}
}

// tables proposes csv with each separator that all lines have equally often.
func tables(lines [][]byte) []format.Spec {
	var out []format.Spec
	for _, sep := range []string{",", ";", "\t", "|"} {
		n := -1
		same, spaced, cells := 0, 0, 0
		for _, l := range lines {
			values := split(l, sep)
			if n < 0 {
				n = len(values)
			}
			if len(values) == n {
				same++
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
		if n < 3 || float64(same) < agree*float64(len(lines)) {
			continue
		}
		spec := format.Spec{Kind: "csv", Separator: sep}
		if sep == "," {
			spec.Separator = ""
		}
		spec.Columns, spec.Fields, spec.Time.Field = described(lines, sep, n)
		out = append(out, spec)
	}
	return out
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

// described names the columns: by the head, when the first line is one, and types them by what stands in all lines.
func described(lines [][]byte, sep string, n int) (names []string, types map[string]string, timeField string) {
	headed := true
	for _, v := range split(lines[0], sep) {
		headed = headed && columnName.MatchString(v) && kindOf(v) == "word"
	}
	body := lines
	if headed {
		for _, v := range split(lines[0], sep) {
			names = append(names, strings.ReplaceAll(strings.ToLower(v), " ", "_"))
		}
		body = lines[1:]
	} else {
		for i := range n {
			names = append(names, fmt.Sprintf("column%d", i+1))
		}
	}
	types = map[string]string{}
	for i, name := range names {
		kinds, full := map[string]int{}, 0
		for _, l := range body {
			v := split(l, sep)
			if len(v) != n || v[i] == "" {
				continue
			}
			full++
			if k, ok := format.Recognise([]byte(v[i])); ok && k == len(v[i]) && k >= 8 {
				kinds["time"]++
			} else {
				kinds[kindOf(v[i])]++
			}
		}
		switch {
		case full == 0:
		case kinds["time"] == full:
			if timeField == "" {
				timeField = name
			}
		case kinds["int"] == full:
			types[name] = "int"
		case kinds["int"]+kinds["float"] == full:
			types[name] = "float"
		case kinds["ip"] == full:
			types[name] = "ip"
		}
	}
	if len(types) == 0 {
		types = nil
	}
	return names, types, timeField
}
