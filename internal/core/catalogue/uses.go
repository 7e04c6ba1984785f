package catalogue

import (
	"fmt"
	"slices"

	"synaxis/internal/core/mask"
)

// GuardMasks returns the masks that guards put on a source, and the guards.
func (c *Catalogue) GuardMasks(s *Source) (masks []string, guards []*Definition) {
	for _, d := range c.list {
		if d.Guard == nil || !d.Guard.Covers(s) {
			continue
		}
		guards = append(guards, d)
		for _, m := range d.Guard.Masks {
			if !slices.Contains(masks, m) {
				masks = append(masks, m)
			}
		}
	}
	return masks, guards
}

// Coverage is what protects the private data of a source before its records leave a host.
type Coverage struct {
	Source *Definition
	Guards []*Definition // those that cover it
	Masks  []string      // of its guards
	Own    []string      // masks of its own steps; a later step could still bring the data back from elsewhere
	To     []string      // where its records go
}

// Coverage tells of every source which guards and masks protect it, in the order of the catalogue.
func (c *Catalogue) Coverage() []Coverage {
	var out []Coverage
	for _, d := range c.list {
		if d.Source == nil {
			continue
		}
		x := Coverage{Source: d}
		x.Masks, x.Guards = c.GuardMasks(d.Source)
		for _, s := range d.Source.Steps {
			if s.Kind != "mask" {
				continue
			}
			for _, m := range s.Value.Texts() {
				if !slices.Contains(x.Own, m) {
					x.Own = append(x.Own, m)
				}
			}
		}
		for _, e := range d.Source.Send {
			if !slices.Contains(x.To, e.To) {
				x.To = append(x.To, e.To)
			}
		}
		if u := d.Source.Unparsed; u != "" && u != "keep" && u != "drop" && !slices.Contains(x.To, u) {
			x.To = append(x.To, u)
		}
		out = append(out, x)
	}
	return out
}

// Uses returns the definitions that a host needs beside a source to run it: its formats, masks and destinations.
func (c *Catalogue) Uses(s *Source) []*Definition {
	var out []*Definition
	var add func(kind, name string)
	add = func(kind, name string) {
		d := c.byID[ID{kind, name}]
		if d == nil || slices.Contains(out, d) {
			return
		}
		out = append(out, d)
		if d.Format != nil {
			for _, f := range d.Format.FirstOf {
				add("format", f)
			}
		}
	}
	for _, f := range s.Formats() {
		add("format", f)
	}
	for _, m := range c.MasksOf(s) {
		add("mask", m)
	}
	for _, to := range s.Destinations() {
		add("destination", to)
	}
	return out
}

// MasksOf returns the names of all masks of a source: those of its steps and those of guards.
func (c *Catalogue) MasksOf(s *Source) []string {
	var out []string
	for _, st := range s.Steps {
		if st.Kind == "mask" {
			for _, m := range st.Value.Texts() {
				if !slices.Contains(out, m) {
					out = append(out, m)
				}
			}
		}
	}
	masks, _ := c.GuardMasks(s)
	for _, m := range masks {
		if !slices.Contains(out, m) {
			out = append(out, m)
		}
	}
	return out
}

// Need is a part that an agent must be able to run, and the first place that asks for it.
type Need struct {
	Part string
	Def  *Definition
	Path []string
}

// Needs returns what an agent must be able to run for a source or an agents definition, in a stable order.
func (c *Catalogue) Needs(d *Definition) []Need {
	var out []Need
	add := func(part string, of *Definition, path []string) {
		if !slices.ContainsFunc(out, func(n Need) bool { return n.Part == part }) {
			out = append(out, Need{part, of, path})
		}
	}
	all := []*Definition{d}
	if d.Source != nil {
		all = append(all, c.Uses(d.Source)...)
	}
	for _, of := range all {
		for part, path := range of.Schema().Parts(of.body) {
			add(part, of, path)
		}
	}
	if d.Source == nil {
		return out
	}
	for _, name := range d.Source.Formats() {
		if f, ok := c.Format(name); ok {
			for _, part := range f.Parts() {
				add(part, d, []string{"format"})
			}
		}
	}
	for i, s := range d.Source.Steps {
		if s.Kind == "mask" {
			add("masks", d, []string{"steps", fmt.Sprintf("#%d", i)})
		}
	}
	if _, guards := c.GuardMasks(d.Source); len(guards) > 0 {
		add("masks", guards[0], []string{"masks"})
	}
	slices.SortFunc(out, func(a, b Need) int {
		if a.Part < b.Part {
			return -1
		}
		return 1
	})
	return out
}

// UsedBy returns the definitions that use a definition by its name.
func (c *Catalogue) UsedBy(id ID) []*Definition {
	var out []*Definition
	for _, d := range c.list {
		uses := false
		switch {
		case d.Source != nil:
			switch id.Kind {
			case "format":
				uses = slices.Contains(d.Source.Formats(), id.Name)
			case "destination":
				uses = slices.Contains(d.Source.Destinations(), id.Name)
			case "mask":
				uses = slices.Contains(c.MasksOf(d.Source), id.Name)
			case "guard":
				g := c.byID[id]
				uses = g != nil && g.Guard != nil && g.Guard.Covers(d.Source)
			}
		case d.Format != nil:
			uses = id.Kind == "format" && slices.Contains(d.Format.FirstOf, id.Name)
		case d.Guard != nil:
			uses = id.Kind == "mask" && slices.Contains(d.Guard.Masks, id.Name)
		}
		if uses {
			out = append(out, d)
		}
	}
	return out
}

// SecretsOf returns the names of the secrets that a definition refers to.
func (d *Definition) SecretsOf() []string {
	refs, _ := d.Refs()
	var out []string
	for r := range refs {
		if r.Space == "secret" {
			out = append(out, r.Name)
		}
	}
	slices.Sort(out)
	return out
}

// MaskNames are the names of all masks, built in or defined.
func (c *Catalogue) MaskNames() []string { return append(c.Names("mask"), mask.Detectors...) }
