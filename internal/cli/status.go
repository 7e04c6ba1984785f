package cli

import (
	"fmt"
	"strings"

	"synaxis/internal/contract"
)

func (a *app) status(s contract.Status) {
	published := revisionName(s.Published)
	switch {
	case s.Published > s.InForce && s.RolledOut:
		published += fmt.Sprintf(" — was rolled out, and revision %d again after it", s.InForce)
	case s.Published > s.InForce && s.Rollout != nil && s.Rollout.TakesBack != nil:
		published += fmt.Sprintf(" — rollout %d was taken back by rollout %d", *s.Rollout.TakesBack, s.Rollout.Id)
	case s.Published > s.InForce && s.Rollout != nil && s.Rollout.Revision == s.Published:
		published += fmt.Sprintf(" — see synaxis rollout show %d", s.Rollout.Id)
	case s.Published > s.InForce:
		published += " — not rolled out yet: synaxis rollout start"
	}
	roll := "none"
	if r := s.Rollout; r != nil {
		roll = fmt.Sprintf("%d of revision %d: %s, %s", r.Id, r.Revision, rolloutState(*r), stateCounts(r.Counts))
	}
	var drafts []string
	for _, d := range s.Drafts {
		drafts = append(drafts, fmt.Sprintf("%d %q", d.Id, d.Title))
	}
	if len(drafts) == 0 {
		drafts = []string{"none"}
	}
	pending := ""
	if n := len(s.PendingInventory); n > 0 {
		pending = fmt.Sprintf(
			"inventory changed on %s: %s; goes out with the next rollout",
			plural(n, "host", "hosts"),
			some(s.PendingInventory),
		)
	}
	newcomers := ""
	if s.Newcomers > 0 {
		newcomers = plural(s.Newcomers, "agent waits", "agents wait") + " for approval: synaxis newcomer list"
	}
	if t := s.Trouble; t != nil {
		a.wrapped("▲ ", fmt.Sprintf("Since %s %s", when(&t.Since), t.Reason))
		a.wrapped("  → ", t.Todo+"\n")
	}
	volume, ends, changed := "", "", ""
	if v := s.Volume; v != nil {
		usual := "a day is not known yet"
		if v.Usual > 0 {
			usual = "usually " + size(v.Usual)
		}
		volume = fmt.Sprintf("%s read; %s", size(v.Day), usual)
	}
	if n := len(s.Expires); n > 0 {
		ends = s.Expires[0].Words
		if n > 1 {
			ends += fmt.Sprintf("; and %d more", n-1)
		}
	}
	if n := len(s.Changes) + s.MoreChanges; n > 0 {
		c := s.Changes[0]
		changed = fmt.Sprintf("%s in 24 h, the last %s: %s %s by %s", plural(n, "change", "changes"), ago(&c.At),
			c.Action,
			c.Object, c.Who)
	}
	quiet := ""
	if n := len(s.Maintenance); n > 0 {
		m := s.Maintenance[0]
		quiet = fmt.Sprintf("nothing is told of %s until %s, by %s", m.Hosts, when(&m.Until), m.Who)
		if n > 1 {
			quiet += fmt.Sprintf("; and %d more", n-1)
		}
	}
	a.facts(
		"in force",
		revisionName(s.InForce),
		"published",
		published,
		"drafted",
		strings.Join(drafts, ", "),
		"rollout",
		roll,
		"pending",
		pending,
		"newcomers",
		newcomers,
		"maintenance",
		quiet,
		"hosts",
		counts(s.Hosts),
		"sources",
		counts(s.Sources),
		"last 24 h",
		volume,
		"expires",
		ends,
		"changed",
		changed,
	)
	if s.Hosts == (contract.Counts{}) {
		a.printf("\nNo host has joined yet: synaxis join-token create\n")
		return
	}
	a.causes(s.Causes)
	if s.MoreCauses > 0 {
		a.printf("  and %s: synaxis why\n", plural(s.MoreCauses, "more cause", "more causes"))
	}
}

func some(list []string) string {
	if len(list) <= 4 {
		return strings.Join(list, ", ")
	}
	return strings.Join(list[:3], ", ") + fmt.Sprintf(" and %d more", len(list)-3)
}
