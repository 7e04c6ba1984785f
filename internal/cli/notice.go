package cli

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"synaxis/internal/contract"
)

func (a *app) noticeCmd() *cobra.Command {
	cmd := group("notice", "Who is told of what is wrong: open causes, messages, what would have been told")
	cmd.AddCommand(a.noticeListCmd(), a.noticeShowCmd(), a.noticeAcknowledgeCmd(), a.noticeTryCmd())
	return cmd
}

func (a *app) noticeListCmd() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List notices with what is open and how their last message went", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) { return c.ListNotices(cmd.Context()) },
				func(l contract.NoticeList) {
					if len(l.Items) == 0 {
						a.printf("No notice is published. One is a definition: synaxis reference notice\n")
						return
					}
					var rows [][]string
					for _, n := range l.Items {
						last := "-"
						if len(n.Messages) > 0 {
							last = ago(&n.Messages[0].At) + ", " + went(n.Messages[0])
						}
						rows = append(rows, []string{n.Name, fmt.Sprint(len(n.Alerts)), last, strings.Join(n.To, "; ")})
					}
					a.table([]string{"notice", "open", "last message", "tells"}, rows, 3)
				},
			)
		},
	}
}

// went tells how a message went.
func went(m contract.SentMessage) string {
	switch {
	case m.Done != nil && m.Error == nil:
		return "delivered"
	case m.Done != nil:
		return "not delivered: " + *m.Error
	case m.Error != nil:
		return fmt.Sprintf("tried %s: %s", plural(m.Tries, "time", "times"), *m.Error)
	}
	return "on its way"
}

func (a *app) noticeShowCmd() *cobra.Command {
	return &cobra.Command{
		Use: "show NOTICE", Short: "Show the open causes of a notice and its messages", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			l, _, err := answer[contract.NoticeList](c.ListNotices(cmd.Context()))
			if err != nil {
				return err
			}
			for _, n := range l.Items {
				if n.Name == args[0] {
					return a.showValue(n, func() { a.notice(n) })
				}
			}
			return fmt.Errorf("there is no notice %s", args[0])
		},
	}
}

func (a *app) notice(n contract.Notice) {
	a.facts("when", n.When, "tells", strings.Join(n.To, "; "))
	if len(n.Alerts) == 0 {
		a.printf("\nNothing is open.\n")
	}
	for _, x := range n.Alerts {
		a.printf("\n")
		a.wrapped(fmt.Sprintf("%-11s ", stateMark(x.State)), x.Words)
		told := "not told yet"
		if x.Told != nil {
			told = when(x.Told)
		}
		by := ""
		if x.AcknowledgedBy != nil {
			by = strings.TrimSuffix(*x.AcknowledgedBy+": "+str(x.Word), ": ")
		}
		a.facts("cause", x.Cause, "on", x.Where, "since", when(&x.Since), "told", told, "acknowledged by", by)
	}
	if len(n.Messages) == 0 {
		return
	}
	a.printf("\n")
	var rows [][]string
	for _, m := range n.Messages {
		rows = append(rows, []string{when(&m.At), m.Subject, went(m)})
	}
	a.table([]string{"message", "says", "went"}, rows, 1)
}

func (a *app) noticeAcknowledgeCmd() *cobra.Command {
	var word string
	cmd := &cobra.Command{
		Use: "acknowledge NOTICE CAUSE", Short: "Say that you look after a cause; it is not told again until it is over",
		Args:    cobra.ExactArgs(2),
		Example: "  synaxis notice acknowledge archive-stuck 3f2a -m \"the harbour office restarts it\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.done(fmt.Sprintf("You look after cause %s of notice %s", args[1], args[0]),
				func(c *contract.Client) (*http.Response, error) {
					return c.AcknowledgeNotice(cmd.Context(), args[0], contract.NewAcknowledgement{Cause: args[1],
						Word: given(word)})
				})
		},
	}
	cmd.Flags().StringVarP(&word, "message", "m", "", "a word to others")
	return cmd
}

func (a *app) noticeTryCmd() *cobra.Command {
	var draft int
	var since string
	cmd := &cobra.Command{
		Use: "try NOTICE", Short: "Tell what a notice would have told in the last week", Args: cobra.ExactArgs(1),
		Long: `Tells what a notice would have told, from the state changes that are kept; with --draft as it stands in a draft.
Nothing is sent.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			body := contract.NoticeTry{Since: given(since)}
			if draft > 0 {
				body.Draft = &draft
			}
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) { return c.TryNotice(cmd.Context(), args[0], body) },
				func(l contract.NoticeMessages) {
					a.printf("In the last %s it would have sent %s to each.\n", since,
						plural(len(l.Items), "message", "messages"))
					for _, m := range l.Items {
						a.wrapped(when(&m.At)+"  ", m.Subject)
					}
				},
			)
		},
	}
	cmd.Flags().IntVar(&draft, "draft", 0, "as it is in a draft")
	cmd.Flags().StringVar(&since, "since", "7d", "how far back")
	return cmd
}

func (a *app) maintenanceCmd() *cobra.Command {
	cmd := group("maintenance", "Hosts of which nothing is told for a while")
	var hosts, long, word string
	start := &cobra.Command{
		Use: "start", Short: "Let nothing be told of hosts until a time", Args: cobra.NoArgs,
		Example: "  synaxis maintenance start --hosts site=northpier --for 2h -m \"new switches\"",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if hosts == "" {
				return usagef("--hosts: say which hosts, or all")
			}
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) {
					return c.StartMaintenance(cmd.Context(), contract.NewMaintenance{Hosts: hosts, For: long,
						Word: given(word)})
				},
				func(m contract.Maintenance) {
					a.printf("Maintenance %d: nothing is told of %s until %s. End it: synaxis maintenance end %d\n",
						m.Id,
						m.Hosts, when(&m.Until), m.Id)
				},
			)
		},
	}
	hostsFlag(start, &hosts)
	start.Flags().StringVar(&long, "for", "2h", "how long")
	start.Flags().StringVarP(&word, "message", "m", "", "a word to others")
	cmd.AddCommand(start, &cobra.Command{
		Use: "list", Short: "List what is under way", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) { return c.ListMaintenance(cmd.Context()) },
				func(l contract.MaintenanceList) {
					if len(l.Items) == 0 {
						a.printf("None is under way.\n")
						return
					}
					var rows [][]string
					for _, m := range l.Items {
						rows = append(rows, []string{fmt.Sprint(m.Id), m.Hosts, when(&m.Until), m.Who, str(m.Word)})
					}
					a.table([]string{"id", "hosts", "until", "by", "word"}, rows, 4)
				},
			)
		},
	}, &cobra.Command{
		Use: "end ID", Short: "End it before its time", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := strconv.Atoi(args[0])
			if err != nil {
				return usagef("%q is no number of a maintenance", args[0])
			}
			return a.done(fmt.Sprintf("Maintenance %d has ended", id),
				func(c *contract.Client) (*http.Response, error) { return c.EndMaintenance(cmd.Context(), id) })
		},
	})
	return cmd
}
