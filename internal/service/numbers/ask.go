package numbers

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"synaxis/internal/core/series"
	"synaxis/internal/service/store"
)

// Question asks for numbers in a span.
type Question struct {
	From, To    time.Time
	Step        time.Duration   // 0 for one that gives up to some hundred points
	Numbers     []string        // Read and so on
	Source      string          // "" for all
	Destination string          // a destination; "" for all
	Hosts       map[string]bool // nil for all
	// "" for one line, source, sender, destination, host, site, or another label
	By string
	// the value of the label By on a host
	Label func(host string) string
	all   bool // of edges: without their sites
}

// Line is one number of one group over time.
type Line struct {
	Group, Number string
	Points        []int64
	Heard         []bool // false where nothing was heard of the group
}

// Sum is what the line comes to.
func (l *Line) Sum() int64 { return series.Sum(l.Number, l.Points) }

// Answer is lines in equal steps.
type Answer struct {
	Start time.Time
	Step  time.Duration
	Steps int
	Lines []Line
}

// MostPoints bounds the points of a line.
const MostPoints = 2000

// steps are the lengths that are chosen from.
var steps = []time.Duration{30 * time.Second, time.Minute, 5 * time.Minute, 15 * time.Minute, time.Hour, 3 * time.Hour,
	6 * time.Hour, 24 * time.Hour}

// StepFor is the length of steps that gives a span about three hundred points at most.
func StepFor(span time.Duration) time.Duration {
	for _, s := range steps {
		if span/s <= 300 {
			return s
		}
	}
	return steps[len(steps)-1]
}

// Ask answers a question.
func (n *Numbers) Ask(ctx context.Context, q Question) (Answer, error) {
	if q.Step == 0 {
		q.Step = StepFor(q.To.Sub(q.From))
	}
	step := int64(q.Step / time.Second)
	start := floor(q.From.Unix(), step)
	count := int((q.To.Unix() - start + step - 1) / step)
	g := &grid{Question: q, start: start, step: step, count: count, lines: map[string]map[string]*Line{},
		heard: map[string][]bool{}, held: map[place]bool{}, peaks: map[column][]int64{}}
	n.mu.Lock()
	merged := n.merged
	g.open = n.start
	full := slices.Clone(n.full)
	n.mu.Unlock()
	for _, x := range full { // what is on disk of these may be what an earlier service wrote when it ended
		g.held[place{x.name, x.block.Start}] = true
	}
	from, to := time.Unix(start, 0), time.Unix(start+step*int64(count), 0)
	// what is merged from the coarsest blocks that have such steps, the rest from the finest
	var tiers []tier
	switch {
	case step%Coarse == 0:
		tiers = []tier{{Coarse, coarseBlock, start, merged}, {Fine, fineBlock, merged, to.Unix()}}
	case step%Middle == 0:
		tiers = []tier{{Middle, middleBlock, start, merged}, {Fine, fineBlock, merged, to.Unix()}}
	default:
		tiers = []tier{{Fine, fineBlock, start, to.Unix()}}
	}
	for _, t := range tiers {
		if err := n.read(ctx, g, t, from, to); err != nil {
			return Answer{}, err
		}
	}
	n.mu.Lock()
	for name, b := range n.open {
		g.put(name, b, n.start, to.Unix())
	}
	for _, x := range n.full {
		if x.block.Start >= g.open { // they were open when it was begun to read
			full = append(full, x)
		}
	}
	n.mu.Unlock()
	for _, x := range full {
		g.put(x.name, x.block, start, to.Unix())
	}
	return g.answer(), nil
}

// tier is blocks of equal steps, of which those in a span count.
type tier struct{ step, length, from, to int64 }

