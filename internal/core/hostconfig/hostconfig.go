// Package hostconfig is the document that an agent gets: everything one host should run, with nothing left to look up.
//
// It is YAML for people to read. Its parts are written as in the catalogue, with every reference resolved. The hash
// of a config is over its parts as they are written here, comments left out.
package hostconfig

import (
	"fmt"
	"slices"
	"strings"

	"synaxis/internal/core/delivery"
	"synaxis/internal/core/footprint"
	"synaxis/internal/core/format"
	"synaxis/internal/core/mask"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/schema"
	"synaxis/internal/core/yamldoc"
)

// Version is the form of the document that this code reads and writes.
const Version = 1

// Config is one host config.
type Config struct {
	Host         string
	Hash         string // as the service gave it; the agent reports it back
	Labels       map[string]string
	Footprint    footprint.Spec
	Formats      []format.Spec
	Masks        []mask.Spec
	Destinations []delivery.Spec
	Sources      []pipeline.Source
	Secrets      map[string]string // by NAME@VERSION; they come beside the text
}

// Secret returns the value of a reference such as ${secret.mask_key@7}.
func (c Config) Secret(ref string) ([]byte, bool) {
	id, ok := strings.CutPrefix(strings.TrimSuffix(ref, "}"), "${secret.")
	v, have := c.Secrets[id]
	return []byte(v), ok && have
}

// Mask returns a mask that the config brings along.
func (c Config) Mask(name string) (mask.Spec, bool) {
	for _, m := range c.Masks {
		if m.Name == name {
			return m, true
		}
	}
	return mask.Spec{}, false
}

// Baseline is what every agent can run. An agent tells which parts it can run beyond; a config that needs another part
// is refused, never passed over in part.
var Baseline = []string{"files", "formats", "deliver-http", "deliver-file"}

// Runs is what the agent of this version can run.
var Runs = append(
	[]string{
		"report",
		"format-regex",
		"format-csv",
		"format-first-of",
		"format-fields",
		"format-syslog",
		"format-cef",
		"recognise",
		"steps",
		"conditions",
		"masks",
		"unparsed-route",
		"encodings",
		"record-bounds",
		"links",
		"was",
		"record-ids",
		"disk-buffer",
		"disk-limit",
		"isolate",
		"at-once",
		"drain",
		"auth",
		"tls",
		"limit",
		"rejects-bounds",
		"urls",
		"proxy",
		"look-up",
		"watch",
		"listeners",
		"files-from",
		"commands",
		"journal",
		"generate",
		"deliver-syslog",
	},
	Baseline...)

// Schema is the form of a host config.
var Schema = schema.Obj("a host config", append([]schema.Key{
	{Name: "synaxis", Value: schema.Whole(1), Need: true, Doc: "The version of this form."},
	{Name: "host", Value: schema.Plain},
	{Name: "hash", Value: schema.Plain},
	{Name: "labels", Value: schema.TableOf(schema.Plain)},
	{Name: "formats", Value: section("format", format.Keys)},
	{Name: "masks", Part: "masks", Value: section("mask", mask.Keys)},
	{Name: "destinations", Value: section("destination", delivery.Keys)},
	{Name: "sources", Value: section("source", pipeline.Keys)},
}, footprint.Keys...)...)

func section(kind string, keys []schema.Key) *schema.Value {
	name := schema.Key{Name: kind, Value: schema.Plain, Need: true, Doc: "Its name."}
	return schema.ListOf(schema.Obj("a "+kind, append([]schema.Key{name}, keys...)...))
}

// Read reads a host config. It refuses what it does not know, and what runs does not hold: a part that this agent
// cannot run must not be passed over. All problems are in the one error.
func Read(text []byte, runs []string) (Config, error) {
	docs, problems := yamldoc.Parse("host config", text)
	if len(problems) > 0 {
		return Config{}, problems[0]
	}
	if len(docs) != 1 {
		return Config{}, fmt.Errorf("host config: expected one document, found %d", len(docs))
	}
	r := &yamldoc.Reader{File: "host config"}
	c := decode(r, docs[0].Root, runs)
	if len(r.Problems) > 0 {
		var b strings.Builder
		b.WriteString("this agent cannot run the host config")
		for i, p := range r.Problems {
			if i == 5 {
				fmt.Fprintf(&b, "; and %d more", len(r.Problems)-i)
				break
			}
			fmt.Fprintf(&b, "; line %d: %s", p.Line, p.Reason)
		}
		return Config{}, fmt.Errorf("%s", b.String())
	}
	return c, nil
}

