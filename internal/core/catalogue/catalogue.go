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
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/yamldoc"
)

// Kinds of definitions that this version runs, in the order in which they are listed.
var Kinds = []string{"source", "format", "destination", "settings"}

// later are kinds of the language that this version does not run yet.
var later = []string{"mask", "guard", "agents", "plan", "label-key", "notice", "kit"}

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
	Destination *delivery.Spec
	Settings    *Settings

	root *yamldoc.Node
}

// Source is a source definition: how to treat it, and on which hosts.
type Source struct {
	About string
	Hosts inventory.Selector
	pipeline.Source
}

// Settings gives values to hosts. Of two that give a host the same setting the one of higher rank wins.
type Settings struct {
	Hosts  inventory.Selector
	Rank   int64
	Values map[string]string
}

// Digest is over what the definition means, so that comments, spacing and samples do not count.
func (d *Definition) Digest() string {
	var b []byte
	switch {
	case d.Source != nil:
		b = fmt.Appendf(b, "hosts: %s\n", d.Source.Hosts)
		b = d.Source.AppendYAML(b, "")
	case d.Format != nil:
		b = d.Format.AppendYAML(b, "")
	case d.Destination != nil:
		b = d.Destination.AppendYAML(b, "")
	case d.Settings != nil:
		b = fmt.Appendf(b, "hosts: %s\nrank: %d\n", d.Settings.Hosts, d.Settings.Rank)
		b = yamldoc.AppendFlowMap(b, d.Settings.Values)
	}
	sum := sha256.Sum256(append([]byte(d.ID.String()+"\n"), b...))
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

// Texts visits every text of the definition with its path, as At takes it.
func (d *Definition) Texts(visit func(path []string, text string)) {
	var walk func(n *yamldoc.Node, path []string)
	walk = func(n *yamldoc.Node, path []string) {
		switch n.Kind {
		case yamldoc.Map:
			for _, e := range n.Entries {
				walk(e.Value, append(slices.Clip(path), e.Key))
			}
		case yamldoc.List:
			for i, item := range n.Items {
				walk(item, append(slices.Clip(path), fmt.Sprintf("#%d", i)))
			}
		case yamldoc.Text:
			visit(path, n.Value)
		}
	}
	if d.root != nil {
		walk(d.root, nil)
	}
}

// Chosen returns the names of the hosts that a source or settings definition is for.
func (d *Definition) Chosen(hosts []inventory.Host) []string {
	var out []string
	for _, h := range hosts {
		if d.Source != nil && d.Source.Hosts.Match(h.Labels) || d.Settings != nil && d.Settings.Hosts.Match(h.Labels) {
			out = append(out, h.Name)
		}
	}
	return out
}

// About is the sentence that a definition says of itself.
func (d *Definition) About() string {
	if d.Source != nil {
		return d.Source.About
	}
	return ""
}

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
	f := r.Fields(doc.Root, "a definition")
	if f == nil {
		return nil, r.Problems
	}
	d := &Definition{File: doc.File, Line: doc.Line, Text: doc.Text, root: doc.Root}
	kindAt, ok := identify(r, f, doc.Root, d)
	if !ok {
		return nil, r.Problems
	}
	if slices.Contains(later, d.Kind) {
		r.FailAt(kindAt.Line, kindAt.Column, "not-yet", fmt.Sprintf("the kind %q is not available yet", d.Kind), "leave this document out for now")
		return nil, r.Problems
	}
	if why := checkName(d.Name); why != "" {
		r.FailAt(kindAt.Value.Line, kindAt.Value.Column, "schema", why, "")
	}
	switch d.Kind {
	case "source":
		s := &Source{About: f.Text("about"), Hosts: inventory.Decode(r, f)}
		s.Source = pipeline.Decode(r, f, d.Name)
		f.Close()
		d.Source = s
	case "format":
		s := format.Decode(r, f, d.Name)
		d.Format = &s
		if _, taken := format.BuiltIn(d.Name); taken {
			r.FailAt(kindAt.Line, kindAt.Column, "schema", fmt.Sprintf("%q is a built-in format", d.Name), "choose another name")
		}
	case "destination":
		s := delivery.Decode(r, f, d.Name)
		d.Destination = &s
	case "settings":
		f.Later("about")
		d.Settings = &Settings{Hosts: inventory.Decode(r, f), Rank: f.Int("rank", 0, 0), Values: f.TextMap("values")}
		for _, e := range f.Entries("values") {
			if why := inventory.CheckKey(e.Key); why != "" {
				r.FailAt(e.Line, e.Column, "schema", why, "")
			}
		}
		if !f.Has("values") {
			r.Fail(f.At(), "schema", "settings need \"values\": a map of names and values", "")
		}
		f.Close()
	}
	for i := range r.Problems {
		if r.Problems[i].Line < doc.Line {
			r.Problems[i].Line = doc.Line
		}
	}
	return d, r.Problems
}

// identify takes kind and name from the first key, or from the keys kind and name.
func identify(r *yamldoc.Reader, f *yamldoc.Fields, root *yamldoc.Node, d *Definition) (at yamldoc.Entry, ok bool) {
	all := append(slices.Clone(Kinds), later...)
	if f.Has("kind") {
		n := f.Node("kind")
		d.Kind = r.AsText(n, "kind")
		d.Name = r.AsText(f.Require("name", "the name of the definition"), "name")
		at = yamldoc.Entry{Key: "kind", Line: n.Line, Column: n.Column, Value: n}
	} else {
		if len(root.Entries) == 0 {
			r.Fail(root, "schema", "the document is empty", "begin with a kind, such as source: NAME")
			return at, false
		}
		at = root.Entries[0]
		d.Kind = at.Key
		if slices.Contains(all, d.Kind) {
			d.Name = r.AsText(f.Node(at.Key), at.Key)
		}
	}
	if !slices.Contains(all, d.Kind) {
		fix := "kinds are " + strings.Join(Kinds, ", ")
		if near := yamldoc.Nearest(d.Kind, all); near != "" {
			fix = fmt.Sprintf("did you mean %q?", near)
		}
		r.FailAt(at.Line, at.Column, "unknown-kind", fmt.Sprintf("a document begins with its kind; %q is none", d.Kind), fix)
		return at, false
	}
	return at, true
}

func checkName(name string) string {
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
	list []*Definition
	byID map[ID]*Definition
}

// New makes a catalogue. Of two definitions with one name the first stays, and the second is a problem.
func New(defs []*Definition) (*Catalogue, []yamldoc.Problem) {
	c := &Catalogue{byID: map[ID]*Definition{}}
	var problems []yamldoc.Problem
	for _, d := range defs {
		if first, taken := c.byID[d.ID]; taken {
			line, column := d.At()
			problems = append(problems, yamldoc.Problem{Code: "duplicate-name", File: d.File, Line: line, Column: column,
				Reason: fmt.Sprintf("%s is defined already in %s, line %d", d.ID, first.File, first.Line), Fix: "rename or remove one"})
			continue
		}
		c.byID[d.ID] = d
		c.list = append(c.list, d)
	}
	sort.Slice(c.list, func(i, j int) bool { return c.list[i].Compare(c.list[j].ID) < 0 })
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

// Format returns a built-in or defined format.
func (c *Catalogue) Format(name string) (format.Spec, bool) {
	if d := c.Get("format", name); d != nil {
		return *d.Format, true
	}
	return format.BuiltIn(name)
}