func (n *Numbers) read(ctx context.Context, g *grid, t tier, from, to time.Time) error {
	first := max(floor(from.Unix(), t.length), floor(t.from, t.length))
	last := min(to.Unix(), t.to)
	if first >= last {
		return nil
	}
	names := g.names()
	if names == nil {
		names = []string{""}
	}
	for _, name := range names {
		list, err := n.store.Blocks(ctx, t.step, name, time.Unix(first, 0), time.Unix(last, 0))
		if err != nil {
			return err
		}
		for _, x := range list {
			if !g.asksFor(x.Host) || t.step == Fine && (x.Start >= g.open || g.held[place{x.Host, x.Start}]) {
				continue // which is in memory
			}
			b, err := series.Unpack(x.Packed, g.wants)
			if err != nil {
				continue // said when it was merged
			}
			g.put(x.Host, b, t.from, t.to)
		}
	}
	return nil
}

// place is five minutes of a name.
type place struct {
	name  string
	start int64
}

// column is one column of a name.
type column struct {
	name string
	key  series.Key
}

// grid gathers an answer.
type grid struct {
	Question
	start, step int64
	count       int
	lines       map[string]map[string]*Line // by group and number
	heard       map[string][]bool           // by group
	open        int64                       // the five minutes that are in memory begin here
	held        map[place]bool              // of the finest steps that are over, and in memory
	peaks       map[column][]int64          // the most of levels, which add up over hosts and sources
}

// sums tells whether kept sums answer the question.
func (g *grid) sums() bool {
	return g.Hosts == nil && (g.By == "" || g.By == "source" || g.By == BySender || g.By == "destination" ||
		g.By == edges && g.all)
}

// BySender is a line for each sender that is known by its name.
const BySender = "sender"

// names are the names whose blocks are read one by one; nil for all.
func (g *grid) names() (out []string) {
	if g.sums() {
		return []string{All}
	}
	if g.Hosts == nil && (g.By == siteLabel || g.By == edges) {
		return []string{sitePrefix}
	}
	const few = 500
	if len(g.Hosts) > few || g.Hosts == nil {
		return nil
	}
	out = []string{}
	for h := range g.Hosts {
		out = append(out, h)
	}
	return out
}

// asksFor tells whether the blocks of a name are part of the answer.
func (g *grid) asksFor(name string) bool {
	_, site := siteOf(name)
	switch {
	case g.sums():
		return name == All
	case g.Hosts == nil && (g.By == siteLabel || g.By == edges):
		return site
	case name == All || site:
		return false
	}
	return g.Hosts == nil || g.Hosts[name]
}

func (g *grid) wants(k series.Key) bool {
	if g.By == BySender {
		number, _, ok := series.CutSender(k.Number)
		return ok && g.rank(number) >= 0 && (g.Source == "" || k.Source == g.Source) &&
			(g.Destination == "" || k.Destination == g.Destination || k.Destination == "")
	}
	return g.rank(k.Number) >= 0 && (g.Source == "" || k.Source == g.Source) &&
		(g.Destination == "" || k.Destination == g.Destination || k.Destination == "" && !ofDestination(k.Number)) &&
		(k.Number != series.Lag || (k.Destination != "") == (g.Destination != "" || g.By == "destination"))
}

// rank is where a number stands among those that are asked for, by its name or as one of all parts; -1 for one that is
// not asked for.
func (g *grid) rank(number string) int {
	if i := slices.Index(g.Numbers, number); i >= 0 {
		return i
	}
	all, ok := series.AllParts(number)
	if !ok {
		return -1
	}
	return slices.Index(g.Numbers, all)
}

// ofDestination tells whether a number is counted at destinations.
func ofDestination(number string) bool {
	switch number {
	case series.Acknowledged, series.Sent, series.Rejected, series.Discarded, series.Waiting, series.Disk:
		return true
	}
	return false
}

func (g *grid) group(name string, k series.Key) string {
	switch g.By {
	case "":
		return ""
	case "source":
		return k.Source
	case BySender:
		_, sender, _ := series.CutSender(k.Number)
		return sender
	case "destination":
		return k.Destination
	case "host":
		return name
	case edges:
		site, _ := siteOf(name)
		return site + "\x00" + k.Source + "\x00" + k.Destination
	}
	if site, ok := siteOf(name); ok {
		return site
	}
	return g.Label(name)
}

