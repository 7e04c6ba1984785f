package hosts

import (
	"context"
	"time"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/service/revisions"
)

// rules are what the newest published definitions say of the health of hosts and sources. What stays at the desk
// counts from when it is published: no host has to be told of it.
type rules struct {
	revision int
	sources  map[string]*pipeline.Source
	zones    map[string]string       // that times of sources are read as, where they say none
	agents   []*catalogue.Definition // that say how long hosts may be away
}

func newRules(st *revisions.State) *rules {
	r := &rules{revision: st.Revision.Number, sources: map[string]*pipeline.Source{}, zones: map[string]string{}}
	for _, d := range st.Catalogue.All() {
		switch {
		case d.Source != nil:
			r.sources[d.Name] = &d.Source.Source
			r.zones[d.Name] = d.Source.Time.Zone
			if f, ok := st.Catalogue.Format(d.Source.Format); ok && r.zones[d.Name] == "" {
				r.zones[d.Name] = f.Time.Zone
			}
		case d.Agents != nil && d.Agents.Away > 0:
			r.agents = append(r.agents, d)
		}
	}
	return r
}

func (r *rules) source(name string) *pipeline.Source {
	if r == nil {
		return nil
	}
	return r.sources[name]
}

// away is how long an absence is normal for a host.
func (r *rules) away(v *View) (most time.Duration) {
	if r == nil || len(r.agents) == 0 || v.Connected {
		return 0
	}
	h := v.Inventory()
	for _, d := range r.agents {
		if d.Agents.Hosts.Match(&h) {
			most = max(most, d.Agents.Away)
		}
	}
	return most
}

// read reads the newest definitions. It answers whether they are others than before.
func (h *Hosts) read() bool {
	st, err := h.revisions.Head(context.Background())
	if err != nil {
		h.log.Error("what definitions say of health cannot be read", "error", err)
		return false
	}
	if st.Revision.Number == h.rules.Load().revision {
		return false
	}
	h.rules.Store(newRules(st))
	return true
}

// Expected is the source definition that its health goes by; nil where there is none.
func (h *Hosts) Expected(source string) *pipeline.Source { return h.rules.Load().source(source) }

// Zone is the zone that the times of a source are read as, where they say none; "" for none.
func (h *Hosts) Zone(source string) string { return h.rules.Load().zones[source] }
