// Package inventory holds the hosts that exist, with their labels and settings, and chooses among them.
package inventory

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"synaxis/internal/core/yamldoc"
)

// Host is a machine as definitions see it.
type Host struct {
	Name     string
	Labels   map[string]string
	Settings map[string]string // the host's own; they win over all
	OS, Arch string            // observed
}

// Selector chooses hosts by labels. All terms must hold; the values of one term are alternatives.
type Selector struct {
	All   bool
	Terms []Term
}

// Term is one label with the values that it may have.
type Term struct {
	Key    string
	Values []string
}

// Match tells whether labels satisfy the selector. A selector without terms matches nothing unless it says all.
func (s Selector) Match(labels map[string]string) bool {
	if s.All {
		return true
	}
	for _, t := range s.Terms {
		if !slices.Contains(t.Values, labels[t.Key]) {
			return false
		}
	}
	return len(s.Terms) > 0
}

// String writes the selector as a person would say it.
func (s Selector) String() string {
	if s.All {
		return "all"
	}
	var parts []string
	for _, t := range s.Terms {
		parts = append(parts, t.Key+"="+strings.Join(t.Values, "|"))
	}
	return strings.Join(parts, " ")
}

// Decode reads the key hosts: the word all, or a map of labels.
func Decode(r *yamldoc.Reader, f *yamldoc.Fields) Selector {
	n := f.Require("hosts", "which hosts it is for: all, or labels such as {role: gate}")
	var s Selector
	if n == nil {
		return s
	}
	switch n.Kind {
	case yamldoc.Map:
		for _, e := range n.Entries {
			t := Term{Key: e.Key}
			if e.Value.Kind == yamldoc.List {
				for _, item := range e.Value.Items {
					t.Values = append(t.Values, r.AsText(item, "hosts."+e.Key))
				}
			} else {
				t.Values = []string{r.AsText(e.Value, "hosts."+e.Key)}
			}
			s.Terms = append(s.Terms, t)
		}
		if len(s.Terms) == 0 {
			r.Fail(n, "schema", "hosts is empty; it would choose nobody", "say all, or name labels")
		}
		sort.SliceStable(s.Terms, func(i, j int) bool { return s.Terms[i].Key < s.Terms[j].Key })
	case yamldoc.Text:
		if n.Value == "all" {
			s.All = true
			break
		}
		r.Fail(n, "not-yet", fmt.Sprintf("hosts: a condition such as %q is not available yet", n.Value), "say all, or labels such as {role: gate}")
	default:
		r.Fail(n, "schema", "hosts: expected all, or a map of labels", "")
	}
	return s
}

// CheckName tells what is wrong with the name of a host, or "".
func CheckName(name string) string {
	if len(name) < 1 || len(name) > 253 {
		return "a host name has 1 to 253 characters"
	}
	for _, c := range name {
		if !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '-' || c == '.' || c == '_') {
			return fmt.Sprintf("a host name may hold letters, digits, - . and _, not %q", c)
		}
	}
	return ""
}

// CheckKey tells what is wrong with the key of a label or the name of a setting, or "".
func CheckKey(key string) string {
	if len(key) < 1 || len(key) > 63 {
		return "a key has 1 to 63 characters"
	}
	for _, c := range key {
		if !(c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c == '-' || c == '_' || c == '.') {
			return fmt.Sprintf("a key may hold a-z, 0-9, - _ and ., not %q", c)
		}
	}
	return ""
}
