package check

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/hostconfig"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/render"
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
	return a.takes(example(b.pattern)) && b.takes(example(b.pattern)) ||
		b.takes(example(a.pattern)) && a.takes(example(a.pattern))
}

// meeting is two definitions that meet on some hosts.
type meeting struct {
	a, b  reading // or the listener of each
	what  string
	place []string
	hosts []string
}

// ownFolder finds what would be read or written in the folder of the agent.
func (c *checker) ownFolder(p *render.Part, hosts []string, own map[string]*meeting) {
	note := func(kind, what string, place ...string) {
		if !hostconfig.Inside(path.Clean(what), hostconfig.AgentFolder) {
			return
		}
		key := kind + "/" + p.Name + "\n" + what
		if own[key] == nil {
			own[key] = &meeting{a: reading{def: c.cat.Get(kind, p.Name)}, what: what, place: place}
		}
		own[key].hosts = append(own[key].hosts, hosts...)
	}
	for i, pattern := range p.Files {
		note("source", pattern, "read", "files", fmt.Sprintf("#%d", i))
	}
	if p.Writes != "" {
		note("destination", p.Writes, "deliver", "file", "path")
	}
}

// meetings finds, on each host, files that two sources read, sources that read what the agent itself writes, and ports
// that two want. Hosts that run the same parts are looked at once.
func (c *checker) meetings(f *render.Fleet) {
	twice, loops, ports := map[string]*meeting{}, map[string]*meeting{}, map[string]*meeting{}
	low := map[string][]string{} // by source
	own := map[string]*meeting{}
	type kind struct {
		parts []*render.Part
		hosts []string
		at    []int
	}
	kinds := map[uint64][]*kind{}
	var order []*kind
	for i, m := range f.Manifests {
		var sum uint64
		for _, p := range m.Parts {
			sum = sum*1099511628211 ^ p.Sum64()
		}
		var k *kind
		for _, x := range kinds[sum] {
			if slices.Equal(x.parts, m.Parts) {
				k = x
			}
		}
		if k == nil {
			k = &kind{parts: m.Parts}
			kinds[sum] = append(kinds[sum], k)
			order = append(order, k)
		}
		k.hosts, k.at = append(k.hosts, m.Host), append(k.at, i)
	}
	readings := map[*render.Part][]reading{}
	for _, k := range order {
		var all []reading
		var listeners, outputs []*render.Part
		for _, p := range k.parts {
			c.ownFolder(p, k.hosts, own)
			if p.Writes != "" {
				outputs = append(outputs, p)
			}
			if p.Port > 0 {
				listeners = append(listeners, p)
			}
			if len(p.Files) > 0 {
				if _, ok := readings[p]; !ok {
					readings[p] = c.readings(p)
				}
				all = append(all, readings[p]...)
			}
		}
		c.files(all, outputs, k.hosts, twice, loops)
		c.ports(listeners, k.hosts, k.at, ports, low)
	}
	at := func(r reading) []string { return []string{"read", "files", fmt.Sprintf("#%d", r.index)} }
	for _, key := range slices.Sorted(maps.Keys(loops)) {
		m := loops[key]
		c.add(
			m.a.def,
			at(m.a),
			"reads-own-output",
			fmt.Sprintf(
				"%s takes %s, which destination %s writes on %s: every record would come again for ever",
				m.a.pattern,
				m.what,
				m.b.def.Name,
				some(m.hosts),
			),
			"except the file, or write it elsewhere",
			m.hosts...)
	}
	for _, key := range slices.Sorted(maps.Keys(own)) {
		m := own[key]
		slices.Sort(m.hosts)
		c.add(
			m.a.def,
			m.place,
			"agent-folder",
			fmt.Sprintf("%s is in the agent's own folder on %s", m.what, some(m.hosts)),
			"name another folder",
			m.hosts...)
	}
	for _, key := range slices.Sorted(maps.Keys(twice)) {
		m := twice[key]
		c.add(
			m.b.def,
			at(m.b),
			"file-read-twice",
			fmt.Sprintf("source %s reads files that %s takes too, on %s", m.a.def.Name, m.what, some(m.hosts)),
			"each of their records arrives twice; except them in one of the sources",
			m.hosts...)
	}
	for _, key := range slices.Sorted(maps.Keys(ports)) {
		m := ports[key]
		slices.Sort(m.hosts)
		c.add(
			m.b.def,
			[]string{"read", m.b.def.Source.Listen.Kind, "listen", "port"},
			"port-taken",
			fmt.Sprintf("%s on %s", m.what, some(m.hosts)),
			"give one of them another port; reached-at tells senders when something between changes it",
			m.hosts...)
	}
	for _, name := range slices.Sorted(maps.Keys(low)) {
		d := c.cat.Get("source", name)
		slices.Sort(low[name])
		c.add(
			d,
			[]string{"read", d.Source.Listen.Kind, "listen", "port"},
			"port-needs-right",
			fmt.Sprintf(
				"port %s is below 1024, and the agents of %s may not bind it",
				d.Source.Listen.Port,
				some(low[name]),
			),
			"run the join script there again with --low-ports, or listen on a port from 1024 on and redirect to it "+
				"(reached-at)",
			low[name]...)
	}
}

