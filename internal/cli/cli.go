// Package cli is the operator's command line: synaxis NOUN VERB.
package cli

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"synaxis/internal/contract"
	"synaxis/internal/core/wire"
	"synaxis/internal/version"
)

// Exit codes, for scripts.
const (
	exitFailed     = 1
	exitUsage      = 2
	exitFindings   = 3
	exitStopped    = 4
	exitNotAllowed = 5
	exitTimedOut   = 6
)

// coded is an error with its exit code. A silent one has said everything already.
type coded struct {
	code   int
	err    error
	silent bool
}

func (c coded) Error() string { return c.err.Error() }
func (c coded) Unwrap() error { return c.err }

// app is what all commands share.
type app struct {
	url, token, pin string
	output          string
	out, errOut     io.Writer
	in              io.Reader
}

// Run executes the command line and returns the exit code.
func Run(ctx context.Context, args []string, in io.Reader, out, errOut io.Writer) int {
	out, errOut = &printable{to: out}, &printable{to: errOut}
	a := &app{in: in, out: out, errOut: errOut}
	root := a.root()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errOut)
	err := root.ExecuteContext(ctx)
	if err == nil {
		return 0
	}
	var c coded
	if errors.As(err, &c) {
		if !c.silent {
			fmt.Fprintln(errOut, "synaxis:", err)
		}
		return c.code
	}
	fmt.Fprintln(errOut, "synaxis:", err)
	return exitFailed
}

// tellUsage makes wrong usage of a command, and of those below it, known as such: of its flags, its arguments, and
// flags that must be given.
func tellUsage(cmd *cobra.Command) {
	usage := func(err error) error {
		if err == nil {
			return nil
		}
		return coded{code: exitUsage, err: err}
	}
	cmd.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return usage(err) })
	if args := cmd.Args; args != nil {
		cmd.Args = func(cmd *cobra.Command, given []string) error { return usage(args(cmd, given)) }
	}
	before := cmd.PreRunE
	cmd.PreRunE = func(cmd *cobra.Command, given []string) error {
		if err := errors.Join(cmd.ValidateRequiredFlags(), cmd.ValidateFlagGroups()); err != nil {
			return usage(err)
		}
		if before != nil {
			return before(cmd, given)
		}
		return nil
	}
	for _, sub := range cmd.Commands() {
		tellUsage(sub)
	}
}

func usagef(format string, args ...any) error {
	return coded{code: exitUsage, err: fmt.Errorf(format, args...)}
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:  "synaxis",
		Args: cobra.ArbitraryArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return cmd.Help()
			}
			hint := "; synaxis --help lists what there is"
			if near := cmd.SuggestionsFor(args[0]); len(near) > 0 {
				hint = fmt.Sprintf("; did you mean %s?", strings.Join(near, " or "))
			}
			return usagef("unknown command %q for \"synaxis\"%s", args[0], hint)
		},
		Short: "Runs log collection on a whole fleet of hosts from one desk",
		Long: `Runs log collection on a whole fleet of hosts from one desk.

Definitions are YAML files. They go to the service as a draft, are checked against the hosts that really exist,
published as a revision, and rolled out:

  synaxis draft load ./catalogue
  synaxis draft diff 1
  synaxis draft publish 1 -m "collect the gates"
  synaxis rollout start --watch

Exit codes: 0 done, 1 failed, 2 wrong usage, 3 findings of severity error, 4 rollout stopped,
5 not reachable or not allowed, 6 timed out.`,
		Version: version.String(), SilenceUsage: true, SilenceErrors: true,
		PersistentPreRunE: func(*cobra.Command, []string) error {
			switch a.output {
			case "table", "json", "yaml":
				return nil
			}
			return usagef("-o %s: expected table, json or yaml", a.output)
		},
	}
	f := root.PersistentFlags()
	f.StringVar(&a.url, "url", os.Getenv("SYNAXIS_URL"), "address of the service (or SYNAXIS_URL, or synaxis login)")
	f.StringVar(
		&a.pin,
		"pin",
		os.Getenv("SYNAXIS_PIN"),
		"fingerprint of the service's authority, sha256:… (or SYNAXIS_PIN)",
	)
	f.StringVarP(&a.output, "output", "o", "table", "table, json or yaml")
	a.token = os.Getenv("SYNAXIS_TOKEN")
	_ = root.RegisterFlagCompletionFunc(
		"output",
		cobra.FixedCompletions([]string{"table", "json", "yaml"}, cobra.ShellCompDirectiveNoFileComp),
	)
	root.AddCommand(
		a.loginCmd(),
		a.statusCmd(), a.whyCmd(), a.waitCmd(),
		a.joinTokenCmd(),
		a.hostCmd(),
		a.checkCmd(),
		a.draftCmd(),
		a.catalogueCmd(),
		a.revisionCmd(),
		a.rolloutCmd(),
		a.formatCmd(),
		a.maskCmd(),
		a.sourceCmd(), a.peekCmd(), a.probeCmd(),
		a.preflightCmd(), a.trialCmd(),
		a.destinationCmd(),
		a.rejectCmd(), a.unclaimedCmd(), a.senderCmd(),
		a.booksCmd(), a.numbersCmd(), a.flowCmd(), a.costCmd(), a.expectCmd(),
		a.secretCmd(),
		a.newcomerCmd(), a.noticeCmd(), a.maintenanceCmd(),
		a.auditCmd(),
		a.referenceCmd(),
	)
	root.SuggestionsMinimumDistance = 2
	tellUsage(root)
	return root
}

