package guess

import (
	"regexp"
	"slices"
	"strings"
	"unicode"

	"synaxis/internal/core/record"
)

// cells are the marks that part columns.
const cells = "|;\t"

// spot is what the lines have in one spot.
type spot struct {
	token  token
	kinds  map[string]int
	texts  map[string]int
	n      int
	last   string
	cell   bool // it is alone between two of the marks that part columns
	column bool // words of several lengths are filled up to one
	falls  int  // how often the text of a line comes before that of the line above
}

func (s *spot) constant() bool { return len(s.texts) == 1 && s.n > 1 }

// methods of HTTP (RFC 9110) are a choice, even where a log holds but one.
var methods = map[string]bool{
	"GET":     true,
	"HEAD":    true,
	"POST":    true,
	"PUT":     true,
	"DELETE":  true,
	"CONNECT": true,
	"OPTIONS": true,
	"TRACE":   true,
	"PATCH":   true,
}

// fixed tells whether what is the same in all lines belongs to the format, and not to the host or the hour that wrote
// it.
func (s *spot) fixed() bool {
	w := s.token.text
	joined := len(w) > 2 && strings.Contains(w[1:len(w)-1], "-") && wordByte(w[0]) // as names of hosts are
	return !joined && !strings.ContainsAny(w, "0123456789/@.") && !methods[w]
}

// says tells whether a spot has a level and a colon.
func (s *spot) says() bool {
	return s.token.tail == ":" && s.token.open == "" && (s.all("level") || s.leveled())
}

// worded tells whether a spot has nothing but words, with no mark of their own.
func (s *spot) worded() bool {
	return s.all("word") && s.token.key == "" && s.token.open == "" && s.token.tail == "" && s.token.sep == " "
}

// padded tells whether words are filled up with spaces in their bracket.
func (s *spot) padded() bool {
	for t := range s.texts {
		if strings.TrimSpace(t) != t {
			return true
		}
	}
	return false
}

// spaced tells whether a text of a spot has a space in it.
func (s *spot) spaced() bool {
	for t := range s.texts {
		if strings.Contains(t, " ") {
			return true
		}
	}
	return false
}

// plain tells whether a spot has words of no kind, with nothing around them.
func (s *spot) plain() bool {
	return s.kinds["word"] > 0 && s.token.key == "" && s.token.open == "" && s.token.tail == "" && !s.graded() &&
		!s.column &&
		!s.chosen() &&
		!(s.n > 2 && s.dotted())
}

// chosen tells whether a spot has words that are a choice, and no beginning of a sentence: streams of a process,
// methods of HTTP.
func (s *spot) chosen() bool {
	for t := range s.texts {
		if !methods[t] && t != "stdout" && t != "stderr" {
			return false
		}
	}
	return true
}

// few tells whether a spot takes one of a few words, or one that looks like an identifier in each line.
func (s *spot) few() bool {
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

// unit is the unit that all numbers of a spot have; "" when they have none, or differ.
func (s *spot) unit() string {
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

// rising tells whether the numbers of a spot go up, or hardly down, from line to line, as time does.
func (s *spot) rising() bool { return s.falls*10 <= s.n }

// leveled tells whether a spot mostly has levels, and beside them some words of the same kind that programs use for
// one.
func (s *spot) leveled() bool {
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
	return s.kinds["level"]*2 >= s.n && !s.onlyLog() ||
		also > 0 && s.token.open == "[" // brackets hold what is counted among few
}

// graded tells whether a spot has a few words over and over, several levels among them: then the others are a
// program's own levels.
func (s *spot) graded() bool {
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

// onlyLog tells whether there is but the word log, which some programs write for a level, and many begin their
// sentences with.
func (s *spot) onlyLog() bool {
	return s.constant() && strings.EqualFold(s.token.text, "log") && s.token.open == "" && s.token.tail != ":"
}

// alsoLevels are words that stand in the place of a level and say that nothing is wrong.
var alsoLevels = []string{
	"system",
	"note",
	"statement",
	"detail",
	"hint",
	"context",
	"audit",
	"success",
	"status",
	"config",
	"finer",
	"finest",
}

// smallLevels are words for levels below the usual.
var smallLevels = []string{"fine", "finer", "finest", "silly"}

func (s *spot) all(kinds ...string) bool {
	n := 0
	for _, k := range kinds {
		n += s.kinds[k]
	}
	return n == s.n
}

var dottedName = regexp.MustCompile(`^[A-Za-z_$][\w$]*(?:\.[A-Za-z_$][\w$]*)+$`)

// dotted tells whether a spot has names of parts of a program, as most that log say who does it.
func (s *spot) dotted() bool {
	n := 0
	for t, k := range s.texts {
		if dottedName.MatchString(t) {
			n += k
		}
	}
	return n*10 >= s.n*9
}

// wordy tells whether a spot mostly has words of small letters, as sentences do.
func (s *spot) wordy() bool {
	n := 0
	for t, k := range s.texts {
		if strings.Trim(t, "abcdefghijklmnopqrstuvwxyz'") == "" {
			n += k
		}
	}
	return n*10 >= s.n*9
}

// looks tells whether all texts of a spot look so.
func (s *spot) looks(like *regexp.Regexp) bool {
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

// every tells whether all values of a spot are so, without their quotes; all of them have quotes, or none.
func (s *spot) every(is func(string) bool) bool {
	for t := range s.texts {
		if strings.HasPrefix(t, `"`) != (s.quote() != "") || !is(strings.Trim(t, `"`)) {
			return false
		}
	}
	return true
}

// quote is the quote in which the values of a spot stand, or "".
func (s *spot) quote() string {
	if strings.HasPrefix(s.token.text, `"`) {
		return `"`
	}
	return ""
}

func (s *spot) unquote() {
	bare := map[string]int{}
	for t, n := range s.texts {
		bare[strings.Trim(t, `"`)] += n
	}
	s.texts = bare
}
