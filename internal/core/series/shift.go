package series

import (
	"cmp"
	"math"
	"slices"
	"strings"
)

// Shift is where a line goes to another height and stays there.
type Shift struct {
	At            int     // the first step of the new height
	Before, After float64 // the mean of the steps on each side
}

// leastSteps is how many steps that were heard there must be on each side of a shift.
const leastSteps = 3

// FindShift finds the step at which a line is best parted into two heights: where the squares of what is left are
// least. It is false where that explains less than half of how the line varies, or the heights hardly differ. known
// tells which steps were heard.
func FindShift(values []float64, known []bool) (Shift, bool) {
	var at []int
	for i := range values {
		if known[i] {
			at = append(at, i)
		}
	}
	n := len(at)
	if n < 2*leastSteps {
		return Shift{}, false
	}
	sums, squares := make([]float64, n+1), make([]float64, n+1)
	for j, i := range at {
		sums[j+1], squares[j+1] = sums[j]+values[i], squares[j]+values[i]*values[i]
	}
	left := func(from, to int) float64 { // the squares that are left when a part has its mean
		sum := sums[to] - sums[from]
		return max(0, squares[to]-squares[from]-sum*sum/float64(to-from))
	}
	whole, best, where := left(0, n), math.Inf(1), 0
	for j := leastSteps; j <= n-leastSteps; j++ {
		if rest := left(0, j) + left(j, n); rest < best {
			best, where = rest, j
		}
	}
	s := Shift{At: at[where], Before: sums[where] / float64(where), After: (sums[n] - sums[where]) / float64(n-where)}
	high := max(math.Abs(s.Before), math.Abs(s.After))
	if whole == 0 || best > whole/2 || math.Abs(s.After-s.Before) < high/5 {
		return Shift{}, false
	}
	return s, true
}

// Alike tells whether something else shifts as this does: in the same direction, and by half as much for its own size
// at least.
func (s Shift) Alike(before, after float64) bool {
	if after == before || (after > before) != (s.After > s.Before) {
		return false
	}
	relative := func(before, after float64) float64 {
		return math.Abs(after-before) / max(math.Abs(before), math.Abs(after))
	}
	return relative(before, after) >= relative(s.Before, s.After)/2
}

// Around are the means of a line before a step and from it on, of the steps that were heard; false where one side was
// not heard.
func Around(values []float64, known []bool, at int) (before, after float64, ok bool) {
	var n [2]int
	var sum [2]float64
	for i, v := range values {
		if side := min(1, max(0, i-at+1)); known[i] {
			n[side]++
			sum[side] += v
		}
	}
	if n[0] == 0 || n[1] == 0 {
		return 0, 0, false
	}
	return sum[0] / float64(n[0]), sum[1] / float64(n[1]), true
}

// Common is a label that those who changed have in common.
type Common struct {
	Label, Value string
	Changed, All int // hosts with it that changed, and all with it
}

// FindCommon tells which labels tell those who changed from the others: most of those that changed have it, and most
// of those that have it changed. The best comes first.
func FindCommon(labels map[string]map[string]string, changed map[string]bool) (out []Common) {
	by := map[[2]string]*Common{}
	for host, of := range labels {
		for k, v := range of {
			c := by[[2]string{k, v}]
			if c == nil {
				c = &Common{Label: k, Value: v}
				by[[2]string{k, v}] = c
			}
			c.All++
			if changed[host] {
				c.Changed++
			}
		}
	}
	const mostly = 0.8
	for _, c := range by {
		if c.All < len(labels) && float64(c.Changed) >= mostly*float64(len(changed)) &&
			float64(c.Changed) >= mostly*float64(c.All) {
			out = append(out, *c)
		}
	}
	slices.SortFunc(out, func(a, b Common) int {
		return cmp.Or(cmp.Compare(b.Changed, a.Changed), cmp.Compare(a.All, b.All), strings.Compare(a.Label, b.Label))
	})
	return out
}
