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

// Explain tells line by line why a host does or does not get a source; gets is true when every line holds. can tells
// which parts the host's agent can run; nil leaves that out, for a host whose agent has not reported yet.
func Explain(in Input, h *inventory.Host, source string, can func(part string) bool) (gets bool, lines []Why) {
	cat := in.Catalogue
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
	if c := d.Source.Hosts.Condition; c != nil {
		facts := h.Facts()
		for _, line := range c.Explain(&facts) {
			add(line.Holds, "%s", line.Text)
		}
	}
	for _, t := range d.Source.Hosts.Terms {
		have, ok := h.Labels[t.Key]
		want := strings.Join(t.Values, " or ")
		switch {
		case slices.Contains(t.Values, have):
			add(true, "label %s is %s, as it asks", t.Key, have)
		case ok:
			add(false, "label %s is %s; it asks for %s", t.Key, have, want)
		default:
			add(false, "the host has no label %s; it asks for %s", t.Key, want)
		}
	}
	settings, conflicts := cat.Layers(h, nil)
	lookup := catalogue.Lookup(h, settings, in.Secrets)
	uses := append([]*catalogue.Definition{d}, cat.Uses(d.Source)...)
	for _, u := range uses {
		refs, _ := u.Refs()
		for _, ref := range slices.SortedFunc(maps.Keys(refs), func(a, b catalogue.Ref) int {
			return strings.Compare(
				a.String(), b.String())
		}) {
			v, ok := lookup(ref)
			if ref.Space == "secret" {
				add(
					ok,
					"secret %s, which %s uses, %s",
					ref.Name,
					u.ID,
					map[bool]string{true: "is set", false: "does not exist"}[ok],
				)
				continue
			}
			switch i := slices.IndexFunc(conflicts, func(c catalogue.Conflict) bool {
				return ref.Space == "setting" &&
					c.Setting == ref.Name
			}); {
			case ok:
				add(true, "%s, which %s uses, is %s", ref, u.ID, v)
			case i >= 0:
				add(
					false,
					"%s, which %s uses, has no value: settings %s and %s of equal rank disagree",
					ref,
					u.ID,
					conflicts[i].First,
					conflicts[i].Second,
				)
			default:
				add(false, "%s, which %s uses, is not defined on this host", ref, u.ID)
			}
		}
	}
	for _, n := range cat.Needs(d) {
		if can != nil && !can(n.Part) {
			add(false, "its agent cannot run %s, which %s needs", n.Part, n.Def.ID)
		}
	}
	return !slices.ContainsFunc(lines, func(w Why) bool { return !w.Holds }), lines
}