// number is the one of a column, as it is told.
func (g *grid) number(k series.Key) string {
	if g.By == BySender {
		number, _, _ := series.CutSender(k.Number)
		return number
	}
	return k.Number
}

// put adds a block's steps within a span.
func (g *grid) put(name string, b *series.Block, from, to int64) {
	if !g.asksFor(name) {
		return
	}
	within := func(i int) (int, bool) {
		at := b.Start + int64(i)*b.Step
		j := (at - g.start) / g.step
		return int(j), at >= from && at < to && at >= g.start && j < int64(g.count)
	}
	heard := func(group string) {
		list := g.heard[group]
		if list == nil {
			list = make([]bool, g.count)
			g.heard[group] = list
		}
		for i, h := range b.Heard {
			if j, in := within(i); h && in {
				list[j] = true
			}
		}
	}
	apart := g.By == "source" || g.By == BySender || g.By == "destination" || g.By == edges // by their columns
	if !apart {
		heard(g.group(name, series.Key{}))
	}
	for k, col := range b.Cols {
		if !g.wants(k) || g.By == "destination" && k.Destination == "" {
			continue
		}
		group := g.group(name, k)
		number := g.number(k)
		if apart {
			heard(group)
		}
		of := g.lines[group]
		if of == nil {
			of = map[string]*Line{}
			g.lines[group] = of
		}
		l := of[number]
		if l == nil {
			l = &Line{Group: group, Number: number, Points: make([]int64, g.count)}
			of[number] = l
		}
		into := l.Points
		if series.IsLevel(number) && !series.IsLag(number) {
			if into = g.peaks[column{name, k}]; into == nil {
				into = make([]int64, g.count)
				g.peaks[column{name, k}] = into
			}
		}
		for i, v := range col {
			if j, in := within(i); in && v != 0 {
				if series.IsLevel(number) {
					into[j] = max(into[j], v)
				} else {
					into[j] += v
				}
			}
		}
	}
}

// answer orders the lines by group, and a group's as they were asked for.
func (g *grid) answer() Answer {
	for c, peaks := range g.peaks {
		l := g.lines[g.group(c.name, c.key)][g.number(c.key)]
		for j, v := range peaks {
			l.Points[j] += v
		}
	}
	out := Answer{Start: time.Unix(g.start, 0).UTC(), Step: g.Question.Step, Steps: g.count}
	for group, heard := range g.heard {
		of := g.lines[group]
		for _, number := range g.Numbers {
			if all, _ := series.AllParts(number); all == number || of[number] != nil || g.By != "" && len(of) == 0 {
				continue // nothing of it was ever counted here
			}
			out.Lines = append(out.Lines,
				Line{Group: group, Number: number, Points: make([]int64, g.count), Heard: heard})
		}
		for _, l := range of {
			l.Heard = heard
			out.Lines = append(out.Lines, *l)
		}
	}
	slices.SortFunc(out.Lines, func(a, b Line) int {
		return cmp.Or(strings.Compare(a.Group, b.Group), cmp.Compare(g.rank(a.Number), g.rank(b.Number)),
			strings.Compare(a.Number, b.Number))
	})
	return out
}

// Since returns what hosts counted in each five minutes that began since a moment, oldest first, as far as it is
// written.
func Since(ctx context.Context, st *store.Store, since time.Time) (out []Counted, err error) {
	list, err := st.Blocks(ctx, Fine, "", since, time.Unix(1<<40, 0))
	if err != nil {
		return nil, err
	}
	for _, x := range list {
		if strings.HasPrefix(x.Host, All) {
			continue
		}
		b, err := series.Unpack(x.Packed, nil)
		if err != nil {
			continue
		}
		c := Counted{Host: x.Host, Start: b.Start, Sums: map[series.Key]int64{}}
		for k, col := range b.Cols {
			if !series.IsLevel(k.Number) {
				c.Sums[k] = series.Sum(k.Number, col)
			}
		}
		out = append(out, c)
	}
	return out, nil
}

// Counted is what a host counted in five minutes.
type Counted struct {
	Host  string
	Start int64
	Sums  map[series.Key]int64
}
