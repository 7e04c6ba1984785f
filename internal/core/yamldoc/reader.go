package yamldoc

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Reader takes values out of nodes and collects what is wrong with them.
type Reader struct {
	File     string
	Problems []Problem
}

// Fail records a problem at a node.
func (r *Reader) Fail(n *Node, code, reason, fix string) {
	r.FailAt(n.Line, n.Column, code, reason, fix)
}

// FailAt records a problem at a line and column.
func (r *Reader) FailAt(line, column int, code, reason, fix string) {
	r.Problems = append(r.Problems, Problem{Code: code, File: r.File, Line: line, Column: column, Reason: reason, Fix: fix})
}

// Fields is a map being read: it remembers which keys were asked for.
type Fields struct {
	r     *Reader
	node  *Node
	what  string
	known []string
	later []string
}

// Fields starts reading a map; what names it in messages ("a source"). It returns nil, after recording a problem,
// when n is no map. All methods of a nil *Fields answer as if the map were empty.
func (r *Reader) Fields(n *Node, what string) *Fields {
	if n == nil {
		return nil
	}
	if n.Kind != Map {
		r.mismatch(n, what, "a map")
		return nil
	}
	return &Fields{r: r, node: n, what: what}
}

func (r *Reader) mismatch(n *Node, key, want string) {
	if n.Kind == Null {
		r.Fail(n, "schema", fmt.Sprintf("%s has no value; expected %s", key, want), "quote it if it begins with ! or #, or leave the key out")
		return
	}
	got := n.Kind.String()
	if n.Value != "" {
		got = fmt.Sprintf("%q", n.Value)
	}
	r.Fail(n, "schema", fmt.Sprintf("%s: expected %s, found %s", key, want, got), "")
}

// Node returns the value of a key and marks the key as known; nil when it is absent.
func (f *Fields) Node(key string) *Node {
	if f == nil {
		return nil
	}
	f.known = append(f.known, key)
	n := f.node.Get(key)
	if n != nil && n.Kind == Null {
		f.r.mismatch(n, key, "a value")
		return nil
	}
	return n
}

// Require is Node, with a problem when the key is absent.
func (f *Fields) Require(key, want string) *Node {
	if f == nil {
		return nil
	}
	n := f.Node(key)
	if n == nil && f.node.Get(key) == nil {
		f.r.Fail(f.node, "schema", fmt.Sprintf("%s needs %q: %s", f.what, key, want), "")
	}
	return n
}

// Later marks keys that the language has but this version does not run yet.
func (f *Fields) Later(keys ...string) {
	if f != nil {
		f.later = append(f.later, keys...)
	}
}

// Text returns a scalar as text.
func (f *Fields) Text(key string) string { return f.r0().AsText(f.Node(key), key) }

// Texts returns a list of scalars as texts.
func (f *Fields) Texts(key string) []string {
	n := f.Node(key)
	if n == nil {
		return nil
	}
	if n.Kind != List {
		f.r.mismatch(n, key, "a list")
		return nil
	}
	var out []string
	for _, item := range n.Items {
		out = append(out, f.r.AsText(item, key))
	}
	return out
}

// TextMap returns a map of scalars.
func (f *Fields) TextMap(key string) map[string]string {
	n := f.Node(key)
	if n == nil {
		return nil
	}
	if n.Kind != Map {
		f.r.mismatch(n, key, "a map")
		return nil
	}
	out := map[string]string{}
	for _, e := range n.Entries {
		out[e.Key] = f.r.AsText(e.Value, key+"."+e.Key)
	}
	return out
}

// Bool returns true or false, or def when absent.
func (f *Fields) Bool(key string, def bool) bool {
	n := f.Node(key)
	if n == nil {
		return def
	}
	if n.Kind != Bool {
		f.r.mismatch(n, key, "true or false")
		return def
	}
	return strings.EqualFold(n.Value, "true")
}

// Int returns a whole number of at least least, or def when absent.
func (f *Fields) Int(key string, def, least int64) int64 {
	n := f.Node(key)
	if n == nil {
		return def
	}
	v, err := strconv.ParseInt(n.Value, 10, 64)
	if n.Kind != Int || err != nil || v < least {
		f.r.mismatch(n, key, fmt.Sprintf("a whole number, %d or more", least))
		return def
	}
	return v
}

// Size returns bytes, from texts such as 64MiB.
func (f *Fields) Size(key string, def int64) int64 {
	n := f.Node(key)
	if n == nil {
		return def
	}
	v, err := ParseSize(n.Value)
	if err != nil || n.Kind == Map || n.Kind == List {
		f.r.mismatch(n, key, "a size with its unit, such as 64MiB")
		return def
	}
	return v
}

// Duration returns a duration from texts such as 500ms, 30s, 14d.
func (f *Fields) Duration(key string, def time.Duration) time.Duration {
	n := f.Node(key)
	if n == nil {
		return def
	}
	v, err := ParseDuration(n.Value)
	if err != nil || n.Kind == Map || n.Kind == List {
		f.r.mismatch(n, key, "a duration with its unit, such as 30s")
		return def
	}
	return v
}