func decode(r *yamldoc.Reader, root *yamldoc.Node, runs []string) Config {
	c := Config{
		Host:      root.Get("host").Text(),
		Hash:      root.Get("hash").Text(),
		Labels:    root.Get("labels").TextMap(),
		Footprint: footprint.Decode(root),
	}
	if v := root.Get("synaxis"); v != nil && v.Value != fmt.Sprint(Version) {
		r.Fail(
			v,
			"schema",
			fmt.Sprintf("form %s of the host config; this agent reads form %d", v.Value, Version),
			"install a newer agent",
		)
		return c
	}
	can := func(part string) bool { return slices.Contains(runs, part) }
	Schema.Validate(r, root, "the host config", schema.Where{Host: true, Parts: can})
	if len(r.Problems) > 0 {
		return c
	}
	each := func(kind string, add func(n *yamldoc.Node, name string)) {
		if list := root.Get(kind + "s"); list != nil {
			for _, n := range list.Items {
				add(n, n.Get(kind).Text())
			}
		}
	}
	each("format", func(n *yamldoc.Node, name string) { c.Formats = append(c.Formats, format.Decode(r, n, name)) })
	each("mask", func(n *yamldoc.Node, name string) { c.Masks = append(c.Masks, mask.Decode(n, name)) })
	each("destination", func(n *yamldoc.Node, name string) {
		c.Destinations = append(c.Destinations, delivery.Decode(r, n, name))
	})
	each("source", func(n *yamldoc.Node, name string) { c.Sources = append(c.Sources, pipeline.Decode(n, name)) })
	c.check(r, root, can)
	return c
}

// check makes sure that every name used is there, so that nothing fails later for want of a part.
func (c Config) check(r *yamldoc.Reader, root *yamldoc.Node, can func(string) bool) {
	for _, s := range c.Sources {
		for _, name := range s.Formats() {
			f, ok := c.Format(name)
			if !ok {
				r.Fail(
					root,
					"schema",
					fmt.Sprintf("source %s needs format %s, which this agent does not have", s.Name, name),
					"",
				)
			}
			for _, part := range f.Parts() {
				if !can(part) {
					r.Fail(
						root,
						"agent-lacks",
						fmt.Sprintf(
							"format %s of source %s needs the part %s, which this agent cannot run",
							name,
							s.Name,
							part,
						),
						"",
					)
				}
			}
		}
		for _, to := range s.Destinations() {
			if _, ok := c.Destination(to); !ok {
				r.Fail(
					root,
					"schema",
					fmt.Sprintf("source %s sends to %s, which is not in the config", s.Name, to),
					"",
				)
			}
		}
	}
}

// Names returns the names of one kind of part in a config that AppendItem wrote, without reading the rest of it.
func Names(text, kind string) []string {
	var out []string
	for line := range strings.Lines(text) {
		if rest, ok := strings.CutPrefix(line, "  - "+kind+": "); ok {
			name, _, _ := strings.Cut(rest, " ")
			out = append(out, strings.TrimSpace(name))
		}
	}
	return out
}

// Format returns the format of a name, built in or brought along.
func (c Config) Format(name string) (format.Spec, bool) {
	for _, f := range c.Formats {
		if f.Name == name {
			return f, true
		}
	}
	return format.BuiltIn(name)
}

// Destination returns the destination of a name.
func (c Config) Destination(name string) (delivery.Spec, bool) {
	for _, d := range c.Destinations {
		if d.Name == name {
			return d, true
		}
	}
	return delivery.Spec{}, false
}

// AppendHead writes the beginning of a config.
func AppendHead(dst []byte, host, hash string, labels map[string]string) []byte {
	dst = append(dst, "synaxis: 1\nhost: "...)
	dst = yamldoc.AppendQuote(dst, host)
	dst = append(append(append(dst, "\nhash: "...), hash...), '\n')
	if len(labels) > 0 {
		dst = append(yamldoc.AppendFlowMap(append(dst, "labels: "...), labels), '\n')
	}
	return dst
}

// AppendSection opens formats, destinations or sources.
func AppendSection(dst []byte, kind string) []byte {
	return append(append(dst, kind...), "s:\n"...)
}

// TopLevel tells whether the keys of a kind stand at the top of a config rather than in a section.
func TopLevel(kind string) bool { return kind == "agents" }

// AppendItem opens one part of a section; body is what its AppendYAML wrote with Indent. revision, when it is not 0,
// is told in a comment.
func AppendItem(dst []byte, kind, name string, revision int, body []byte) []byte {
	dst = append(append(append(append(append(dst, "  - "...), kind...), ": "...), name...), "  # revision "...)
	dst = fmt.Append(dst, revision)
	return append(append(dst, '\n'), body...)
}

// Indent is what each line of a part begins with.
const Indent = "    "
