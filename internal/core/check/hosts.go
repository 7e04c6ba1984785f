package check

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/inventory"
	"synaxis/internal/core/render"
	"synaxis/internal/core/yamldoc"
)

// fleet makes the checks that need the hosts. It goes by definitions and sets of hosts, and looks at single hosts only
// where rendering left something out.
func (c *checker) fleet() {
	f := c.world.Fleet
	c.choices()
	c.undefined()
	c.disagree()
	c.vocabulary()
	c.lacking()
	c.disks()
	c.budgets()
	c.meetings(f)
}

// names returns the hosts of a set.
func (c *checker) names(s inventory.Set) []string {
	var out []string
	s.Each(func(i int) { out = append(out, c.world.Fleet.Index.Hosts[i].Name) })
	return out
}

// choices finds choices of hosts that find nobody, and agents definitions that meet.
func (c *checker) choices() {
	f := c.world.Fleet
	var agents []*catalogue.Definition
	for _, d := range c.cat.All() {
		c.waves(d)
		sel := d.Selector()
		if sel == nil {
			continue
		}
		if f.Chosen(d.ID).Len() == 0 {
			c.noHosts(d, *sel)
		} else if hint := f.Index.Hint(*sel); hint != "" {
			c.add(d, []string{"hosts"}, "value-unknown", fmt.Sprintf("hosts (%s) names what no host has", *sel), hint)
		}
		if d.Agents == nil {
			continue
		}
		for _, o := range agents {
			if both := meet(f, d, o); both.Len() > 0 {
				hosts := c.names(both)
				c.add(
					d,
					[]string{"hosts"},
					"agents-disagree",
					fmt.Sprintf("agents %s is for the same hosts: %s", o.Name, some(hosts)),
					"make their hosts disjoint",
					hosts...)
			}
		}
		agents = append(agents, d)
	}
}

// waves finds waves of a plan whose condition meets no host: they are passed over, and what they should prove is not
// proven.
func (c *checker) waves(d *catalogue.Definition) {
	if d.Plan == nil || len(c.world.Fleet.Index.Hosts) == 0 {
		return
	}
	x := c.world.Fleet.Index
	for i, w := range d.Plan.Waves {
		sel, err := inventory.ParseSelector(w.Where)
		if w.Where == "" || err != nil || x.Choose(sel).Len() > 0 {
			continue
		}
		fix := "label hosts, or change the condition"
		if hint := x.Hint(sel); hint != "" {
			fix = hint
		}
		c.add(d, []string{"waves", fmt.Sprintf("#%d", i)}, "wave-empty",
			fmt.Sprintf("wave %d (%s) meets no host of the fleet", i+1, w.Where), fix)
	}
}

func meet(f *render.Fleet, a, b *catalogue.Definition) inventory.Set {
	both := slices.Clone(f.Chosen(a.ID))
	for i, w := range f.Chosen(b.ID) {
		both[i] &= w
	}
	return both
}

func (c *checker) noHosts(d *catalogue.Definition, sel inventory.Selector) {
	x := c.world.Fleet.Index
	fix := "label a host, or change the choice"
	if hint := x.Hint(sel); hint != "" {
		fix = hint
	}
	if len(x.Hosts) == 0 {
		fix = "no host has joined yet; synaxis join-token create"
	}
	c.add(d, []string{"hosts"}, "no-hosts", fmt.Sprintf("hosts (%s) chooses no host of the fleet", sel), fix)
}

