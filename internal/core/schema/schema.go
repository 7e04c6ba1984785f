// Package schema says what documents may hold. One table for each kind of document is the single source of what is
// accepted, of what an agent must be able to run, of the form in which hosts get it, of the reference page, of the
// JSON Schema for editors, and of the forms in the console; the tables stand beside the code that runs what they
// describe.
package schema

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"synaxis/internal/core/yamldoc"
)

// Type is what kind of value is expected.
type Type uint8

// The types. Object has named keys, Table has keys of the writer's choice, Union takes one of several forms, told
// apart by whether the value is a scalar, a list or a map.
const (
	Text Type = iota
	Bool
	Int
	Number
	Size
	Duration
	Choice
	Condition     // CEL over a record
	Expression    // CEL over a record, of any type
	HostCondition // CEL over a host
	Any           // a scalar of any type
	List
	Table
	Object
	Union
)

// Value says what one value may be.
type Value struct {
	Type    Type
	What    string             // of an Object, in messages: "a source"
	Choices []string           // of a Choice
	Least   int64              // of an Int
	Item    *Value             // of a List, or the values of a Table
	Keys    []Key              // of an Object
	One     []string           // an Object with exactly one of these keys
	Forms   []*Value           // of a Union
	Check   func(string) error // of a scalar, when it holds no reference
	Code    string             // of what Check finds; default "schema"
	Refs    bool               // may hold ${...}
	Secrets bool               // may hold ${secret.NAME} too
	Kind    string             // names a definition of this kind, for completion
}

// Key is one key of an Object.
type Key struct {
	Name    string
	Value   *Value
	Doc     string // a sentence or two for the reference page and the forms
	Example string // YAML
	Default string
	Need    bool                         // must be there
	Hint    string                       // what to write, when it is missing
	Desk    bool                         // stays at the desk: hosts do not get it
	Part    string                       // what an agent must be able to run for it
	PartOf  func(n *yamldoc.Node) string // Part, when it depends on the value
	Later   bool                         // the language has it, this version does not
	Was     string                       // the name that it had before
	Made    bool                         // made by the service for hosts; a definition does not have it
}

// Where a document is read.
type Where struct {
	Host  bool                   // a host config: keys of the desk are not known there
	Parts func(part string) bool // what this agent can run; nil: everything
}

// Obj makes an Object.
func Obj(what string, keys ...Key) *Value { return &Value{Type: Object, What: what, Keys: keys} }

// OneOf makes an Object with exactly one of its keys.
func OneOf(what string, keys ...Key) *Value {
	v := Obj(what, keys...)
	v.One = v.names()
	return v
}

// With says that exactly one of some keys must be there.
func (v *Value) With(one ...string) *Value {
	v.One = one
	return v
}

// ListOf makes a List.
func ListOf(item *Value) *Value { return &Value{Type: List, Item: item} }

// TableOf makes a Table.
func TableOf(item *Value) *Value { return &Value{Type: Table, Item: item} }

// Either makes a Union.
func Either(forms ...*Value) *Value { return &Value{Type: Union, Forms: forms} }

// Words makes a Choice.
func Words(choices ...string) *Value { return &Value{Type: Choice, Choices: choices} }

// Simple values.
var (
	Plain     = &Value{Type: Text}
	WithRefs  = &Value{Type: Text, Refs: true}
	Flag      = &Value{Type: Bool}
	ASize     = &Value{Type: Size}
	ADuration = &Value{Type: Duration}
	Scalar    = &Value{Type: Any}
	Texts     = ListOf(Plain)
	Labels    = TableOf(WithRefs)
	Cond      = &Value{Type: Condition}
)

// Checked is a text with a check of its own.
func Checked(code string, check func(string) error) *Value {
	return &Value{Type: Text, Check: check, Code: code}
}

// Whole is a whole number of at least least.
func Whole(least int64) *Value { return &Value{Type: Int, Least: least} }

// Names is a text that names a definition of a kind.
func Names(kind string) *Value { return &Value{Type: Text, Kind: kind} }

// key finds a key of an object.
func (v *Value) key(name string) *Key {
	for i := range v.Keys {
		if v.Keys[i].Name == name {
			return &v.Keys[i]
		}
	}
	return nil
}

// form picks the form of a union that fits a node; without any it is the last one.
func (v *Value) form(n *yamldoc.Node) *Value {
	if v.Type != Union {
		return v
	}
	for _, f := range v.Forms {
		if f.shape() == shape(n) {
			return f
		}
	}
	return v.Forms[len(v.Forms)-1]
}

