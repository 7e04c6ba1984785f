// Package catalogue holds the definitions: their types, how they are read from YAML, and what they refer to.
package catalogue

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"sort"
	"strings"

	"synaxis/internal/core/delivery"
	"synaxis/internal/core/format"
	"synaxis/internal/core/inventory"
	"synaxis/internal/core/mask"
	"synaxis/internal/core/notice"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/schema"
	"synaxis/internal/core/yamldoc"
)

// Kinds of definitions, in the order in which they are listed.
var Kinds = []string{"source", "format", "mask", "guard", "destination", "settings", "agents", "plan", "notice", "label-key"}

// later are kinds of the language that this version does not run yet.
var later = []string{"kit"}

// ID names a definition.
type ID struct{ Kind, Name string }

func (id ID) String() string { return id.Kind + " " + id.Name }

// Compare orders by kind, then name.
func (id ID) Compare(o ID) int {
	if id.Kind != o.Kind {
		return slices.Index(Kinds, id.Kind) - slices.Index(Kinds, o.Kind)
	}
	return strings.Compare(id.Name, o.Name)
}

// Definition is one document of the catalogue. Text is the truth; one of the typed parts is set by its kind.
type Definition struct {
	ID
	File string // relative, with slashes
	Line int    // of File, at which Text begins
	Text string

	Source      *Source
	Format      *format.Spec
	Mask        *mask.Spec
	Guard       *Guard
	Destination *delivery.Spec
	Settings    *Settings
	Agents      *Agents
	Plan        *Plan
	Notice      *notice.Rule
	LabelKey    *LabelKey

	root *yamldoc.Node // with the name
	body *yamldoc.Node // without it
}

// Source is a source definition: how to treat it, and on which hosts.
type Source struct {
	Hosts inventory.Selector
	pipeline.Source
}

// Body is the document without its kind and name, as Schema describes it.
func (d *Definition) Body() *yamldoc.Node { return d.body }

// Schema is what the definition may hold.
func (d *Definition) Schema() *schema.Value { return Schemas[d.Kind] }

// Selector is the choice of hosts of a source, settings or agents definition, or nil.
func (d *Definition) Selector() *inventory.Selector {
	switch {
	case d.Source != nil:
		return &d.Source.Hosts
	case d.Settings != nil:
		return &d.Settings.Hosts
	case d.Agents != nil:
		return &d.Agents.Hosts
	}
	return nil
}

