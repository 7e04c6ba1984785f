// Package check finds what is wrong with a catalogue before it leaves the desk.
package check

import (
	"fmt"
	"regexp"
	"sort"
	"strings"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/format"
	"synaxis/internal/core/inventory"
	"synaxis/internal/core/yamldoc"
)

// Severities, worst first. Only errors stop a publication.
const (
	Error   = "error"
	Warning = "warning"
	Note    = "note"
)

// Finding is one result of a check.
type Finding struct {
	Code, Severity string
	Kind, Name     string
	File           string
	Line, Column   int
	Hosts          []string
	Reason, Fix    string
}

// NeedFleet lists, for people, the checks that cannot be made without the hosts.
var NeedFleet = []string{
	"no-hosts: a choice of hosts that finds none",
	"setting-undefined: a setting or label that is not defined on a chosen host",
	"file-read-twice, reads-own-output: sources that meet on a host, or read what the agent writes",
	"settings-disagree: two settings definitions of equal rank that give one host different values",
}

// FromProblems turns what reading found into findings.
func FromProblems(problems []yamldoc.Problem) []Finding {
	var out []Finding
	for _, p := range problems {
		out = append(out, Finding{Code: p.Code, Severity: Error, File: p.File, Line: p.Line, Column: p.Column, Reason: p.Reason, Fix: p.Fix})
	}
	return out
}

// Fleet is who a catalogue is checked against; a nil fleet leaves the checks of NeedFleet out.
type Fleet struct{ Hosts []inventory.Host }

type checker struct {
	cat      *catalogue.Catalogue
	findings []Finding
}

// Run makes all checks. Findings are ordered by severity, then place.
func Run(cat *catalogue.Catalogue, fleet *Fleet) []Finding {
	c := &checker{cat: cat}
	used := map[string]bool{}
	for _, d := range cat.All() {
		_, broken := catalogue.DefinitionRefs(d)
		for _, b := range broken {
			c.add(d, b.Path, "reference-unknown", Error, b.Err.Error(), "")
		}
		c.misplaced(d)
		switch {
		case d.Source != nil:
			c.source(d)
			for _, to := range d.Source.Send {
				used[to] = true
			}
		case d.Format != nil:
			c.samples(d)
		}
	}
	for _, d := range cat.All() {
		if d.Destination != nil && !used[d.Name] {
			c.add(d, nil, "destination-unused", Note, "no source sends to this destination", "")
		}
	}
	if fleet != nil {
		c.fleet(fleet.Hosts)
	}
	Sort(c.findings)
	return c.findings
}

// Sort orders findings: errors first, then by file and line.
func Sort(f []Finding) {
	rank := map[string]int{Error: 0, Warning: 1, Note: 2}
	sort.SliceStable(f, func(i, j int) bool {
		a, b := f[i], f[j]
		if a.Severity != b.Severity {
			return rank[a.Severity] < rank[b.Severity]
		}
		if a.File != b.File {
			return a.File < b.File
		}
		return a.Line < b.Line
	})
}

// HasErrors tells whether anything stops a publication.
func HasErrors(f []Finding) bool {
	for _, x := range f {
		if x.Severity == Error {
			return true
		}
	}
	return false
}

func (c *checker) add(d *catalogue.Definition, path []string, code, severity, reason, fix string, hosts ...string) {
	line, column := d.At(path...)
	c.findings = append(c.findings, Finding{Code: code, Severity: severity, Kind: d.Kind, Name: d.Name, File: d.File,
		Line: line, Column: column, Hosts: hosts, Reason: reason, Fix: fix})
}

