package cli

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"synaxis/internal/contract"
	"synaxis/internal/core/series"
)

func (a *app) senderCmd() *cobra.Command {
	cmd := group("sender", "Devices without an agent that send to listeners")
	cmd.AddCommand(a.senderListCmd(), a.senderShowCmd(), a.senderDefineCmd(), a.senderImportCmd(),
		a.senderAuthorityCmd())
	return cmd
}

func (a *app) senderListCmd() *cobra.Command {
	var hosts string
	var unknown bool
	cmd := &cobra.Command{
		Use: "list [SOURCE]", Short: "Who sends to listeners; those first that no definition knows",
		Args:    cobra.MaximumNArgs(1),
		Example: "  synaxis sender list\n  synaxis sender list weighbridges --unknown",
		RunE: func(cmd *cobra.Command, args []string) error {
			p := &contract.ListSendersParams{Hosts: given(hosts)}
			if len(args) > 0 {
				p.Source = &args[0]
			}
			if unknown {
				p.Unknown = &unknown
			}
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) { return c.ListSenders(cmd.Context(), p) },
				func(l contract.SenderList) { a.senders(l) },
			)
		},
	}
	hostsFlag(cmd, &hosts)
	cmd.Flags().BoolVar(&unknown, "unknown", false, "only those that no definition knows")
	return cmd
}

func (a *app) senders(l contract.SenderList) {
	if len(l.Items) == 0 && len(l.Silent) == 0 {
		a.printf("Nobody. No host listens, or nothing was sent since its agent started.\n")
	}
	var rows [][]string
	for _, s := range l.Items {
		name, heard := "▲ unknown", "never"
		if s.Name != nil {
			name = *s.Name
		}
		if s.Last != nil {
			heard = ago(s.Last)
		}
		rows = append(rows, []string{name, s.Address, s.Source, s.Host, heard, fmt.Sprint(s.Minute), looksLike(s)})
	}
	if len(rows) > 0 {
		a.table([]string{"sender", "address", "source", "host", "heard", "a minute", "looks like"}, rows, 6)
	}
	for _, s := range l.Silent {
		a.printf("▲ %s could not be asked: %s\n", s.Host, s.Reason)
	}
	if l.More != nil {
		a.printf("%s not asked; choose them with --hosts\n", plural(*l.More, "more host was", "more hosts were"))
	}
}

// looksLike is what the lines of a sender look like.
func looksLike(s contract.Sender) string {
	if s.Format == nil {
		return ""
	}
	out := *s.Format
	if s.Share != nil {
		out += fmt.Sprintf(" (%.0f %%)", 100**s.Share)
	}
	return out
}

func (a *app) senderShowCmd() *cobra.Command {
	return &cobra.Command{
		Use: "show NAME|ADDRESS", Short: "One sender, with its latest messages and what came from it in the last day", Args: cobra.ExactArgs(1),
		Example: "  synaxis sender show 198.51.100.20",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			l, err := a.findSenders(cmd.Context(), c, args[0])
			if err != nil {
				return err
			}
			if len(l.Items) == 0 {
				return fmt.Errorf("no sender has the name or the address %s; synaxis sender list shows all", args[0])
			}
			raw, err := json.Marshal(l)
			if err != nil {
				return err
			}
			return a.show(raw, func() {
				for i, s := range l.Items {
					if i > 0 {
						a.printf("\n")
					}
					a.sender(s)
				}
				a.senderCourse(cmd.Context(), c, l.Items)
			})
		},
	}
}

// senderCourse shows what came from a sender in the last day; nothing of one that has no name.
func (a *app) senderCourse(ctx context.Context, c *contract.Client, of []contract.Sender) {
	if of[0].Name == nil {
		return
	}
	by, numbers := "sender", []string{}
	for _, n := range series.Senders {
		if numbers = append(numbers, n); n == series.Dropped || n == series.Masked {
			numbers = append(numbers, n+":*")
		}
	}
	n, _, err := answer[contract.NumbersOverTime](c.GetNumbers(ctx, &contract.GetNumbersParams{By: &by,
		Number: &numbers,
		Source: &of[0].Source}))
	n.Lines = only(n.Lines, func(l contract.NumberLine) bool { return l.Group == *of[0].Name })
	if err != nil || len(n.Lines) == 0 {
		return
	}
	a.printf("\n")
	a.numbersTable(n, "")
}

// findSenders are those of a name or an address.
func (a *app) findSenders(ctx context.Context, c *contract.Client, name string) (contract.SenderList, error) {
	l, _, err := answer[contract.SenderList](c.ListSenders(ctx, &contract.ListSendersParams{}))
	l.Items = only(l.Items, func(s contract.Sender) bool { return s.Address == name || senderName(s) == name })
	return l, err
}

// senderName is the name by which a definition knows a sender, or "unknown".
func senderName(s contract.Sender) string {
	if s.Name == nil {
		return "unknown"
	}
	return *s.Name
}

func only[T any](list []T, keep func(T) bool) (out []T) {
	for _, x := range list {
		if keep(x) {
			out = append(out, x)
		}
	}
	return out
}

func (a *app) sender(s contract.Sender) {
	name := "unknown: no definition knows it"
	if s.Name != nil {
		name = *s.Name
	}
	a.facts("sender", name, "address", s.Address, "source", s.Source, "host", s.Host, "first", when(s.First), "last",
		when(s.Last),
		"messages", fmt.Sprintf("%d, %d in the last minute", s.Messages, s.Minute), "not read", count(s.Unparsed), "lost",
		count(s.Missed), "looks like", looksLike(s))
	for _, e := range s.Examples {
		a.printf("  %s\n", e)
	}
	if s.Name == nil {
		a.printf("Make it known: synaxis sender define NAME --source %s --from %s\n", s.Source, s.Address)
	}
}

