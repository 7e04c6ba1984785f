package guess

import (
	"bytes"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"synaxis/internal/core/format"
)

// A log of several programs has lines of several shapes. The best answer reads the most of them; what it leaves out,
// or takes for the rest of a record, though it begins with a stamp of its own, is a stray: strays get templates of
// their own, in a first-of.

// maxParts bounds the parts of a first-of that is proposed.
const maxParts = 6

// strays are the lines of a log that a candidate does not read though they have a stamp, and those that it takes for
// the rest of a record though they begin with one. Of the latter there are none where nearly every record has one, and
// all look the same: then that is how records go on.
func (c *Candidate) strays(lines [][]byte) (unread, within [][]byte) {
	for _, r := range c.Records {
		for k := range r.Lines {
			if r.Line-1+k >= len(lines) {
				break
			}
			l := bytes.TrimRight(lines[r.Line-1+k], "\r")
			p, _, ok := stampAt(l)
			switch {
			case !ok:
			case k == 0 && !r.Read:
				unread = append(unread, l)
			case k > 0 && p <= 1 && format.Dated(l[p:]):
				within = append(within, l)
			}
		}
	}
	looks := map[string]bool{}
	for _, l := range within {
		p, n, _ := stampAt(l)
		looks[stampLook(l[p:p+n])] = true
	}
	if len(looks) == 1 && len(within)*10 >= len(c.Records)*9 {
		within = nil
	}
	return unread, within
}

// withStrays proposes a first-of of what a candidate reads and of templates for its strays; ok is false where it has
// none, or so few that they are noise.
func (c *Candidate) withStrays(
	lines [][]byte,
	name string,
) (whole format.Spec, begin string, parts []format.Spec, ok bool) {
	if c.Spec.Kind == "raw" || c.Spec.Kind == "csv" {
		return whole, "", nil, false
	}
	unread, within := c.strays(lines)
	all := append(unread, within...)
	if len(all)*200 < len(c.Records) || len(all) == 0 {
		return whole, "", nil, false
	}
	if parts = slices.Clone(c.Parts); len(parts) == 0 {
		parts = []format.Spec{c.Spec}
	}
	if begin = c.Begin; begin != "" {
		looks := []string{strings.TrimPrefix(begin, "^")}
		for _, l := range all {
			p, n, _ := stampAt(l)
			if look := lookOf(l[:p], p > 3) + stampLook(l[p:p+n]); !slices.Contains(looks, look) &&
				len(looks) < maxParts {
				looks = append(looks, look)
			}
		}
		if begin = "^(?:" + strings.Join(looks, "|") + ")"; len(looks) == 1 {
			begin = c.Begin
		}
		if _, err := regexp.Compile(begin); err != nil {
			return whole, "", nil, false
		}
	}
	left := all
	add := func(spec format.Spec) {
		if len(parts) >= maxParts || len(left) == 0 {
			return
		}
		after := unreadBy(spec, left)
		if len(after) < len(left) {
			parts, left = append(parts, spec), after
		}
	}
	if syslog, known := format.BuiltIn("syslog"); known && c.Spec.Kind != "syslog" &&
		len(unreadBy(syslog, all))*2 < len(all) &&
		looksLikeSyslog(all) {
		add(syslog)
	}
	for _, spec := range proposals(left, "") {
		add(spec)
	}
	for len(left) > 0 && len(parts) < maxParts {
		had := len(left)
		for _, spec := range plainTemplates(left[0]) {
			add(spec)
		}
		if len(left) == had {
			left = left[1:]
		}
	}
	if len(parts) < 2 && begin == c.Begin || len(parts) == len(c.Parts) {
		return whole, "", nil, false
	}
	whole = format.Spec{Kind: "first-of"}
	for i := range parts {
		parts[i].Name = fmt.Sprintf("%s-%d", name, i+1)
		whole.FirstOf = append(whole.FirstOf, parts[i].Name)
	}
	return whole, begin, parts, true
}

func looksLikeSyslog(lines [][]byte) bool {
	n := 0
	for _, l := range lines {
		if l[0] == '<' || syslogStart.Match(l) {
			n++
		}
	}
	return n*2 > len(lines)
}

// unreadBy are the lines that a format does not read with a time of their own.
func unreadBy(spec format.Spec, lines [][]byte) (out [][]byte) {
	observed := observedNever
	c, ok := candidate(spec, nil, "", bytes.Join(lines, []byte{'\n'}), Options{Zone: "UTC", Observed: observed})
	if !ok || len(c.Records) != len(lines) {
		return lines
	}
	for i, r := range c.Records {
		if !timed(r, observed) {
			out = append(out, lines[i])
		}
	}
	return out
}

// aheadOfStamp is what stands before a stamp: words, and the marks between them and it.
var aheadOfStamp = regexp.MustCompile(`^(.*[\pL\pN])([^\pL\pN]+)$`)

// stamped proposes templates for lines that have a stamp near their beginning, of which nothing else is known.
func stamped(lines [][]byte) (parts []format.Spec) {
	var left [][]byte
	for _, l := range lines {
		if l = bytes.TrimRight(l, "\r"); len(l) > 0 {
			if p, n, ok := stampAt(l); ok && countsSeconds(string(l[p:p+n])) && format.Dated(l[p:]) {
				left = append(left, l)
			}
		}
	}
	if len(left)*2 < len(lines) {
		return nil
	}
	for tries := 0; len(left) > 0 && len(parts) < maxParts && tries < 4*maxParts; tries++ {
		best, rest := format.Spec{}, left
		for _, spec := range plainTemplates(left[0]) {
			if after := unreadBy(spec, left); len(after) < len(rest) {
				best, rest = spec, after
			}
		}
		if best.Kind == "" {
			left = left[1:]
			continue
		}
		parts, left = append(parts, best), rest
	}
	return parts
}

// plainTemplates are ways to read a line of which nothing is known but where its stamp stands.
func plainTemplates(line []byte) (out []format.Spec) {
	p, n, _ := stampAt(line)
	before, after := string(line[:p]), string(line[p+n:])
	head := escape(before)
	if m := aheadOfStamp.FindStringSubmatch(before); m != nil && !strings.Contains(m[1], m[2]) {
		head = "{word}" + escape(m[2])
	}
	tails := []string{""}
	if after != "" {
		tails = []string{" {message:remainder}", escape(after[:1]) + "{message:remainder}"}
	}
	for _, tail := range tails {
		spec := format.Spec{Kind: "template", Template: head + "{ts:time}" + tail, Time: format.Time{Field: "ts"}}
		if tail != "" {
			spec.Body = "message"
		}
		if printable(spec.Template) {
			out = append(out, spec)
		}
	}
	return out
}
