package cli

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"synaxis/internal/contract"
)

func (a *app) rejectCmd() *cobra.Command {
	cmd := group("reject", "Records that a destination refused for good; the hosts keep them")
	cmd.AddCommand(
		a.rejectListCmd(),
		a.rejectShowCmd(),
		a.rejectChangeCmd("resend NAME", "Let hosts send rejects again, ten records first", false),
		a.rejectChangeCmd("discard NAME", "Let hosts delete rejects", true),
		a.rejectExportCmd(),
	)
	return cmd
}

// rejectFlags choose rejects.
type rejectFlags struct{ hosts, cause, source string }

func (f *rejectFlags) add(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.cause, "cause", "", "only of this cause, such as 422")
	cmd.Flags().StringVar(&f.source, "source", "", "only of this source")
}

// given is a choice that was made, or nil.
func given(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

func (a *app) rejectListCmd() *cobra.Command {
	var hosts string
	cmd := &cobra.Command{
		Use: "list NAME", Short: "What hosts keep of what a destination refused, by cause", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completeDestinations(),
		Example:           "  synaxis reject list harbour-archive --hosts site=northpier",
		RunE: func(cmd *cobra.Command, args []string) error {
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) {
					return c.ListRejects(cmd.Context(), args[0], &contract.ListRejectsParams{Hosts: given(hosts)})
				},
				func(l contract.RejectList) { a.rejects(args[0], l) },
			)
		},
	}
	hostsFlag(cmd, &hosts)
	return cmd
}

func (a *app) rejects(name string, l contract.RejectList) {
	if len(l.Items) == 0 {
		a.printf("Nothing is among the rejects of %s.\n", name)
	}
	for i, c := range l.Items {
		if i > 0 {
			a.printf("\n")
		}
		a.facts("cause", c.Cause, "source", c.Source, "records", fmt.Sprintf("%s, %s", number(c.Records),
			size(c.Bytes)),
			"from", when(&c.First)+" to "+when(&c.Last), "hosts", fmt.Sprintf("%d: %s", len(c.Hosts), some(c.Hosts)))
		a.wrapped("  answer: ", c.Reason)
		if c.Example != nil {
			a.printf("  one of them: %s\n", visible([]byte(*c.Example)))
		}
	}
	if len(l.Items) > 0 {
		a.printf("\nAfter the cause is mended: synaxis reject resend %s\n", name)
	}
	for _, s := range l.Silent {
		a.printf("▲ %s could not be asked: %s\n", s.Host, s.Reason)
	}
}

func (a *app) rejectShowCmd() *cobra.Command {
	var f rejectFlags
	var host string
	var limit int
	cmd := &cobra.Command{
		Use: "show NAME --host HOST", Short: "Rejects of one host, one record each", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completeDestinations(),
		RunE: func(cmd *cobra.Command, args []string) error {
			if host == "" {
				return usagef("whose? say --host HOST; synaxis reject list %s names the hosts", args[0])
			}
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) {
					return c.ListRejectRecords(cmd.Context(), args[0], &contract.ListRejectRecordsParams{Host: host,
						Cause: given(f.cause), Source: given(f.source), Limit: &limit})
				},
				func(l contract.RejectRecords) {
					if len(l.Items) == 0 {
						a.printf("%s has no such rejects of %s.\n", host, args[0])
						return
					}
					for _, x := range l.Items {
						a.printf("%d  %s  %s  %s\n", x.Number, when(&x.Rejected), x.Cause, x.Source)
						a.printf("    %s\n", visible([]byte(x.Record)))
					}
					if l.More {
						a.printf("and others: --limit shows up to 500, synaxis reject export %s all\n", args[0])
					}
				},
			)
		},
	}
	f.add(cmd)
	cmd.Flags().StringVar(&host, "host", "", "the host")
	cmd.Flags().IntVar(&limit, "limit", 20, "at most so many records, up to 500")
	_ = cmd.RegisterFlagCompletionFunc("host", a.completeHosts())
	return cmd
}

