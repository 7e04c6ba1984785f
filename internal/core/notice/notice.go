// Package notice decides who is told what of what is wrong, and when. It is pure: what was told before is given, and
// what is to be told is answered.
package notice

import (
	"slices"
	"strings"
	"time"

	"synaxis/internal/core/expect"
	"synaxis/internal/core/expr"
	"synaxis/internal/core/health"
)

// Rule is a notice as its definition says it.
type Rule struct {
	Name   string
	When   *expr.TroubleCondition
	For    time.Duration // how long it must hold before somebody is told
	Repeat time.Duration // after which it is told again, while nobody has acknowledged it; 0 for never
	Quiet  expect.Hours  // in which nothing is told; what is due then is told afterwards
	Zone   *time.Location
	To     []Way
}

// Way is one way to tell. One of the three is set.
type Way struct {
	Webhook *Webhook
	Mail    *Mail
	Syslog  *Syslog
}

// Webhook is an address that takes JSON by POST. Secret signs it, where there is one.
type Webhook struct{ URL, Secret string }

// Mail is a server that takes mail by SMTP.
type Mail struct {
	Server, From   string // server is HOST:PORT
	To             []string
	User, Password string // "" for none
}

// Syslog is a receiver of syslog, by RFC 5424. Transport is udp or tcp.
type Syslog struct{ Address, Transport string }

// String names a way without what is secret.
func (w Way) String() string {
	switch {
	case w.Webhook != nil:
		return "webhook " + w.Webhook.URL
	case w.Mail != nil:
		return "mail to " + strings.Join(w.Mail.To, ", ")
	case w.Syslog != nil:
		return "syslog " + w.Syslog.Address
	}
	return "nobody"
}

// Alert is what is known of one cause under one notice.
type Alert struct {
	Since        time.Time        `json:"since"`         // when the condition began to hold
	Gone         time.Time        `json:"gone,omitzero"` // since when it does not hold; zero while it does
	Told         time.Time        `json:"told,omitzero"` // when it was told last; zero for never
	Item         Item             `json:"item"`          // as it was last
	Acknowledged *Acknowledgement `json:"acknowledged,omitempty"`
}

// Acknowledgement is who has said to look after something, and with which word.
type Acknowledgement struct {
	By   string    `json:"by"`
	Word string    `json:"word,omitempty"`
	At   time.Time `json:"at"`
}

// What is said of a cause.
const (
	Begins = "begins"
	Still  = "still"
	Ends   = "ends"
)

// Item is one cause in a message.
type Item struct {
	Cause string    `json:"cause"`
	What  string    `json:"what"` // begins, still, ends
	State string    `json:"state"`
	Code  string    `json:"code"`
	Words string    `json:"words"`
	Where string    `json:"where,omitempty"`
	Todo  string    `json:"todo,omitempty"`
	Hosts int       `json:"hosts"`
	Since time.Time `json:"since"`
}

// Message is what is told at once. A notice tells at most one a minute; what comes meanwhile goes into the next.
type Message struct {
	Notice string    `json:"notice"`
	At     time.Time `json:"at"`
	Items  []Item    `json:"items"`
}

// Times of notices.
const (
	apart = time.Minute // between two messages of a notice
	gone  = time.Minute // for which a cause must be gone before that is told
	// most bounds the causes in one message; the others are counted
	most = 20
)

// Matching groups the troubles that a rule is about by their causes.
func (r *Rule) Matching(list []health.Trouble, labels func(host string) map[string]string,
	now time.Time) []health.Cause {
	var met []health.Trouble
	for _, t := range list {
		of := expr.Trouble{Labels: labels(t.Host), Texts: map[string]string{"state": string(t.Verdict.State),
			"code": string(t.Verdict.Code), "reason": t.Verdict.Reason, "host": t.Host, "source": t.Source,
			"destination": t.Destination}, Seconds: map[string]float64{"full_in": t.FullIn.Seconds()}}
		if !t.Verdict.Since.IsZero() {
			of.Seconds["age"] = now.Sub(t.Verdict.Since).Seconds()
		}
		if !t.Oldest.IsZero() {
			of.Seconds["oldest"] = now.Sub(t.Oldest).Seconds()
		}
		if t.Answer != "" && t.Verdict.Code == health.HeldBy {
			of.Texts["code"] = string(t.Answer)
		}
		if r.When.Met(&of) {
			met = append(met, t)
		}
	}
	return health.Group(met)
}

