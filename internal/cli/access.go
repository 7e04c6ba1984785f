package cli

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"synaxis/internal/contract"
)

func sortedKeys(m map[string]string) []string { return slices.Sorted(maps.Keys(m)) }

func (a *app) loginCmd() *cobra.Command {
	var tokenFile string
	var link bool
	cmd := &cobra.Command{
		Use:   "login [URL]",
		Short: "Keep the address and the API token of the service, or make a sign-in link for the console",
		Long: `Keeps the address of the service and an API token for later commands, in a file that only you can read.
The token is read from standard input, or from --token-file; the service writes the first one to admin.token in its
data folder. With --link it prints a link that signs a browser in once.`,
		Example: "  synaxis login http://127.0.0.1:7800 --token-file data/admin.token\n  synaxis login --link",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if link {
				return a.signInLink(cmd)
			}
			if len(args) == 1 {
				a.url = args[0]
			}
			if a.url == "" {
				return usagef("say the address of the service: synaxis login URL")
			}
			token := a.token
			switch {
			case tokenFile != "":
				text, err := os.ReadFile(tokenFile)
				if err != nil {
					return fmt.Errorf("--token-file: %w", err)
				}
				token = strings.TrimSpace(string(text))
			case token == "":
				fmt.Fprint(a.errOut, "API token: ")
				line, err := bufio.NewReader(a.in).ReadString('\n')
				if token = strings.TrimSpace(line); token == "" {
					return fmt.Errorf(
						"no token was given: %w",
						errors.Join(err, errors.New("give it on standard input or with --token-file")),
					)
				}
			}
			c, err := newClient(a.url, token, a.pin)
			if err != nil {
				return err
			}
			s, _, err := answer[contract.Session](c.GetSession(cmd.Context()))
			if err != nil {
				return err
			}
			path, err := loginPath()
			if err != nil {
				return err
			}
			text, err := json.Marshal(login{URL: a.url, Token: token, Pin: a.pin})
			if err == nil {
				err = os.MkdirAll(filepath.Dir(path), 0o700)
			}
			if err == nil {
				err = os.WriteFile(path, text, 0o600)
			}
			if err != nil {
				return fmt.Errorf("keep the login: %w", err)
			}
			a.printf("Signed in to %s as %s; kept in %s\n", a.url, s.Who, path)
			return nil
		},
	}
	cmd.Flags().StringVar(&tokenFile, "token-file", "", "file that holds the API token")
	cmd.Flags().BoolVar(&link, "link", false, "print a link that signs a browser in to the console once")
	return cmd
}

func (a *app) signInLink(cmd *cobra.Command) error {
	return ask(
		a,
		func(c *contract.Client) (*http.Response, error) { return c.CreateSignInLink(cmd.Context()) },
		func(l contract.SignInLink) { a.printf("%s\nGood once, until %s\n", l.Url, when(&l.Expires)) },
	)
}

