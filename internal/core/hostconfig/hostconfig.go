// Package hostconfig is the document that an agent gets: everything one host should run, with nothing left to look up.
//
// It is YAML for people to read. Its parts are written as in the catalogue, with every reference resolved. The hash
// of a config is over its parts as they are written here, comments left out.
package hostconfig

import (
	"fmt"
	"strings"
	"time"

	"synaxis/internal/core/delivery"
	"synaxis/internal/core/format"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/yamldoc"
)

// Version is the form of the document that this code reads and writes.
const Version = 1

// Config is one host config.
type Config struct {
	Host         string
	Hash         string // as the service gave it; the agent reports it back
	Labels       map[string]string
	Report       time.Duration // 0: the agent's own
	Formats      []format.Spec
	Destinations []delivery.Spec
	Sources      []pipeline.Source
}

// Read reads a host config. It refuses what it does not know: a part that this agent cannot run must not be passed
// over. All problems are in the one error.
func Read(text []byte) (Config, error) {
	docs, problems := yamldoc.Parse("host config", text)
	if len(problems) > 0 {
		return Config{}, problems[0]
	}
	if len(docs) != 1 {
		return Config{}, fmt.Errorf("host config: expected one document, found %d", len(docs))
	}
	r := &yamldoc.Reader{File: "host config"}
	c := decode(r, docs[0].Root)
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

func decode(r *yamldoc.Reader, root *yamldoc.Node) Config {
	f := r.Fields(root, "a host config")
	var c Config
	if v := f.Require("synaxis", "the version of this form"); v != nil && v.Value != fmt.Sprint(Version) {
		r.Fail(v, "schema", fmt.Sprintf("form %s of the host config; this agent reads form %d", v.Value, Version), "install a newer agent")
		return c
	}
	c.Host = f.Text("host")
	c.Hash = f.Text("hash")
	c.Labels = f.TextMap("labels")
	c.Report = f.Duration("report", 0)
	item := func(key string, each func(e *yamldoc.Fields, name string)) {
		for _, n := range f.Items(key + "s") {
			e := r.Fields(n, "a "+key)
			each(e, r.AsText(e.Require(key, "its name"), key))
		}
	}
	item("format", func(e *yamldoc.Fields, name string) { c.Formats = append(c.Formats, format.Decode(r, e, name)) })
	item("destination", func(e *yamldoc.Fields, name string) {
		c.Destinations = append(c.Destinations, delivery.Decode(r, e, name))
	})
	item("source", func(e *yamldoc.Fields, name string) {
		s := pipeline.Decode(r, e, name)
		e.Close()
		c.Sources = append(c.Sources, s)
	})
	f.Close()
	c.check(r, root)
	return c
}

// check makes sure that every name used is there, so that nothing fails later for want of a part.
func (c Config) check(r *yamldoc.Reader, root *yamldoc.Node) {
	if len(r.Problems) > 0 {
		return
	}
	for _, s := range c.Sources {
		if _, ok := c.Format(s.Format); !ok {
			r.Fail(root, "schema", fmt.Sprintf("source %s needs format %s, which this agent does not have", s.Name, s.Format), "")
		}
		for _, to := range s.Send {
			if _, ok := c.Destination(to); !ok {
				r.Fail(root, "schema", fmt.Sprintf("source %s sends to %s, which is not in the config", s.Name, to), "")
			}
		}
	}
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

// AppendItem opens one part of a section; body is what its AppendYAML wrote with Indent. revision, when it is not 0,
// is told in a comment.
func AppendItem(dst []byte, kind, name string, revision int, body []byte) []byte {
	dst = append(append(append(append(append(dst, "  - "...), kind...), ": "...), name...), "  # revision "...)
	dst = fmt.Append(dst, revision)
	return append(append(dst, '\n'), body...)
}

// Indent is what each line of a part begins with.
const Indent = "    "
