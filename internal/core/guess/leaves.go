package guess

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"synaxis/internal/core/format"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/record"
)

// A format may read a line and still leave a part of it out: a web server's line with a duration behind it, the words
// beside pairs. What is in no field must be said, or it is gone without a word.

// leavesOut finds what is in no field in most records, with an example; "" for nothing. Only formats that pass over
// parts do that.
func leavesOut(kind format.Kind, records []pipeline.Tried) string {
	if !slices.Contains([]format.Kind{format.WebCommon, format.WebCombined, format.KeyValue}, kind) {
		return ""
	}
	read, leaving, example := 0, 0, ""
	for _, r := range records {
		if !r.Read {
			continue
		}
		read++
		if left := inNoField(kind, r); left != "" {
			if leaving++; example == "" {
				example = left
			}
		}
		if read == 500 {
			break
		}
	}
	if leaving*2 < read || leaving == 0 {
		return ""
	}
	return example
}

var (
	webTail = regexp.MustCompile(
		`^\S+ \S+ .*?\[[^\]]*\] "(?:[^"\\]|\\.)*" \S+ \S+(?: "(?:[^"\\]|\\.)*" "(?:[^"\\]|\\.)*")?(.*)$`,
	)
	pairWords = regexp.MustCompile(`[\pL\pN][\pL\pN_.:/-]*`)
)

// inNoField is the part of a record that no field holds.
func inNoField(kind format.Kind, r pipeline.Tried) string {
	if strings.HasPrefix(string(kind), "web-") {
		if m := webTail.FindStringSubmatch(r.Original); m != nil {
			tail := m[1]
			if kind == "web-common" && strings.Count(r.Original, `"`) >= 6 { // which has no room for the two texts
				i := strings.Index(r.Original, `" `)
				tail = r.Original[min(len(r.Original), i+2):]
				if parts := strings.SplitN(tail, " ", 3); len(parts) == 3 {
					tail = parts[2]
				}
			}
			return strings.TrimSpace(tail)
		}
		return ""
	}
	var held strings.Builder
	for _, f := range r.Fields {
		fmt.Fprintf(&held, "%s=%v ", f.Name, f.Value)
	}
	text := held.String()
	var left []string
	for _, w := range pairWords.FindAllString(r.Original, -1) {
		if !strings.Contains(text, w) {
			left = append(left, w)
		}
	}
	return strings.Join(left, " ")
}

// onlyErrors tells whether the records that are not read are mostly those that say that something is wrong: just these
// must not be missed.
func onlyErrors(records []pipeline.Tried) bool {
	unread, wrong := 0, 0
	for _, r := range records {
		if r.Read {
			continue
		}
		unread++
		for _, w := range errorWords.FindAllString(r.Original[:min(len(r.Original), 120)], -1) {
			if record.ParseLevel(w) >= record.Error {
				wrong++
				break
			}
		}
	}
	return unread > 0 && wrong*2 >= unread
}

var errorWords = regexp.MustCompile(`\b(?:[A-Z]{3,9}|[A-Z][a-z]{4,8}|err|error|fatal|panic|crit|critical|severe)\b`)
