package check

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/inventory"
)

// tooWide tells whether a pattern takes in every file below the root.
func tooWide(pattern string) bool {
	for _, part := range strings.Split(strings.Trim(pattern, "/"), "/") {
		if strings.Trim(part, "*") != "" {
			return false
		}
	}
	return strings.HasPrefix(pattern, "/") || strings.HasPrefix(pattern, "*")
}

// reading is a pattern of a source as it stands on one host.
type reading struct {
	def     *catalogue.Definition
	index   int
	pattern string
	base    string // the part of the pattern before its first wildcard
	except  []string
}

// takes tells whether the pattern takes a path.
func (r reading) takes(p string) bool {
	if ok, _ := doublestar.Match(r.pattern, p); !ok {
		return false
	}
	for _, e := range r.except {
		name := p
		if !strings.Contains(e, "/") {
			name = path.Base(p)
		}
		if ok, _ := doublestar.Match(e, name); ok {
			return false
		}
	}
	return true
}

// example is a path that a pattern takes: each wildcard stands for something plain.
func example(pattern string) string {
	return strings.NewReplacer("**", "x", "*", "x", "?", "x").Replace(pattern)
}

// meets tells whether two patterns may take the same file. It tries an example of each with the other, which finds the
// cases that people make and never invents one.
func meets(a, b reading) bool {
	if !strings.HasPrefix(a.base, b.base) && !strings.HasPrefix(b.base, a.base) { // nearly all pairs end here
		return false
	}
	return a.takes(example(b.pattern)) && b.takes(example(b.pattern)) || b.takes(example(a.pattern)) && a.takes(example(a.pattern))
}

// overlaps finds, on each host, files that two sources read, and sources that read what the agent itself writes.
func (c *checker) overlaps(hosts []inventory.Host, layers []map[string]string) {
	type pair struct{ a, b string } // keys of readings
	type meeting struct {
		a, b  reading
		path  string
		hosts []string
	}
	twice, loops := map[pair]*meeting{}, map[pair]*meeting{}
	note := func(m map[pair]*meeting, k pair, a, b reading, p, host string) {
		if m[k] == nil {
			m[k] = &meeting{a: a, b: b, path: p}
		}
		m[k].hosts = append(m[k].hosts, host)
	}
	for i, h := range hosts {
		get := catalogue.Lookup(h, layers[i])
		var readings []reading
		outputs := map[string]*catalogue.Definition{} // by path
		for _, d := range c.cat.All() {
			if d.Source == nil || !d.Source.Hosts.Match(h.Labels) {
				continue
			}
			for k, f := range d.Source.Files {
				if p, missing, err := catalogue.Expand(f, get); err == nil && len(missing) == 0 {
					base, _, _ := strings.Cut(p, "*")
					base, _, _ = strings.Cut(base, "?")
					base, _, _ = strings.Cut(base, "[")
					base, _, _ = strings.Cut(base, "{")
					readings = append(readings, reading{d, k, p, base, d.Source.Except})
				}
			}
			for _, to := range d.Source.Send {
				if dest := c.cat.Get("destination", to); dest != nil && dest.Destination.Kind == "file" {
					if p, missing, err := catalogue.Expand(dest.Destination.Path, get); err == nil && len(missing) == 0 {
						outputs[p] = dest
					}
				}
			}
		}
		for x, a := range readings {
			for p, dest := range outputs {
				if a.takes(p) {
					note(loops, pair{a.def.Name, dest.Name}, a, reading{def: dest}, p, h.Name)
				}
			}
			for _, b := range readings[x+1:] {
				if a.def != b.def && meets(a, b) {
					note(twice, pair{a.def.Name, b.def.Name}, a, b, b.pattern, h.Name)
				}
			}
		}
	}
	at := func(r reading) []string { return []string{"read", "files", fmt.Sprintf("#%d", r.index)} }
	order := func(m map[pair]*meeting) []pair {
		return slices.SortedFunc(maps.Keys(m), func(x, y pair) int { return strings.Compare(x.a+"\n"+x.b, y.a+"\n"+y.b) })
	}
	for _, k := range order(loops) {
		m := loops[k]
		c.add(m.a.def, at(m.a), "reads-own-output", Error, fmt.Sprintf("%s takes %s, which destination %s writes on %s: every record would come again for ever", m.a.pattern, m.path, k.b, some(m.hosts)),
			"except the file, or write it elsewhere", m.hosts...)
	}
	for _, k := range order(twice) {
		m := twice[k]
		c.add(m.b.def, at(m.b), "file-read-twice", Warning, fmt.Sprintf("source %s reads files that %s takes too, on %s", k.a, m.path, some(m.hosts)),
			"each of their records arrives twice; except them in one of the sources", m.hosts...)
	}
}
