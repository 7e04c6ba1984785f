package guess

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"synaxis/internal/core/format"
	"synaxis/internal/core/mask"
	"synaxis/internal/core/record"
	"synaxis/internal/core/yamldoc"
)

// Definition writes a candidate as a format definition of a name, with a sample out of the log. zone is that of times
// without one, or "".
func (c Candidate) Definition(name, zone string) string {
	var b strings.Builder
	s := c.Spec
	fmt.Fprintf(&b, "format: %s\n", name)
	switch s.Kind {
	case "template":
		fmt.Fprintf(&b, "template: %s\n", quote(s.Template))
	case "json", "keyvalue":
		fmt.Fprintf(&b, "%s: {}\n", s.Kind)
	case "csv":
		if s.Separator != "" {
			fmt.Fprintf(&b, "csv: {separator: %s}\n", yamldoc.Quote(s.Separator))
		} else {
			b.WriteString("csv: {}\n")
		}
		fmt.Fprintf(&b, "columns: %s\n", yamldoc.AppendFlowList(nil, s.Columns))
		if len(s.Fields) > 0 {
			fmt.Fprintf(&b, "fields: %s\n", yamldoc.AppendFlowMap(nil, s.Fields))
		}
	case "regex":
		fmt.Fprintf(&b, "regex: %s\n", quote(s.Regex))
		if len(s.Fields) > 0 {
			fmt.Fprintf(&b, "fields: %s\n", yamldoc.AppendFlowMap(nil, s.Fields))
		}
	case "first-of":
		names := make([]string, len(c.Parts))
		for i := range c.Parts {
			names[i] = fmt.Sprintf("%s-%d", name, i+1)
		}
		fmt.Fprintf(&b, "first-of: [%s]\n", strings.Join(names, ", "))
	default: // a built-in one under a name of its own
		fmt.Fprintf(&b, "first-of: [%s]\n", s.Kind)
	}
	builtIn := !slices.Contains(
		[]format.Kind{format.Template, format.CSV, format.JSON, format.KeyValue, format.Regex}, s.Kind)
	if t := s.Time.Field; t != "" || zone != "" && !builtIn {
		var parts []string
		if t != "" {
			parts = append(parts, "field: "+plain(t))
		}
		if s.Time.Layout != "" {
			parts = append(parts, "layout: "+quote(s.Time.Layout))
		}
		if zone != "" {
			parts = append(parts, "zone: "+zone)
		}
		fmt.Fprintf(&b, "time: {%s}\n", strings.Join(parts, ", "))
	}
	if s.Level.Field != "" {
		fmt.Fprintf(&b, "level: {field: %s", plain(s.Level.Field))
		if len(s.Level.Map) > 0 {
			m := map[string]string{}
			for _, k := range slices.Sorted(maps.Keys(s.Level.Map)) {
				m[k] = record.LevelName(s.Level.Map[k])
			}
			fmt.Fprintf(&b, ", map: %s", yamldoc.AppendFlowMap(nil, m))
		}
		b.WriteString("}\n")
	}
	if s.Body != "" {
		fmt.Fprintf(&b, "body: %s\n", plain(s.Body))
	}
	if line, private := c.sample(); line != "" {
		if len(private) > 0 {
			fmt.Fprintf(
				&b,
				"# This sample seems to hold private data (%s): make up other data before it is saved.\n",
				strings.Join(private, ", "),
			)
		}
		fmt.Fprintf(&b, "samples:\n  - {line: %s}\n", yamldoc.Quote(line))
	}
	for i, p := range c.Parts {
		b.WriteString("---\n" + Candidate{Spec: p}.Definition(fmt.Sprintf("%s-%d", name, i+1), zone))
	}
	return b.String()
}

// plain writes a name as it is, where YAML takes it so.
func plain(name string) string {
	if plainName.MatchString(name) {
		return name
	}
	return yamldoc.Quote(name)
}

var plainName = regexp.MustCompile(`^[A-Za-z_][\w.-]*$`)

// sample picks a line for a sample: the first without private data, or else the first, with what it seems to hold.
// Definitions are kept for ever and seen by many.
func (c Candidate) sample() (line string, private []string) {
	const looked = 200
	for i, r := range c.Records {
		if i == looked {
			break
		}
		if !r.Read || r.Lines != 1 || len(r.Original) >= 400 || !printable(r.Original) {
			continue
		}
		hits := mask.Scan([]byte(r.Original))
		var own []string
		if c.private != nil {
			own = c.private([]byte(r.Original))
		}
		if len(hits)+len(own) == 0 {
			return r.Original, nil
		}
		if line == "" {
			line, private = r.Original, own
			for _, h := range hits {
				private = append(private, h.Detector)
			}
		}
	}
	slices.Sort(private)
	return line, slices.Compact(private)
}

// quote writes a text as people do: in single quotes, where that can be.
func quote(s string) string {
	if strings.ContainsAny(s, "\n\t\r") {
		return yamldoc.Quote(s)
	}
	return "'" + strings.ReplaceAll(s, "'", "''") + "'"
}

// printable tells whether a text can stand in a definition for people to read.
func printable(s string) bool {
	return utf8.ValidString(s) &&
		!strings.ContainsFunc(s, func(r rune) bool { return r != '\t' && !unicode.IsPrint(r) || r == utf8.RuneError })
}
