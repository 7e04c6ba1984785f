package check

import (
	"fmt"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/delivery"
	"synaxis/internal/core/schema"
)

var (
	secretHeader = regexp.MustCompile(
		`(?i)^(authorization|proxy-authorization|cookie|.*(api|access|auth)[-_]?(key|token).*|.*secret.*|.*password.*)$`,
	)
	secretSetting = regexp.MustCompile(`(?i)(password|passwd|secret|token|api_?key|private_?key)`)
)

// secretsInClear finds what should be a secret and stands in the catalogue for everybody to read.
func (c *checker) secretsInClear(d *catalogue.Definition) {
	found := func(path []string, what string) {
		c.add(
			d,
			path,
			"secret-in-clear",
			what+" stands here in the clear, and in every revision that has it",
			"synaxis secret set NAME, and write ${secret.NAME} here; then change it where it is checked, since it "+
				"was seen",
		)
	}
	d.Schema().Walk(d.Body(), func(p schema.Place) {
		last := p.Path[len(p.Path)-1]
		switch {
		case p.Value.Secrets && last != "ca" && last != "certificate" && p.Text != "" && !strings.Contains(p.Text,
			"${"):
			found(p.Path, strings.Join(p.Path, "."))
		case len(p.Path) > 1 && p.Path[len(p.Path)-2] == "headers" && secretHeader.MatchString(last) &&
			!strings.Contains(p.Text, "${"):
			found(p.Path, "the header "+last)
		case last == "url":
			if u, err := url.Parse(p.Text); err == nil && u.User != nil {
				if _, has := u.User.Password(); has {
					found(p.Path, "the password in the address")
				}
			}
		case d.Settings != nil && p.Path[0] == "values" && secretSetting.MatchString(last):
			found(p.Path, "the setting "+last)
		}
	})
}

var portRef, anyRef = regexp.MustCompile(`:\$\{[^}]*\}`), regexp.MustCompile(`\$\{[^}]*\}`)

// loopback tells whether an address in a URL or a listener stays on the host.
func loopback(host string) bool {
	if host == "localhost" {
		return true
	}
	ip, err := netip.ParseAddr(strings.Trim(host, "[]"))
	return err == nil && ip.IsLoopback()
}

// withoutTLS finds secrets that would travel in the clear, and certificates that nobody looks at.
func (c *checker) withoutTLS(d *catalogue.Definition) {
	spec := d.Destination
	host, clear := "", false
	switch spec.Kind {
	case delivery.OTLP, delivery.HTTP:
		for _, address := range spec.URLs {
			u, err := url.Parse(anyRef.ReplaceAllString(portRef.ReplaceAllString(address, ""), "x"))
			if err == nil && !(clear && !loopback(host)) { // the worst of several
				host, clear = u.Hostname(), u.Scheme == "http"
			}
		}
	case delivery.Syslog:
		host, _, _ = strings.Cut(spec.Address, ":")
		clear = spec.Transport != "tls"
	}
	refs, _ := d.Refs()
	for ref, path := range refs {
		if ref.Space == "secret" && clear && !loopback(host) && !slices.Contains(path, "tls") {
			c.add(
				d,
				path,
				"secret-without-tls",
				fmt.Sprintf("%s would travel to %s without TLS, for anybody on the way to read", ref, host),
				"use https or tls",
			)
		}
	}
	if spec.TLS.NoVerify {
		c.add(
			d,
			[]string{"tls", "verify"},
			"verification-off",
			"the destination's certificate is not verified: whoever answers at its address gets the records",
			"give its authority with tls: {ca: \"${secret.NAME}\"} and remove verify: false",
		)
	}
}

// listenerWithoutTLS finds tokens that senders would send in the clear.
func (c *checker) listenerWithoutTLS(d *catalogue.Definition) {
	l := d.Source.Listen
	if l == nil || l.Token == "" || l.Transport == "tls" || loopback(l.Address) {
		return
	}
	c.add(
		d,
		[]string{"read", l.Kind, "token"},
		"secret-without-tls",
		fmt.Sprintf("senders would send the token to %s without TLS, for anybody on the way to read", l.Address),
		"use transport: tls, or listen on 127.0.0.1",
	)
}
