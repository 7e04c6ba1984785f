package inventory

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"maps"
	"path"
	"slices"
	"strings"

	"synaxis/internal/core/schema"
	"synaxis/internal/core/yamldoc"
)

// Entry is one host of a list: what the list says of it, and where.
type Entry struct {
	Host             string
	Labels, Settings map[string]string
	Line             int
}

// MaxEntries bounds one list.
const MaxEntries = 100_000

// ParseList reads a list of hosts, by the ending of its name: CSV with a head line (host, label.KEY, setting.NAME), or
// YAML or JSON, a list of {host, labels, settings}. An empty cell says nothing.
func ParseList(file string, text []byte) ([]Entry, []yamldoc.Problem) {
	r := &yamldoc.Reader{File: file}
	var list []Entry
	switch path.Ext(file) {
	case ".csv":
		list = parseCSV(r, text)
	case ".yaml", ".yml", ".json":
		list = parseDocument(r, text)
	default:
		r.FailAt(1, 1, "schema", "a list of hosts is a .csv, .yaml or .json file", "")
	}
	if len(list) == 0 && len(r.Problems) == 0 {
		r.FailAt(1, 1, "syntax", "the list is empty", "")
	}
	seen := map[string]int{}
	for _, e := range list {
		if why := CheckName(e.Host); why != "" {
			r.FailAt(e.Line, 1, "schema", fmt.Sprintf("%q: %s", e.Host, why), "")
		}
		if first, twice := seen[e.Host]; twice {
			r.FailAt(e.Line, 1, "duplicate-name", fmt.Sprintf("%s is in line %d already", e.Host, first), "keep one")
		}
		seen[e.Host] = e.Line
		for _, m := range []map[string]string{e.Labels, e.Settings} {
			for _, k := range slices.Sorted(maps.Keys(m)) {
				if why := CheckValue(k, m[k]); why != "" {
					r.FailAt(e.Line, 1, "schema", e.Host+": "+why, "")
				}
			}
		}
	}
	return list, r.Problems
}

// CheckValue tells what is wrong with a label or setting, or "".
func CheckValue(key, value string) string {
	if why := CheckKey(key); why != "" {
		return fmt.Sprintf("%q: %s", key, why)
	}
	if why := CheckLine(value, 1024); why != "" {
		return fmt.Sprintf("the value of %q must be one line of at most 1024 bytes, without control characters", key)
	}
	return ""
}

func parseCSV(r *yamldoc.Reader, text []byte) []Entry {
	c := csv.NewReader(strings.NewReader(strings.TrimPrefix(string(text), "\ufeff")))
	c.TrimLeadingSpace = true
	fail := func(err error) {
		var p *csv.ParseError
		if errors.As(err, &p) {
			r.FailAt(p.Line, p.Column, "syntax", p.Err.Error(), "")
			return
		}
		r.FailAt(1, 1, "syntax", err.Error(), "")
	}
	head, err := c.Read()
	if err != nil {
		if errors.Is(err, io.EOF) {
			err = errors.New("the list is empty")
		}
		fail(err)
		return nil
	}
	name := slices.Index(head, "host")
	if name < 0 {
		r.FailAt(
			1,
			1,
			"schema",
			fmt.Sprintf("the head line has no column %q; it has %s", "host", strings.Join(head, ", ")),
			"columns are host, label.KEY and setting.NAME",
		)
		return nil
	}
	for i, h := range head {
		if i != name && !strings.HasPrefix(h, "label.") && !strings.HasPrefix(h, "setting.") {
			r.FailAt(
				1,
				1,
				"unknown-key",
				fmt.Sprintf("column %q is not known", h),
				"columns are host, label.KEY and setting.NAME",
			)
			return nil
		}
	}
	var list []Entry
	for {
		row, err := c.Read()
		if errors.Is(err, io.EOF) {
			return list
		}
		if err == nil && len(list) == MaxEntries {
			err = fmt.Errorf("the list has more than %d hosts", MaxEntries)
		}
		if err != nil {
			fail(err)
			return nil
		}
		line, _ := c.FieldPos(0)
		e := Entry{Host: row[name], Line: line, Labels: map[string]string{}, Settings: map[string]string{}}
		for i, v := range row {
			if k, ok := strings.CutPrefix(head[i], "label."); ok && v != "" {
				e.Labels[k] = v
			}
			if k, ok := strings.CutPrefix(head[i], "setting."); ok && v != "" {
				e.Settings[k] = v
			}
		}
		list = append(list, e)
	}
}

// listed is one host of a list.
var listed = schema.Obj("a host",
	schema.Key{Name: "host", Value: schema.Plain, Need: true, Hint: "its name"},
	schema.Key{Name: "labels", Value: schema.TableOf(schema.Plain)},
	schema.Key{Name: "settings", Value: schema.TableOf(schema.Plain)})