// count is a number, or "" for none.
func count(n int64) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprint(n)
}

func (a *app) senderDefineCmd() *cobra.Command {
	var source, from, format, zone, every string
	var labels []string
	var draft int
	cmd := &cobra.Command{
		Use: "define NAME --source SOURCE --from ADDRESS", Short: "Make a sender known, in a draft",
		Args:    cobra.ExactArgs(1),
		Example: "  synaxis sender define bridge-b --source weighbridges --from 198.51.100.21 --label site=saltmarsh --every 10m",
		RunE: func(cmd *cobra.Command, args []string) error {
			pairs, err := labelPairs(labels)
			if err != nil {
				return err
			}
			return a.defineSenders(cmd, source, draft, []contract.NewSender{{Name: args[0], From: from,
				Format: given(format),
				Zone:   given(zone), Every: given(every), Labels: pairs}})
		},
	}
	f := cmd.Flags()
	f.StringVar(&source, "source", "", "the source that listens")
	f.StringVar(&from, "from", "", "its address, or a network")
	f.StringSliceVar(&labels, "label", nil, "KEY=VALUE, on its records")
	f.StringVar(&format, "format", "", "its format, where it is another than the source's")
	f.StringVar(&zone, "zone", "", "the zone of its times")
	f.StringVar(&every, "every", "", "how often a message is expected, such as 10m")
	f.IntVar(&draft, "draft", 0, "the draft that it is written into; a new one without it")
	_ = cmd.MarkFlagRequired("source")
	_ = cmd.MarkFlagRequired("from")
	return cmd
}

// labelPairs reads labels such as site=saltmarsh; nil for none.
func labelPairs(list []string) (*map[string]string, error) {
	if len(list) == 0 {
		return nil, nil
	}
	out := map[string]string{}
	for _, l := range list {
		k, v, ok := strings.Cut(l, "=")
		if !ok || k == "" {
			return nil, usagef("%q is no label such as site=saltmarsh", l)
		}
		out[k] = v
	}
	return &out, nil
}

func (a *app) defineSenders(cmd *cobra.Command, source string, draft int, list []contract.NewSender) error {
	body := contract.NewSenders{Source: source, Senders: list}
	if draft > 0 {
		body.Draft = &draft
	}
	return ask(
		a,
		func(c *contract.Client) (*http.Response, error) { return c.DefineSenders(cmd.Context(), body) },
		func(d contract.DefinedSenders) {
			a.printf("%s added and %d written anew in source %s, draft %d. Look at it: synaxis draft check %d\n",
				plural(d.Added, "sender", "senders"), d.Changed, d.Source, d.Draft, d.Draft)
		},
	)
}

func (a *app) senderAuthorityCmd() *cobra.Command {
	return &cobra.Command{
		Use: "authority", Short: "The certificate that senders must trust, in PEM", Args: cobra.NoArgs,
		Long:    "Prints the certificate of the authority that signs the certificates of listeners with certificate: issued.",
		Example: "  synaxis sender authority > authority.pem",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) { return c.GetSenderAuthority(cmd.Context()) },
				func(x contract.SenderAuthority) { a.printf("%s", x.Certificate) },
			)
		},
	}
}

func (a *app) senderImportCmd() *cobra.Command {
	var source string
	var draft int
	cmd := &cobra.Command{
		Use: "import FILE.csv --source SOURCE", Short: "Make many senders known from a list, in a draft",
		Args: cobra.ExactArgs(1),
		Long: `Reads a list of senders. Its first line names the columns: name and from are needed; format, zone and every may be
there; every other column is a label. - reads standard input.`,
		Example: "  synaxis sender import bridges.csv --source weighbridges",
		RunE: func(cmd *cobra.Command, args []string) error {
			in := io.Reader(os.Stdin)
			if args[0] != "-" {
				f, err := os.Open(args[0])
				if err != nil {
					return err
				}
				defer f.Close()
				in = f
			}
			list, err := readSenders(in)
			if err != nil {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			return a.defineSenders(cmd, source, draft, list)
		},
	}
	cmd.Flags().StringVar(&source, "source", "", "the source that listens")
	cmd.Flags().IntVar(&draft, "draft", 0, "the draft that they are written into; a new one without it")
	_ = cmd.MarkFlagRequired("source")
	return cmd
}

// readSenders reads a list of senders.
func readSenders(in io.Reader) (out []contract.NewSender, err error) {
	r := csv.NewReader(in)
	r.TrimLeadingSpace, r.Comment = true, '#'
	head, err := r.Read()
	if err != nil {
		return nil, fmt.Errorf("its first line must name the columns, such as name,from,site: %w", err)
	}
	for {
		row, err := r.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
		var s contract.NewSender
		labels := map[string]string{}
		for i, column := range head {
			switch v := strings.TrimSpace(row[i]); strings.ToLower(strings.TrimSpace(column)) {
			case "name":
				s.Name = v
			case "from", "address":
				s.From = v
			case "format":
				s.Format = given(v)
			case "zone":
				s.Zone = given(v)
			case "every":
				s.Every = given(v)
			default:
				if v != "" {
					labels[strings.TrimSpace(column)] = v
				}
			}
		}
		if len(labels) > 0 {
			s.Labels = &labels
		}
		if s.Name == "" || s.From == "" {
			line, _ := r.FieldPos(0)
			return nil, fmt.Errorf("line %d has no name, or no address in from", line)
		}
		out = append(out, s)
	}
	if len(out) == 0 {
		return nil, errors.New("it names no sender")
	}
	return out, nil
}
