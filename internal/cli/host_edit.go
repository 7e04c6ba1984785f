package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"synaxis/internal/contract"
)

func (a *app) hostEditCmd(use, short, what string) *cobra.Command {
	var hosts string
	var dry bool
	cmd := &cobra.Command{
		Use: use, Short: short, Args: cobra.MinimumNArgs(1), ValidArgsFunction: a.completeHosts(),
		Long: short + `.

With --hosts, of all hosts that it chooses, in one change: all, KEY=VALUE pairs, or a condition such as
labels.site == "northpier" && observed.os == "linux". --dry-run tells what would change.`,
		Example: "  synaxis host " + use[:strings.IndexByte(use, ' ')] + " gate-np-01 tier=2\n  synaxis host " +
			use[:strings.IndexByte(use, ' ')] + ` --hosts 'labels.role == "gate"' tier=2 --dry-run`,
		RunE: func(cmd *cobra.Command, args []string) error {
			name := ""
			if hosts == "" {
				if len(args) < 2 {
					return usagef("say what to change: %s", use)
				}
				name, args = args[0], args[1:]
			}
			edit, err := mapEdit(args)
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			if hosts != "" || dry {
				return a.editHosts(cmd, c, hosts, name, what, edit, dry)
			}
			var h contract.Host
			var raw []byte
			if what == "labels" {
				h, raw, err = answer[contract.Host](c.EditHostLabels(cmd.Context(), name, nil, edit))
			} else {
				h, raw, err = answer[contract.Host](c.EditHostSettings(cmd.Context(), name, nil, edit))
			}
			if err != nil {
				return err
			}
			return a.show(raw, func() {
				m := h.Labels
				if what == "settings" {
					m = h.Settings
				}
				a.printf("%s of %s: %s\n", what, h.Name, labels(m))
				a.printf(
					"What it should run is rendered anew; if that differs it is shown as pending, and goes out with " +
						"the next rollout.\n",
				)
			})
		},
	}
	cmd.Flags().StringVar(&hosts, "hosts", "", "which hosts: all, KEY=VALUE pairs, or a condition")
	cmd.Flags().BoolVar(&dry, "dry-run", false, "only tell what would change")
	return cmd
}

// mapEdit reads KEY=VALUE and KEY- arguments.
func mapEdit(args []string) (contract.MapEdit, error) {
	set, remove := map[string]string{}, []string{}
	for _, s := range args {
		if k, v, ok := strings.Cut(s, "="); ok && k != "" {
			set[k] = v
		} else if k, ok := strings.CutSuffix(s, "-"); ok && k != "" {
			remove = append(remove, k)
		} else {
			return contract.MapEdit{}, usagef("%q: expected KEY=VALUE, or KEY- to remove it", s)
		}
	}
	return contract.MapEdit{Set: &set, Remove: &remove}, nil
}

func (a *app) editHosts(
	cmd *cobra.Command,
	c *contract.Client,
	hosts, name, what string,
	edit contract.MapEdit,
	dry bool,
) error {
	body := contract.HostsEdit{Hosts: hosts, DryRun: &dry}
	if name != "" {
		body.Names = &[]string{name}
	}
	if what == "labels" {
		body.Labels = &edit
	} else {
		body.Settings = &edit
	}
	r, raw, err := answer[contract.HostsEdited](c.EditHosts(cmd.Context(), body))
	if err != nil {
		return err
	}
	return a.show(raw, func() {
		if r.Chosen == 0 {
			a.printf("No host is chosen by %s\n", hosts)
			if r.Hint != nil {
				a.printf("→ %s\n", *r.Hint)
			}
			return
		}
		for i, ch := range r.Changes {
			if i == maxShown {
				a.printf("  … and %s more\n", number(int64(len(r.Changes)-maxShown)))
				break
			}
			a.wrapped("  "+ch.Host+"  ", strings.TrimSpace(edits("", ch.Labels)+edits("setting ", ch.Settings)))
		}
		if r.DryRun {
			a.printf(
				"Dry run: %s chosen, %s would change\n",
				plural(r.Chosen, "host", "hosts"),
				number(int64(r.Changed)),
			)
			a.effects(r.Effects)
		} else {
			a.printf("%s chosen, %s changed. Where what they should run differs now it is pending, and goes out "+
				"with the next rollout.\n", plural(r.Chosen, "host", "hosts"), number(int64(r.Changed)))
		}
	})
}

// effects tells what an edit would do to the configs of hosts.
func (a *app) effects(list *[]contract.HostsEffect) {
	if list == nil || len(*list) == 0 {
		a.printf("No host would run anything else by the revision in force\n")
		return
	}
	for _, e := range *list {
		var parts []string
		switch {
		case e.Only && len(e.Loses) == 1:
			parts = append(parts, "would lose their only source, "+e.Loses[0])
		case e.Only:
			parts = append(parts, "would lose all their sources: "+strings.Join(e.Loses, ", "))
		case len(e.Loses) > 0:
			parts = append(parts, "would lose "+strings.Join(e.Loses, ", "))
		}
		if len(e.Gains) > 0 {
			parts = append(parts, "would gain "+strings.Join(e.Gains, ", "))
		}
		if len(e.Changes) > 0 {
			parts = append(parts, "would run another "+strings.Join(e.Changes, ", "))
		}
		mark := "▲ "
		if len(parts) == 0 {
			mark, parts = "● ", []string{"would get another config with the same sources"}
		}
		a.wrapped(mark, someOf(e.Hosts)+" "+strings.Join(parts, "; "))
	}
}
