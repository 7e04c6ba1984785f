package cli

import "synaxis/internal/contract"

// impact prints which definitions and hosts change, and how.
func (a *app) impact(head string, i contract.Impact) {
	a.printf("%s: %s; %s would change, %d stay as they are.\n", head,
		plural(len(i.Definitions), "definition", "definitions"), plural(i.Hosts, "host", "hosts"), i.Unchanged)
	for _, l := range i.Losses {
		a.wrapped("▲ ", l)
	}
	for _, d := range i.Definitions {
		a.printf("  %-9s %s %s\n", d.What, d.Kind, d.Name)
	}
	for _, g := range i.Groups {
		a.printf(
			"\n%s %s like this: %s\n",
			plural(len(g.Hosts), "host", "hosts"),
			map[bool]string{true: "changes", false: "change"}[len(g.Hosts) == 1],
			some(g.Hosts),
		)
		a.diff(g.Diff, "  ")
	}
}
