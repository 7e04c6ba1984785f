package format

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"synaxis/internal/core/record"
	"synaxis/internal/core/schema"
	"synaxis/internal/core/yamldoc"
)

// TimeValue is the key time of a format or a source.
var TimeValue = schema.Obj(
	"time",
	schema.Key{Name: "field", Value: schema.Plain, Doc: "The field that holds the time."},
	schema.Key{
		Name:  "layout",
		Value: schema.Checked("format-invalid", checkLayout),
		Doc: "How it is written, as strftime does; %f is a fraction. Names of months and days may be in many " +
			"languages.",
		Example: "layout: '%Y-%m-%d %H:%M:%S'",
	},
	schema.Key{
		Name:    "zone",
		Value:   &schema.Value{Type: schema.Text, Refs: true, Check: CheckZone, Code: "zone-unknown"},
		Doc:     "The named zone in which it is written; required unless the layout has one.",
		Example: "zone: Europe/Lisbon",
	},
)

// FieldTypes are the types that a field may be declared with.
var FieldTypes = []string{"text", "int", "float", "bool", "time", "ip"}

var shapes = []string{"template", "regex", "json", "keyvalue", "csv", "first-of"}

// Keys are what a format definition and the format of a host config share, beside the name.
var Keys = []schema.Key{
	{
		Name:  "template",
		Value: schema.Checked("format-invalid", checkTemplate),
		Doc: "The shape of a line with its fields in braces, anchored at both ends. Types: text (the shortest " +
			"up to the next literal; the default), token (no spaces), quoted, int, float, ip, time, remainder. {-} " +
			"skips; {{ is a brace; a space takes all spaces that stand there.",
		Example: "template: '{ts:time} lane={lane:int} doc={doc} note={note:remainder}'",
	},
	{
		Name:  "regex",
		Part:  "format-regex",
		Value: schema.Checked("format-invalid", checkGroups),
		Doc:   "An expression (RE2); its named groups are the fields.",
	},
	{
		Name:    "json",
		Value:   schema.Either(schema.Flag, schema.Obj("json")),
		Doc:     "Each line is a JSON object.",
		Example: "json: {}",
	},
	{
		Name:    "keyvalue",
		Value:   schema.Either(schema.Flag, schema.Obj("keyvalue")),
		Doc:     "Each line is pairs such as key=value.",
		Example: "keyvalue: {}",
	},
	{
		Name: "csv",
		Part: "format-csv",
		Value: schema.Either(
			schema.Flag,
			schema.Obj(
				"csv",
				schema.Key{
					Name:    "separator",
					Value:   schema.Checked("schema", checkOneCharacter),
					Default: ",",
					Doc:     "The character between values.",
				},
			),
		),
		Doc:     "Each line is values between separators.",
		Example: "csv: {separator: ';'}",
	},
	{Name: "columns", Part: "format-csv", Value: schema.Texts, Doc: "The names of the values of csv, in order."},
	{
		Name:    "first-of",
		Part:    "format-first-of",
		Value:   schema.ListOf(schema.Names("format")),
		Doc:     "The first of these formats that reads a line.",
		Example: "first-of: [gate-scan, gate-reboot]",
	},
	{
		Name:  "fields",
		Part:  "format-fields",
		Value: schema.TableOf(schema.Words(FieldTypes...)),
		Doc: "The types of fields of json, keyvalue and csv. Conditions then know these names and types only; " +
			"without it any name is allowed and types count at run time.",
		Example: "fields: {status: int}",
	},
	{Name: "time", Value: TimeValue, Doc: "Which field holds the time, and how."},
	{Name: "level", Value: schema.Obj(
		"level",
		schema.Key{Name: "field", Value: schema.Plain, Doc: "The field that holds the level."},
		schema.Key{
			Name:  "map",
			Value: schema.TableOf(schema.Checked("schema", checkLevel)),
			Doc: "What its values mean; case does not matter, and '*' is any other. Without '*', usual words " +
				"for levels keep their meaning.",
			Example: "map: {DENIED: WARN, '*': INFO}",
		},
	), Doc: "Which field holds the level, and what its values mean. Levels are TRACE, DEBUG, INFO, WARN, ERROR, FATAL."},
	{Name: "body", Value: schema.Plain, Doc: "The field that becomes the body; default: the whole line."},
	{Name: "samples", Desk: true, Value: schema.ListOf(schema.Obj(
		"a sample",
		schema.Key{Name: "line", Value: schema.Plain, Need: true, Hint: "the line to try", Doc: "The line."},
		schema.Key{
			Name:  "gives",
			Value: schema.Either(schema.Checked("schema", checkNone), schema.TableOf(schema.Scalar)),
			Doc:   "A typed subset of its fields, or none when the format must not read it.",
		},
		schema.Key{Name: "gives-exactly", Value: schema.TableOf(schema.Scalar), Doc: "All of its fields."},
		schema.Key{Name: "level", Value: schema.Checked("schema", checkLevel), Doc: "Its level."},
	)), Doc: "Lines with what they give, run at every check.", Example: "samples: [{line: 'lane 4 rebooted', gives: " +
		"none}]"},
}

