package numbers

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"synaxis/internal/core/series"
)

// Edge is what went one way in a span: of a source at a site, and with a destination what of it that one got.
type Edge struct {
	Site, Source, Destination string
	Sums                      map[string]int64 // Read and so on; no levels
}

// edges is the By that tells sites, sources and destinations apart at once.
const edges = "*edge"

// Edges are all ways with what went along them. Hosts without a site are those of the site "".
func (n *Numbers) Edges(ctx context.Context, from, to time.Time) ([]Edge, error) {
	q := Question{From: from, To: to, By: edges,
		Numbers: []string{series.Read, series.Bytes, series.Unparsed, series.Dropped, series.Acknowledged, series.Sent,
			series.Rejected, series.Discarded}}
	q.Step = StepFor(to.Sub(from))
	sums := map[way]map[string]int64{}
	add := func(site string, of Answer, sign int64) {
		for _, l := range of.Lines {
			parts := strings.SplitN(l.Group, "\x00", 3)
			if len(parts) != 3 {
				continue
			}
			k := way{parts[0], parts[1], parts[2]}
			if site != All {
				k.site = site
			}
			if sums[k] == nil {
				sums[k] = map[string]int64{}
			}
			sums[k][l.Number] += sign * l.Sum()
		}
	}
	sites, err := n.Ask(ctx, q)
	if err != nil {
		return nil, err
	}
	add(All, sites, 1)
	q.Hosts, q.all = nil, true
	whole, err := n.Ask(ctx, q)
	if err != nil {
		return nil, err
	}
	add("", whole, 1) // and from it what the sites have
	for k, of := range sums {
		if k.site == "" {
			continue
		}
		rest := sums[way{"", k.source, k.destination}]
		for number, v := range of {
			if rest != nil {
				rest[number] -= v
			}
		}
	}
	var out []Edge
	for k, of := range sums {
		for number, v := range of {
			if v <= 0 { // a site was told of in one of both only
				delete(of, number)
			}
		}
		if len(of) > 0 {
			out = append(out, Edge{k.site, k.source, k.destination, of})
		}
	}
	slices.SortFunc(out, func(a, b Edge) int {
		return cmp.Or(strings.Compare(a.Site, b.Site), strings.Compare(a.Source, b.Source),
			strings.Compare(a.Destination, b.Destination))
	})
	return out, nil
}

// way names an edge.
type way struct{ site, source, destination string }