// Choice returns one of the allowed words; words in later give "not available yet".
func (f *Fields) Choice(key, def string, allowed, later []string) string {
	n := f.Node(key)
	if n == nil {
		return def
	}
	if n.Kind == Map || n.Kind == List || !slices.Contains(allowed, n.Value) {
		if slices.Contains(later, n.Value) {
			f.r.Fail(n, "not-yet", fmt.Sprintf("%s: %s is not available yet", key, n.Value), "one of: "+strings.Join(allowed, ", "))
			return def
		}
		f.r.mismatch(n, key, "one of: "+strings.Join(allowed, ", "))
		return def
	}
	return n.Value
}

// Sub reads a map below a key.
func (f *Fields) Sub(key string) *Fields {
	if f == nil {
		return nil
	}
	return f.r.Fields(f.Node(key), key)
}

// Entries returns the entries of the map below a key.
func (f *Fields) Entries(key string) []Entry {
	n := f.Node(key)
	if n == nil {
		return nil
	}
	if n.Kind != Map {
		f.r.mismatch(n, key, "a map")
		return nil
	}
	return n.Entries
}

// Items returns the items of the list below a key.
func (f *Fields) Items(key string) []*Node {
	n := f.Node(key)
	if n == nil {
		return nil
	}
	if n.Kind != List {
		f.r.mismatch(n, key, "a list")
		return nil
	}
	return n.Items
}

// Has tells whether the key is there; it does not mark it as known.
func (f *Fields) Has(key string) bool { return f != nil && f.node.Get(key) != nil }

// At returns the node being read.
func (f *Fields) At() *Node {
	if f == nil {
		return &Node{Line: 1, Column: 1}
	}
	return f.node
}

// Close reports every key that was not asked for.
func (f *Fields) Close() {
	if f == nil {
		return
	}
	for _, e := range f.node.Entries {
		if slices.Contains(f.known, e.Key) {
			continue
		}
		if slices.Contains(f.later, e.Key) {
			f.r.FailAt(e.Line, e.Column, "not-yet", fmt.Sprintf("%q is not available yet", e.Key), "leave it out for now")
			continue
		}
		fix := "known here: " + strings.Join(f.known, ", ")
		if near := Nearest(e.Key, append(slices.Clone(f.known), f.later...)); near != "" {
			fix = fmt.Sprintf("did you mean %q?", near)
		}
		f.r.FailAt(e.Line, e.Column, "unknown-key", fmt.Sprintf("%s has no key %q", f.what, e.Key), fix)
	}
}

func (f *Fields) r0() *Reader {
	if f == nil {
		return &Reader{}
	}
	return f.r
}

// AsText returns a scalar node as text, and "" for nil.
func (r *Reader) AsText(n *Node, key string) string {
	if n == nil {
		return ""
	}
	switch n.Kind {
	case Map, List, Null:
		r.mismatch(n, key, "text")
		return ""
	}
	return n.Value
}

var sizeUnits = []struct {
	name string
	n    int64
}{{"KiB", 1 << 10}, {"MiB", 1 << 20}, {"GiB", 1 << 30}, {"TiB", 1 << 40}, {"B", 1}}

// ParseSize reads 64MiB, 20GiB, 512B as bytes; a number without a unit is an error.
func ParseSize(s string) (int64, error) {
	for _, u := range sizeUnits {
		if num, ok := strings.CutSuffix(s, u.name); ok {
			v, err := strconv.ParseFloat(strings.TrimSpace(num), 64)
			if err != nil || v < 0 || v*float64(u.n) > 1<<60 {
				break
			}
			return int64(v * float64(u.n)), nil
		}
	}
	return 0, fmt.Errorf("%q is not a size such as 64MiB", s)
}

// ParseDuration reads what time.ParseDuration reads, and whole days as 14d; a number without a unit is an error.
func ParseDuration(s string) (time.Duration, error) {
	if days, ok := strings.CutSuffix(s, "d"); ok {
		n, err := strconv.Atoi(days)
		if err != nil || n < 0 || n > 36500 {
			return 0, fmt.Errorf("%q is not a number of days", s)
		}
		return time.Duration(n) * 24 * time.Hour, nil
	}
	d, err := time.ParseDuration(s)
	if err != nil || s == "0" || d < 0 {
		return 0, fmt.Errorf("%q is not a duration such as 30s", s)
	}
	return d, nil
}

// FormatDuration writes a duration as ParseDuration reads it.
func FormatDuration(d time.Duration) string {
	if d >= 24*time.Hour && d%(24*time.Hour) == 0 {
		return strconv.Itoa(int(d/(24*time.Hour))) + "d"
	}
	s := d.String()
	s = strings.TrimSuffix(s, "m0s")
	if strings.HasSuffix(d.String(), "m0s") {
		s += "m"
	}
	if h, ok := strings.CutSuffix(s, "h0m"); ok {
		s = h + "h"
	}
	return s
}

// FormatSize writes a size as ParseSize reads it.
func FormatSize(n int64) string {
	for _, u := range []int{3, 2, 1, 0} {
		if n >= sizeUnits[u].n && n%sizeUnits[u].n == 0 {
			return strconv.FormatInt(n/sizeUnits[u].n, 10) + sizeUnits[u].name
		}
	}
	return strconv.FormatInt(n, 10) + "B"
}
