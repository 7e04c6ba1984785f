package pipeline

import (
	"fmt"

	"synaxis/internal/core/format"
	"synaxis/internal/core/lines"
	"synaxis/internal/core/yamldoc"
)

// Decode reads what a source definition and the source of a host config share. The caller has taken the name, reads
// the keys that only one of the two has, and closes f.
func Decode(r *yamldoc.Reader, f *yamldoc.Fields, name string) Source {
	s := Source{Name: name, Labels: f.TextMap("labels")}
	f.Later("was", "expect", "steps", "files-from", "senders", "unknown-senders")
	if n := f.Require("read", "what to read, such as read: {files: [/var/log/app/*.log]}"); n != nil {
		read := r.Fields(n, "read")
		read.Later("syslog", "socket", "http", "otlp", "command", "generate", "encoding", "files-from", "senders", "unknown-senders")
		s.Files = read.Texts("files")
		if len(s.Files) == 0 && read != nil && len(n.Entries) > 0 && read.Has("files") {
			r.Fail(n, "schema", "read.files has no pattern", "")
		}
		if read != nil && !read.Has("files") && len(n.Entries) == 0 {
			r.Fail(n, "schema", "read needs \"files\": a list of paths", "")
		}
		s.Except = read.Texts("except")
		s.FirstRead = read.Choice("first-read", "now", []string{"now", "start"}, nil)
		read.Close()
	}
	if rec := f.Sub("records"); rec != nil {
		if n := rec.Node("begin"); n != nil {
			s.Begin = r.AsText(n, "begin")
			if _, err := lines.Compile(lines.Spec{Begin: s.Begin}); err != nil {
				r.Fail(n, "schema", err.Error(), "RE2 syntax, such as '^\\d{4}-'")
			}
		}
		rec.Close()
	}
	s.Format = r.AsText(f.Require("format", "how to read a line; raw takes it as it is"), "format")
	s.Time = format.DecodeTime(r, f)
	s.KeepOriginal = f.Bool("keep-original", false)
	s.Unparsed = "keep"
	if n := f.Node("unparsed"); n != nil {
		s.Unparsed = n.Value
		if s.Unparsed != "keep" && s.Unparsed != "drop" {
			r.Fail(n, "not-yet", fmt.Sprintf("unparsed: %q: a destination of its own is not available yet", n.Value), "keep or drop")
		}
	}
	for _, item := range f.Items("send") {
		if item.Kind == yamldoc.Text {
			s.Send = append(s.Send, item.Value)
			continue
		}
		e := r.Fields(item, "an entry of send")
		e.Later("when", "otherwise")
		if to := e.Text("to"); to != "" {
			s.Send = append(s.Send, to)
		} else if e != nil && !e.Has("when") && !e.Has("otherwise") {
			r.Fail(item, "schema", "an entry of send needs \"to\": a destination", "")
		}
		e.Close()
	}
	if len(s.Send) == 0 && !f.Has("send") {
		r.Fail(f.At(), "schema", "a source needs \"send\": the destinations of its records", "such as send: [{to: archive}]")
	}
	return s
}

// AppendYAML writes the source as Decode reads it, each line after indent.
func (s Source) AppendYAML(dst []byte, indent string) []byte {
	key := func(k string) { dst = append(append(append(dst, indent...), k...), ": "...) }
	if len(s.Labels) > 0 {
		key("labels")
		dst = yamldoc.AppendFlowMap(dst, s.Labels)
		dst = append(dst, '\n')
	}
	key("read")
	dst = append(dst, "{files: "...)
	dst = yamldoc.AppendFlowList(dst, s.Files)
	if len(s.Except) > 0 {
		dst = yamldoc.AppendFlowList(append(dst, ", except: "...), s.Except)
	}
	dst = append(append(append(dst, ", first-read: "...), s.FirstRead...), "}\n"...)
	if s.Begin != "" {
		key("records")
		dst = append(yamldoc.AppendQuote(append(dst, "{begin: "...), s.Begin), "}\n"...)
	}
	key("format")
	dst = append(yamldoc.AppendQuote(dst, s.Format), '\n')
	dst = s.Time.AppendYAML(dst, indent)
	if s.KeepOriginal {
		key("keep-original")
		dst = append(dst, "true\n"...)
	}
	if s.Unparsed == "drop" {
		key("unparsed")
		dst = append(dst, "drop\n"...)
	}
	key("send")
	return append(yamldoc.AppendFlowList(dst, s.Send), '\n')
}
