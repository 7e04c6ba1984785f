package check

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/expr"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/yamldoc"
)

// names are the fields that records of a source have at some point of its treatment.
type names struct {
	types map[string]expr.Type // by field, without "fields."
	open  bool                 // there may be others
}

var fieldTypes = map[string]expr.Type{
	"text":  expr.Text,
	"ip":    expr.Text,
	"int":   expr.Int,
	"float": expr.Float,
	"bool":  expr.Bool,
	"time":  expr.Text,
}

func (c *checker) given(format string) names {
	n := names{types: map[string]expr.Type{}}
	spec, ok := c.cat.Format(format)
	if !ok {
		return names{types: n.types, open: true}
	}
	fields, open := spec.Gives(c.cat.Format)
	n.open = open
	for _, f := range fields {
		n.types[f.Name] = fieldTypes[f.Type]
	}
	return n
}

// checker prepares the names for conditions.
func (n names) checker() (*expr.Checker, error) {
	s := expr.Scope{Record: true, Names: map[string]expr.Type{}, Open: []string{"labels"}, Texts: []string{"labels"}}
	for f, t := range n.types {
		s.Names["fields."+f] = t
	}
	if n.open {
		s.Open = append(s.Open, "fields")
	}
	return expr.NewChecker(s)
}

// conditions checks every condition and computed value of a source against the fields that are there at that point,
// and what it sends against what destinations expect.
func (c *checker) conditions(d *catalogue.Definition) {
	now := c.given(d.Source.Format)
	var env *expr.Checker
	check := func(path []string, text string, want expr.Type) expr.Checked {
		if env == nil {
			var err error
			if env, err = now.checker(); err != nil {
				c.add(d, path, "condition-invalid", err.Error(), "")
				return expr.Checked{}
			}
		}
		k, err := env.Check(text, want)
		var unknown expr.Unknown
		switch {
		case errors.As(err, &unknown):
			c.add(d, path, "condition-unknown-name", fmt.Sprintf("%s: %v", text, err), c.knownNames(now))
			return expr.Checked{}
		case err != nil:
			c.add(
				d,
				path,
				"condition-invalid",
				fmt.Sprintf("%s: %v", text, err),
				"compare values of one type; string(), int() and double() convert",
			)
			return expr.Checked{}
		}
		return k
	}
	field := func(path []string, name string) {
		if _, ok := now.types[name]; !ok && !now.open {
			near := ""
			if n := yamldoc.Nearest(name, slices.Sorted(maps.Keys(now.types))); n != "" {
				near = fmt.Sprintf("; did you mean %s?", n)
			}
			c.add(
				d,
				path,
				"condition-unknown-name",
				fmt.Sprintf("there is no field %s at this point%s", name, near),
				c.knownNames(now),
			)
		}
	}
	if filled := d.Body().Get("expect").Get("filled"); filled != nil {
		for _, e := range filled.Entries {
			field([]string{"expect", "filled", e.Key}, e.Key)
		}
	}
	for i, s := range d.Source.Steps {
		path := []string{"steps", at(i), string(s.Kind)}
		next := names{types: maps.Clone(now.types), open: now.open}
		switch s.Kind {
		case "keep", "drop":
			k := check(path, s.Value.Text(), expr.Bool)
			if v, constant := k.Constant(); constant && v == (s.Kind == "drop") {
				c.add(
					d,
					path,
					"send-unreachable",
					fmt.Sprintf(
						"this step drops every record, so nothing of the source is ever sent: %s",
						s.Value.Text(),
					),
					"mend the condition, or remove the source",
				)
			}
		case "sample", "limit":
			if w := s.Value.Get("when"); w != nil {
				check(append(path, "when"), w.Text(), expr.Bool)
			}
		case "set":
			for _, e := range s.Value.Entries {
				next.types[e.Key] = check(append(path, e.Key), e.Value.Text(), expr.Dyn).Type
			}
		case "parse":
			if from := s.Value.Get("from").Text(); from != "body" {
				field(append(path, "from"), from)
			}
			inner := c.given(s.Value.Get("format").Text())
			prefix := s.Value.Get("prefix").Text()
			if prefix != "" {
				prefix += "."
			}
			for n, t := range inner.types {
				next.types[prefix+n] = t
			}
			next.open = next.open || inner.open
		case "rename":
			for _, e := range s.Value.Entries {
				field(append(path, e.Key), e.Key)
				next.types[e.Value.Text()] = now.types[e.Key]
				delete(next.types, e.Key)
			}
		case "remove":
			for k, n := range s.Value.Texts() {
				field(append(path, at(k)), n)
				delete(next.types, n)
			}
		}
		if s.Kind == "set" || s.Kind == "parse" || s.Kind == "rename" || s.Kind == "remove" {
			now, env = next, nil
		}
	}
	for i, e := range d.Source.Send {
		if e.When == "" {
			continue
		}
		path := []string{"send", at(i), "when"}
		k := check(path, e.When, expr.Bool)
		if v, constant := k.Constant(); constant && !v {
			c.add(
				d,
				path,
				"send-unreachable",
				fmt.Sprintf("no record can ever meet %s, so nothing goes to %s by this entry", e.When, e.To),
				"mend the condition, or remove the entry",
			)
		}
	}
	c.takes(d, now)
}