func (a *app) joinTokenCmd() *cobra.Command {
	cmd := group("join-token", "Tokens that let new agents join")
	var set []string
	var uses int
	var lasts, host string
	var listed bool
	create := &cobra.Command{
		Use: "create", Short: "Make a token; it is shown once",
		Long: "Make a token by which new hosts join, and print the line to paste on them. A name that the desk " +
			"knows, of a host that is listed, has joined or was retired, is not given to whoever asks for it: " +
			"--host makes a token for that one host. --listed makes one for the listed hosts that have all its labels.",
		Example: "  synaxis join-token create --label site=northpier --label role=gate --uses 12 --lasts 72h\n  " +
			"synaxis join-token create --host gate-northpier-1\n  synaxis join-token create --listed --label " +
			"site=northpier --uses 0",
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			m, err := pairs(set)
			if err != nil {
				return err
			}
			return ask(a, func(c *contract.Client) (*http.Response, error) {
				return c.CreateJoinToken(
					cmd.Context(),
					contract.NewJoinToken{Labels: &m, Uses: &uses, Lasts: &lasts, Host: &host, Listed: &listed},
				)
			}, func(t contract.CreatedJoinToken) {
				a.printf(
					"Join token %s, good until %s. It is shown only now:\n\n  %s\n\nPaste this line on the host "+
						"(with --print at its end it only tells what it would do):\n\n  %s\n",
					t.Id,
					when(&t.ExpiresAt),
					t.Token,
					t.Command,
				)
				if t.Command != t.Agent {
					a.printf("\nWhere an agent is installed already:\n\n  %s\n", t.Agent)
				}
			})
		},
	}
	create.Flags().StringArrayVar(&set, "label", nil, "KEY=VALUE for the hosts that join by it (repeated)")
	create.Flags().IntVar(&uses, "uses", 1, "how many hosts may join; 0 is any number")
	create.Flags().StringVar(&lasts, "lasts", "24h", "how long it is good")
	create.Flags().StringVar(&host, "host", "", "the one host that it is for, also when the desk knows it already")
	create.Flags().
		BoolVar(&listed, "listed", false, "let hosts join under their listed names, where they have all labels of "+
			"the token")
	_ = create.RegisterFlagCompletionFunc("host", a.completeHosts())
	list := &cobra.Command{
		Use: "list", Short: "List tokens, newest first", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(
				a,
				func(c *contract.Client) (*http.Response, error) { return c.ListJoinTokens(cmd.Context()) },
				func(l contract.JoinTokenList) {
					if len(l.Items) == 0 {
						a.printf("No join token yet: synaxis join-token create\n")
						return
					}
					var rows [][]string
					for _, t := range l.Items {
						uses := "any number"
						if t.Uses > 0 {
							uses = fmt.Sprintf("%d of %d", t.Used, t.Uses)
						}
						rows = append(
							rows,
							[]string{t.Id, string(t.State), uses, when(&t.ExpiresAt), tokenFor(t), labels(t.Labels)},
						)
					}
					a.table([]string{"id", "state", "used", "expires", "for", "labels"}, rows, 5)
				},
			)
		},
	}
	revoke := &cobra.Command{
		Use: "revoke ID", Short: "End a token; hosts that have joined by it stay", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.complete(func(cmd *cobra.Command, c *contract.Client) []string {
			l, _, _ := answer[contract.JoinTokenList](c.ListJoinTokens(cmd.Context()))
			return names(l.Items, func(t contract.JoinToken) string { return t.Id })
		}),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if _, _, err := answer[struct{}](c.RevokeJoinToken(cmd.Context(), args[0])); err != nil {
				return err
			}
			return a.showValue(
				map[string]string{"id": args[0], "state": "revoked"},
				func() { a.printf("Join token %s is revoked\n", args[0]) },
			)
		},
	}
	cmd.AddCommand(create, list, revoke)
	return cmd
}

// tokenFor tells which hosts may join by a token.
func tokenFor(t contract.JoinToken) string {
	switch {
	case t.Host != nil:
		return *t.Host
	case t.Listed:
		return "new and listed hosts"
	}
	return "new hosts"
}

// pairs reads KEY=VALUE arguments.
func pairs(list []string) (map[string]string, error) {
	m := map[string]string{}
	for _, s := range list {
		k, v, ok := strings.Cut(s, "=")
		if !ok || k == "" {
			return nil, usagef("%q: expected KEY=VALUE", s)
		}
		m[k] = v
	}
	return m, nil
}

// complete offers names from the service for the first argument.
func (a *app) complete(
	get func(*cobra.Command, *contract.Client) []string,
) func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return func(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
		if len(args) > 0 {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		c, err := a.client()
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		return get(cmd, c), cobra.ShellCompDirectiveNoFileComp
	}
}

func names[T any](items []T, name func(T) string) []string {
	var out []string
	for _, i := range items {
		out = append(out, name(i))
	}
	return out
}
