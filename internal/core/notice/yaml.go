package notice

import (
	"fmt"
	"net/mail"
	"net/url"
	"time"

	"synaxis/internal/core/expect"
	"synaxis/internal/core/expr"
	"synaxis/internal/core/schema"
	"synaxis/internal/core/yamldoc"
)

var secret = &schema.Value{Type: schema.Text, Refs: true, Secrets: true}

// Keys are what a notice definition may hold.
var Keys = []schema.Key{
	{
		Name:  "when",
		Need:  true,
		Hint:  `a condition over what is wrong, such as state == "failing"`,
		Value: &schema.Value{Type: schema.Condition, Check: checkWhen, Code: "condition-invalid"},
		Doc: "Of what is wrong, what is told: a condition over state, code, reason, host, source, destination, labels of " +
			"the host, and over seconds: age (since when it is wrong), oldest (of the records that wait) and full_in (until " +
			"a buffer is full).",
		Example: `when: state == "failing" && labels.site == "northpier"`,
	},
	{
		Name: "for", Value: schema.ADuration, Default: "0s",
		Doc: "How long it must hold before somebody is told.", Example: "for: 5m",
	},
	{
		Name: "repeat", Value: schema.ADuration,
		Doc:     "After which it is told again, as long as nobody has acknowledged it; without it never.",
		Example: "repeat: 4h",
	},
	{
		Name: "quiet", Value: schema.Checked("schema", checkQuiet),
		Doc:     "Hours in which nothing is told; what is due then is told afterwards.",
		Example: `quiet: "22:00-06:00"`,
	},
	{
		Name: "zone", Value: schema.Checked("schema", checkZone), Default: "UTC",
		Doc: "The zone of the quiet hours.", Example: "zone: Europe/Lisbon",
	},
	{
		Name: "to", Need: true, Value: schema.ListOf(wayValue), Hint: "a list of webhook, mail or syslog",
		Doc:     "Who is told, and how.",
		Example: `to: [{webhook: {url: "https://desk.whimbrel.example/in", secret: "${secret.hook_key}"}}]`,
	},
}

var wayValue = schema.Obj(
	"a way",
	schema.Key{Name: "webhook", Value: schema.Obj("webhook",
		schema.Key{Name: "url", Need: true, Value: schema.Checked("schema", checkURL),
			Doc: "The address that takes JSON by POST."},
		schema.Key{Name: "secret", Value: secret,
			Doc:     "What messages are signed with: HMAC-SHA256 over the time and the body.",
			Example: `secret: "${secret.hook_key}"`}),
		Doc: "JSON to an address."},
	schema.Key{Name: "mail", Value: schema.Obj("mail",
		schema.Key{Name: "server", Need: true, Value: schema.Checked("schema", checkAddress),
			Doc: "HOST:PORT of a server that takes mail by SMTP."},
		schema.Key{Name: "from", Need: true, Value: schema.Checked("schema", checkMail), Doc: "The sender."},
		schema.Key{Name: "to", Need: true, Value: schema.ListOf(schema.Checked("schema", checkMail)),
			Doc: "Who gets it."},
		schema.Key{Name: "user", Value: schema.Plain, Doc: "Who signs in at the server."},
		schema.Key{Name: "password", Value: secret, Doc: "With which password.",
			Example: `password: "${secret.mail_password}"`}),
		Doc: "Mail."},
	schema.Key{Name: "syslog", Value: schema.Obj("syslog",
		schema.Key{Name: "address", Need: true, Value: schema.Checked("schema", checkAddress), Doc: "HOST:PORT."},
		schema.Key{Name: "transport", Value: schema.Words("udp", "tcp"), Default: "udp", Doc: "How it gets there."}),
		Doc: "A line by RFC 5424."},
).With("webhook", "mail", "syslog")

func checkWhen(s string) error {
	_, err := expr.ParseTrouble(s)
	return err
}

func checkQuiet(s string) error {
	_, err := expect.ParseHours(s)
	return err
}

func checkZone(s string) error {
	if _, err := time.LoadLocation(s); err != nil || s == "Local" {
		return fmt.Errorf("%q is no zone such as Europe/Lisbon", s)
	}
	return nil
}

func checkURL(s string) error {
	u, err := url.Parse(s)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.User != nil {
		return fmt.Errorf("%q is no address such as https://desk.whimbrel.example/in", s)
	}
	return nil
}

func checkAddress(s string) error {
	if u, err := url.Parse("smtp://" + s); err != nil || u.Host != s || u.Hostname() == "" || u.Port() == "" {
		return fmt.Errorf("%q is no HOST:PORT", s)
	}
	return nil
}

func checkMail(s string) error {
	if a, err := mail.ParseAddress(s); err != nil || a.Address != s {
		return fmt.Errorf("%q is no mail address such as desk@whimbrel.example", s)
	}
	return nil
}

// Decode takes a rule out of a definition that Keys found good.
func Decode(n *yamldoc.Node, name string) Rule {
	r := Rule{Name: name, For: n.Get("for").Duration(0), Repeat: n.Get("repeat").Duration(0), Zone: time.UTC}
	r.When, _ = expr.ParseTrouble(n.Get("when").Text())
	r.Quiet, _ = expect.ParseHours(n.Get("quiet").Text())
	if z, err := time.LoadLocation(n.Get("zone").Text()); err == nil {
		r.Zone = z
	}
	list := n.Get("to")
	if list == nil {
		return r
	}
	for _, x := range list.Items {
		switch {
		case x.Get("webhook") != nil:
			w := x.Get("webhook")
			r.To = append(r.To, Way{Webhook: &Webhook{w.Get("url").Text(), w.Get("secret").Text()}})
		case x.Get("mail") != nil:
			m := x.Get("mail")
			r.To = append(r.To, Way{Mail: &Mail{m.Get("server").Text(), m.Get("from").Text(), m.Get("to").Texts(),
				m.Get("user").Text(), m.Get("password").Text()}})
		case x.Get("syslog") != nil:
			s := x.Get("syslog")
			w := &Syslog{s.Get("address").Text(), s.Get("transport").Text()}
			if w.Transport == "" {
				w.Transport = "udp"
			}
			r.To = append(r.To, Way{Syslog: w})
		}
	}
	return r
}
