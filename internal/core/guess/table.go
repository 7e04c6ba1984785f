package guess

import (
	"bytes"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"synaxis/internal/core/format"
)

// columnNames is a head that names the columns.
var columnNames = regexp.MustCompile(`^#(?:Fields:|fields\t)(.*)$`)

// barred proposes templates for lines whose parts stand between bars, with spaces or without; the last may be
// anything. With begin only those are looked at that begin a record.
func barred(lines [][]byte, begin string) []format.Spec {
	re := regexp.MustCompile(begin)
	heads := slices.DeleteFunc(slices.Clone(lines), func(l []byte) bool { return !re.Match(l) })
	return append(betweenBars(heads, " | "), betweenBars(heads, "|")...)
}

func betweenBars(lines [][]byte, bar string) []format.Spec {
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
		seen := &spot{texts: map[string]int{}}
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
	return []format.Spec{
		{
			Kind:     "template",
			Template: w.text.String(),
			Time:     format.Time{Field: w.time},
			Body:     w.body,
			Level:    format.Level{Field: w.level, Map: w.levels},
		},
	}
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
		if short := len(split(lines[0], sep)); short == n-1 &&
			len(lines) > 3 { // a head that does not name the text at the end
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

// numbers proposes csv for lines that are many values with spaces between them, most of them numbers, addresses, or a
// dash for none.
func numbers(lines [][]byte) []format.Spec {
	n, values, plain := 0, 0, 0
	lines = slices.DeleteFunc(
		slices.Clone(lines),
		func(l []byte) bool { return len(bytes.TrimSpace(l)) == 0 || l[0] == '#' },
	)
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
func described(
	lines [][]byte,
	fields []string,
	sep string,
	n int,
) (names []string, types map[string]string, timeField string) {
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