func (a *app) rejectChangeCmd(use, short string, discard bool) *cobra.Command {
	var f rejectFlags
	var yes bool
	var most int
	cmd := &cobra.Command{
		Use: use, Short: short, Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeDestinations(),
		RunE: func(cmd *cobra.Command, args []string) error {
			if discard && !yes {
				return usagef("what is discarded is gone; say --yes, and --cause or --source to choose")
			}
			body := contract.RejectChoice{Hosts: given(f.hosts), Cause: given(f.cause), Source: given(f.source)}
			if most > 0 {
				body.Most = &most
			}
			failed := false
			err := ask(
				a,
				func(c *contract.Client) (*http.Response, error) {
					if discard {
						return c.DiscardRejects(cmd.Context(), args[0], body)
					}
					return c.ResendRejects(cmd.Context(), args[0], body)
				},
				func(o contract.RejectOutcome) { failed = a.rejectOutcome(o, discard) },
			)
			if err == nil && failed {
				return fmt.Errorf("not everything was done")
			}
			return err
		},
	}
	f.add(cmd)
	hostsFlag(cmd, &f.hosts)
	if !discard {
		cmd.Flags().IntVar(&most, "most", 0, "send so many over all hosts, as a trial; 0 for all")
	}
	if discard {
		cmd.Flags().BoolVar(&yes, "yes", false, "really")
	}
	return cmd
}

// rejectOutcome prints what came of it, and tells whether something was not done.
func (a *app) rejectOutcome(o contract.RejectOutcome, discard bool) (failed bool) {
	did := "sent again"
	if discard {
		did = "discarded"
	}
	if len(o.Items) == 0 {
		a.printf("No host has such rejects.\n")
		return false
	}
	for _, h := range o.Items {
		switch {
		case h.Error != nil:
			a.printf("▲ %s: %s\n", h.Host, *h.Error)
			failed = true
		case h.Answer != nil:
			a.printf("▲ %s: %s records %s, then: %s\n", h.Host, number(h.Done), did, *h.Answer)
			failed = true
		case h.Left:
			a.printf("● %s: %s records %s; there are others, say it again\n", h.Host, number(h.Done), did)
		default:
			a.printf("● %s: %s records %s\n", h.Host, number(h.Done), did)
		}
	}
	a.printf("%s records %s\n", number(o.Done), did)
	return failed
}

func (a *app) rejectExportCmd() *cobra.Command {
	var f rejectFlags
	var file string
	cmd := &cobra.Command{
		Use: "export NAME", Short: "Write rejects of all hosts as JSON, one a line", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completeDestinations(),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			list, _, err := answer[contract.RejectList](c.ListRejects(cmd.Context(), args[0],
				&contract.ListRejectsParams{Hosts: given(f.hosts)}))
			if err != nil {
				return err
			}
			out := a.out
			if file != "" {
				w, err := os.OpenFile(file, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
				if err != nil {
					return err
				}
				defer w.Close()
				out = w
			}
			seen := map[string]bool{}
			enc := json.NewEncoder(out)
			for _, cause := range list.Items {
				for _, host := range cause.Hosts {
					if seen[host] {
						continue
					}
					seen[host] = true
					if err := a.exportHost(cmd, c, args[0], host, f, enc); err != nil {
						return err
					}
				}
			}
			if len(list.Silent) > 0 {
				var hosts []string
				for _, s := range list.Silent {
					hosts = append(hosts, s.Host)
				}
				return fmt.Errorf("not from %s, which could not be asked", strings.Join(hosts, ", "))
			}
			return nil
		},
	}
	f.add(cmd)
	hostsFlag(cmd, &f.hosts)
	cmd.Flags().StringVar(&file, "file", "", "write into this file instead of printing")
	return cmd
}

// exportHost writes the rejects of one host, page by page.
func (a *app) exportHost(
	cmd *cobra.Command, c *contract.Client, name, host string, f rejectFlags, enc *json.Encoder,
) error {
	limit, after := 500, int64(0)
	for {
		page, _, err := answer[contract.RejectRecords](c.ListRejectRecords(cmd.Context(), name,
			&contract.ListRejectRecordsParams{Host: host, Cause: given(f.cause), Source: given(f.source),
				After: &after,
				Limit: &limit}))
		if err != nil {
			return err
		}
		for _, x := range page.Items {
			after = max(after, x.Number)
			line := map[string]any{"host": host, "rejected": x.Rejected, "cause": x.Cause, "reason": x.Reason,
				"source": x.Source, "record": json.RawMessage(x.Record)}
			if err := enc.Encode(line); err != nil {
				return err
			}
		}
		if !page.More || len(page.Items) == 0 {
			return nil
		}
	}
}
