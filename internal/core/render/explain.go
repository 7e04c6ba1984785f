package render

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/inventory"
	"synaxis/internal/core/yamldoc"
)

// Why is one line of an explanation: a condition, and whether it holds.
type Why struct {
	Holds bool
	Text  string
}

// Explain tells line by line why a host does or does not get a source; gets is true when every line holds.
func Explain(cat *catalogue.Catalogue, h inventory.Host, source string) (gets bool, lines []Why) {
	add := func(holds bool, format string, args ...any) {
		lines = append(lines, Why{holds, fmt.Sprintf(format, args...)})
	}
	d := cat.Get("source", source)
	if d == nil {
		hint := ""
		if near := yamldoc.Nearest(source, cat.Names("source")); near != "" {
			hint = fmt.Sprintf("; did you mean %s?", near)
		}
		add(false, "there is no source %s in the catalogue%s", source, hint)
		return false, lines
	}
	if d.Source.Hosts.All {
		add(true, "it is for all hosts")
	}
	for _, t := range d.Source.Hosts.Terms {
		have, ok := h.Labels[t.Key]
		want := strings.Join(t.Values, " or ")
		switch {
		case slices.Contains(t.Values, have) && ok:
			add(true, "label %s is %s, as it asks", t.Key, have)
		case ok:
			add(false, "label %s is %s; it asks for %s", t.Key, have, want)
		default:
			add(false, "the host has no label %s; it asks for %s", t.Key, want)
		}
	}
	settings, conflicts := cat.Layers(h)
	lookup := catalogue.Lookup(h, settings)
	uses := []*catalogue.Definition{d}
	for _, to := range d.Source.Send {
		if dest := cat.Get("destination", to); dest != nil {
			uses = append(uses, dest)
		}
	}
	for _, u := range uses {
		refs, _ := catalogue.DefinitionRefs(u)
		for _, ref := range slices.SortedFunc(maps.Keys(refs), func(a, b catalogue.Ref) int { return strings.Compare(a.String(), b.String()) }) {
			v, ok := lookup(ref)
			switch i := slices.IndexFunc(conflicts, func(c catalogue.Conflict) bool { return ref.Space == "setting" && c.Setting == ref.Name }); {
			case ok:
				add(true, "%s, which %s uses, is %s", ref, u.ID, v)
			case i >= 0:
				add(false, "%s, which %s uses, has no value: settings %s and %s of equal rank disagree", ref, u.ID, conflicts[i].First, conflicts[i].Second)
			default:
				add(false, "%s, which %s uses, is not defined on this host", ref, u.ID)
			}
		}
	}
	return !slices.ContainsFunc(lines, func(w Why) bool { return !w.Holds }), lines
}
