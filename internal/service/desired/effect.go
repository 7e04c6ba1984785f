package desired

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"synaxis/internal/core/inventory"
	"synaxis/internal/core/render"
)

// Effect is what an edit of hosts does to the configs of some of them, by the revision in force: the sources that they
// gain, lose, and run in another way. Only is set for hosts that would lose all that they have.
type Effect struct {
	Hosts                []string
	Gains, Loses, Others []string
	Only                 bool
}

// Effects tells what an edit does to hosts, given as they are and as they would be, in the same order. Hosts whose
// config stays are not in it; those whose sources change in the same way are together, those who lose most first.
func (d *Desired) Effects(ctx context.Context, before, after []inventory.Host) ([]Effect, error) {
	revision, err := d.store.InForce(ctx)
	if err != nil {
		return nil, err
	}
	if revision == 0 {
		return nil, nil
	}
	st, err := d.revisions.At(ctx, revision)
	if err != nil {
		return nil, err
	}
	in := d.Input(st)
	was, is := render.NewFleet(in, inventory.NewIndex(before)), render.NewFleet(in, inventory.NewIndex(after))
	groups := map[string]*Effect{}
	for i := range before {
		a, b := was.Host(before[i].Name), is.Host(after[i].Name)
		if a.Hash == b.Hash {
			continue
		}
		e := Effect{}
		sums := map[string]uint64{}
		for _, p := range a.Parts {
			if p.Kind == "source" {
				sums[p.Name] = p.Sum64()
			}
		}
		had := len(sums)
		for _, p := range b.Parts {
			if p.Kind != "source" {
				continue
			}
			if sum, ok := sums[p.Name]; !ok {
				e.Gains = append(e.Gains, p.Name)
			} else if sum != p.Sum64() {
				e.Others = append(e.Others, p.Name)
			}
			delete(sums, p.Name)
		}
		for name := range sums {
			e.Loses = append(e.Loses, name)
		}
		e.Only = had > 0 && len(e.Loses) == had && len(e.Gains) == 0
		slices.Sort(e.Gains)
		slices.Sort(e.Loses)
		slices.Sort(e.Others)
		key := strings.Join(e.Gains, " ") + "\n" + strings.Join(e.Loses, " ") + "\n" + strings.Join(e.Others, " ")
		if groups[key] == nil {
			groups[key] = &e
		}
		groups[key].Hosts = append(groups[key].Hosts, before[i].Name)
		groups[key].Only = groups[key].Only && e.Only
	}
	var out []Effect
	for _, e := range groups {
		out = append(out, *e)
	}
	slices.SortFunc(out, func(a, b Effect) int {
		return cmp.Or(len(b.Loses)-len(a.Loses), len(b.Hosts)-len(a.Hosts), strings.Compare(a.Hosts[0], b.Hosts[0]))
	})
	return out, nil
}
