package cli

import (
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"synaxis/internal/contract"
	"synaxis/internal/core/yamldoc"
)

func (a *app) secretCmd() *cobra.Command {
	cmd := group("secret", "Secrets: kept sealed, referred to by name, never shown again")
	cmd.AddCommand(
		a.secretListCmd(),
		a.secretShowCmd(),
		a.secretSetCmd(),
		a.secretRemoveCmd(),
		a.secretGrantCmd(),
		a.secretRevokeCmd(),
	)
	return cmd
}

func (a *app) completeSecrets() func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return a.complete(func(cmd *cobra.Command, c *contract.Client) []string {
		l, _, _ := answer[contract.SecretList](c.ListSecrets(cmd.Context()))
		return names(l.Items, func(s contract.Secret) string { return s.Name })
	})
}

func secretState(s contract.Secret) string {
	if s.Version == 0 {
		return "✖ not set"
	}
	return fmt.Sprintf("version %d", s.Version)
}

func (a *app) secretListCmd() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List secrets: owner, when rotated, what uses them", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) { return c.ListSecrets(cmd.Context()) },
				func(l contract.SecretList) {
					if len(l.Items) == 0 {
						a.printf("No secret yet: synaxis secret set NAME < file\n")
						return
					}
					var rows [][]string
					for _, s := range l.Items {
						rows = append(
							rows,
							[]string{
								s.Name,
								secretState(s),
								ago(s.SetAt),
								s.Owner,
								fmt.Sprint(s.Hosts),
								strings.Join(s.UsedBy, ", "),
							},
						)
					}
					a.table([]string{"secret", "value", "rotated", "owner", "hosts", "used by"}, rows, 5)
				},
			)
		},
	}
}

func (a *app) secretShowCmd() *cobra.Command {
	return &cobra.Command{
		Use: "show NAME", Short: "What is known of a secret, but its value", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completeSecrets(),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			l, _, err := answer[contract.SecretList](c.ListSecrets(cmd.Context()))
			if err != nil {
				return err
			}
			for _, s := range l.Items {
				if s.Name == args[0] {
					return a.showValue(s, func() { a.secret(s) })
				}
			}
			hint := ""
			if near := yamldoc.Nearest(args[0], names(l.Items, func(
				s contract.Secret) string {
				return s.Name
			})); near != "" {
				hint = "; did you mean " + near + "?"
			}
			return fmt.Errorf("there is no secret %s%s", args[0], hint)
		},
	}
}

// onHosts tells how many hosts run which version of a secret.
func onHosts(s contract.Secret) string {
	var parts []string
	for _, v := range s.OnHosts {
		parts = append(parts, fmt.Sprintf("version %d on %s", v.Version, plural(v.Hosts, "host", "hosts")))
	}
	return strings.Join(parts, ", ")
}

func (a *app) secret(s contract.Secret) {
	rotated := when(s.SetAt)
	if s.SetBy != "" {
		rotated += " by " + s.SetBy
	}
	used := strings.Join(s.UsedBy, ", ")
	if used == "" {
		used = "nothing"
	}
	a.facts(
		"secret",
		s.Name,
		"value",
		secretState(s),
		"about",
		s.About,
		"owner",
		s.Owner,
		"rotated",
		rotated,
		"created",
		when(s.CreatedAt),
		"used by",
		used,
		"hosts",
		plural(s.Hosts, "host needs it", "hosts need it"),
		"they run",
		onHosts(s),
	)
	for _, g := range s.Grants {
		a.printf("granted to %s until %s (%s)\n", g.Who, when(&g.ExpiresAt), g.Id)
	}
}

func (a *app) secretSetCmd() *cobra.Command {
	var about, owner, file, expires string
	var keep, dry bool
	cmd := &cobra.Command{
		Use: "set NAME", Short: "Set the value from standard input; hosts that need it get it with the next rollout",
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeSecrets(),
		Long: `Reads the value from standard input, or from --file; one newline at its end is taken off. The value is kept sealed and
never shown again. With --about, --owner or --expires alone, only these are changed. What ends within 30 days is told by
synaxis status and on the first page; the end of a certificate is read from it.`,
		Example: "  synaxis secret set archive_token < token.txt\n  synaxis secret set archive_token --owner " +
			"\"Harbour archive\" --about \"Token of the archive's gate\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			if dry {
				return a.secretEffect(cmd, args[0])
			}
			var body contract.SecretValue
			if cmd.Flags().Changed("about") {
				body.About = &about
			}
			if cmd.Flags().Changed("owner") {
				body.Owner = &owner
			}
			if expires != "" {
				at, err := dateOrSpan(expires, time.Now())
				if err != nil {
					return usagef("--expires: %v", err)
				}
				body.Expires = &at
			}
			if body.About == nil && body.Owner == nil && body.Expires == nil || file != "" || keep {
				value, err := a.secretValue(file)
				if err != nil {
					return err
				}
				body.Value = &value
			}
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) { return c.SetSecret(cmd.Context(), args[0], body) },
				func(s contract.Secret) {
					if body.Value == nil {
						a.printf("Secret %s is described\n", s.Name)
						return
					}
					a.printf("Secret %s is set, version %d. It is not shown again.\n", s.Name, s.Version)
					if s.Hosts > 0 {
						a.printf(
							"%s need it: they get this version with the next rollout.\n",
							plural(s.Hosts, "host", "hosts"),
						)
					}
				},
			)
		},
	}
	f := cmd.Flags()
	f.StringVar(&expires, "expires", "", "when the value ends: a date, or a span such as 90d")
	f.StringVar(&about, "about", "", "what it is for")
	f.StringVar(&owner, "owner", "", "who looks after it")
	f.StringVar(&file, "file", "", "read the value from this file")
	f.BoolVar(&keep, "value", false, "read a value too, when --about or --owner is given")
	f.BoolVar(&dry, "dry-run", false, "only tell whose config a new value would change")
	return cmd
}