// undefined finds references that have no value on some chosen host. Rendering has left those sources out already.
func (c *checker) undefined() {
	f := c.world.Fleet
	type missing struct {
		d     *catalogue.Definition
		ref   catalogue.Ref
		path  []string
		hosts []string
	}
	found := map[string]*missing{}
	for i, m := range f.Manifests {
		for _, left := range m.LeftOut {
			d := c.cat.Get("source", left.Source)
			h := &f.Index.Hosts[i]
			settings, conflicts := c.cat.Layers(h, nil)
			get := catalogue.Lookup(h, settings, f.Input().Secrets)
			torn := func(ref catalogue.Ref) bool { // it has two values there, which is told by itself
				return ref.Space == "setting" &&
					slices.ContainsFunc(conflicts, func(k catalogue.Conflict) bool { return k.Setting == ref.Name })
			}
			for _, of := range append([]*catalogue.Definition{d}, c.cat.Uses(d.Source)...) {
				refs, _ := of.Refs()
				for ref, path := range refs {
					if _, ok := get(ref); ok || torn(ref) {
						continue
					}
					at := of // a value for the host is missing where it is used; a secret where it is named
					if ref.Space != "secret" && of != d {
						at, path = d, c.useOf(d, of)
					}
					key := at.ID.String() + "\n" + ref.String()
					if found[key] == nil {
						found[key] = &missing{d: at, ref: ref, path: path}
					}
					found[key].hosts = append(found[key].hosts, h.Name)
				}
			}
		}
	}
	for _, key := range slices.Sorted(maps.Keys(found)) {
		m := found[key]
		slices.Sort(m.hosts)
		m.hosts = slices.Compact(m.hosts)
		if m.ref.Space == "secret" {
			fix := fmt.Sprintf("synaxis secret set %s", m.ref.Name)
			if near := yamldoc.Nearest(m.ref.Name, slices.Sorted(maps.Keys(f.Input().Secrets))); near != "" {
				fix = fmt.Sprintf("did you mean %s? Or: %s", near, fix)
			}
			c.add(
				m.d,
				m.path,
				"secret-missing",
				fmt.Sprintf("there is no secret %s; needed on %s", m.ref.Name, some(m.hosts)),
				fix,
				m.hosts...)
			continue
		}
		fix := fmt.Sprintf(
			"synaxis host set %s %s=VALUE, or a settings definition for these hosts",
			m.hosts[0],
			m.ref.Name,
		)
		switch m.ref.Space {
		case "label":
			fix = fmt.Sprintf("synaxis host label %s %s=VALUE", m.hosts[0], m.ref.Name)
		case "observed":
			fix = "its agent has not reported it; leave the host out, or wait for the agent"
		}
		c.add(
			m.d,
			m.path,
			"setting-undefined",
			fmt.Sprintf("%s is not defined on %s", m.ref, some(m.hosts)),
			fix,
			m.hosts...)
	}
}

// useOf is where a source names a definition that it uses.
func (c *checker) useOf(d, of *catalogue.Definition) []string {
	if of.Destination != nil {
		for i, e := range d.Source.Send {
			if e.To == of.Name {
				return []string{"send", at(i)}
			}
		}
	}
	return []string{"format"}
}

// disagree finds settings of equal rank that give a host different values.
func (c *checker) disagree() {
	f := c.world.Fleet
	var all []*catalogue.Definition
	found := map[catalogue.Conflict][]string{}
	for _, d := range c.cat.All() {
		if d.Settings == nil {
			continue
		}
		for _, o := range all {
			if o.Settings.Rank != d.Settings.Rank || !differ(o.Settings.Values, d.Settings.Values) {
				continue
			}
			meet(f, o, d).Each(func(i int) {
				h := &f.Index.Hosts[i]
				_, conflicts := c.cat.Layers(h, nil)
				for _, k := range conflicts {
					if k.First == o.Name && k.Second == d.Name {
						found[k] = append(found[k], h.Name)
					}
				}
			})
		}
		all = append(all, d)
	}
	for k, hosts := range found {
		c.add(
			c.cat.Get("settings", k.Second),
			[]string{"values", k.Setting},
			"settings-disagree",
			fmt.Sprintf(
				"settings %s and %s give %s different values on %s",
				k.First,
				k.Second,
				k.Setting,
				some(hosts),
			),
			"give one of them a higher rank, make their hosts disjoint, or set it on the hosts themselves",
			hosts...)
	}
}

