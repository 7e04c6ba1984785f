package catalogue

import (
	"fmt"
	"slices"
	"sort"
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

// Text is a place in a definition that may hold references.
type Text struct {
	Path  []string
	Value *string
}

// SourceTexts returns every text of a source that may hold references, to read or to replace.
func SourceTexts(s *pipeline.Source) []Text {
	var out []Text
	for i := range s.Files {
		out = append(out, Text{[]string{"read", "files", fmt.Sprintf("#%d", i)}, &s.Files[i]})
	}
	for i := range s.Except {
		out = append(out, Text{[]string{"read", "except", fmt.Sprintf("#%d", i)}, &s.Except[i]})
	}
	return append(out, Text{[]string{"time", "zone"}, &s.Time.Zone})
}

// DestinationTexts is SourceTexts for a destination.
func DestinationTexts(d *delivery.Spec) []Text {
	return []Text{{[]string{"deliver", d.Kind, "url"}, &d.URL}, {[]string{"deliver", d.Kind, "path"}, &d.Path}}
}

// MapTexts returns the values of a map that may hold references: labels and headers.
func MapTexts(m map[string]string, path ...string) []struct {
	Path []string
	Key  string
} {
	var out []struct {
		Path []string
		Key  string
	}
	for k := range m {
		out = append(out, struct {
			Path []string
			Key  string
		}{append(slices.Clone(path), k), k})
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Key < out[j].Key })
	return out
}

// DefinitionRefs returns all references of a definition with the place of the first use of each; broken are the
// places whose references have a wrong form.
func DefinitionRefs(d *Definition) (refs map[Ref][]string, broken []BrokenRef) {
	refs = map[Ref][]string{}
	note := func(path []string, text string) {
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
	var texts []Text
	maps := map[string]map[string]string{}
	prefix := map[string][]string{}
	switch {
	case d.Source != nil:
		texts = SourceTexts(&d.Source.Source)
		maps["labels"], prefix["labels"] = d.Source.Labels, []string{"labels"}
	case d.Destination != nil:
		texts = DestinationTexts(d.Destination)
		maps["headers"], prefix["headers"] = d.Destination.Headers, []string{"deliver", d.Destination.Kind, "headers"}
	}
	for _, t := range texts {
		note(t.Path, *t.Value)
	}
	for what, m := range maps {
		for _, e := range MapTexts(m, prefix[what]...) {
			note(e.Path, m[e.Key])
		}
	}
	return refs, broken
}

// BrokenRef is a reference of a wrong form.
type BrokenRef struct {
	Path []string
	Err  error
}

// Layers answers what settings a host has: its own win over those of the settings definitions that choose it.
// Definitions that disagree leave the value undefined and are named in conflicts.
func (c *Catalogue) Layers(h inventory.Host) (values map[string]string, conflicts []Conflict) {
	values = map[string]string{}
	from := map[string]string{}
	bad := map[string]bool{}
	for _, d := range c.list {
		if d.Settings == nil || !d.Settings.Hosts.Match(h.Labels) {
			continue
		}
		for k, v := range d.Settings.Values {
			if _, own := h.Settings[k]; own {
				continue
			}
			if other, taken := values[k]; taken && other != v {
				conflicts = append(conflicts, Conflict{k, from[k], d.Name})
				bad[k] = true
				continue
			}
			values[k], from[k] = v, d.Name
		}
	}
	for k := range bad {
		delete(values, k)
	}
	for k, v := range h.Settings {
		values[k] = v
	}
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