func (c *checker) source(d *catalogue.Definition) {
	s := d.Source
	spec, ok := c.cat.Format(s.Format)
	if !ok {
		c.dangling(d, []string{"format"}, "format", s.Format, append(c.cat.Names("format"), format.Kinds...))
	}
	for i, to := range s.Send {
		if c.cat.Get("destination", to) == nil {
			c.dangling(d, []string{"send", fmt.Sprintf("#%d", i), "to"}, "destination", to, c.cat.Names("destination"))
		}
	}
	for i, pattern := range s.Files {
		if tooWide(pattern) {
			c.add(d, []string{"read", "files", fmt.Sprintf("#%d", i)}, "pattern-too-wide", Error,
				fmt.Sprintf("%q takes in everything on the host", pattern), "name the folder that the logs are in")
		} else if !strings.HasPrefix(pattern, "/") && !strings.HasPrefix(pattern, "${") {
			c.add(d, []string{"read", "files", fmt.Sprintf("#%d", i)}, "path-relative", Error,
				fmt.Sprintf("%q is not an absolute path", pattern), "begin it with / or a setting")
		}
	}
	if !ok {
		return
	}
	spec.Time = spec.Time.Merge(s.Time)
	if spec.NeedsZone() && spec.Time.Zone == "" {
		c.add(d, []string{"format"}, "zone-missing", Error,
			fmt.Sprintf("format %s reads a time without a zone, and neither it nor this source names one", s.Format),
			"add time: {zone: Europe/Lisbon}, or whatever zone the hosts write in")
	}
	if _, err := format.Compile(spec, format.Time{Zone: "UTC"}); err != nil {
		c.add(d, []string{"time"}, "format-invalid", Error, err.Error(), "")
	}
}

var looksLikeReference = regexp.MustCompile(`\$?\$\{(?:setting|host|label|secret|observed)\.[^}]*\}`)

// misplaced finds what looks like a reference in a place where none is read, so that nobody takes it for one. A
// format has none at all: there ${ may well be a dollar before a field.
func (c *checker) misplaced(d *catalogue.Definition) {
	if d.Format != nil {
		return
	}
	d.Texts(func(path []string, text string) {
		where := strings.Join(path, ".")
		read := d.Source != nil && (strings.HasPrefix(where, "read.files.") || strings.HasPrefix(where, "read.except.") || where == "time.zone" || path[0] == "labels") ||
			d.Destination != nil && path[0] == "deliver"
		if read || where == "about" {
			return
		}
		for _, ref := range looksLikeReference.FindAllString(text, -1) {
			if !strings.HasPrefix(ref, "$$") {
				c.add(d, path, "reference-misplaced", Error, fmt.Sprintf("%s would stay as it is written here: references are not read in %s", ref, where), "write the value out")
			}
		}
	})
}

func (c *checker) dangling(d *catalogue.Definition, path []string, kind, name string, known []string) {
	fix := "define it, or name one that exists"
	if near := yamldoc.Nearest(name, known); near != "" {
		fix = fmt.Sprintf("did you mean %q?", near)
	} else if len(known) > 0 && len(known) < 12 {
		fix = "there are " + strings.Join(known, ", ")
	}
	c.add(d, path, "dangling-reference", Error, fmt.Sprintf("there is no %s %q", kind, name), fix)
}

func (c *checker) samples(d *catalogue.Definition) {
	zone := format.Time{}
	if d.Format.Time.Zone == "" {
		zone.Zone = "UTC" // samples say nothing of time; a source will name the zone
	}
	failures, err := format.CheckSamples(*d.Format, zone)
	if err != nil {
		c.add(d, []string{"template"}, "format-invalid", Error, err.Error(), "")
		return
	}
	for _, f := range failures {
		c.findings = append(c.findings, Finding{Code: "sample-failed", Severity: Error, Kind: d.Kind, Name: d.Name, File: d.File,
			Line: f.Sample.Line, Column: f.Sample.Column, Reason: f.Why, Fix: "mend the template or the sample"})
	}
}

