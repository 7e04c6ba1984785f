package schema

import (
	"slices"
	"strings"

	"synaxis/internal/core/yamldoc"
)

// typeNames are the types as people and forms are told.
var typeNames = map[Type]string{
	Text:          "text",
	Bool:          "boolean",
	Int:           "integer",
	Number:        "number",
	Size:          "size",
	Duration:      "duration",
	Choice:        "choice",
	Condition:     "condition",
	Expression:    "expression",
	HostCondition: "host-condition",
	Any:           "any",
	List:          "list",
	Table:         "table",
	Object:        "object",
}

// Entry is one place of a document, for the reference page, for completion and for forms.
type Entry struct {
	Path    []string `json:"path"` // keys; "*" for a key of the writer's choice, "#" for an item of a list
	Type    string   `json:"type"`
	Need    bool     `json:"need"`
	Doc     string   `json:"doc"`
	Example string   `json:"example,omitempty"`
	Default string   `json:"default,omitempty"`
	Choices []string `json:"choices,omitempty"`
	Names   string   `json:"names,omitempty"` // the kind of definition whose name it holds
	Refs    bool     `json:"references,omitempty"`
	Secrets bool     `json:"secrets,omitempty"`
	Later   bool     `json:"later,omitempty"`
	Part    string   `json:"part,omitempty"` // what an agent must be able to run for it
}

// Entries lists every place that a document may have. A place that may have one of several forms is listed once for
// each.
func (v *Value) Entries() []Entry {
	var out []Entry
	v.entries(nil, Entry{}, &out)
	return out
}

func (v *Value) entries(path []string, of Entry, out *[]Entry) {
	if v.Type == Union {
		for i, f := range v.Forms {
			if i > 0 {
				of.Doc, of.Example, of.Default = "", "", ""
			}
			f.entries(path, of, out)
		}
		return
	}
	if len(path) > 0 {
		e := of
		e.Path, e.Type, e.Choices, e.Names, e.Refs, e.Secrets = path, typeNames[v.Type], v.Choices, v.Kind, v.Refs,
			v.Secrets
		*out = append(*out, e)
	}
	switch v.Type {
	case Object:
		for i := range v.Keys {
			k := &v.Keys[i]
			if k.Made {
				continue
			}
			k.Value.entries(
				append(slices.Clip(path), k.Name),
				Entry{Need: k.Need, Doc: k.Doc, Example: k.Example, Default: k.Default, Later: k.Later, Part: k.Part},
				out,
			)
		}
	case Table:
		v.Item.entries(append(slices.Clip(path), "*"), Entry{}, out)
	case List:
		v.Item.entries(append(slices.Clip(path), "#"), Entry{}, out)
	}
}

// JSONSchema describes the value for editors (JSON Schema, draft 2020-12).
func (v *Value) JSONSchema() map[string]any {
	m := map[string]any{}
	switch v.Type {
	case Bool:
		m["type"] = "boolean"
	case Int:
		m["type"] = "integer"
		m["minimum"] = v.Least
	case Number:
		m["type"] = "number"
	case Size:
		m["type"], m["pattern"] = "string", `^[0-9.]+ ?(B|KiB|MiB|GiB|TiB)$`
	case Duration:
		m["type"], m["pattern"] = "string", `^([0-9.]+(ns|us|µs|ms|s|m|h|d))+$`
	case Choice:
		m["type"] = []string{"string", "integer"}
		m["enum"] = v.Choices
		if !slices.ContainsFunc(v.Choices, func(c string) bool { return strings.Trim(c, "0123456789") == "" }) {
			m["type"] = "string"
		}
	case Any:
		m["type"] = []string{"string", "number", "boolean"}
	case List:
		m["type"], m["items"] = "array", v.Item.JSONSchema()
	case Table:
		m["type"], m["additionalProperties"] = "object", v.Item.JSONSchema()
	case Object:
		return v.objectSchema()
	case Union:
		var forms []any
		for _, f := range v.Forms {
			forms = append(forms, f.JSONSchema())
		}
		m["anyOf"] = forms
	default: // a text; YAML writers leave quotes out where a number is meant as text
		m["type"] = []string{"string", "number", "boolean"}
	}
	if v.Refs && m["type"] != nil {
		if _, several := m["type"].([]string); !several {
			return map[string]any{"anyOf": []any{m, map[string]any{"type": "string", "pattern": `\$\{`}}}
		}
	}
	return m
}

func (v *Value) objectSchema() map[string]any {
	properties, need := map[string]any{}, []string{}
	for i := range v.Keys {
		k := &v.Keys[i]
		if k.Made || k.Later {
			continue
		}
		p := k.Value.JSONSchema()
		if k.Doc != "" {
			p["description"] = k.Doc
		}
		if k.Default != "" {
			p["x-default"] = k.Default
		}
		properties[k.Name] = p
		if k.Need {
			need = append(need, k.Name)
		}
	}
	m := map[string]any{"type": "object", "properties": properties, "additionalProperties": false}
	if len(need) > 0 {
		m["required"] = need
	}
	if len(v.One) > 0 {
		var one []any
		for _, name := range v.One {
			one = append(one, map[string]any{"required": []string{name}})
		}
		m["oneOf"] = one
	}
	return m
}

// JSON makes a node into what encoding/json writes, with the keys of maps in their order.
func JSON(n *yamldoc.Node) []byte { return appendJSON(nil, n) }

func appendJSON(dst []byte, n *yamldoc.Node) []byte {
	if n == nil {
		return append(dst, "null"...)
	}
	switch n.Kind {
	case yamldoc.Map:
		dst = append(dst, '{')
		for i, e := range n.Entries {
			if i > 0 {
				dst = append(dst, ',')
			}
			dst = append(yamldoc.AppendQuote(dst, e.Key), ':')
			dst = appendJSON(dst, e.Value)
		}
		return append(dst, '}')
	case yamldoc.List:
		dst = append(dst, '[')
		for i, item := range n.Items {
			if i > 0 {
				dst = append(dst, ',')
			}
			dst = appendJSON(dst, item)
		}
		return append(dst, ']')
	case yamldoc.Null:
		return append(dst, "null"...)
	case yamldoc.Bool:
		if n.Bool(false) {
			return append(dst, "true"...)
		}
		return append(dst, "false"...)
	}
	return yamldoc.AppendQuote(
		dst,
		n.Value,
	) // numbers as they are written: a form must show 0644 and 1.0 as they stand
}