// readings are the patterns of a rendered source.
func (c *checker) readings(p *render.Part) []reading {
	var out []reading
	for i, pattern := range p.Files {
		base := pattern
		if j := strings.IndexAny(pattern, "*?[{"); j >= 0 {
			base = pattern[:j]
		}
		out = append(out, reading{c.cat.Get("source", p.Name), i, pattern, base, p.Except})
	}
	return out
}

// files compares the patterns of one host. Sorted by what stands before their first wildcard, two can meet only when
// one of these beginnings is the beginning of the other.
func (c *checker) files(all []reading, outputs []*render.Part, hosts []string, twice, loops map[string]*meeting) {
	note := func(m map[string]*meeting, a, b reading, what string) {
		key := a.def.Name + "\n" + b.def.Name
		if m[key] == nil {
			m[key] = &meeting{a: a, b: b, what: what}
		}
		if x := m[key]; len(x.hosts) == 0 || x.hosts[len(x.hosts)-1] != hosts[len(hosts)-1] {
			x.hosts = append(x.hosts, hosts...)
		}
	}
	for _, a := range all {
		for _, o := range outputs {
			if a.takes(o.Writes) {
				note(loops, a, reading{def: c.cat.Get("destination", o.Name)}, o.Writes)
			}
		}
	}
	slices.SortStableFunc(all, func(a, b reading) int { return strings.Compare(a.base, b.base) })
	for i, a := range all {
		for _, b := range all[i+1:] {
			if !strings.HasPrefix(b.base, a.base) {
				break
			}
			if a.def == b.def || !meets(a, b) {
				continue
			}
			x, y := a, b
			if y.def.Name < x.def.Name {
				x, y = y, x
			}
			note(twice, x, y, y.pattern)
		}
	}
}

// ports compares the listeners of one host with each other, with what its other programs have bound, and with its
// rights.
func (c *checker) ports(
	listeners []*render.Part,
	hosts []string,
	at []int,
	taken map[string]*meeting,
	low map[string][]string,
) {
	carried := func(l *pipeline.Listener) string {
		if l.Transport == "udp" {
			return "udp"
		}
		return "tcp"
	}
	note := func(key string, d *catalogue.Definition, what string, hosts ...string) {
		if taken[key] == nil {
			taken[key] = &meeting{b: reading{def: d}, what: what}
		}
		taken[key].hosts = append(taken[key].hosts, hosts...)
	}
	for i, p := range listeners {
		d := c.cat.Get("source", p.Name)
		l := d.Source.Listen
		for _, o := range listeners[:i] {
			other := c.cat.Get("source", o.Name)
			ol := other.Source.Listen
			if o.Port == p.Port && carried(ol) == carried(l) &&
				(ol.Address == l.Address || everywhere(ol.Address) || everywhere(l.Address)) {
				note(
					fmt.Sprintf("%s\n%s\n%d", other.Name, d.Name, p.Port),
					d,
					fmt.Sprintf("source %s listens on %s port %d too,", other.Name, carried(l), p.Port),
					hosts...)
			}
		}
		for k, name := range hosts {
			seen := c.world.Fleet.Index.Hosts[at[k]].Observed
			if seen == nil {
				continue
			}
			for _, used := range seen.Ports {
				if used.Number == p.Port && used.Transport == carried(l) {
					program := used.Program
					if program == "" {
						program = "another program"
					}
					note(
						fmt.Sprintf("%s\n%s\n%d", d.Name, program, p.Port),
						d,
						fmt.Sprintf("%s has bound %s port %d already", program, carried(l), p.Port),
						name,
					)
				}
			}
			if p.Port < 1024 && !seen.LowPorts {
				low[p.Name] = append(low[p.Name], name)
			}
		}
	}
}

func everywhere(address string) bool { return address == "0.0.0.0" || address == "::" || address == "" }