func (c *checker) fleet(hosts []inventory.Host) {
	type missing struct {
		path  []string
		hosts []string
	}
	layers := make([]map[string]string, len(hosts))
	disagree := map[catalogue.Conflict][]string{}
	for i, h := range hosts {
		var conflicts []catalogue.Conflict
		layers[i], conflicts = c.cat.Layers(h)
		for _, k := range conflicts {
			disagree[k] = append(disagree[k], h.Name)
		}
	}
	for k, names := range disagree {
		c.add(c.cat.Get("settings", k.Second), []string{"values", k.Setting}, "settings-disagree", Error,
			fmt.Sprintf("settings %s and %s give %s different values on %s", k.First, k.Second, k.Setting, some(names)),
			"give one of them a higher rank, make their hosts disjoint, or set it on the hosts themselves", names...)
	}
	c.overlaps(hosts, layers)
	for _, d := range c.cat.All() {
		if d.Source == nil && d.Settings == nil {
			continue
		}
		chosen := d.Chosen(hosts)
		if len(chosen) == 0 {
			c.noHosts(d, hosts)
			continue
		}
		if d.Source == nil {
			continue
		}
		undefined := map[catalogue.Ref]*missing{}
		place := func(of *catalogue.Definition, pathOf func(path []string) []string) {
			refs, _ := catalogue.DefinitionRefs(of)
			for i, h := range hosts {
				if !d.Source.Hosts.Match(h.Labels) {
					continue
				}
				get := catalogue.Lookup(h, layers[i])
				for ref, path := range refs {
					if _, ok := get(ref); ok {
						continue
					}
					if undefined[ref] == nil {
						undefined[ref] = &missing{path: pathOf(path)}
					}
					undefined[ref].hosts = append(undefined[ref].hosts, h.Name)
				}
			}
		}
		place(d, func(p []string) []string { return p })
		for i, to := range d.Source.Send {
			if dest := c.cat.Get("destination", to); dest != nil {
				place(dest, func([]string) []string { return []string{"send", fmt.Sprintf("#%d", i)} })
			}
		}
		for ref, m := range undefined {
			fix := fmt.Sprintf("synaxis host set %s %s=VALUE, or a settings definition for these hosts", m.hosts[0], ref.Name)
			if ref.Space == "label" {
				fix = fmt.Sprintf("synaxis host label %s %s=VALUE", m.hosts[0], ref.Name)
			}
			c.add(d, m.path, "setting-undefined", Error, fmt.Sprintf("%s is not defined on %s", ref, some(m.hosts)), fix, m.hosts...)
		}
	}
}

func (c *checker) noHosts(d *catalogue.Definition, hosts []inventory.Host) {
	sel := inventory.Selector{}
	if d.Source != nil {
		sel = d.Source.Hosts
	} else {
		sel = d.Settings.Hosts
	}
	fix := "label a host, or change the choice"
	for _, t := range sel.Terms {
		known := map[string]bool{}
		keys := map[string]bool{}
		for _, h := range hosts {
			for k, v := range h.Labels {
				keys[k] = true
				if k == t.Key {
					known[v] = true
				}
			}
		}
		if !keys[t.Key] {
			if near := yamldoc.Nearest(t.Key, keysOf(keys)); near != "" {
				fix = fmt.Sprintf("no host has the label %s; did you mean %q?", t.Key, near)
			}
			break
		}
		hit := false
		for _, v := range t.Values {
			hit = hit || known[v]
		}
		if !hit && len(t.Values) > 0 {
			if near := yamldoc.Nearest(t.Values[0], keysOf(known)); near != "" {
				fix = fmt.Sprintf("no host has %s=%s; did you mean %q?", t.Key, t.Values[0], near)
			}
			break
		}
	}
	if len(hosts) == 0 {
		fix = "no host has joined yet; synaxis join-token create"
	}
	c.add(d, []string{"hosts"}, "no-hosts", Warning, fmt.Sprintf("hosts (%s) chooses no host of the fleet", sel), fix)
}

func keysOf(m map[string]bool) []string {
	var out []string
	for k := range m {
		out = append(out, k)
	}
	sort.Strings(out)
	return out
}

// some names a few of many.
func some(names []string) string {
	if len(names) <= 3 {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more hosts", strings.Join(names[:2], ", "), len(names)-2)
}
