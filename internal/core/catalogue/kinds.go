package catalogue

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"synaxis/internal/core/delivery"
	"synaxis/internal/core/expr"
	"synaxis/internal/core/footprint"
	"synaxis/internal/core/format"
	"synaxis/internal/core/inventory"
	"synaxis/internal/core/mask"
	"synaxis/internal/core/notice"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/rollout"
	"synaxis/internal/core/schema"
	"synaxis/internal/core/yamldoc"
)

// Guard is a rule that masks must be applied to all sources with certain labels.
type Guard struct {
	Sources inventory.Selector // by the labels of sources
	Masks   []string
}

// Covers tells whether the guard is for a source. A label of the source that holds a reference is known only on a
// host; the guard takes it as its own, since a mask too many does less harm than one too few.
func (g *Guard) Covers(s *Source) bool {
	for _, t := range g.Sources.Terms {
		have, ok := s.Labels[t.Key]
		if !ok || !slices.Contains(t.Values, have) && !strings.Contains(have, "${") {
			return false
		}
	}
	return len(g.Sources.Terms) > 0
}

// Settings gives values to hosts. Of two that give a host the same setting the one of higher rank wins.
type Settings struct {
	Hosts  inventory.Selector
	Rank   int64
	Values map[string]string
}

// Agents says what agents may use of their hosts.
type Agents struct {
	Hosts inventory.Selector
	footprint.Spec
}

// Plan says how a rollout goes, and for which changes it is the plan where none is said.
type Plan struct {
	rollout.Plan
	Definitions []string            // patterns of KIND/NAME: the changed definitions; nil for any
	Hosts       *inventory.Selector // the changed hosts; nil for any
	For         bool                // it says what it is for
}

// LabelKey is the vocabulary of a label.
type LabelKey struct {
	Values   []string // nil: any
	Required bool
	Budgets  map[string]float64 // bytes a day that sources with a value of it may send
}

var about = schema.Key{Name: "about", Desk: true, Value: schema.Plain, Doc: "A sentence that says what it is for."}

func definition(what string, keys ...schema.Key) *schema.Value {
	return schema.Obj(what, append([]schema.Key{about}, keys...)...)
}

