package format

import (
	"regexp"
	"slices"
)

// Field is a name that a format gives, with its type: text, int, float, bool, time or ip; "" when it is known only at
// run time.
type Field struct{ Name, Type string }

// Gives tells which fields a format gives; open means that there may be any others too. other answers the formats that
// first-of names.
func (s Spec) Gives(other func(name string) (Spec, bool)) (fields []Field, open bool) {
	switch s.Kind {
	case "template":
		parts, err := parseTemplate(s.Template)
		if err != nil {
			return nil, true
		}
		for _, p := range parts {
			if p.name == "" || p.name == "-" {
				continue
			}
			typ := p.typ
			if typ != "int" && typ != "float" {
				typ = "text" // a time and an address are kept as they are written
			}
			fields = append(fields, Field{p.name, typ})
		}
		return fields, false
	case "regex":
		re, err := regexp.Compile(s.Regex)
		if err != nil {
			return nil, true
		}
		for _, n := range re.SubexpNames() {
			if n != "" {
				fields = append(fields, Field{n, "text"})
			}
		}
		return fields, false
	case "csv":
		for _, c := range s.Columns {
			typ := s.Fields[c]
			if typ == "" {
				typ = "text"
			}
			fields = append(fields, Field{c, typ})
		}
		return fields, len(s.Columns) == 0
	case "json", "keyvalue":
		for n, t := range s.Fields {
			fields = append(fields, Field{n, t})
		}
		slices.SortFunc(fields, func(a, b Field) int {
			if a.Name < b.Name {
				return -1
			}
			return 1
		})
		return fields, s.Fields == nil
	case "web-common", "web-combined":
		for _, f := range webFields {
			if s.Kind == "web-common" && (f == "http.request.header.referer" || f == "user_agent.original") {
				continue
			}
			typ := "text"
			if f == "http.response.status_code" || f == "http.response.body.size" {
				typ = "int"
			}
			fields = append(fields, Field{f, typ})
		}
		return fields, false
	case "cef":
		for _, f := range cefFields {
			typ := "text"
			if f == "cef.version" || f == "syslog.facility" || f == "syslog.severity" {
				typ = "int"
			}
			fields = append(fields, Field{f, typ})
		}
		return fields, true
	case "syslog":
		return nil, true
	case "first-of":
		types := map[string]string{}
		var order []string
		for _, name := range s.FirstOf {
			f, ok := other(name)
			if !ok || f.Kind == "first-of" {
				return nil, true
			}
			more, anything := f.Gives(other)
			open = open || anything
			for _, m := range more {
				have, known := types[m.Name]
				if !known {
					order = append(order, m.Name)
				} else if have != m.Type {
					m.Type = ""
				}
				types[m.Name] = m.Type
			}
		}
		for _, n := range order {
			fields = append(fields, Field{n, types[n]})
		}
		return fields, open
	}
	return nil, s.Kind != "raw"
}