// Decide tells what becomes of the alerts of a rule, and what is to be told now. spoken is when the rule told
// something last. The alerts that are given are left as they are.
func (r *Rule) Decide(old map[string]Alert, causes []health.Cause, spoken, now time.Time) (
	next map[string]Alert, m *Message,
) {
	next = make(map[string]Alert, len(old))
	for id, a := range old {
		next[id] = a
	}
	there := map[string]bool{}
	for _, c := range causes {
		there[c.ID] = true
		a, known := next[c.ID]
		if !known {
			a.Since = now
		}
		a.Gone = time.Time{}
		a.Item = Item{Cause: c.ID, State: string(c.State), Code: string(c.Code), Words: c.Words(now), Where: c.Where(),
			Todo: c.Todo, Hosts: len(c.Hosts), Since: a.Since.UTC()}
		next[c.ID] = a
	}
	for id, a := range next {
		if there[id] {
			continue
		}
		if a.Gone.IsZero() {
			a.Gone = now
			next[id] = a
		}
		if a.Told.IsZero() { // nobody has heard of it
			delete(next, id)
		}
	}
	if now.Sub(spoken) < apart || r.quiet(now) {
		return next, nil
	}
	var items []Item
	for _, id := range sorted(next) {
		a := next[id]
		if len(items) == most {
			break
		}
		switch {
		case !a.Gone.IsZero():
			if now.Sub(a.Gone) < gone {
				continue
			}
			a.Item.What = Ends
			delete(next, id)
		case a.Told.IsZero():
			if now.Sub(a.Since) < r.For {
				continue
			}
			a.Item.What, a.Told = Begins, now
			next[id] = a
		case r.Repeat > 0 && a.Acknowledged == nil && now.Sub(a.Told) >= r.Repeat:
			a.Item.What, a.Told = Still, now
			next[id] = a
		default:
			continue
		}
		items = append(items, a.Item)
	}
	if len(items) == 0 {
		return next, nil
	}
	return next, &Message{Notice: r.Name, At: now.UTC(), Items: items}
}

func (r *Rule) quiet(now time.Time) bool {
	return r.Quiet.From != r.Quiet.To && expect.Expectation{During: r.Quiet, Zone: r.Zone}.In(now)
}

func sorted(all map[string]Alert) []string {
	out := make([]string, 0, len(all))
	for id := range all {
		out = append(out, id)
	}
	slices.SortFunc(out, func(a, b string) int {
		if c := all[a].Since.Compare(all[b].Since); c != 0 {
			return c
		}
		return strings.Compare(a, b)
	})
	return out
}

// Subject is a message in a line.
func (m *Message) Subject() string {
	if len(m.Items) == 0 {
		return m.Notice
	}
	i := m.Items[0]
	words := m.Notice + ": " + word(i.What) + i.Words
	if len(m.Items) > 1 {
		words = m.Notice + ": " + counted(len(m.Items)) + ", first: " + word(i.What) + i.Words
	}
	const longest = 180
	if len(words) > longest {
		words = strings.ToValidUTF8(words[:longest], "") + "…"
	}
	return words
}

func word(what string) string {
	if what == Ends {
		return "over: "
	}
	if what == Still {
		return "still: "
	}
	return ""
}

func counted(n int) string {
	words := []string{"no", "one", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten"}
	if n < len(words) {
		return words[n] + " causes"
	}
	return "many causes"
}

// Text is a message in lines.
func (m *Message) Text() string {
	var b strings.Builder
	for _, i := range m.Items {
		b.WriteString(word(i.What) + i.Words + "\n")
		if i.Where != "" {
			b.WriteString("  on " + i.Where + "\n")
		}
		b.WriteString("  since " + i.Since.UTC().Format("2006-01-02 15:04:05 UTC") + "\n")
		if i.Todo != "" && i.What != Ends {
			b.WriteString("  " + i.Todo + "\n")
		}
	}
	return b.String()
}