// Schemas are what definitions of each kind may hold, beside kind and name.
var Schemas = map[string]*schema.Value{
	"source": definition("a source", append([]schema.Key{inventory.HostsKey}, pipeline.Keys...)...),
	"format": definition("a format", format.Keys...),
	"mask":   definition("a mask", mask.Keys...).With("find", "detector"),
	"guard": definition(
		"a guard",
		schema.Key{
			Name:    "sources",
			Need:    true,
			Value:   inventory.TermsValue,
			Doc:     "Which sources, by their labels; all must hold, a list means any.",
			Example: "sources: {data: passenger}",
		},
		schema.Key{
			Name:    "masks",
			Need:    true,
			Value:   schema.ListOf(schema.Names("mask")),
			Doc:     "The masks that must be applied to all of them, after the last step.",
			Example: "masks: [passport, phone, payment-card]",
		},
	),
	"destination": definition("a destination", delivery.Keys...),
	"settings": definition(
		"settings",
		inventory.HostsKey,
		schema.Key{
			Name:    "rank",
			Value:   &schema.Value{Type: schema.Int},
			Default: "0",
			Doc: "Of two that give a host the same setting the one of higher rank wins; equal ranks that " +
				"disagree are an error. A host's own settings win over all.",
			Example: "rank: 10",
		},
		schema.Key{
			Name:    "values",
			Need:    true,
			Hint:    "a map of names and values",
			Value:   schema.TableOf(schema.Scalar),
			Doc:     "The settings, by name. Definitions use them as ${setting.NAME}.",
			Example: "values: {log_root: /srv/harbour}",
		},
	),
	"agents": definition("agents", append([]schema.Key{inventory.HostsKey}, footprint.Keys...)...),
	"plan": definition(
		"a plan",
		schema.Key{
			Name:    "waves",
			Need:    true,
			Value:   schema.ListOf(schema.Checked("schema", checkWave)),
			Doc:     "Which hosts change together: a number, a share of all, those that meet a condition, or the rest.",
			Example: `waves: [1 host, 5%, 'labels.site == "northpier"', rest]`,
		},
		schema.Key{
			Name: "for",
			Value: schema.Obj("for",
				schema.Key{Name: "definitions", Value: schema.Texts,
					Doc: "The changed definitions, as KIND/NAME; * stands " +
						"for any letters.", Example: "definitions: [source/gate-*, format/*]"},
				schema.Key{Name: "hosts", Value: inventory.HostsKey.Value, Doc: inventory.HostsKey.Doc,
					Example: "hosts: {role: gate}"}),
			Doc: "The changes that go by this plan where rollout start names none: all changed definitions, or all " +
				"changed hosts, are among these.",
			Example: "for: {hosts: {role: gate}}",
		},
		schema.Key{
			Name:  "at-once",
			Value: schema.Whole(1),
			Doc:   "How many hosts change at any time; without it all of a wave.",
		},
		schema.Key{
			Name:    "approve",
			Value:   schema.ListOf(schema.Whole(1)),
			Doc:     "The waves that a person lets begin, by their numbers.",
			Example: "approve: [3]",
		},
		schema.Key{
			Name:    "spread-by",
			Value:   schema.Plain,
			Doc:     "A label over whose values each wave is spread.",
			Example: "spread-by: site",
		},
		schema.Key{
			Name:    "soak",
			Value:   schema.ADuration,
			Default: "5m",
			Doc:     "How long a wave is watched before the next begins.",
		},
		schema.Key{
			Name:  "stop-when",
			Value: &schema.Value{Type: schema.Condition, Check: rollout.CheckGate, Code: "condition-invalid"},
			Doc: "What stops it: a condition over " + strings.Join(rollout.GateNames, ", ") +
				". Counts and shares are of hosts that are so now and were not before; ratios and shares of records are " +
				"against the hour before.",
			Example: "stop-when: failing > 0 || degraded_share > 0.02",
		},
		schema.Key{
			Name:    "on-stop",
			Value:   schema.Words("hold", "go-back"),
			Default: "hold",
			Doc:     "What happens then.",
		},
		schema.Key{
			Name:    "window",
			Value:   schema.Checked("schema", checkWindow),
			Doc:     "When waves may begin: days, hours and a zone.",
			Example: `window: "Mon-Thu 09:00-16:00 Europe/Lisbon"`,
		},
		schema.Key{
			Name:    "absent",
			Value:   schema.Words("catch-up", "leave-out"),
			Default: "catch-up",
			Doc:     "What becomes of hosts that are away.",
		},
	),
	"notice": definition("a notice", notice.Keys...),
	"label-key": definition(
		"a label-key",
		schema.Key{
			Name:    "values",
			Value:   schema.Texts,
			Doc:     "The values that the label may have; without it any.",
			Example: "values: [northpier, saltmarsh, gull-point]",
		},
		schema.Key{Name: "required", Value: schema.Flag, Default: "false", Doc: "Whether every host must have it."},
		schema.Key{
			Name:    "budgets",
			Value:   schema.TableOf(schema.Checked("schema", checkBudget)),
			Doc:     "How much all sources whose own label has a value may send in a day, by value; synaxis cost tells it.",
			Example: "budgets: {gates: 20GiB/day, booking: 5GiB/day}",
		},
	),
}

func checkBudget(s string) error {
	_, bytes, _, err := yamldoc.ParseRate(s)
	if err == nil && !bytes {
		err = fmt.Errorf("%q counts no bytes; expected a rate such as 20GiB/day", s)
	}
	return err
}

// fill sets the typed part of a definition from its body.
func (d *Definition) fill(r *yamldoc.Reader) {
	n := d.body
	switch d.Kind {
	case "source":
		d.Source = &Source{Hosts: inventory.Decode(r, n.Get("hosts")), Source: pipeline.Decode(n, d.Name)}
	case "format":
		f := format.Decode(r, n, d.Name)
		d.Format = &f
	case "mask":
		m := mask.Decode(n, d.Name)
		d.Mask = &m
	case "guard":
		d.Guard = &Guard{Sources: inventory.DecodeTerms(n.Get("sources")), Masks: n.Get("masks").Texts()}
	case "destination":
		s := delivery.Decode(r, n, d.Name)
		d.Destination = &s
	case "settings":
		d.Settings = &Settings{
			Hosts:  inventory.Decode(r, n.Get("hosts")),
			Rank:   n.Get("rank").Int(0),
			Values: n.Get("values").TextMap(),
		}
		if values := n.Get("values"); values != nil {
			for _, e := range values.Entries {
				if why := inventory.CheckKey(e.Key); why != "" {
					r.FailAt(e.Line, e.Column, "schema", why, "")
				}
			}
		}
	case "agents":
		d.Agents = &Agents{Hosts: inventory.Decode(r, n.Get("hosts")), Spec: footprint.Decode(n)}
	case "plan":
		d.Plan = &Plan{Plan: rollout.Plan{
			Name:     d.Name,
			SpreadBy: n.Get("spread-by").Text(),
			AtOnce:   int(n.Get("at-once").Int(0)),
			Soak:     n.Get("soak").Duration(5 * time.Minute),
			StopWhen: n.Get("stop-when").Text(),
			OnStop:   n.Get("on-stop").Text(),
			Window:   n.Get("window").Text(),
			Absent:   n.Get("absent").Text(),
		}}
		d.fillPlan(r, n)
	case "notice":
		n := notice.Decode(n, d.Name)
		d.Notice = &n
	case "label-key":
		d.LabelKey = &LabelKey{Values: n.Get("values").Texts(), Required: n.Get("required").Bool(false)}
		for value, text := range n.Get("budgets").TextMap() {
			if amount, bytes, per, err := yamldoc.ParseRate(text); err == nil && bytes {
				if d.LabelKey.Budgets == nil {
					d.LabelKey.Budgets = map[string]float64{}
				}
				d.LabelKey.Budgets[value] = amount * 24 / per.Hours()
			}
		}
		if why := inventory.CheckKey(d.Name); why != "" {
			r.Fail(d.root, "schema", why, "")
		}
	}
}