func (c *checker) knownNames(n names) string {
	all := slices.Sorted(maps.Keys(n.types))
	if len(all) == 0 {
		return "the format gives no fields"
	}
	if len(all) > 12 {
		all = append(all[:12], "…")
	}
	return "fields here: " + strings.Join(all, ", ")
}

// takes checks the fields that a source sends against what the tables of its destinations take.
func (c *checker) takes(d *catalogue.Definition, have names) {
	for _, to := range d.Source.Destinations() {
		dest := c.cat.Get("destination", to)
		if dest == nil || len(dest.Destination.Takes) == 0 {
			continue
		}
		i := slices.IndexFunc(d.Source.Send, func(e pipeline.Entry) bool { return e.To == to })
		path := []string{"send", at(max(i, 0))}
		for _, name := range slices.Sorted(maps.Keys(dest.Destination.Takes)) {
			want := fieldTypes[dest.Destination.Takes[name]]
			got, ok := have.types[name]
			switch {
			case !ok && !have.open:
				fix := "set it in a step, or send this source elsewhere"
				if near := yamldoc.Nearest(name, slices.Sorted(maps.Keys(have.types))); near != "" {
					fix = fmt.Sprintf("rename: {%s: %s}", near, name)
				}
				c.add(
					d,
					path,
					"takes-mismatch",
					fmt.Sprintf("%s takes the field %s, which this source does not have", to, name),
					fix,
				)
			case ok && got != want && got != expr.Dyn && (want != expr.Float || got != expr.Int):
				c.add(
					d,
					path,
					"takes-mismatch",
					fmt.Sprintf("%s takes %s as %s, and this source gives %s", to, name, want, got),
					"set it to a value of that type in a step, or change what the destination takes",
				)
			}
		}
	}
}

// routes checks that every record of a source ends somewhere, and that every entry can be reached.
func (c *checker) routes(d *catalogue.Definition) {
	always, otherwise, some := -1, -1, -1
	seen := map[string]int{}
	for i, e := range d.Source.Send {
		switch {
		case e.Otherwise && otherwise >= 0:
			c.add(
				d,
				[]string{"send", at(i)},
				"send-unreachable",
				"there is an otherwise already, and it takes everything that no other entry took",
				"keep one",
			)
		case e.Otherwise:
			otherwise = i
		case e.When == "":
			always = i
		default:
			some = i
		}
		if first, twice := seen[e.To+"\n"+e.When]; twice && !e.Otherwise {
			c.add(
				d,
				[]string{"send", at(i)},
				"send-unreachable",
				fmt.Sprintf("entry %d says the same already; the record goes to %s once", first+1, e.To),
				"remove one",
			)
		}
		seen[e.To+"\n"+e.When] = i
	}
	if always >= 0 && some >= 0 && otherwise < 0 {
		every, chosen := d.Source.Send[always].To, d.Source.Send[some].To
		c.add(
			d,
			[]string{"send", at(always)},
			"send-copies",
			fmt.Sprintf(
				"a record that meets the when of %s goes to %s too: an entry without a when gets every record",
				chosen,
				every,
			),
			fmt.Sprintf("if %s is for the rest alone, write {otherwise: %s}", every, every),
		)
	}
	switch {
	case otherwise >= 0 && always >= 0:
		c.add(
			d,
			[]string{"send", at(otherwise)},
			"send-unreachable",
			fmt.Sprintf(
				"the entry for %s takes every record, so there is nothing left for otherwise",
				d.Source.Send[always].To,
			),
			"give that entry a when, or remove otherwise",
		)
	case otherwise < 0 && always < 0 && len(d.Source.Send) > 0:
		c.add(
			d,
			[]string{"send"},
			"route-open",
			"every entry has a when: what none of them takes would end nowhere",
			"add {otherwise: DESTINATION}; a destination that discards counts what it takes",
		)
	}
}
