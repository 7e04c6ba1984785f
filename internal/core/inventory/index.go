package inventory

import (
	"maps"
	"math/bits"
	"slices"
	"strings"
	"sync/atomic"

	"synaxis/internal/core/expr"
)

// Set is a set of hosts by their position in an Index.
type Set []uint64

// Has tells whether host i is in the set.
func (s Set) Has(i int) bool { return s[i/64]&(1<<(i%64)) != 0 }

// Put adds host i, or takes it away.
func (s Set) Put(i int, in bool) {
	if in {
		s[i/64] |= 1 << (i % 64)
	} else {
		s[i/64] &^= 1 << (i % 64)
	}
}

// Len counts the set.
func (s Set) Len() int {
	n := 0
	for _, w := range s {
		n += bits.OnesCount64(w)
	}
	return n
}

// Each visits the hosts of the set in order.
func (s Set) Each(visit func(i int)) {
	for k, w := range s {
		for w != 0 {
			visit(k*64 + bits.TrailingZeros64(w))
			w &= w - 1
		}
	}
}

// Or adds all of o.
func (s Set) Or(o Set) {
	for i := range o {
		s[i] |= o[i]
	}
}

// column holds one name for all hosts: the position of each host's value among the values that there are. Position 0
// is a host that does not have it.
type column struct {
	values []string
	of     []uint32
}

// Index answers choices for all hosts at once: a column of values for each label, so that a choice costs one look at
// each value and a pass over small numbers, whatever is written in it.
type Index struct {
	Hosts     []Host
	byName    map[string]int
	columns   map[string]*column
	positions map[string]map[string]uint32 // of values in columns; shared by indexes that came from one another
	id        uint64
	from      uint64 // the index that this was edited from
	edited    []int
}

var lastIndex atomic.Uint64

// NewIndex indexes hosts, which must not change afterwards.
func NewIndex(hosts []Host) *Index {
	x := &Index{
		Hosts:     hosts,
		byName:    make(map[string]int, len(hosts)),
		columns:   map[string]*column{},
		positions: map[string]map[string]uint32{},
		id:        lastIndex.Add(1),
	}
	for i := range hosts {
		x.byName[hosts[i].Name] = i
		x.take(i, func(c *column) *column { return c })
	}
	return x
}

// Position tells where in Hosts a host stands.
func (x *Index) Position(name string) (i int, ok bool) {
	i, ok = x.byName[name]
	return i, ok
}

// take puts a host into the columns. own makes a column the index's own before it is written to.
func (x *Index) take(i int, own func(c *column) *column) {
	h := &x.Hosts[i]
	put := func(name, value string) {
		c := x.columns[name]
		if c == nil {
			c = &column{values: []string{""}, of: make([]uint32, len(x.Hosts))}
			x.positions[name] = map[string]uint32{}
		} else {
			c = own(c)
		}
		x.columns[name] = c
		p, ok := x.positions[name][value]
		if !ok {
			p = uint32(len(c.values))
			c.values = append(c.values, value)
			x.positions[name][value] = p
		}
		c.of[i] = p
	}
	for k, v := range h.Labels {
		put("labels."+k, v)
	}
	for _, o := range [...][2]string{{"observed.os", h.OS}, {"observed.arch", h.Arch}, {"observed.name", h.System}} {
		if o[1] != "" {
			put(o[0], o[1])
		}
	}
}

// Edit makes the index in which some hosts, by their positions, are others under the same names. The old one stays
// good, but only its newest descendant may be edited again. What it costs is the copying of the columns that the edit
// touches.
func (x *Index) Edit(hosts map[int]Host) *Index {
	next := &Index{
		Hosts:     slices.Clone(x.Hosts),
		byName:    x.byName,
		columns:   maps.Clone(x.columns),
		positions: x.positions,
		id:        lastIndex.Add(1),
		from:      x.id,
	}
	owned := map[*column]bool{}
	own := func(c *column) *column {
		if owned[c] {
			return c
		}
		mine := &column{values: slices.Clip(c.values), of: slices.Clone(c.of)}
		owned[mine] = true
		return mine
	}
	for i, h := range hosts {
		for name, c := range next.columns { // what it had goes
			if c.of[i] != 0 {
				c = own(c)
				next.columns[name] = c
				c.of[i] = 0
			}
		}
		next.Hosts[i] = h
		next.take(i, own)
		next.edited = append(next.edited, i)
	}
	return next
}

// EditedFrom tells which hosts are others than in an index; ok is false when it is not the one that this was edited
// from.
func (x *Index) EditedFrom(o *Index) (positions []int, ok bool) {
	return x.edited, x.from != 0 && x.from == o.id
}

// NewSet makes an empty set for the hosts of the index.
func (x *Index) NewSet() Set { return make(Set, (len(x.Hosts)+63)/64) }

// Choose returns the hosts that a selector chooses.
func (x *Index) Choose(s Selector) Set {
	out := x.NewSet()
	switch {
	case s.All:
		x.fill(out)
	case s.Condition != nil && s.Condition.Tree != nil:
		return x.tree(s.Condition.Tree)
	case s.Condition != nil:
		for i := range x.Hosts {
			out.Put(i, s.Match(&x.Hosts[i]))
		}
	default:
		for i, t := range s.Terms {
			wanted := map[string]bool{}
			for _, v := range t.Values {
				wanted[v] = true
			}
			got := x.test("labels."+t.Key, func(v string, _ bool) bool { return wanted[v] })
			if i == 0 {
				out = got
				continue
			}
			for w := range out {
				out[w] &= got[w]
			}
		}
	}
	return out
}

func (x *Index) fill(s Set) {
	for i := range s {
		s[i] = ^uint64(0)
	}
	if rest := len(x.Hosts) % 64; rest != 0 {
		s[len(s)-1] = 1<<rest - 1
	}
}

func (x *Index) tree(t *expr.HostTree) Set {
	if t.Op == expr.Test {
		return x.test(t.Name, t.Test)
	}
	out := x.tree(t.Kids[0])
	if t.Op == expr.Not {
		all := x.NewSet()
		x.fill(all)
		for i := range out {
			out[i] = all[i] &^ out[i]
		}
		return out
	}
	for _, k := range t.Kids[1:] {
		got := x.tree(k)
		for i := range out {
			if t.Op == expr.And {
				out[i] &= got[i]
			} else {
				out[i] |= got[i]
			}
		}
	}
	return out
}

// test runs a test of one name: once for each value, then over the column.
func (x *Index) test(name string, test func(string, bool) bool) Set {
	out := x.NewSet()
	if name == "host.name" {
		for i := range x.Hosts {
			out.Put(i, test(x.Hosts[i].Name, true))
		}
		return out
	}
	c := x.columns[name]
	if c == nil { // nobody has it
		if test("", false) {
			x.fill(out)
		}
		return out
	}
	hold := make([]uint64, len(c.values))
	for p, v := range c.values {
		if test(v, p > 0) {
			hold[p] = 1
		}
	}
	for w := range out {
		of := c.of[w*64 : min(w*64+64, len(c.of))]
		var word uint64
		for i, p := range of {
			word |= hold[p] << i
		}
		out[w] = word
	}
	return out
}

// Values returns the values that hosts have of a label.
func (x *Index) Values(key string) []string {
	if c := x.columns["labels."+key]; c != nil {
		return c.values[1:]
	}
	return nil
}

// LabelKeys returns the labels that hosts have.
func (x *Index) LabelKeys() []string {
	var out []string
	for n := range x.columns {
		if k, ok := strings.CutPrefix(n, "labels."); ok {
			out = append(out, k)
		}
	}
	return out
}
