package catalogue

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"synaxis/internal/core/inventory"
	"synaxis/internal/core/schema"
)

// Ref is a reference in a text, such as ${setting.log_root}.
type Ref struct{ Space, Name string }

func (r Ref) String() string { return "${" + r.Space + "." + r.Name + "}" }

// Expand replaces the references in a text. get answers the value of one, or false. $${ stands for ${. The first
// error is about the form of a reference; missing are those that get did not know.
func Expand(text string, get func(Ref) (string, bool)) (out string, missing []Ref, err error) {
	if !strings.Contains(text, "${") {
		return text, nil, nil
	}
	var b strings.Builder
	for {
		i := strings.Index(text, "${")
		if i < 0 {
			b.WriteString(text)
			return b.String(), missing, nil
		}
		if i > 0 && text[i-1] == '$' {
			b.WriteString(text[:i-1] + "${")
			text = text[i+2:]
			continue
		}
		b.WriteString(text[:i])
		end := strings.IndexByte(text[i:], '}')
		if end < 0 {
			return "", nil, fmt.Errorf("the reference %q is not closed", text[i:])
		}
		space, name, ok := strings.Cut(text[i+2:i+end], ".")
		ref := Ref{space, name}
		switch {
		case !ok || name == "":
			return "", nil, fmt.Errorf("%q is not a reference; known are %s", text[i:i+end+1], knownRefs)
		case !slices.Contains(spaces, space),
			space == "host" && name != "name",
			space == "observed" && name != "os" && name != "arch" && name != "name":
			return "", nil, fmt.Errorf("%s is not known; known are %s", ref, knownRefs)
		}
		value, ok := get(ref)
		if !ok {
			missing = append(missing, ref)
		}
		b.WriteString(value)
		text = text[i+end+1:]
	}
}

var spaces = []string{"setting", "host", "label", "observed", "secret"}

const knownRefs = "${setting.NAME}, ${host.name}, ${label.KEY}, ${observed.os}, ${observed.arch}, ${observed.name}, " +
	"${secret.NAME}"

// Refs returns the references of a text in order, each once.
func Refs(text string) ([]Ref, error) {
	var refs []Ref
	_, _, err := Expand(text, func(r Ref) (string, bool) {
		if !slices.Contains(refs, r) {
			refs = append(refs, r)
		}
		return "", true
	})
	return refs, err
}

// Refs returns all references of a definition with the place of the first use of each; broken are the places whose
// references have a wrong form or stand where none is read.
func (d *Definition) Refs() (refs map[Ref][]string, broken []BrokenRef) {
	refs = map[Ref][]string{}
	d.Schema().Walk(d.body, func(p schema.Place) {
		if !strings.Contains(p.Text, "${") || p.Path[0] == "about" {
			return
		}
		if !p.Value.Refs {
			if d.Kind == "format" ||
				d.Kind == "mask" { // there ${ may well be a dollar before a field or in an expression
				return
			}
			for _, ref := range looksLikeReference.FindAllString(p.Text, -1) {
				if !strings.HasPrefix(ref, "$$") {
					broken = append(
						broken,
						BrokenRef{
							p.Path,
							"reference-misplaced",
							fmt.Sprintf(
								"%s would stay as it is written here: references are not read in %s",
								ref,
								strings.Join(p.Path, "."),
							),
						},
					)
				}
			}
			return
		}
		found, err := Refs(p.Text)
		if err != nil {
			broken = append(broken, BrokenRef{p.Path, "reference-unknown", err.Error()})
		}
		for _, r := range found {
			if r.Space == "secret" && !p.Value.Secrets {
				broken = append(
					broken,
					BrokenRef{
						p.Path,
						"reference-misplaced",
						fmt.Sprintf(
							"%s: a secret may not stand in %s, where anybody who reads the config would see it",
							r,
							strings.Join(p.Path, "."),
						),
					},
				)
				continue
			}
			if _, ok := refs[r]; !ok {
				refs[r] = p.Path
			}
		}
	})
	return refs, broken
}

var looksLikeReference = regexp.MustCompile(`\$?\$\{(?:setting|host|label|secret|observed)\.[^}]*\}`)

// BrokenRef is a reference of a wrong form, or in a wrong place.
type BrokenRef struct {
	Path         []string
	Code, Reason string
}

// Settings are the settings definitions, in the catalogue's order.
func (c *Catalogue) Settings() []*Definition { return c.settings }

// Layers answers what settings a host has: its own win over those of the settings definitions that choose it, and of
// these the one of the highest rank. Definitions of equal rank that disagree leave the value undefined and are named
// in conflicts. chosen tells which definitions choose the host, by their place in Settings; nil asks their selectors.
func (c *Catalogue) Layers(
	h *inventory.Host,
	chosen func(i int) bool,
) (values map[string]string, conflicts []Conflict) {
	var from, against map[string]*Definition // against: of the same rank as from, with another value
	for i, d := range c.settings {
		if chosen == nil && !d.Settings.Hosts.Match(h) || chosen != nil && !chosen(i) {
			continue
		}
		if from == nil {
			values, from = make(map[string]string, 8), make(map[string]*Definition, 8)
		}
		for k, v := range d.Settings.Values {
			have := from[k]
			switch {
			case have == nil || d.Settings.Rank > have.Settings.Rank:
				values[k], from[k] = v, d
				delete(against, k)
			case d.Settings.Rank == have.Settings.Rank && v != values[k] && against[k] == nil:
				if against == nil {
					against = map[string]*Definition{}
				}
				against[k] = d
			}
		}
	}
	for _, k := range slices.Sorted(maps.Keys(against)) {
		if _, own := h.Settings[k]; !own {
			conflicts = append(conflicts, Conflict{k, from[k].Name, against[k].Name})
			delete(values, k)
		}
	}
	if values == nil {
		return h.Settings, nil
	}
	maps.Copy(values, h.Settings)
	return values, conflicts
}

// Conflict is a setting that two settings definitions give different values.
type Conflict struct{ Setting, First, Second string }

// Lookup returns the function that Expand needs for a host. secrets are the versions of the secrets that exist; one is
// rendered as ${secret.NAME@VERSION}, never as its value.
func Lookup(h *inventory.Host, settings map[string]string, secrets map[string]int) func(Ref) (string, bool) {
	return func(r Ref) (string, bool) {
		switch r.Space {
		case "host":
			return h.Name, true
		case "label":
			v, ok := h.Labels[r.Name]
			return v, ok
		case "observed":
			f := h.Facts()
			return f.Get("observed." + r.Name)
		case "secret":
			v, ok := secrets[r.Name]
			return fmt.Sprintf("${secret.%s@%d}", r.Name, v), ok
		}
		v, ok := settings[r.Name]
		return v, ok
	}
}
