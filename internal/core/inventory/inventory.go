// Package inventory holds the hosts that exist, with their labels and settings, and chooses among them.
package inventory

import (
	"fmt"
	"slices"
	"sort"
	"strings"
	"unicode"
	"unicode/utf8"

	"synaxis/internal/core/expr"
	"synaxis/internal/core/schema"
	"synaxis/internal/core/yamldoc"
)

// Host is a machine as definitions see it.
type Host struct {
	Name             string
	Labels           map[string]string
	Settings         map[string]string // the host's own; they win over all
	OS, Arch, System string            // observed; System names the operating system
	Observed         *Observed         // nil until an agent has reported
}

// Observed is what the agent of a host reports beyond what conditions may use.
type Observed struct {
	Version  string
	Parts    []string // what the agent can run
	Ports    []Port   // taken by others
	LowPorts bool     // it may bind ports below 1024
	FreeDisk int64    // bytes free where it keeps its buffers; 0 is unknown
}

// Port is a port that a program of the host has bound.
type Port struct {
	Transport string // tcp, udp
	Number    int
	Program   string // "" is unknown
}

// Facts is the host as conditions see it.
func (h *Host) Facts() expr.Facts {
	return expr.Facts{Name: h.Name, Labels: h.Labels, OS: h.OS, Arch: h.Arch, System: h.System}
}

// Selector chooses hosts: all of them, by labels (all terms must hold, the values of one term are alternatives), or by
// a condition.
type Selector struct {
	All       bool
	Terms     []Term
	Condition *expr.HostCondition
}

// Term is one label with the values that it may have.
type Term struct {
	Key    string
	Values []string
}

// Match tells whether a host is chosen. A selector that says nothing chooses nobody.
func (s Selector) Match(h *Host) bool {
	switch {
	case s.All:
		return true
	case s.Condition != nil:
		f := h.Facts()
		return s.Condition.Match(&f)
	}
	return s.MatchLabels(h.Labels)
}

// MatchLabels is Match for a selector by labels, which is the short form of hosts and what guards have.
func (s Selector) MatchLabels(labels map[string]string) bool {
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
	if s.Condition != nil {
		return s.Condition.Text
	}
	var parts []string
	for _, t := range s.Terms {
		parts = append(parts, t.Key+"="+strings.Join(t.Values, "|"))
	}
	return strings.Join(parts, " ")
}

// Long writes a selector by labels as the condition that means the same.
func (s Selector) Long() string {
	if s.All || s.Condition != nil {
		return s.String()
	}
	var parts []string
	for _, t := range s.Terms {
		key := "labels[" + yamldoc.Quote(t.Key) + "]"
		if len(t.Values) == 1 {
			parts = append(parts, key+" == "+yamldoc.Quote(t.Values[0]))
			continue
		}
		var quoted []string
		for _, v := range t.Values {
			quoted = append(quoted, yamldoc.Quote(v))
		}
		parts = append(parts, key+" in ["+strings.Join(quoted, ", ")+"]")
	}
	return strings.Join(parts, " && ")
}

// Keys returns the labels that the selector asks for.
func (s Selector) Keys() []string {
	var out []string
	if s.Condition != nil {
		for _, n := range s.Condition.Uses() {
			if k, ok := strings.CutPrefix(n, "labels."); ok {
				out = append(out, k)
			}
		}
	}
	for _, t := range s.Terms {
		out = append(out, t.Key)
	}
	return out
}

// TermsValue is a choice by labels.
var TermsValue = schema.TableOf(schema.Either(schema.Plain, schema.Texts))

// HostsKey is the key hosts of a definition.
var HostsKey = schema.Key{
	Name: "hosts",
	Desk: true,
	Need: true,
	Hint: "which hosts it is for: all, or labels such as {role: gate}",
	Value: schema.Either(
		&schema.Value{Type: schema.HostCondition, Check: checkHosts, Code: "condition-invalid"},
		TermsValue,
	),
	Doc: "Which hosts it is for: all; labels, all of which must hold while a list means any; or a condition " +
		"over labels.KEY, host.name, observed.os, observed.arch and observed.name.",
	Example: "hosts: {role: gate, site: [northpier, saltmarsh]}",
}

func checkHosts(s string) error {
	if s == "all" {
		return nil
	}
	_, err := expr.ParseHosts(s)
	return err
}

// Decode takes a choice of hosts out of a node that HostsKey found good.
func Decode(r *yamldoc.Reader, n *yamldoc.Node) Selector {
	if n == nil {
		return Selector{}
	}
	if n.Kind != yamldoc.Map {
		s, _ := ParseSelector(n.Text())
		return s
	}
	s := DecodeTerms(n)
	if len(s.Terms) == 0 {
		r.Fail(n, "schema", "hosts is empty; it would choose nobody", "say all, or name labels")
	}
	return s
}

// DecodeTerms takes a choice by labels.
func DecodeTerms(n *yamldoc.Node) Selector {
	var s Selector
	if n == nil {
		return s
	}
	for _, e := range n.Entries {
		t := Term{Key: e.Key, Values: e.Value.Texts()}
		if e.Value.Kind != yamldoc.List {
			t.Values = []string{e.Value.Text()}
		}
		s.Terms = append(s.Terms, t)
	}
	sort.SliceStable(s.Terms, func(i, j int) bool { return s.Terms[i].Key < s.Terms[j].Key })
	return s
}

// ParseSelector reads what a person types to choose hosts: all, KEY=VALUE pairs, or a condition.
func ParseSelector(text string) (Selector, error) {
	text = strings.TrimSpace(text)
	if text == "all" {
		return Selector{All: true}, nil
	}
	var s Selector
	for _, word := range strings.Fields(text) {
		key, values, ok := strings.Cut(word, "=")
		if !ok || CheckKey(key) != "" || strings.ContainsAny(values, `="'()&`) {
			s.Terms = nil
			break
		}
		s.Terms = append(s.Terms, Term{key, strings.Split(values, "|")})
	}
	if len(s.Terms) > 0 {
		return s, nil
	}
	c, err := expr.ParseHosts(text)
	if err != nil {
		return Selector{}, err
	}
	return Selector{Condition: c}, nil
}

// CheckName tells what is wrong with the name of a host, or "".
func CheckName(name string) string {
	if len(name) < 1 || len(name) > 253 {
		return "a host name has 1 to 253 characters"
	}
	for _, c := range name {
		if !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '-' || c == '.' ||
			c == '_') {
			return fmt.Sprintf("a host name may hold letters, digits, - . and _, not %q", c)
		}
	}
	return ""
}

// Unseen tells whether a character acts on a terminal or a page instead of being shown: controls, line ends, and what
// turns the direction of text.
func Unseen(r rune) bool {
	return unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r) || r == '\u2028' || r == '\u2029'
}

// CheckLine tells what is wrong with a text that must be one line to show, of at most so many bytes, or "".
func CheckLine(text string, most int) string {
	switch {
	case len(text) > most:
		return fmt.Sprintf("at most %d bytes", most)
	case !utf8.ValidString(text) || strings.ContainsFunc(text, Unseen):
		return "one line, without control characters"
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
