package run

import (
	"fmt"
	"slices"

	"synaxis/internal/core/format"
	"synaxis/internal/core/hostconfig"
	"synaxis/internal/core/mask"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/record"
)

// setup is everything that a source depends on. A source whose setup is the same goes on untouched.
type setup struct {
	Spec      pipeline.Source
	Format    format.Spec
	Others    []format.Spec // the formats that Format and the steps name
	Masks     []mask.Spec
	Keys      []string // of their hashes
	Host      string
	Labels    map[string]string
	Encodings map[string]record.Encoding
	Only      string   // the destination that this reading is for; empty for all but Except
	Except    []string // destinations that have a reading of their own
	Secrets   []string // of a listener: their values, so that it is made anew with others
}

// prepared is what runs of a source.
type prepared struct {
	*pipeline.Treatment
	senders map[string]*pipeline.Treatment // of a listener, by name
}

// prepare compiles everything of a config, so that nothing can fail once the swap has begun.
func prepare(c hostconfig.Config) (map[string]setup, map[string]prepared, error) {
	setups, treatments := map[string]setup{}, map[string]prepared{}
	for _, s := range c.Sources {
		if !slices.Contains(inputKinds, s.Input()) {
			return nil, nil, fmt.Errorf("source %s: this agent cannot read by %s", s.Name, s.Input())
		}
		f, _ := c.Format(s.Format)
		t, err := pipeline.Compile(s, f, pipeline.Parts{Formats: c.Format, Masks: c.Mask, Secret: c.Secret})
		if err != nil {
			return nil, nil, err
		}
		s.Steps = slices.Clone(s.Steps)
		for i := range s.Steps { // a change elsewhere moves lines, and changes nothing here
			s.Steps[i].Value = s.Steps[i].Value.Unplaced()
		}
		p := setup{Spec: s, Format: f, Host: c.Host, Labels: c.Labels, Encodings: map[string]record.Encoding{}}
		for _, name := range append(s.Formats()[1:], f.FirstOf...) {
			one, _ := c.Format(name)
			p.Others = append(p.Others, one)
			for _, name := range one.FirstOf {
				inner, _ := c.Format(name)
				p.Others = append(p.Others, inner)
			}
		}
		for _, name := range s.Masks() {
			m, _ := c.Mask(name)
			p.Masks = append(p.Masks, m)
			key, _ := c.Secret(m.Fill.Hash)
			p.Keys = append(p.Keys, string(key))
		}
		var isolated []string
		for _, to := range s.Destinations() {
			d, _ := c.Destination(to)
			p.Encodings[to] = d.Encoding()
			if d.Isolate {
				isolated = append(isolated, to)
			}
		}
		if s.Input() != "files" { // what cannot be read twice is written through for each destination
			isolated = nil
		}
		senders := map[string]*pipeline.Treatment{}
		if s.Listen != nil {
			if senders, err = ofSenders(c, s); err != nil {
				return nil, nil, err
			}
			for _, ref := range []string{s.Listen.Token, s.Listen.Certificate, s.Listen.Key} {
				value, _ := c.Secret(ref)
				p.Secrets = append(p.Secrets, string(value))
			}
		}
		if n := len(s.Destinations()); len(isolated) == n && n > 0 { // one reading needs no other beside it
			isolated = isolated[1:]
		}
		slices.Sort(isolated)
		p.Except = isolated
		setups[s.Name], treatments[s.Name] = p, prepared{t, senders}
		for _, to := range isolated {
			one := p
			one.Except, one.Only = nil, to
			t, err := pipeline.Compile(s, f, pipeline.Parts{Formats: c.Format, Masks: c.Mask, Secret: c.Secret})
			if err != nil {
				return nil, nil, err
			}
			setups[reading(s.Name, to)], treatments[reading(s.Name, to)] = one, prepared{Treatment: t}
		}
	}
	return setups, treatments, nil
}

// ofSenders compiles the treatments of senders that have a format or a zone of their own.
func ofSenders(c hostconfig.Config, s pipeline.Source) (map[string]*pipeline.Treatment, error) {
	out := map[string]*pipeline.Treatment{}
	for _, sender := range s.Listen.Senders {
		if !sender.Apart() {
			continue
		}
		own := s.For(sender)
		f, _ := c.Format(own.Format)
		t, err := pipeline.Compile(own, f, pipeline.Parts{Formats: c.Format, Masks: c.Mask, Secret: c.Secret})
		if err != nil {
			return nil, fmt.Errorf("sender %s: %w", sender.Name, err)
		}
		out[sender.Name] = t
	}
	return out, nil
}
