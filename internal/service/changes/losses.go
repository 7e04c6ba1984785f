package changes

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/check"
)

// losses tells what a change takes away that protects data, or that is of use now: masks that records would leave
// without, and sources that go although they still read.
func losses(before, after *catalogue.Catalogue, volumes []check.Volume) (out []string) {
	unmasked := map[string][]string{} // sources, by the masks that go
	var gone []string
	for _, d := range before.All() {
		if d.Source == nil {
			continue
		}
		now := after.Get("source", d.Name)
		if now == nil {
			gone = append(gone, d.Name)
			continue
		}
		has := masksOf(after, now.Source)
		var lost []string
		for _, m := range masksOf(before, d.Source) {
			if !slices.Contains(has, m) {
				lost = append(lost, m)
			}
		}
		if len(lost) > 0 {
			slices.Sort(lost)
			key := strings.Join(lost, ", ")
			unmasked[key] = append(unmasked[key], d.Name)
		}
	}
	for _, lost := range slices.Sorted(maps.Keys(unmasked)) {
		names := unmasked[lost]
		sources := "1 source"
		if len(names) > 1 {
			sources = fmt.Sprintf("%d sources", len(names))
		}
		out = append(out, fmt.Sprintf("records of %s would leave without %s: %s", sources, lost, strings.Join(names, ", ")))
	}
	hosts, bytes := map[string]int{}, map[string]float64{}
	for _, v := range volumes {
		hosts[v.Source]++
		bytes[v.Source] += v.Bytes
	}
	slices.Sort(gone)
	for _, name := range gone {
		if n := hosts[name]; n > 0 {
			on := "1 host"
			if n > 1 {
				on = fmt.Sprintf("%d hosts", n)
			}
			out = append(out, fmt.Sprintf("source %s goes, and still reads %.1f MiB a day on %s", name,
				bytes[name]/(1<<20), on))
		}
	}
	return out
}

// masksOf are the masks that a source's records leave through: its own, and those of guards.
func masksOf(c *catalogue.Catalogue, s *catalogue.Source) []string {
	masks, _ := c.GuardMasks(s)
	for _, m := range s.Masks() {
		if !slices.Contains(masks, m) {
			masks = append(masks, m)
		}
	}
	return masks
}