func parseDocument(r *yamldoc.Reader, text []byte) []Entry {
	docs, problems := yamldoc.Parse(r.File, text)
	r.Problems = append(r.Problems, problems...)
	var list []Entry
	for _, d := range docs {
		if d.Root.Kind != yamldoc.List {
			r.Fail(
				d.Root,
				"schema",
				"expected a list of hosts, such as - {host: gate-1, labels: {site: northpier}}",
				"",
			)
			continue
		}
		for _, n := range d.Root.Items {
			listed.Validate(r, n, "a host", schema.Where{})
			list = append(
				list,
				Entry{
					Host:     n.Get("host").Text(),
					Labels:   n.Get("labels").TextMap(),
					Settings: n.Get("settings").TextMap(),
					Line:     n.Line,
				},
			)
		}
	}
	return list
}

// Change is what an entry would do to a host.
type Change struct {
	Host             string
	What             string // added, changed, same
	Labels, Settings []Edit
}

// Edit is one value that changes; Before is empty for a new one.
type Edit struct {
	Key, Before, After string
	Removed            bool
}

// Apply gives what a map is after edits.
func Apply(m map[string]string, edits []Edit) map[string]string {
	out := maps.Clone(m)
	if out == nil {
		out = map[string]string{}
	}
	for _, e := range edits {
		if e.Removed {
			delete(out, e.Key)
		} else {
			out[e.Key] = e.After
		}
	}
	return out
}

// Values are values to set and keys to take away.
type Values struct {
	Set    map[string]string
	Remove []string
}

// Edits tells what they change of a map.
func (v Values) Edits(m map[string]string) []Edit {
	out := edits(m, v.Set)
	for _, k := range v.Remove {
		if was, ok := m[k]; ok {
			out = append(out, Edit{Key: k, Before: was, Removed: true})
		}
	}
	slices.SortFunc(out, func(a, b Edit) int { return strings.Compare(a.Key, b.Key) })
	return out
}

// EditAll tells what setting and removing labels and settings changes of hosts.
func EditAll(hosts []Host, labels, settings Values) []Change {
	out := make([]Change, 0, len(hosts))
	for _, h := range hosts {
		c := Change{
			Host:     h.Name,
			What:     "changed",
			Labels:   labels.Edits(h.Labels),
			Settings: settings.Edits(h.Settings),
		}
		if len(c.Labels)+len(c.Settings) == 0 {
			c.What = "same"
		}
		out = append(out, c)
	}
	return out
}

// Compare tells what a list would change. A list adds and changes; it takes nothing away.
func Compare(hosts []Host, list []Entry) []Change {
	have := map[string]Host{}
	for _, h := range hosts {
		have[h.Name] = h
	}
	out := make([]Change, 0, len(list))
	for _, e := range list {
		h, known := have[e.Host]
		c := Change{
			Host:     e.Host,
			What:     "added",
			Labels:   edits(h.Labels, e.Labels),
			Settings: edits(h.Settings, e.Settings),
		}
		if known {
			if c.What = "changed"; len(c.Labels)+len(c.Settings) == 0 {
				c.What = "same"
			}
		}
		out = append(out, c)
	}
	return out
}

func edits(before, after map[string]string) []Edit {
	var out []Edit
	for _, k := range slices.Sorted(maps.Keys(after)) {
		if was, ok := before[k]; !ok || was != after[k] {
			out = append(out, Edit{Key: k, Before: was, After: after[k]})
		}
	}
	return out
}

// WriteCSV writes hosts as ParseList reads them.
func WriteCSV(w io.Writer, hosts []Host) error {
	labels, settings := map[string]bool{}, map[string]bool{}
	for _, h := range hosts {
		for k := range h.Labels {
			labels[k] = true
		}
		for k := range h.Settings {
			settings[k] = true
		}
	}
	head := []string{"host"}
	for _, k := range slices.Sorted(maps.Keys(labels)) {
		head = append(head, "label."+k)
	}
	for _, k := range slices.Sorted(maps.Keys(settings)) {
		head = append(head, "setting."+k)
	}
	c := csv.NewWriter(w)
	if err := c.Write(head); err != nil {
		return err
	}
	for _, h := range hosts {
		row := []string{h.Name}
		for _, col := range head[1:] {
			if k, ok := strings.CutPrefix(col, "label."); ok {
				row = append(row, h.Labels[k])
			} else {
				row = append(row, h.Settings[strings.TrimPrefix(col, "setting.")])
			}
		}
		if err := c.Write(row); err != nil {
			return err
		}
	}
	c.Flush()
	return c.Error()
}
