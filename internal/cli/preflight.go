package cli

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"synaxis/internal/contract"
)

func (a *app) preflightCmd() *cobra.Command {
	cmd := group("preflight", "A rehearsal on the real hosts, which changes nothing")
	cmd.AddCommand(a.preflightRunCmd(), a.preflightShowCmd())
	return cmd
}

// ofFlags say what is rehearsed.
type ofFlags struct{ revision int }

func (f *ofFlags) take(args []string) (draft int, err error) {
	if len(args) == 1 {
		if draft, err = strconv.Atoi(args[0]); err != nil || draft < 1 {
			return 0, usagef("%q is not the number of a draft", args[0])
		}
	}
	if draft != 0 && f.revision != 0 {
		return 0, usagef("say a draft or --revision, not both")
	}
	return draft, nil
}

func (a *app) preflightRunCmd() *cobra.Command {
	var of ofFlags
	var hosts string
	var send bool
	var wave int
	cmd := &cobra.Command{
		Use: "run [DRAFT]", Short: "Let hosts rehearse a draft, or a revision", Args: cobra.MaximumNArgs(1),
		Long: `Lets hosts rehearse a draft, or a revision with --revision; without either the newest revision. Each host looks
whether its files are there and can be read, whether destinations are found, connect, are safe and let it in,
whether there is room for buffers, and whether its clock is right. Nothing is changed there. Without --hosts all
hosts rehearse that a draft changes.

A destination gets an empty delivery. With --send-test it gets a record that says that it is a test.

Exits with 1 when a host found trouble.`,
		Example: "  synaxis preflight run 3\n  synaxis preflight run --revision 7 --hosts 'labels.site == \"northpier\"'",
		RunE: func(cmd *cobra.Command, args []string) error {
			draft, err := of.take(args)
			if err != nil {
				return err
			}
			body := contract.NewPreflight{Hosts: given(hosts)}
			if draft != 0 {
				body.Draft = &draft
			}
			if of.revision != 0 {
				body.Revision = &of.revision
			}
			if send {
				body.SendTest = &send
			}
			if wave > 0 {
				body.Wave = &wave
			}
			trouble := 0
			err = ask(
				a,
				func(c *contract.Client) (*http.Response, error) { return c.RunPreflight(cmd.Context(), body) },
				func(p contract.Preflight) { trouble = a.preflight(p) },
			)
			if err == nil && trouble > 0 {
				return fmt.Errorf("%s found trouble", plural(trouble, "host", "hosts"))
			}
			return err
		},
	}
	f := cmd.Flags()
	f.IntVar(&of.revision, "revision", 0, "a published revision")
	f.IntVar(&wave, "wave", 0, "only the hosts of this wave of the rollout that would come")
	f.BoolVar(&send, "send-test", false, "send a record that says that it is a test to each destination")
	hostsFlag(cmd, &hosts)
	return cmd
}

func (a *app) preflightShowCmd() *cobra.Command {
	var of ofFlags
	cmd := &cobra.Command{
		Use: "show [DRAFT]", Short: "What the last preflight of a draft or revision found",
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			draft, err := of.take(args)
			if err != nil {
				return err
			}
			p := &contract.GetPreflightParams{}
			if draft != 0 {
				p.Draft = &draft
			}
			if of.revision != 0 {
				p.Revision = &of.revision
			}
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) { return c.GetPreflight(cmd.Context(), p) },
				func(p contract.Preflight) { a.preflight(p) },
			)
		},
	}
	cmd.Flags().IntVar(&of.revision, "revision", 0, "a published revision")
	return cmd
}

// preflight prints what hosts found, and answers on how many there is trouble.
func (a *app) preflight(p contract.Preflight) int {
	if p.Hosts == 0 && len(p.Silent) == 0 {
		a.printf("No host rehearsed: none is chosen, or none would change.\n")
		return 0
	}
	a.printf("%s rehearsed, %d found nothing to say (%s, by %s)\n", plural(p.Hosts, "host", "hosts"), p.Fine,
		ago(&p.At), p.By)
	troubled := map[string]bool{}
	marks := map[string]string{"trouble": "✖", "note": "▲"}
	for _, g := range p.Groups {
		mark := marks[g.Level]
		if mark == "" {
			continue
		}
		a.printf("\n")
		what := strings.TrimSpace(g.Kind + " " + g.Name)
		a.wrapped(mark+" ", fmt.Sprintf("%s: %s: %s", plural(len(g.Hosts), "host", "hosts"), what, g.Words))
		if g.Todo != nil {
			a.wrapped("  → ", *g.Todo)
		}
		if len(g.Examples) > 0 {
			a.wrapped("  ", strings.Join(g.Examples, "  "))
		}
		a.wrapped("  ", some(g.Hosts))
		if g.Level == "trouble" {
			for _, h := range g.Hosts {
				troubled[h] = true
			}
		}
	}
	for _, s := range p.Silent {
		a.printf("\n")
		a.wrapped("○ ", s.Reason)
	}
	return len(troubled)
}
