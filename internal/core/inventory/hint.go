package inventory

import (
	"fmt"
	"regexp"
	"slices"

	"synaxis/internal/core/yamldoc"
)

// Hint tells which label or value of a choice no host has, with the nearest that some host has; "" when each of them
// is there. A choice of several values is looked at value by value, since one that is misspelt is hidden by the
// others.
func (x *Index) Hint(sel Selector) string {
	keys := x.LabelKeys()
	slices.Sort(keys)
	for _, key := range sel.Keys() {
		if !slices.Contains(keys, key) {
			return near(fmt.Sprintf("no host has the label %s", key), key, keys)
		}
	}
	for _, t := range sel.compared() {
		values := slices.Sorted(slices.Values(x.Values(t.Key)))
		for _, v := range t.Values {
			if v != "" && !slices.Contains(values, v) {
				return near(fmt.Sprintf("no host has %s=%s", t.Key, v), v, values)
			}
		}
	}
	return ""
}

// near adds the nearest of what is known, or a few of them where none is near.
func near(text, word string, known []string) string {
	switch {
	case len(known) == 0:
		return text
	case yamldoc.Nearest(word, known) != "":
		return fmt.Sprintf("%s; did you mean %q?", text, yamldoc.Nearest(word, known))
	}
	const most = 6
	out := text + "; there are "
	for i, k := range known {
		if i == most {
			return out + " …"
		}
		if i > 0 {
			out += ", "
		}
		out += k
	}
	return out
}

// compared are the labels that a choice compares with values: its terms, or what a condition says with == and in.
func (s Selector) compared() []Term {
	if s.Condition == nil {
		return s.Terms
	}
	var out []Term
	for _, m := range comparison.FindAllStringSubmatch(s.String(), -1) {
		t := Term{Key: m[1]}
		for _, v := range quotedValue.FindAllStringSubmatch(m[2], -1) {
			t.Values = append(t.Values, v[1]+v[2])
		}
		out = append(out, t)
	}
	return out
}

var (
	comparison  = regexp.MustCompile(`labels\.([A-Za-z0-9_-]+)\s*(?:==|in)\s*("[^"]*"|'[^']*'|\[[^\]]*\])`)
	quotedValue = regexp.MustCompile(`"([^"]*)"|'([^']*)'`)
)
