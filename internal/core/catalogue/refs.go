package catalogue

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"synaxis/internal/core/delivery"
	"synaxis/internal/core/inventory"
	"synaxis/internal/core/pipeline"
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
			return "", nil, fmt.Errorf("%q is not a reference; known are ${setting.NAME}, ${host.name}, ${label.KEY}", text[i:i+end+1])
		case space == "secret" || space == "observed":
			return "", nil, fmt.Errorf("%s: references to %ss are not available yet", ref, strings.TrimSuffix(space, "ed"))
		case space == "host" && name != "name", space != "host" && space != "setting" && space != "label":
			return "", nil, fmt.Errorf("%s is not known; known are ${setting.NAME}, ${host.name}, ${label.KEY}", ref)
		}
		value, ok := get(ref)
		if !ok {
			missing = append(missing, ref)
		}
		b.WriteString(value)
		text = text[i+end+1:]
	}
}

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

// SourceTexts returns every text of a source that may hold references, to read or to replace, except its labels.
func SourceTexts(s *pipeline.Source) []*string {
	out := make([]*string, 0, len(s.Files)+len(s.Except)+1)
	for i := range s.Files {
		out = append(out, &s.Files[i])
	}
	for i := range s.Except {
		out = append(out, &s.Except[i])
	}
	return append(out, &s.Time.Zone)
}

// sourcePath is where text number i of SourceTexts stands.
func sourcePath(s *pipeline.Source, i int) []string {
	switch n := len(s.Files); {
	case i < n:
		return []string{"read", "files", fmt.Sprintf("#%d", i)}
	case i < n+len(s.Except):
		return []string{"read", "except", fmt.Sprintf("#%d", i-n)}
	}
	return []string{"time", "zone"}
}

// DestinationTexts is SourceTexts for a destination; its headers are the map beside it.
func DestinationTexts(d *delivery.Spec) []*string { return []*string{&d.URL, &d.Path} }

// DefinitionRefs returns all references of a definition with the place of the first use of each; broken are the
// places whose references have a wrong form.
func DefinitionRefs(d *Definition) (refs map[Ref][]string, broken []BrokenRef) {
	refs = map[Ref][]string{}
	note := func(text string, path ...string) {
		found, err := Refs(text)
		if err != nil {
			broken = append(broken, BrokenRef{path, err})
		}
		for _, r := range found {
			if _, ok := refs[r]; !ok {
				refs[r] = path
			}
		}
	}
	switch {
	case d.Source != nil:
		for i, t := range SourceTexts(&d.Source.Source) {
			note(*t, sourcePath(&d.Source.Source, i)...)
		}
		for _, k := range slices.Sorted(maps.Keys(d.Source.Labels)) {
			note(d.Source.Labels[k], "labels", k)
		}
	case d.Destination != nil:
		kind := d.Destination.Kind
		note(d.Destination.URL, "deliver", kind, "url")
		note(d.Destination.Path, "deliver", kind, "path")
		for _, k := range slices.Sorted(maps.Keys(d.Destination.Headers)) {
			note(d.Destination.Headers[k], "deliver", kind, "headers", k)
		}
	}
	return refs, broken
}

// BrokenRef is a reference of a wrong form.
type BrokenRef struct {
	Path []string
	Err  error
}

// Layers answers what settings a host has: its own win over those of the settings definitions that choose it, and of
// these the one of the highest rank. Definitions of equal rank that disagree leave the value undefined and are named in
// conflicts.
func (c *Catalogue) Layers(h inventory.Host) (values map[string]string, conflicts []Conflict) {
	values = map[string]string{}
	from := map[string]*Definition{}
	against := map[string]*Definition{} // of the same rank as from, with another value
	for _, d := range c.list {
		if d.Settings == nil || !d.Settings.Hosts.Match(h.Labels) {
			continue
		}
		for k, v := range d.Settings.Values {
			have := from[k]
			switch {
			case have == nil || d.Settings.Rank > have.Settings.Rank:
				values[k], from[k] = v, d
				delete(against, k)
			case d.Settings.Rank == have.Settings.Rank && v != values[k] && against[k] == nil:
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
	maps.Copy(values, h.Settings)
	return values, conflicts
}

// Conflict is a setting that two settings definitions give different values.
type Conflict struct{ Setting, First, Second string }

// Lookup returns the function that Expand needs for a host.
func Lookup(h inventory.Host, settings map[string]string) func(Ref) (string, bool) {
	return func(r Ref) (string, bool) {
		switch r.Space {
		case "host":
			return h.Name, true
		case "label":
			v, ok := h.Labels[r.Name]
			return v, ok
		}
		v, ok := settings[r.Name]
		return v, ok
	}
}