// Decode takes a format out of a document that Keys found good. Its name has been taken already. What cannot be
// compiled goes to r.
func Decode(r *yamldoc.Reader, n *yamldoc.Node, name string) Spec {
	s := Spec{
		Name:     name,
		Template: n.Get("template").Text(),
		Regex:    n.Get("regex").Text(),
		FirstOf:  n.Get("first-of").Texts(),
		Columns:  n.Get("columns").Texts(),
		Fields: n.Get("fields").
			TextMap(),
		Time:  DecodeTime(n.Get("time")),
		Body:  n.Get("body").Text(),
		Level: Level{Field: n.Get("level").Get("field").Text()},
	}
	var found []string
	for _, k := range shapes {
		if n.Get(k) != nil {
			found = append(found, k)
		}
	}
	if len(found) != 1 {
		r.Fail(
			n,
			"schema",
			"a format holds exactly one of "+strings.Join(shapes, ", "),
			"such as template: '{ts:time} {message:remainder}'",
		)
		return s
	}
	s.Kind = Kind(found[0])
	if s.Fields != nil && !slices.Contains([]Kind{JSON, KeyValue, CSV}, s.Kind) {
		r.Fail(
			n.Get("fields"),
			"schema",
			"fields declares the types of json, keyvalue and csv; a "+string(s.Kind)+" has them already",
			"",
		)
	}
	if s.Kind == "csv" && len(s.Columns) == 0 {
		r.Fail(n.Get("csv"), "schema", "csv needs \"columns\": the names of its values, in order", "")
	}
	s.Separator = n.Get("csv").Get("separator").Text()
	for k, v := range n.Get("level").Get("map").TextMap() {
		if s.Level.Map == nil {
			s.Level.Map = map[string]uint8{}
		}
		s.Level.Map[strings.ToLower(k)] = record.ParseLevel(v)
	}
	if samples := n.Get("samples"); samples != nil {
		for _, item := range samples.Items {
			s.Samples = append(s.Samples, decodeSample(r, item))
		}
	}
	if len(r.Problems) == 0 && s.Kind != "first-of" { // which needs the others
		if _, err := Compile(s, Time{}, nil); err != nil {
			r.Fail(n.Get(string(s.Kind)), "format-invalid", err.Error(), "")
		}
	}
	return s
}

// DecodeTime takes the key time of a format or a source.
func DecodeTime(n *yamldoc.Node) Time {
	return Time{Field: n.Get("field").Text(), Layout: n.Get("layout").Text(), Zone: n.Get("zone").Text()}
}

func decodeSample(r *yamldoc.Reader, n *yamldoc.Node) Sample {
	s := Sample{
		Line:    n.Line,
		Column:  n.Column,
		Text:    n.Get("line").Text(),
		Level:   n.Get("level").Text(),
		Exactly: n.Get("gives-exactly") != nil,
	}
	key, g := "gives", n.Get("gives")
	if s.Exactly {
		key, g = "gives-exactly", n.Get("gives-exactly")
	}
	if g == nil {
		return s
	}
	s.None = g.Text() == "none"
	if g.Kind != yamldoc.Map {
		return s
	}
	s.Gives = map[string]Want{}
	for _, e := range g.Entries {
		kinds := map[yamldoc.Kind]record.Kind{
			yamldoc.Int:   record.Int,
			yamldoc.Float: record.Float,
			yamldoc.Bool:  record.Bool,
			yamldoc.Text:  record.Text,
		}
		kind, ok := kinds[e.Value.Kind]
		if !ok {
			r.Fail(e.Value, "schema", fmt.Sprintf("%s.%s: expected a value", key, e.Key), "quote it if it is text")
		}
		s.Gives[e.Key] = Want{kind, e.Value.Value}
	}
	return s
}

func checkTemplate(s string) error {
	_, err := parseTemplate(s)
	return err
}

func checkLayout(s string) error {
	_, err := compileLayout(s)
	return err
}

func checkLevel(s string) error {
	if record.ParseLevel(s) == 0 {
		return fmt.Errorf("%q is not a level; levels are TRACE, DEBUG, INFO, WARN, ERROR, FATAL", s)
	}
	return nil
}

func checkNone(s string) error {
	if s != "none" {
		return fmt.Errorf("expected a map of fields, or none; found %q", s)
	}
	return nil
}

func checkOneCharacter(s string) error {
	if len([]rune(s)) != 1 {
		return fmt.Errorf("%q is not one character", s)
	}
	return nil
}

func checkGroups(s string) error {
	re, err := regexp.Compile(s)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(re.SubexpNames(), func(n string) bool { return n != "" }) {
		return fmt.Errorf("the expression has no named group; name its fields, such as (?P<lane>\\d+)")
	}
	return nil
}
