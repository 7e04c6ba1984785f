package reports

import (
	"maps"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/open-telemetry/opamp-go/protobufs"

	"synaxis/internal/core/inventory"
	"synaxis/internal/core/wire"
)

// What a host says of itself is kept, shown, and put into configs. It is cleaned and bounded where it comes in: a host
// may have been taken over.

// Bounds of what one host may report.
const (
	maxAttribute  = 256  // bytes of an attribute that is text
	maxList       = 8192 // bytes of an attribute that is a list
	maxReason     = 2000 // bytes of why something does not work
	maxAttributes = 64
	maxComponents = 4000    // sources and destinations
	maxSources    = 2000    // that have numbers
	maxEffective  = 1 << 20 // bytes of a config that is not ours
	maxNames      = 64      // destinations, or reasons of drops, of one source
	maxSenders    = 10_000  // known by their name, of one source
	maxOfSenders  = 100_000 // numbers of them, of one host
)

// clean drops what is not to be seen, and cuts at most bytes. Line breaks become spaces.
func clean(s string, most int) string {
	out := strings.Map(func(r rune) rune {
		switch {
		case r == '\n' || r == '\t':
			return ' '
		case r == utf8.RuneError || !unicode.IsGraphic(r):
			return -1
		}
		return r
	}, strings.ToValidUTF8(s[:min(len(s), 4*most)], ""))
	if len(out) <= most {
		return out
	}
	for most > 0 && !utf8.RuneStart(out[most]) {
		most--
	}
	return out[:most]
}

// cleanText cleans a text of several lines.
func cleanText(text []byte, most int) string {
	lines := strings.Split(string(text[:min(len(text), most)]), "\n")
	for i, l := range lines {
		lines[i] = clean(l, most)
	}
	return strings.Join(lines, "\n")
}

// Fact cleans what an agent says of its host and what may come into a config. It holds no dollar sign, so that nothing
// can take it for a reference.
func Fact(s string) string { return factOf(s, maxAttribute) }

func factOf(s string, most int) string { return strings.ReplaceAll(clean(s, most), "$", "") }

// attributes reads what an agent says of its host.
func attributes(d *protobufs.AgentDescription) map[string]string {
	out := map[string]string{}
	for _, list := range [][]*protobufs.KeyValue{d.GetIdentifyingAttributes(), d.GetNonIdentifyingAttributes()} {
		for _, kv := range list {
			key := kv.GetKey()
			if inventory.CheckKey(strings.ToLower(key)) != "" || len(out) >= maxAttributes && out[key] == "" {
				continue
			}
			most := maxAttribute
			if key == wire.PartsAttribute || key == wire.PortsAttribute {
				most = maxList
			}
			if out[key] = factOf(kv.GetValue().GetStringValue(), most); out[key] == everyPart {
				out[key] = everyPart // kept once, not by each host
			}
		}
	}
	return out
}

// bounded takes names that no definition can have out of a map, and all but the first of it by name when there are
// more than most.
func bounded[T any](all map[string]T, most int) map[string]T {
	return boundedBy(all, most, func(name string) bool { return inventory.CheckKey(name) == "" })
}

func boundedBy[T any](all map[string]T, most int, can func(name string) bool) map[string]T {
	for name := range all {
		if !can(name) {
			delete(all, name)
		}
	}
	if len(all) > most {
		for _, name := range slices.Sorted(maps.Keys(all))[most:] {
			delete(all, name)
		}
	}
	return all
}

// cleanNumbers bounds the numbers that an agent reports, where they are.
func cleanNumbers(all map[string]wire.Numbers) map[string]wire.Numbers {
	all = bounded(all, maxSources)
	for _, n := range all {
		for _, p := range wire.Parts {
			if of := *p.Of(&n); p.With == "" {
				bounded(of, mostOf(p))
			} else {
				boundedBy(of, mostOf(p), func(name string) bool {
					with, sender := wire.CutSenderOf(name)
					return inventory.CheckKey(with) == "" && inventory.CheckKey(sender) == ""
				})
			}
		}
		bounded(n.Deliveries, maxNames)
	}
	return all
}

// mostOf bounds the names of a part.
func mostOf(p wire.Part) int {
	switch {
	case p.With != "":
		return maxOfSenders
	case p.Senders():
		return maxSenders
	}
	return maxNames
}

// room is how many names of senders a host may tell beyond those that it told before.
func room(before map[string]wire.Numbers) int {
	left := maxOfSenders
	for _, n := range before {
		for _, p := range wire.Parts {
			if p.Senders() {
				left -= len(*p.Of(&n))
			}
		}
	}
	return left
}

// within leaves names out of numbers that are new and for which there is no room beside those that were told before:
// an agent that tells others in each report would fill the memory. It answers how much room is left to senders.
func within(n, was wire.Numbers, left int) int {
	for _, p := range wire.Parts {
		of, before := *p.Of(&n), *p.Of(&was)
		most := mostOf(p) - len(before)
		if p.Senders() {
			most = min(most, left)
		}
		fresh := admit(of, before, most)
		if p.Senders() {
			left -= fresh
		}
	}
	admit(n.Deliveries, was.Deliveries, maxNames-len(was.Deliveries))
	return left
}

// admit leaves out new names beyond so many, and answers how many stay.
func admit[T any](now, was map[string]T, most int) (fresh int) {
	for name := range now {
		if _, known := was[name]; !known {
			fresh++
		}
	}
	if fresh <= most {
		return fresh
	}
	fresh = 0
	for _, name := range slices.Sorted(maps.Keys(now)) {
		if _, known := was[name]; known {
			continue
		}
		if fresh < most {
			fresh++
		} else {
			delete(now, name)
		}
	}
	return fresh
}

// componentName tells whether a part of a health tree has a name to keep: KIND/NAME.
func componentName(name string) bool {
	kind, of, _ := strings.Cut(name, "/")
	return inventory.CheckKey(strings.ToLower(kind)) == "" &&
		(of == "" || inventory.CheckKey(strings.ToLower(of)) == "")
}