func (v *Value) shape() byte {
	switch v.Type {
	case List:
		return 'l'
	case Table, Object:
		return 'm'
	}
	return 's'
}

func shape(n *yamldoc.Node) byte {
	switch n.Kind {
	case yamldoc.List:
		return 'l'
	case yamldoc.Map:
		return 'm'
	}
	return 's'
}

// Validate records every problem of a node. name is the key under which the node stands.
func (v *Value) Validate(r *yamldoc.Reader, n *yamldoc.Node, name string, where Where) {
	if n == nil {
		return
	}
	v = v.form(n)
	if n.Kind == yamldoc.Null {
		r.Mismatch(n, name, v.expected())
		return
	}
	switch v.Type {
	case Object:
		v.validateObject(r, n, name, where)
	case Table:
		if n.Kind != yamldoc.Map {
			r.Mismatch(n, name, "a map")
			return
		}
		for _, e := range n.Entries {
			v.Item.Validate(r, e.Value, name+"."+e.Key, where)
		}
	case List:
		if n.Kind != yamldoc.List {
			r.Mismatch(n, name, "a list")
			return
		}
		for _, item := range n.Items {
			v.Item.Validate(r, item, name, where)
		}
	default:
		v.validateScalar(r, n, name)
	}
}

func (v *Value) validateObject(r *yamldoc.Reader, n *yamldoc.Node, name string, where Where) {
	if n.Kind != yamldoc.Map {
		r.Mismatch(n, name, "a map")
		return
	}
	for _, e := range n.Entries {
		k := v.key(e.Key)
		if k == nil || where.Host && k.Desk || !where.Host && k.Made {
			if now := v.renamed(e.Key); now != "" {
				r.FailAt(
					e.Line,
					e.Column,
					"unknown-key",
					fmt.Sprintf("%s has no key %q any more: it is called %q now", v.What, e.Key, now),
					fmt.Sprintf("write %s", now),
				)
				continue
			}
			r.FailAt(e.Line, e.Column, "unknown-key", fmt.Sprintf("%s has no key %q", v.What, e.Key), v.nearest(e.Key))
			continue
		}
		if k.Later {
			r.FailAt(
				e.Line,
				e.Column,
				"not-yet",
				fmt.Sprintf("%q is not available yet", e.Key),
				"leave it out for now",
			)
			continue
		}
		if part := k.part(e.Value); part != "" && where.Parts != nil && !where.Parts(part) {
			r.FailAt(
				e.Line,
				e.Column,
				"agent-lacks",
				fmt.Sprintf("%q needs the part %s, which this agent cannot run", e.Key, part),
				"install a newer agent",
			)
			continue
		}
		k.Value.Validate(r, e.Value, e.Key, where)
	}
	for i := range v.Keys {
		if k := &v.Keys[i]; k.Need && n.Get(k.Name) == nil && !(where.Host && k.Desk) {
			hint := k.Hint
			if hint == "" {
				hint = k.Doc
			}
			r.Fail(n, "schema", fmt.Sprintf("%s needs %q: %s", v.What, k.Name, hint), "")
		}
	}
	if len(v.One) > 0 {
		found := 0
		for _, one := range v.One {
			if n.Get(one) != nil {
				found++
			}
		}
		if found != 1 {
			r.Fail(n, "schema", fmt.Sprintf("%s holds exactly one of %s", v.What, strings.Join(v.One, ", ")), "")
		}
	}
}

func (k *Key) part(n *yamldoc.Node) string {
	if k.PartOf != nil {
		return k.PartOf(n)
	}
	return k.Part
}

func (v *Value) names() []string {
	var out []string
	for i := range v.Keys {
		if !v.Keys[i].Later && !v.Keys[i].Made {
			out = append(out, v.Keys[i].Name)
		}
	}
	return out
}

// renamed is what a key is called now that had this name before, or "".
func (v *Value) renamed(was string) string {
	for i := range v.Keys {
		if v.Keys[i].Was == was {
			return v.Keys[i].Name
		}
	}
	return ""
}

func (v *Value) nearest(key string) string {
	var all []string
	for i := range v.Keys {
		all = append(all, v.Keys[i].Name)
	}
	if near := yamldoc.Nearest(key, all); near != "" {
		return fmt.Sprintf("did you mean %q?", near)
	}
	return "known here: " + strings.Join(v.names(), ", ")
}