func differ(a, b map[string]string) bool {
	for k, v := range a {
		if w, ok := b[k]; ok && v != w {
			return true
		}
	}
	return false
}

// vocabulary finds labels outside their label-key, on hosts, sources and in choices.
func (c *checker) vocabulary() {
	f := c.world.Fleet
	for _, k := range c.cat.All() {
		if k.LabelKey == nil {
			continue
		}
		allowed := func(v string) bool { return k.LabelKey.Values == nil || slices.Contains(k.LabelKey.Values, v) }
		near := func(v string) string {
			if n := yamldoc.Nearest(v, k.LabelKey.Values); n != "" {
				return fmt.Sprintf("did you mean %s?", n)
			}
			return "it may be " + strings.Join(k.LabelKey.Values, ", ")
		}
		outside := map[string][]string{}
		var without []string
		for i := range f.Index.Hosts {
			h := &f.Index.Hosts[i]
			if v, ok := h.Labels[k.Name]; !ok && k.LabelKey.Required {
				without = append(without, h.Name)
			} else if ok && !allowed(v) {
				outside[v] = append(outside[v], h.Name)
			}
		}
		for _, v := range slices.Sorted(maps.Keys(outside)) {
			c.add(
				k,
				[]string{"values"},
				"label-outside",
				fmt.Sprintf("%s=%s on %s is outside the vocabulary", k.Name, v, some(outside[v])),
				near(v),
				outside[v]...)
		}
		if len(without) > 0 {
			c.add(
				k,
				[]string{"required"},
				"label-missing",
				fmt.Sprintf("%s does not have the label %s, which every host must have", some(without), k.Name),
				fmt.Sprintf("synaxis host label %s %s=VALUE", without[0], k.Name),
				without...)
		}
		for _, d := range c.cat.All() {
			if d.Source != nil {
				if v, ok := d.Source.Labels[k.Name]; ok && !strings.Contains(v, "${") && !allowed(v) {
					c.add(
						d,
						[]string{"labels", k.Name},
						"label-outside",
						fmt.Sprintf("%s=%s is outside the vocabulary of label-key %s", k.Name, v, k.Name),
						near(v),
					)
				}
			}
			if sel := d.Selector(); sel != nil {
				for _, t := range sel.Terms {
					for _, v := range t.Values {
						if t.Key == k.Name && !allowed(v) {
							c.add(
								d,
								[]string{"hosts", k.Name},
								"label-outside",
								fmt.Sprintf(
									"hosts asks for %s=%s, which is outside the vocabulary of label-key %s",
									k.Name,
									v,
									k.Name,
								),
								near(v),
							)
						}
					}
				}
			}
		}
	}
}

// lacking finds sources that ask more of an agent than it can run.
func (c *checker) lacking() {
	f := c.world.Fleet
	kinds := map[string]inventory.Set{} // hosts by what their agents can run
	parts := map[string][]string{}
	for i := range f.Index.Hosts {
		o := f.Index.Hosts[i].Observed
		if o == nil || o.Parts == nil {
			continue
		}
		key := strings.Join(o.Parts, ",")
		if kinds[key] == nil {
			kinds[key], parts[key] = f.Index.NewSet(), o.Parts
		}
		kinds[key].Put(i, true)
	}
	if len(kinds) == 0 {
		return
	}
	for _, d := range c.cat.All() {
		if d.Source == nil && d.Agents == nil {
			continue
		}
		for _, n := range c.cat.Needs(d) {
			lack := f.Index.NewSet()
			for key, set := range kinds {
				if slices.Contains(parts[key], n.Part) {
					continue
				}
				for w := range lack {
					lack[w] |= set[w] & f.Chosen(d.ID)[w]
				}
			}
			if lack.Len() == 0 {
				continue
			}
			hosts := c.names(lack)
			if n.Def.Guard != nil {
				c.add(
					n.Def,
					n.Path,
					"guard-not-covered",
					fmt.Sprintf(
						"source %s has what this guard protects, and the agents of %s cannot mask: its data would "+
							"leave them unmasked",
						d.Name,
						some(hosts),
					),
					"update the agents of these hosts, or take the source off them",
					hosts...)
				continue
			}
			where := ""
			if n.Def != d {
				where = fmt.Sprintf(" for source %s", d.Name)
			}
			c.add(
				n.Def,
				n.Path,
				"agent-lacks",
				fmt.Sprintf("the agents of %s cannot run %s, which this needs%s", some(hosts), n.Part, where),
				"update the agents of these hosts, or leave it out",
				hosts...)
		}
	}
}

