package delivery

import (
	"net/url"
	"strconv"
	"strings"

	"synaxis/internal/core/yamldoc"
)

// Decode reads a destination; its name has been taken already. It closes f.
func Decode(r *yamldoc.Reader, f *yamldoc.Fields, name string) Spec {
	s := Spec{Name: name, Compress: "none", Batch: DefaultBatch, Retry: DefaultRetry}
	f.Later("auth", "tls", "buffer", "isolate", "limit", "rejects", "expects", "budget", "about")
	if n := f.Require("deliver", "how, such as deliver: {otlp: {url: \"https://logs.example:4318/v1/logs\"}}"); n != nil {
		d := r.Fields(n, "deliver")
		d.Later("syslog", "relay", "postgresql", "kafka", "s3")
		if d != nil && len(n.Entries) != 1 {
			r.Fail(n, "schema", "deliver holds exactly one of otlp, http, file, discard", "")
		}
		for _, kind := range []string{"otlp", "http"} {
			if u := d.Sub(kind); u != nil {
				s.Kind = kind
				if un := u.Require("url", "where to send"); un != nil {
					s.URL = r.AsText(un, "url")
					if p, err := url.Parse(s.URL); !strings.Contains(s.URL, "${") && (err != nil || p.Host == "" || p.Scheme != "http" && p.Scheme != "https") {
						r.Fail(un, "schema", "url: "+strconv.Quote(s.URL)+" is not an http or https address", "")
					}
				}
				s.Headers = u.TextMap("headers")
				if kind == "http" {
					s.Form = u.Choice("form", "ndjson", []string{"ndjson", "json-array"}, nil)
				}
				u.Close()
			}
		}
		if u := d.Sub("file"); u != nil {
			s.Kind = "file"
			if pn := u.Require("path", "the file to append to"); pn != nil {
				if s.Path = r.AsText(pn, "path"); !strings.HasPrefix(s.Path, "/") && !strings.HasPrefix(s.Path, "${") {
					r.Fail(pn, "schema", "file.path: "+strconv.Quote(s.Path)+" is not an absolute path", "")
				}
			}
			u.Close()
		}
		if u := d.Sub("discard"); u != nil {
			s.Kind = "discard"
			u.Close()
		}
		d.Close()
	}
	if n := f.Node("compress"); n != nil {
		s.Compress = n.Value
		switch {
		case s.Compress != "none" && s.Compress != "gzip" && s.Compress != "zstd":
			r.Fail(n, "schema", "compress: expected one of none, gzip, zstd, found "+strconv.Quote(n.Value), "")
		case s.Compress != "none" && s.Kind == "file":
			r.Fail(n, "not-yet", "compress is not available yet for a file", "leave it out for now")
		}
	}
	if b := f.Sub("batch"); b != nil {
		s.Batch.Records = int(min(b.Int("records", int64(s.Batch.Records), 1), 1<<20))
		s.Batch.Bytes = max(b.Size("bytes", s.Batch.Bytes), 1)
		s.Batch.Wait = b.Duration("wait", s.Batch.Wait)
		b.Close()
	}
	if t := f.Sub("retry"); t != nil {
		s.Retry.First = max(t.Duration("first", s.Retry.First), 10*1e6)
		s.Retry.Most = max(t.Duration("most", s.Retry.Most), s.Retry.First)
		s.Retry.For = t.Duration("for", s.Retry.For)
		t.Close()
	}
	f.Close()
	return s
}

// AppendYAML writes the destination as Decode reads it, each line after indent.
func (s Spec) AppendYAML(dst []byte, indent string) []byte {
	dst = append(append(append(append(dst, indent...), "deliver: {"...), s.Kind...), ": {"...)
	sep := ""
	add := func(key, value string) {
		if value != "" {
			dst = append(append(append(dst, sep...), key...), ": "...)
			dst = yamldoc.AppendQuote(dst, value)
			sep = ", "
		}
	}
	add("url", s.URL)
	add("path", s.Path)
	add("form", s.Form)
	if len(s.Headers) > 0 {
		dst = yamldoc.AppendFlowMap(append(append(dst, sep...), "headers: "...), s.Headers)
	}
	dst = append(dst, "}}\n"...)
	if s.Compress != "none" {
		dst = append(append(append(append(dst, indent...), "compress: "...), s.Compress...), '\n')
	}
	if s.Kind == "discard" {
		return dst
	}
	dst = append(append(dst, indent...), "batch: {records: "...)
	dst = strconv.AppendInt(dst, int64(s.Batch.Records), 10)
	dst = append(append(dst, ", bytes: "...), yamldoc.FormatSize(s.Batch.Bytes)...)
	dst = append(append(append(dst, ", wait: "...), yamldoc.FormatDuration(s.Batch.Wait)...), "}\n"...)
	dst = append(append(append(dst, indent...), "retry: {first: "...), yamldoc.FormatDuration(s.Retry.First)...)
	dst = append(append(dst, ", most: "...), yamldoc.FormatDuration(s.Retry.Most)...)
	return append(append(append(dst, ", for: "...), yamldoc.FormatDuration(s.Retry.For)...), "}\n"...)
}