// group is a noun; alone it shows its verbs.
func group(use, short string) *cobra.Command {
	return &cobra.Command{Use: use, Short: short, RunE: func(cmd *cobra.Command, args []string) error {
		if len(args) > 0 {
			return usagef(
				"unknown command %q for %q; synaxis %s --help lists what there is",
				args[0],
				"synaxis "+use,
				use,
			)
		}
		return cmd.Help()
	}}
}

// login is what synaxis login keeps.
type login struct {
	URL   string `json:"url"`
	Token string `json:"token"`
	Pin   string `json:"pin,omitempty"`
}

func loginPath() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", err
	}
	return filepath.Join(dir, "synaxis", "login.json"), nil
}

// client connects to the service: flags, then the environment, then what login kept.
func (a *app) client() (*contract.Client, error) {
	if a.url == "" || a.token == "" {
		path, err := loginPath()
		if err == nil {
			if text, rerr := os.ReadFile(path); rerr == nil {
				var l login
				if err := json.Unmarshal(text, &l); err != nil {
					return nil, fmt.Errorf("%s is damaged: %w; run synaxis login again", path, err)
				}
				if a.url == "" || a.url == l.URL {
					a.url = l.URL
					if a.token == "" {
						a.token = l.Token
					}
					if a.pin == "" {
						a.pin = l.Pin
					}
				}
			}
		}
	}
	if a.url == "" {
		return nil, coded{
			code: exitNotAllowed,
			err:  errors.New("no service is known; run synaxis login URL, or set SYNAXIS_URL and SYNAXIS_TOKEN"),
		}
	}
	if a.token == "" {
		return nil, coded{
			code: exitNotAllowed,
			err:  errors.New("no API token is known; run synaxis login URL, or set SYNAXIS_TOKEN"),
		}
	}
	return newClient(a.url, a.token, a.pin)
}

// answerWithin is how long a call may take; a stream ends by itself.
const answerWithin = 2 * time.Minute

func newClient(address, token, pin string) (*contract.Client, error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" {
		return nil, usagef("%q is not an address such as https://desk.example:7800", address)
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	if pin != "" {
		if err := wire.CheckPin(pin); err != nil {
			return nil, coded{code: exitUsage, err: err}
		}
		transport.TLSClientConfig = wire.PinnedTLS(pin, u.Hostname())
	}
	return contract.NewClient(
		strings.TrimSuffix(address, "/")+"/api/v1",
		contract.WithHTTPClient(&http.Client{Transport: transport, Timeout: answerWithin}),
		contract.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
			r.Header.Set("Authorization", "Bearer "+token)
			r.Header.Set("User-Agent", "synaxis/"+version.String())
			return nil
		}),
	)
}

// answer reads a response: its body as it came and decoded, or an error with the fitting exit code.
func answer[T any](resp *http.Response, err error) (v T, raw []byte, _ error) {
	if err != nil {
		return v, nil, unreachable(err)
	}
	defer resp.Body.Close()
	raw, err = io.ReadAll(resp.Body)
	if err != nil {
		return v, nil, unreachable(err)
	}
	if resp.StatusCode/100 != 2 {
		return v, raw, refusal(resp, raw)
	}
	if len(raw) > 0 {
		if err := json.Unmarshal(raw, &v); err != nil {
			return v, raw, fmt.Errorf(
				"the service answered something else than expected: %w; is it of another version?",
				err,
			)
		}
	}
	return v, raw, nil
}

// ask makes one call and shows its answer: as JSON or YAML, or as what table prints.
func ask[T any](a *app, call func(c *contract.Client) (*http.Response, error), table func(v T)) error {
	c, err := a.client()
	if err != nil {
		return err
	}
	v, raw, err := answer[T](call(c))
	if err != nil {
		return err
	}
	return a.show(raw, func() { table(v) })
}

func unreachable(err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		if u.Timeout() {
			return coded{code: exitTimedOut, err: fmt.Errorf("the service at %s did not answer in time", u.URL)}
		}
		err = u.Err
	}
	var verify *tls.CertificateVerificationError
	if errors.As(err, &verify) {
		err = fmt.Errorf(
			"%w; if it is the service's own certificate, use --pin with the fingerprint that it printed when it "+
				"started (sha256:…)",
			err,
		)
	}
	return coded{code: exitNotAllowed, err: fmt.Errorf("the service cannot be reached: %w", err)}
}

// problemError is an answer in the form of RFC 9457.
type problemError struct{ contract.Problem }

func (p problemError) Error() string { return p.Detail }

func refusal(resp *http.Response, raw []byte) error {
	var p contract.Problem
	if json.Unmarshal(raw, &p) != nil || p.Detail == "" {
		p.Detail = "the service answered " + resp.Status
	}
	c := coded{code: exitFailed, err: problemError{p}}
	switch {
	case resp.StatusCode == http.StatusUnauthorized, resp.StatusCode == http.StatusForbidden:
		c.code = exitNotAllowed
	case p.Findings != nil:
		c.code = exitFindings
	}
	return c
}
