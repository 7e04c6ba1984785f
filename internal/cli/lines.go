package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"synaxis/internal/contract"
	"synaxis/internal/core/wire"
)

func (a *app) hostLinesCmd() *cobra.Command {
	var n int
	cmd := &cobra.Command{
		Use: "lines HOST PATH", Short: "Read the last lines of a log on a host", Args: cobra.ExactArgs(2),
		Long: fmt.Sprintf(
			`Shows up to %d lines as they stand in the file, before anything is masked. That is a right of its own, and every reading is
in the audit. Files of the system, hidden ones and what is no text are closed to the desk.`,
			wire.MaxLines,
		),
		Example: "  synaxis host lines gate-northpier-1 /srv/gate/lane-1.log\n  synaxis host lines gate-northpier-1 " +
			"/srv/gate/lane-1.log | synaxis format guess -",
		RunE: func(cmd *cobra.Command, args []string) error {
			if n < 1 || n > wire.MaxLines {
				return usagef("--lines: %d is not between 1 and %d", n, wire.MaxLines)
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			l, raw, err := answer[wire.Lines](
				c.ReadHostLines(cmd.Context(), args[0], &contract.ReadHostLinesParams{Path: args[1], Lines: &n}),
			)
			if err != nil {
				return err
			}
			return a.show(raw, func() {
				for _, line := range l.Lines {
					a.printf("%s\n", line)
				}
				if l.Encoding != "" {
					fmt.Fprintf(
						a.errOut,
						"In the file they are %s; a source that reads it needs read: {encoding: %s}\n",
						l.Encoding,
						l.Encoding,
					)
				}
			})
		},
		ValidArgsFunction: a.completeHosts(),
	}
	cmd.Flags().IntVar(&n, "lines", wire.MaxLines, "how many")
	return cmd
}

func (a *app) hostUncollectedCmd() *cobra.Command {
	return &cobra.Command{
		Use: "uncollected HOST", Short: "List logs on a host that nobody collects", Args: cobra.ExactArgs(1),
		Long: `Looks on the host for files that are being written, below /var/log, below the folders that its settings name and those in
which its sources read, and among what its programs have open; those that no source takes are listed with a guess of how they are
written. The guess is made on the host: no line leaves it. synaxis source draft turns one into a source.`,
		Example: "  synaxis host uncollected gate-northpier-1",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			l, raw, err := answer[contract.UncollectedList](c.ListUncollected(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			return a.show(raw, func() { a.showUncollected(args[0], l) })
		},
		ValidArgsFunction: a.completeHosts(),
	}
}

func (a *app) showUncollected(host string, l contract.UncollectedList) {
	where := strings.Join(l.Folders, ", ")
	if len(l.Items) == 0 {
		a.printf("Every log that is being written in %s is collected.\n", where)
		return
	}
	var rows [][]string
	for _, x := range l.Items {
		guess := fmt.Sprintf("%.0f%% %s", 100*x.Share, x.Kind)
		if x.NoZone != nil && *x.NoZone {
			guess += ", no zone"
		}
		if x.Encoding != nil {
			guess += ", " + *x.Encoding
		}
		rows = append(
			rows,
			[]string{x.Path, size(x.Size), size(int64(x.Rate)) + "/s", ago(&x.Modified), guess, str(x.Program)},
		)
	}
	a.table([]string{"path", "size", "rate", "written", "guess", "program"}, rows, 0)
	if l.More {
		a.printf("… and others\n")
	}
	a.printf("\nLooked in %s\nsynaxis source draft %s PATH turns one into a source\n", where, host)
}

func (a *app) sourceDraftCmd() *cobra.Command {
	var body contract.NewSourceDraft
	var name, zone, to string
	var draft int
	cmd := &cobra.Command{
		Use: "draft HOST PATH", Short: "Turn a log of a host into a source, in a draft", Args: cobra.ExactArgs(2),
		Long: `Reads the last lines of the log, finds out how it is written, and writes a source, with a format where none that exists fits,
into a new draft or one that is open. What it cannot know, such as the zone of the times, the checks of the draft ask for.`,
		Example: "  synaxis source draft gate-northpier-1 /srv/gate/crew.log --zone Europe/Lisbon --to harbour-archive",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			body.Path, body.Name, body.Zone, body.To, body.Draft = args[1], orNil(
				name,
			), orNil(
				zone,
			), orNil(
				to,
			), orNil(
				draft,
			)
			d, raw, err := answer[contract.SourceDraft](c.DraftSource(cmd.Context(), args[0], body))
			if err != nil {
				return err
			}
			return a.show(raw, func() {
				a.printf(
					"%s\nSource %s is in draft %d: synaxis draft check %d\n",
					d.Definitions,
					d.Source,
					d.Draft,
					d.Draft,
				)
			})
		},
		ValidArgsFunction: a.completeHosts(),
	}
	f := cmd.Flags()
	f.StringVar(&name, "name", "", "of the source (default: made from the path)")
	f.StringVar(&zone, "zone", "", "the named zone of times that have none, such as Europe/Lisbon")
	f.StringVar(&to, "to", "", "a destination (default: the one that most sources send to)")
	f.IntVar(&draft, "draft", 0, "a draft that is open (default: a new one)")
	return cmd
}