// expected says in words what a value should be.
func (v *Value) expected() string {
	switch v.Type {
	case Bool:
		return "true or false"
	case Int:
		return fmt.Sprintf("a whole number, %d or more", v.Least)
	case Number:
		return "a number"
	case Size:
		return "a size with its unit, such as 64MiB"
	case Duration:
		return "a duration with its unit, such as 30s"
	case Choice:
		return "one of: " + strings.Join(v.Choices, ", ")
	case Condition, HostCondition:
		return "a condition"
	case Expression:
		return "an expression"
	case List:
		return "a list"
	case Table, Object:
		return "a map"
	}
	return "text"
}

func (v *Value) validateScalar(r *yamldoc.Reader, n *yamldoc.Node, name string) {
	mismatch := func() { r.Mismatch(n, name, v.expected()) }
	if n.Kind == yamldoc.Map || n.Kind == yamldoc.List {
		mismatch()
		return
	}
	if v.Refs && strings.Contains(n.Value, "${") {
		return
	}
	switch v.Type {
	case Bool:
		if n.Kind != yamldoc.Bool {
			mismatch()
		}
	case Int:
		if x, err := strconv.ParseInt(n.Value, 10, 64); n.Kind != yamldoc.Int || err != nil || x < v.Least {
			mismatch()
		}
	case Number:
		if n.Kind != yamldoc.Int && n.Kind != yamldoc.Float {
			mismatch()
		}
	case Size:
		if _, err := yamldoc.ParseSize(n.Value); err != nil {
			mismatch()
		}
	case Duration:
		if _, err := yamldoc.ParseDuration(n.Value); err != nil {
			mismatch()
		}
	case Choice:
		if !slices.Contains(v.Choices, n.Value) {
			mismatch()
		}
	}
	if v.Check != nil {
		if err := v.Check(n.Value); err != nil {
			code := v.Code
			if code == "" {
				code = "schema"
			}
			r.Fail(n, code, fmt.Sprintf("%s: %v", name, err), "")
		}
	}
}

// Place is one scalar of a document: its path as catalogue.Definition.At takes it, its text, and what it may be.
type Place struct {
	Path  []string
	Text  string
	Value *Value
	Desk  bool // it or what it is in stays at the desk
}

// Walk visits every scalar of a document. Parts of the document that the schema does not know are passed over.
func (v *Value) Walk(n *yamldoc.Node, visit func(Place)) { v.walk(n, nil, false, visit) }

func (v *Value) walk(n *yamldoc.Node, path []string, desk bool, visit func(Place)) {
	if n == nil || n.Kind == yamldoc.Null {
		return
	}
	v = v.form(n)
	switch {
	case v.Type == Object && n.Kind == yamldoc.Map:
		for _, e := range n.Entries {
			if k := v.key(e.Key); k != nil {
				k.Value.walk(e.Value, append(slices.Clip(path), e.Key), desk || k.Desk, visit)
			}
		}
	case v.Type == Table && n.Kind == yamldoc.Map:
		for _, e := range n.Entries {
			v.Item.walk(e.Value, append(slices.Clip(path), e.Key), desk, visit)
		}
	case v.Type == List && n.Kind == yamldoc.List:
		for i, item := range n.Items {
			v.Item.walk(item, append(slices.Clip(path), fmt.Sprintf("#%d", i)), desk, visit)
		}
	case n.Kind != yamldoc.Map && n.Kind != yamldoc.List:
		visit(Place{Path: path, Text: n.Value, Value: v, Desk: desk})
	}
}

// Parts tells what an agent must be able to run for a document, each part with the first path that needs it.
func (v *Value) Parts(n *yamldoc.Node) map[string][]string {
	out := map[string][]string{}
	v.parts(n, nil, out)
	return out
}

func (v *Value) parts(n *yamldoc.Node, path []string, out map[string][]string) {
	if n == nil {
		return
	}
	v = v.form(n)
	switch {
	case v.Type == Object && n.Kind == yamldoc.Map:
		for _, e := range n.Entries {
			k := v.key(e.Key)
			if k == nil { // what stays at the desk may ask hosts for something all the same
				continue
			}
			at := append(slices.Clip(path), e.Key)
			if part := k.part(e.Value); part != "" && out[part] == nil {
				out[part] = at
			}
			k.Value.parts(e.Value, at, out)
		}
	case v.Type == Table && n.Kind == yamldoc.Map:
		for _, e := range n.Entries {
			v.Item.parts(e.Value, append(slices.Clip(path), e.Key), out)
		}
	case v.Type == List && n.Kind == yamldoc.List:
		for i, item := range n.Items {
			v.Item.parts(item, append(slices.Clip(path), fmt.Sprintf("#%d", i)), out)
		}
	}
}