// secretEffect tells whose config a new value of a secret would change.
func (a *app) secretEffect(cmd *cobra.Command, name string) error {
	return ask(
		a,
		func(c *contract.Client) (*http.Response, error) { return c.ListSecrets(cmd.Context()) },
		func(l contract.SecretList) {
			for _, s := range l.Items {
				if s.Name != name {
					continue
				}
				if s.Hosts == 0 {
					a.printf("No host needs %s: nothing would change\n", name)
					return
				}
				a.printf("%s would be pending for it, and get version %d with the next rollout", plural(s.Hosts, "host", "hosts"),
					s.Version+1)
				if len(s.UsedBy) > 0 {
					a.printf(": %s", strings.Join(s.UsedBy, ", "))
				}
				a.printf("\n")
				return
			}
			a.printf("No host needs %s: nothing would change\n", name)
		},
	)
}

// secretValue reads a value without its last newline.
func (a *app) secretValue(file string) (string, error) {
	var text []byte
	var err error
	if file != "" {
		text, err = os.ReadFile(file)
	} else {
		if f, ok := a.in.(*os.File); ok {
			if info, serr := f.Stat(); serr == nil && info.Mode()&os.ModeCharDevice != 0 {
				fmt.Fprint(a.errOut, "Value, then Ctrl-D: ")
			}
		}
		text, err = io.ReadAll(io.LimitReader(a.in, 1<<20))
	}
	if err != nil {
		return "", fmt.Errorf("read the value: %w", err)
	}
	value := strings.TrimSuffix(strings.TrimSuffix(string(text), "\n"), "\r")
	if value == "" {
		return "", usagef("no value was given; give it on standard input or with --file")
	}
	return value, nil
}

func (a *app) secretRemoveCmd() *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Remove a secret that nothing uses", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completeSecrets(),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if _, _, err := answer[struct{}](c.RemoveSecret(cmd.Context(), args[0])); err != nil {
				return err
			}
			return a.showValue(
				map[string]string{"name": args[0], "state": "removed"},
				func() { a.printf("Secret %s is removed\n", args[0]) },
			)
		},
	}
}

func (a *app) secretGrantCmd() *cobra.Command {
	var to, lasts string
	cmd := &cobra.Command{
		Use: "grant NAME", Short: "Let somebody set this secret, and do nothing else", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completeSecrets(),
		Example:           "  synaxis secret grant archive_token --to \"Ines, harbour archive\" --lasts 24h",
		RunE: func(cmd *cobra.Command, args []string) error {
			return ask(a, func(c *contract.Client) (*http.Response, error) {
				return c.GrantSecret(cmd.Context(), args[0], contract.NewGrant{To: to, Lasts: &lasts})
			}, func(g contract.CreatedGrant) {
				where := " SYNAXIS_URL=" + a.url
				if a.pin != "" {
					where += " SYNAXIS_PIN=" + a.pin
				}
				a.printf(
					"Grant %s, good until %s. Give one of these to %s; they are shown only now:\n\n  %s\n\n  "+
						"SYNAXIS_TOKEN=%s%s synaxis secret set %s\n",
					g.Id,
					when(&g.ExpiresAt),
					to,
					g.Url,
					g.Token,
					where,
					args[0],
				)
			})
		},
	}
	cmd.Flags().StringVar(&to, "to", "", "who may set it, for the audit")
	cmd.Flags().StringVar(&lasts, "lasts", "72h", "how long")
	_ = cmd.MarkFlagRequired("to")
	return cmd
}

func (a *app) secretRevokeCmd() *cobra.Command {
	return &cobra.Command{
		Use: "revoke NAME GRANT", Short: "End a grant", Args: cobra.ExactArgs(2),
		ValidArgsFunction: a.completeSecrets(),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if _, _, err := answer[struct{}](c.RevokeGrant(cmd.Context(), args[0], args[1])); err != nil {
				return err
			}
			return a.showValue(
				map[string]string{"id": args[1], "state": "ended"},
				func() { a.printf("Grant %s is ended\n", args[1]) },
			)
		},
	}
}

// dateOrSpan reads a date, or a span from now on.
func dateOrSpan(text string, now time.Time) (time.Time, error) {
	if at, err := time.Parse(time.DateOnly, text); err == nil {
		return at, nil
	}
	span, err := yamldoc.ParseDuration(text)
	if err != nil || span <= 0 {
		return time.Time{}, fmt.Errorf("%q is no date such as 2031-04-02, and no span such as 90d", text)
	}
	return now.Add(span), nil
}
