package format

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"synaxis/internal/core/record"
	"synaxis/internal/core/yamldoc"
)

// Decode reads a format definition; its name has been taken already. Problems go to r.
func Decode(r *yamldoc.Reader, f *yamldoc.Fields, name string) Spec {
	s := Spec{Name: name, Kind: "template"}
	f.Later("regex", "json", "keyvalue", "csv", "first-of", "fields", "columns", "about")
	n := f.Node("template")
	s.Template = r.AsText(n, "template")
	if n == nil && !slices.ContainsFunc([]string{"regex", "json", "keyvalue", "csv", "first-of"}, f.Has) {
		r.Fail(f.At(), "schema", "a format needs \"template\": the shape of a line with its fields in braces", "such as template: '{ts:time} {message:remainder}'")
	}
	if _, err := parseTemplate(s.Template); n != nil && err != nil {
		r.Fail(n, "format-invalid", err.Error(), "")
	}
	s.Time = DecodeTime(r, f)
	if l := f.Sub("level"); l != nil {
		s.Level.Field = l.Text("field")
		for _, e := range l.Entries("map") {
			level := record.ParseLevel(e.Value.Value)
			if level == 0 {
				r.Fail(e.Value, "schema", fmt.Sprintf("level.map: %q is not a level", e.Value.Value), "one of TRACE, DEBUG, INFO, WARN, ERROR, FATAL")
			}
			if s.Level.Map == nil {
				s.Level.Map = map[string]uint8{}
			}
			s.Level.Map[strings.ToLower(e.Key)] = level
		}
		l.Close()
	}
	s.Body = f.Text("body")
	for _, item := range f.Items("samples") {
		s.Samples = append(s.Samples, decodeSample(r, item))
	}
	f.Close()
	if n != nil && len(r.Problems) == 0 {
		if _, err := Compile(s, Time{}); err != nil {
			r.Fail(n, "format-invalid", err.Error(), "")
		}
	}
	return s
}

// DecodeTime reads the key time of a format or a source.
func DecodeTime(r *yamldoc.Reader, f *yamldoc.Fields) Time {
	t := f.Sub("time")
	if t == nil {
		return Time{}
	}
	out := Time{Field: t.Text("field")}
	if n := t.Node("layout"); n != nil {
		out.Layout = r.AsText(n, "layout")
		if _, err := compileLayout(out.Layout); err != nil {
			r.Fail(n, "format-invalid", err.Error(), "")
		}
	}
	if n := t.Node("zone"); n != nil {
		out.Zone = r.AsText(n, "zone")
		if err := CheckZone(out.Zone); err != nil && !strings.Contains(out.Zone, "${") {
			r.Fail(n, "zone-unknown", err.Error(), "")
		}
	}
	t.Close()
	return out
}

func decodeSample(r *yamldoc.Reader, n *yamldoc.Node) Sample {
	f := r.Fields(n, "a sample")
	s := Sample{Line: n.Line, Column: n.Column}
	s.Text = r.AsText(f.Require("line", "the line to try"), "line")
	read := func(key string) {
		g := f.Node(key)
		if g == nil {
			return
		}
		if g.Kind != yamldoc.Map {
			if s.None = g.Value == "none"; !s.None {
				r.Fail(g, "schema", key+": expected a map of fields, or none", "")
			}
			return
		}
		s.Gives = map[string]Want{}
		for _, e := range g.Entries {
			kinds := map[yamldoc.Kind]record.Kind{yamldoc.Int: record.Int, yamldoc.Float: record.Float, yamldoc.Bool: record.Bool, yamldoc.Text: record.Text}
			kind, ok := kinds[e.Value.Kind]
			if !ok {
				r.Fail(e.Value, "schema", fmt.Sprintf("%s.%s: expected a value", key, e.Key), "quote it if it is text")
			}
			s.Gives[e.Key] = Want{kind, e.Value.Value}
		}
	}
	read("gives")
	if f.Has("gives-exactly") {
		read("gives-exactly")
		s.Exactly = true
	}
	if l := f.Node("level"); l != nil {
		if s.Level = l.Value; record.ParseLevel(s.Level) == 0 {
			r.Fail(l, "schema", fmt.Sprintf("level: %q is not a level", s.Level), "one of TRACE, DEBUG, INFO, WARN, ERROR, FATAL")
		}
	}
	f.Close()
	return s
}

// AppendYAML writes a template format as Decode reads it, without its samples: a host does not need them.
func (s Spec) AppendYAML(dst []byte, indent string) []byte {
	line := func(key, value string) {
		dst = append(append(append(dst, indent...), key...), ": "...)
		dst = append(yamldoc.AppendQuote(dst, value), '\n')
	}
	line("template", s.Template)
	dst = s.Time.AppendYAML(dst, indent)
	if s.Level.Field != "" || len(s.Level.Map) > 0 {
		dst = append(append(append(dst, indent...), "level: {field: "...), yamldoc.Quote(s.Level.Field)...)
		if len(s.Level.Map) > 0 {
			keys := make([]string, 0, len(s.Level.Map))
			for k := range s.Level.Map {
				keys = append(keys, k)
			}
			sort.Strings(keys)
			dst = append(dst, ", map: {"...)
			for i, k := range keys {
				if i > 0 {
					dst = append(dst, ", "...)
				}
				dst = append(yamldoc.AppendQuote(dst, k), ": "...)
				dst = append(dst, record.LevelName(s.Level.Map[k])...)
			}
			dst = append(dst, '}')
		}
		dst = append(dst, "}\n"...)
	}
	if s.Body != "" {
		line("body", s.Body)
	}
	return dst
}

// AppendYAML writes the key time, or nothing when there is nothing to say.
func (t Time) AppendYAML(dst []byte, indent string) []byte {
	if t == (Time{}) {
		return dst
	}
	dst = append(append(dst, indent...), "time: {"...)
	sep := ""
	for _, kv := range [...][2]string{{"field", t.Field}, {"layout", t.Layout}, {"zone", t.Zone}} {
		if kv[1] != "" {
			dst = append(append(append(dst, sep...), kv[0]...), ": "...)
			dst = yamldoc.AppendQuote(dst, kv[1])
			sep = ", "
		}
	}
	return append(dst, "}\n"...)
}
