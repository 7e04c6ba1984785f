package schema

import (
	"sort"
	"strings"

	"synaxis/internal/core/yamldoc"
)

// Expand replaces the references in a text.
type Expand func(text string) string

// Leave tells which keys are left out.
type Leave func(k *Key) bool

// DeskKeys leaves out what stays at the desk.
func DeskKeys(k *Key) bool { return k.Desk }

// AppendCanonical writes a document in the one form that means the same: keys in the order of the schema, some left
// out, references replaced by expand when it is not nil. Each key of the document is a line after indent, but lists of
// maps, which have a line for each item.
func (v *Value) AppendCanonical(dst []byte, n *yamldoc.Node, indent string, leave Leave, expand Expand) []byte {
	if n == nil || n.Kind != yamldoc.Map {
		return dst
	}
	for i := range v.Keys {
		k := &v.Keys[i]
		value := n.Get(k.Name)
		if value == nil || leave(k) {
			continue
		}
		dst = append(append(append(dst, indent...), k.Name...), ':')
		form := k.Value.form(value)
		if form.Type == List && len(value.Items) > 0 && value.Items[0].Kind == yamldoc.Map {
			for _, item := range value.Items {
				dst = append(append(append(dst, '\n'), indent...), "  - "...)
				dst = form.Item.appendFlow(dst, item, leave, expand)
			}
		} else {
			dst = k.Value.appendFlow(append(dst, ' '), value, leave, expand)
		}
		dst = append(dst, '\n')
	}
	return dst
}

func (v *Value) appendFlow(dst []byte, n *yamldoc.Node, leave Leave, expand Expand) []byte {
	v = v.form(n)
	switch {
	case n.Kind == yamldoc.List:
		dst = append(dst, '[')
		for i, item := range n.Items {
			if i > 0 {
				dst = append(dst, ", "...)
			}
			if v.Item != nil {
				dst = v.Item.appendFlow(dst, item, leave, expand)
			}
		}
		return append(dst, ']')
	case n.Kind == yamldoc.Map && v.Type == Table:
		entries := append([]yamldoc.Entry{}, n.Entries...)
		sort.SliceStable(entries, func(i, j int) bool { return entries[i].Key < entries[j].Key })
		dst = append(dst, '{')
		for i, e := range entries {
			if i > 0 {
				dst = append(dst, ", "...)
			}
			dst = append(yamldoc.AppendQuote(dst, e.Key), ": "...)
			dst = v.Item.appendFlow(dst, e.Value, leave, expand)
		}
		return append(dst, '}')
	case n.Kind == yamldoc.Map:
		dst = append(dst, '{')
		first := true
		for i := range v.Keys {
			k := &v.Keys[i]
			value := n.Get(k.Name)
			if value == nil || leave(k) {
				continue
			}
			if !first {
				dst = append(dst, ", "...)
			}
			first = false
			dst = append(append(dst, k.Name...), ": "...)
			dst = k.Value.appendFlow(dst, value, leave, expand)
		}
		return append(dst, '}')
	case n.Kind == yamldoc.Null:
		return append(dst, "null"...)
	}
	text, quoted := n.Value, n.Kind == yamldoc.Text
	if v.Refs && expand != nil && strings.Contains(text, "${") {
		text = expand(text)
		// a reference that is the whole value keeps its type
		whole := strings.HasPrefix(n.Value, "${") && strings.Count(n.Value, "${") == 1 &&
			strings.HasSuffix(n.Value, "}")
		quoted = !whole || v.Type != Int && v.Type != Number && v.Type != Bool || !plain(text)
	}
	if quoted || v.Type == Text {
		return yamldoc.AppendQuote(dst, text)
	}
	return append(dst, text...)
}

// plain tells whether a text can stand without quotes as a number or a truth.
func plain(s string) bool {
	return s == "true" || s == "false" || s != "" && strings.Trim(s, "0123456789.-") == ""
}
