package journal

import (
	"path"
	"slices"
	"strings"
)

// Units are patterns of the names of units. None are all units.
type Units []string

// unitField tells of a unit of an entry.
type unitField struct{ name, unit string }

// mostUnits bounds the units of an entry.
const mostUnits = 16

// suffixes are the kinds of units. A name without one is that of a service, as for the journal's program.
var suffixes = []string{".service", ".socket", ".device", ".mount", ".automount", ".swap", ".target", ".path", ".timer",
	".slice", ".scope"}

// Plain tells whether all are names and none is a pattern. The journal's program looks up patterns once, when it
// starts: it would pass over a unit that says its first word later, and fails where none has said one yet.
func (u Units) Plain() bool {
	return !slices.ContainsFunc(u, func(name string) bool { return strings.ContainsAny(name, "*?[") })
}

// Have tells whether an entry is one of these units: by a process of the unit, by the manager of units or a process of
// root about the unit, or of its crash.
func (u Units) Have(e *Entry) bool {
	if len(u) == 0 {
		return true
	}
	for _, f := range e.units {
		told := f.name == "_SYSTEMD_UNIT" || f.name == "UNIT" && e.first || f.name != "UNIT" && e.root
		if told && slices.ContainsFunc(u, func(pattern string) bool { return fits(pattern, f.unit) }) {
			return true
		}
	}
	return false
}

// fits tells whether a pattern takes a name, as fnmatch(3) with FNM_NOESCAPE does.
func fits(pattern, name string) bool {
	if !strings.ContainsAny(pattern, "*?[") {
		if !slices.ContainsFunc(suffixes, func(s string) bool { return strings.HasSuffix(pattern, s) }) {
			pattern += ".service"
		}
		return pattern == name
	}
	ok, err := path.Match(strings.NewReplacer(`\`, `\\`, "[!", "[^").Replace(pattern), name)
	return ok && err == nil
}
