package hosts

import (
	"slices"
	"strings"
	"time"

	"synaxis/internal/core/health"
)

// Troubles is all that is wrong now, of hosts, of sources on them, and of sources as a whole.
func (h *Hosts) Troubles() (out []health.Trouble) {
	h.mu.Lock()
	var names []string
	for name, k := range h.health {
		if bad(k.Worst.State) {
			names = append(names, name)
		}
	}
	h.mu.Unlock()
	slices.Sort(names)
	for _, name := range names {
		if v, ok := h.Get(name); ok {
			out = append(out, v.troubles(h.Health(name))...)
		}
	}
	return append(out, h.wholes()...)
}

// troubles is what is wrong with a host that is judged.
func (v *View) troubles(j Judgement) (out []health.Trouble) {
	site := v.Labels["site"]
	if bad(j.Host.State) {
		t := health.Trouble{Host: v.Name, Site: site, Verdict: j.Host}
		if j.Host.Code == health.ConfigRefused {
			t.Revision = v.Assigned.Revision
		}
		out = append(out, t)
	}
	blamed := map[string]bool{}
	for _, source := range v.Sources() {
		s := j.By[source]
		if !bad(s.State) || s.Code == j.Host.Code && s.State == health.Offline {
			continue
		}
		n := v.Numbers[source]
		t := health.Trouble{Host: v.Name, Site: site, Source: source, Verdict: s}
		if n.Oldest > 0 {
			t.Oldest = time.Unix(0, n.Oldest)
		}
		if t.Destination = s.About(); t.Destination != "" {
			if t.Answer = s.Code; !health.Harmless(s.Code) {
				t.Answer = v.Components["destination/"+t.Destination].Code
			}
			t.FullIn = time.Duration(v.Destinations[t.Destination].FullIn) * time.Second
			blamed[t.Destination] = true
		}
		out = append(out, t)
	}
	if !v.Connected {
		return out
	}
	for name, c := range v.Components {
		to, is := strings.CutPrefix(name, "destination/")
		if !is || c.Code == "" || c.Code == health.LeavingConfig || blamed[to] {
			continue
		}
		out = append(out, health.Trouble{Host: v.Name, Site: site, Destination: to, Answer: c.Code,
			FullIn: time.Duration(v.Destinations[to].FullIn) * time.Second,
			Verdict: health.Verdict{State: health.Degraded, Code: c.Code, Reason: c.Reason, Todo: health.Todo(c.Code),
				Since: c.Since}})
	}
	return out
}

// wholes are the sources that are expected to deliver as a whole, and do not.
func (h *Hosts) wholes() (out []health.Trouble) {
	rules := h.rules.Load()
	for name, of := range rules.sources {
		if of.Expect.Per != "source" {
			continue
		}
		s := health.Source{Expect: of.Expect}
		s.Expect.Per = ""
		runs := false
		full := true
		for _, row := range h.inventory.All(false) {
			v := h.view(row)
			c, reported := v.Components["source/"+name]
			told, skew := v.Told()
			if !reported || told.IsZero() {
				continue
			}
			runs = true
			if told.After(s.Told) {
				s.Told = told
			}
			if s.Began.IsZero() || c.Since.Before(s.Began) {
				s.Began = c.Since
			}
			if n := v.Numbers[name].LastRecord; n > 0 && time.Unix(0, n).Add(-skew).After(s.Last) {
				s.Last = time.Unix(0, n).Add(-skew)
			}
			records, known := h.reports.Hour(row.Name, name)
			s.Hour += records
			full = full && known
		}
		s.HourFull = runs && full
		if v := health.Silence(s); runs && v.Code != "" {
			out = append(out, health.Trouble{Source: name, Verdict: v})
		}
	}
	return out
}