// fillPlan sets what a plan says of waves and of what it is for.
func (d *Definition) fillPlan(r *yamldoc.Reader, n *yamldoc.Node) {
	p := d.Plan
	for _, text := range n.Get("waves").Texts() {
		if w, err := rollout.ParseWave(text); err == nil { // else it is a finding already
			p.Waves = append(p.Waves, w)
		}
	}
	if w := n.Get("waves").Texts(); n.Get("waves") != nil && (len(w) == 0 || slices.Index(w, "rest") != len(w)-1) {
		r.Fail(
			n.Get("waves"),
			"schema",
			"waves must end with rest, once, so that every host has a wave",
			"such as waves: [1 host, 5%, 25%, rest]",
		)
	}
	if list := n.Get("approve"); list != nil {
		for _, item := range list.Items {
			wave := int(item.Int(0))
			if wave > len(n.Get("waves").Texts()) {
				r.Fail(item, "schema", fmt.Sprintf("there is no wave %d", wave), "the waves are counted from 1")
			}
			p.Approve = append(p.Approve, wave)
		}
	}
	if f := n.Get("for"); f != nil {
		p.For, p.Definitions = true, f.Get("definitions").Texts()
		if h := f.Get("hosts"); h != nil {
			chosen := inventory.Decode(r, h)
			p.Hosts = &chosen
		}
		for _, pattern := range p.Definitions {
			kind, _, ok := strings.Cut(pattern, "/")
			if _, known := Schemas[kind]; !ok || !known && kind != "*" {
				r.Fail(f.Get("definitions"), "schema", fmt.Sprintf("%q is no KIND/NAME", pattern),
					"such as source/gate-*, */booking-* or format/*")
			}
		}
	}
}

func checkWave(s string) error {
	w, err := rollout.ParseWave(s)
	if err == nil && w.Where != "" {
		_, err = expr.ParseHosts(w.Where)
	}
	return err
}

func checkWindow(s string) error {
	w, err := rollout.ParseWindow(s)
	if err == nil && w.Next(time.Date(2031, 1, 1, 0, 0, 0, 0, time.UTC)).IsZero() {
		return fmt.Errorf("%q never opens", s)
	}
	return err
}

// RequiredLabel tells whether every host must have a label.
func (c *Catalogue) RequiredLabel(key string) bool {
	d := c.Get("label-key", key)
	return d != nil && d.LabelKey.Required
}

// CheckLabels tells what is wrong with labels by the vocabulary, or "". With all it asks for the required ones too.
func (c *Catalogue) CheckLabels(labels map[string]string, all bool) string {
	for _, d := range c.list {
		if d.LabelKey == nil {
			continue
		}
		v, ok := labels[d.Name]
		switch {
		case !ok && all && d.LabelKey.Required:
			return fmt.Sprintf("the label %s is required", d.Name)
		case ok && d.LabelKey.Values != nil && !slices.Contains(d.LabelKey.Values, v):
			hint := "; it may be " + strings.Join(d.LabelKey.Values, ", ")
			if near := yamldoc.Nearest(v, d.LabelKey.Values); near != "" {
				hint = fmt.Sprintf("; did you mean %s?", near)
			}
			return fmt.Sprintf("%s=%s is outside the vocabulary of the label-key %s%s", d.Name, v, d.Name, hint)
		}
	}
	return ""
}