// disks finds buffers that together are larger than what is free where they are kept.
func (c *checker) disks() {
	f := c.world.Fleet
	need := make([]int64, len(f.Index.Hosts))
	var last *catalogue.Definition
	for _, dest := range c.cat.All() {
		if dest.Destination == nil || dest.Destination.Buffer.Disk == 0 {
			continue
		}
		last = dest
		users := f.Index.NewSet()
		for _, s := range c.cat.UsedBy(dest.ID) {
			if s.Source != nil {
				users.Or(f.Chosen(s.ID))
			}
		}
		var small []string
		free := int64(0)
		users.Each(func(i int) {
			o := f.Index.Hosts[i].Observed
			before := need[i]
			need[i] += dest.Destination.Buffer.Disk
			if o != nil && o.FreeDisk > 0 && before <= o.FreeDisk && need[i] > o.FreeDisk {
				small = append(small, f.Index.Hosts[i].Name)
				if free == 0 || o.FreeDisk < free {
					free = o.FreeDisk
				}
			}
		})
		if len(small) > 0 {
			c.add(
				last,
				[]string{"buffer", "disk"},
				"buffer-over-disk",
				fmt.Sprintf(
					"the buffers of %s together may take more than is free there; the least has %s free",
					some(small),
					megabytes(free),
				),
				"make the buffers smaller, or give the hosts more room",
				small...)
		}
	}
}

func megabytes(n int64) string { return fmt.Sprintf("%d MiB", n>>20) }

// budgets compares what destinations would get, by what their sources have really read, with their budgets.
func (c *checker) budgets() {
	if len(c.world.Volumes) == 0 {
		return
	}
	bySource := map[string]float64{}
	places := map[string]int{}
	for i := range c.world.Fleet.Index.Hosts {
		places[c.world.Fleet.Index.Hosts[i].Name] = i
	}
	for _, v := range c.world.Volumes {
		i, ok := places[v.Host]
		if ok && c.cat.Get("source", v.Source) != nil &&
			c.world.Fleet.Chosen(catalogue.ID{Kind: "source", Name: v.Source}).Has(i) {
			bySource[v.Source] += v.Bytes
		}
	}
	for _, d := range c.cat.All() {
		if d.Destination == nil || d.Destination.Budget == 0 {
			continue
		}
		total, largest, unknown := 0.0, "", 0
		for _, s := range c.cat.UsedBy(d.ID) {
			if s.Source == nil {
				continue
			}
			v, measured := bySource[s.Name]
			if !measured {
				unknown++
			}
			if total += v; largest == "" || v > bySource[largest] {
				largest = s.Name
			}
		}
		day := d.Destination.Budget * 24 / d.Destination.BudgetPer.Hours()
		if total <= day {
			continue
		}
		extra := ""
		if unknown > 0 {
			extra = fmt.Sprintf("; %d of its sources have not been measured yet", unknown)
		}
		c.add(
			d,
			[]string{"budget"},
			"budget-exceeded",
			fmt.Sprintf(
				"by what its sources have read, about %.1f GiB a day would go there, and the budget is %.1f GiB; "+
					"the most comes from %s%s",
				total/(1<<30),
				day/(1<<30),
				largest,
				extra,
			),
			"drop or sample what nobody needs, or raise the budget",
		)
	}
}

// some names a few of many.
func some(names []string) string {
	if len(names) <= 3 {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more hosts", strings.Join(names[:2], ", "), len(names)-2)
}