// Digest is over what the definition means, so that comments, spacing and samples do not count.
func (d *Definition) Digest() string {
	b := append([]byte(d.ID.String()), '\n')
	b = d.Schema().
		AppendCanonical(b, d.body, "", func(k *schema.Key) bool { return k.Name == "about" || k.Name == "samples" },
			nil)
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// At returns the line and column of a place in the definition: keys of maps and, as "#2", positions in lists. It
// gives the nearest place that exists.
func (d *Definition) At(path ...string) (line, column int) {
	n := d.root
	if n == nil {
		return d.Line, 1
	}
	line, column = n.Line, n.Column
	for _, key := range path {
		var next *yamldoc.Node
		var i int
		if _, err := fmt.Sscanf(key, "#%d", &i); err == nil && n.Kind == yamldoc.List && i < len(n.Items) {
			next = n.Items[i]
		} else if n.Kind == yamldoc.Map {
			next = n.Get(key)
		}
		if next == nil {
			break
		}
		n = next
		line, column = n.Line, n.Column
	}
	return line, column
}

// Chosen returns the names of the hosts that the definition is for, if it chooses hosts.
func (d *Definition) Chosen(hosts []inventory.Host) []string {
	sel := d.Selector()
	if sel == nil {
		return nil
	}
	var out []string
	for i := range hosts {
		if sel.Match(&hosts[i]) {
			out = append(out, hosts[i].Name)
		}
	}
	return out
}

// About is the sentence that a definition says of itself.
func (d *Definition) About() string { return d.body.Get("about").Text() }

// Parse reads all definitions of a file.
func Parse(file string, text []byte) ([]*Definition, []yamldoc.Problem) {
	docs, problems := yamldoc.Parse(file, text)
	var defs []*Definition
	for _, doc := range docs {
		d, p := decode(doc)
		problems = append(problems, p...)
		if d != nil {
			defs = append(defs, d)
		}
	}
	sort.SliceStable(problems, func(i, j int) bool { return problems[i].Line < problems[j].Line })
	return defs, problems
}

func decode(doc yamldoc.Document) (*Definition, []yamldoc.Problem) {
	r := &yamldoc.Reader{File: doc.File}
	if doc.Root.Kind != yamldoc.Map {
		r.Mismatch(doc.Root, "a definition", "a map")
		return nil, r.Problems
	}
	d := &Definition{File: doc.File, Line: doc.Line, Text: doc.Text, root: doc.Root}
	kindAt, ok := identify(r, doc.Root, d)
	if !ok {
		return nil, r.Problems
	}
	if slices.Contains(later, d.Kind) {
		r.FailAt(
			kindAt.Line,
			kindAt.Column,
			"not-yet",
			fmt.Sprintf("the kind %q is not available yet", d.Kind),
			"leave this document out for now",
		)
		return nil, r.Problems
	}
	if why := CheckName(d.Name); why != "" {
		r.FailAt(kindAt.Value.Line, kindAt.Value.Column, "schema", why, "")
	}
	d.body = &yamldoc.Node{Kind: yamldoc.Map, Line: doc.Root.Line, Column: doc.Root.Column}
	for _, e := range doc.Root.Entries {
		if e.Value != kindAt.Value && (kindAt.Key != "kind" || e.Key != "kind" && e.Key != "name") {
			d.body.Entries = append(d.body.Entries, e)
		}
	}
	d.Schema().Validate(r, d.body, d.Kind, schema.Where{})
	d.fill(r)
	if d.Kind == "format" {
		if _, taken := format.BuiltIn(d.Name); taken {
			r.FailAt(
				kindAt.Line,
				kindAt.Column,
				"schema",
				fmt.Sprintf("%q is a built-in format", d.Name),
				"choose another name",
			)
		}
	}
	if d.Kind == "mask" && slices.Contains(mask.Detectors, d.Name) {
		r.FailAt(
			kindAt.Line,
			kindAt.Column,
			"schema",
			fmt.Sprintf("%q is a built-in mask", d.Name),
			"choose another name",
		)
	}
	for i := range r.Problems {
		r.Problems[i].Line = max(r.Problems[i].Line, doc.Line)
		r.Problems[i].Kind, r.Problems[i].Name = d.Kind, d.Name
	}
	return d, r.Problems
}

// identify takes kind and name from the first key, or from the keys kind and name.
func identify(r *yamldoc.Reader, root *yamldoc.Node, d *Definition) (at yamldoc.Entry, ok bool) {
	all := append(slices.Clone(Kinds), later...)
	name := root.Get("name")
	if n := root.Get("kind"); n != nil {
		d.Kind = n.Text()
		at = yamldoc.Entry{Key: "kind", Line: n.Line, Column: n.Column, Value: n}
	} else {
		if len(root.Entries) == 0 {
			r.Fail(root, "schema", "the document is empty", "begin with a kind, such as source: NAME")
			return at, false
		}
		at = root.Entries[0]
		d.Kind, name = at.Key, at.Value
	}
	if !slices.Contains(all, d.Kind) {
		fix := "kinds are " + strings.Join(Kinds, ", ")
		if near := yamldoc.Nearest(d.Kind, all); near != "" {
			fix = fmt.Sprintf("did you mean %q?", near)
		}
		r.FailAt(
			at.Line,
			at.Column,
			"unknown-kind",
			fmt.Sprintf("a document begins with its kind; %q is none", d.Kind),
			fix,
		)
		return at, false
	}
	if name == nil || name.Kind == yamldoc.Null || name.Kind == yamldoc.Map || name.Kind == yamldoc.List {
		r.FailAt(
			at.Line,
			at.Column,
			"schema",
			fmt.Sprintf("the %s has no name", d.Kind),
			"such as "+d.Kind+": gate-scans",
		)
		return at, false
	}
	d.Name = name.Text()
	return at, true
}

// CheckName tells what is wrong with the name of a definition, or "".
func CheckName(name string) string {
	if len(name) < 2 || len(name) > 63 {
		return fmt.Sprintf("the name %q has %d characters; 2 to 63 are allowed", name, len(name))
	}
	for _, c := range name {
		if !(c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c == '-') {
			return fmt.Sprintf("the name %q holds %q; a-z, 0-9 and - are allowed", name, c)
		}
	}
	return ""
}

// Catalogue is a set of definitions. It is not changed after it was made.
type Catalogue struct {
	list     []*Definition
	settings []*Definition
	byID     map[ID]*Definition
}

// New makes a catalogue. Of two definitions with one name the first stays, and the second is a problem.
func New(defs []*Definition) (*Catalogue, []yamldoc.Problem) {
	c := &Catalogue{byID: map[ID]*Definition{}}
	var problems []yamldoc.Problem
	for _, d := range defs {
		if first, taken := c.byID[d.ID]; taken {
			line, column := d.At()
			problems = append(
				problems,
				yamldoc.Problem{
					Code:   "duplicate-name",
					File:   d.File,
					Line:   line,
					Column: column,
					Kind:   d.Kind,
					Name:   d.Name,
					Reason: fmt.Sprintf(
						"%s is defined already in %s, line %d",
						d.ID,
						first.File,
						first.Line,
					),
					Fix: "rename or remove one",
				},
			)
			continue
		}
		c.byID[d.ID] = d
		c.list = append(c.list, d)
	}
	sort.Slice(c.list, func(i, j int) bool { return c.list[i].Compare(c.list[j].ID) < 0 })
	for _, d := range c.list {
		if d.Settings != nil {
			c.settings = append(c.settings, d)
		}
	}
	return c, problems
}

// All returns the definitions, ordered by kind and name.
func (c *Catalogue) All() []*Definition { return c.list }

// Get returns a definition, or nil.
func (c *Catalogue) Get(kind, name string) *Definition { return c.byID[ID{kind, name}] }

// Names returns the names of one kind.
func (c *Catalogue) Names(kind string) []string {
	var out []string
	for _, d := range c.list {
		if d.Kind == kind {
			out = append(out, d.Name)
		}
	}
	return out
}

// Mask returns a built-in or defined mask.
func (c *Catalogue) Mask(name string) (mask.Spec, bool) {
	if d := c.Get("mask", name); d != nil {
		return *d.Mask, true
	}
	return mask.BuiltIn(name), slices.Contains(mask.Detectors, name)
}

// Format returns a built-in or defined format.
func (c *Catalogue) Format(name string) (format.Spec, bool) {
	if d := c.Get("format", name); d != nil {
		return *d.Format, true
	}
	return format.BuiltIn(name)
}
