package health

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"
)

// Trouble is what is wrong with one host, or with one source or destination on it.
type Trouble struct {
	Host, Site  string
	Source      string // "" for the host itself, or for a destination
	Destination string // that holds the source, or that is meant
	Revision    int    // of the config, where that is refused
	Verdict     Verdict
	Answer      Code          // of the destination that holds it
	Oldest      time.Time     // when the oldest record was written that waits; zero for none
	FullIn      time.Duration // after which the buffer is full; 0 for never
}

// Cause is what is wrong, once for all hosts and sources that have it.
type Cause struct {
	ID         string // the same for the same cause
	State      State
	Code       Code
	Kind, Name string // host, source or destination, and which; the name is "" where they are several
	Reason     string // of one of them
	Todo       string
	Since      time.Time // when it began, on the first of them; zero for not known
	Hosts      []string
	Sources    []string
	Sites      []string
	Oldest     time.Time
	FullIn     time.Duration // of the buffer that is full first
}

// numeral is what differs between hosts that have the same trouble.
var numeral = regexp.MustCompile(`[0-9]+`)

// key tells what two troubles of one cause have in common, and of what kind that is.
func (t Trouble) key() (key, kind, name string) {
	alike := func(s string) string {
		return numeral.ReplaceAllString(strings.ReplaceAll(s, t.Host, "${host.name}"), "#")
	}
	switch code := t.Verdict.Code; {
	case t.Destination != "":
		answer := t.Answer
		if answer == "" {
			answer = code
		}
		return fmt.Sprint("destination ", t.Destination, " ", answer), "destination", t.Destination
	case t.Source == "" && code == AgentAway:
		return fmt.Sprint("away ", t.Site), "host", ""
	case t.Source == "":
		return fmt.Sprint("host ", code, " ", t.Revision, " ", alike(t.Verdict.Reason)), "host", ""
	case code == Silent || code == TooFewRecords || code == FallsBehind || code == ReadsTooFew ||
		code == StampsWithoutZone || code == FieldSeldomFilled || code == MessagesMissed:
		return fmt.Sprint("source ", t.Source, " ", code), "source", t.Source
	}
	return fmt.Sprint("source ", t.Source, " ", t.Verdict.Code, " ", alike(t.Verdict.Reason)), "source", t.Source
}

// Group brings troubles together by cause: what should be looked at first comes first, and of that the newest.
func Group(list []Trouble) []Cause {
	list = slices.Clone(list)
	slices.SortStableFunc(list, func(a, b Trouble) int {
		return cmp.Or(strings.Compare(a.Host, b.Host), strings.Compare(a.Source, b.Source))
	})
	by := map[string]*Cause{}
	told := map[*Cause]string{} // the host of which its reason tells
	own := map[*Cause]bool{}    // hosts of it tell of themselves
	var order []*Cause
	for _, t := range list {
		key, kind, name := t.key()
		c := by[key]
		if c == nil {
			sum := sha256.Sum256([]byte(key))
			c = &Cause{ID: hex.EncodeToString(sum[:8]), State: t.Verdict.State, Code: t.Verdict.Code, Kind: kind,
				Name: name, Reason: t.Verdict.Reason, Todo: t.Verdict.Todo}
			if kind == "destination" && t.Answer != "" {
				c.Code = t.Answer
			}
			by[key] = c
			order = append(order, c)
			told[c] = t.Host
		}
		if Worse(t.Verdict.State, c.State) {
			c.State, c.Reason, c.Todo, told[c] = t.Verdict.State, t.Verdict.Reason, t.Verdict.Todo, t.Host
		}
		own[c] = own[c] || t.Host != "" && t.Host != told[c] && strings.Contains(t.Verdict.Reason, t.Host)
		if s := t.Verdict.Since; !s.IsZero() && (c.Since.IsZero() || s.Before(c.Since)) {
			c.Since = s
		}
		if !t.Oldest.IsZero() && (c.Oldest.IsZero() || t.Oldest.Before(c.Oldest)) {
			c.Oldest = t.Oldest
		}
		if t.FullIn > 0 && (c.FullIn == 0 || t.FullIn < c.FullIn) {
			c.FullIn = t.FullIn
		}
		c.Hosts, c.Sources, c.Sites = add(c.Hosts, t.Host), add(c.Sources, t.Source), add(c.Sites, t.Site)
	}
	out := make([]Cause, 0, len(order))
	for _, c := range order {
		if own[c] && told[c] != "" { // what they have in common
			c.Reason = strings.ReplaceAll(c.Reason, told[c], "${host.name}")
		}
		out = append(out, *c)
	}
	slices.SortStableFunc(out, func(a, b Cause) int {
		return cmp.Or(cmp.Compare(rank[b.State], rank[a.State]), b.Since.Compare(a.Since),
			cmp.Compare(len(b.Hosts), len(a.Hosts)), strings.Compare(a.ID, b.ID))
	})
	return out
}

// add puts a text into a list in which it is not yet, in its order.
func add(list []string, s string) []string {
	if s == "" {
		return list
	}
	if i, found := slices.BinarySearch(list, s); !found {
		list = slices.Insert(list, i, s)
	}
	return list
}

// Where tells on which hosts it is, in words.
func (c Cause) Where() string {
	switch {
	case len(c.Hosts) == 0:
		return ""
	case len(c.Hosts) == 1:
		return c.Hosts[0]
	case len(c.Sites) == 1:
		return fmt.Sprintf("%s of %s", count(len(c.Hosts), "host"), c.Sites[0])
	case len(c.Sites) > 1:
		return fmt.Sprintf("%s of %s", count(len(c.Hosts), "host"), count(len(c.Sites), "site"))
	}
	return count(len(c.Hosts), "host")
}

// Words tell the cause in a line.
func (c Cause) Words(now time.Time) string {
	var b strings.Builder
	switch {
	case c.Kind == "destination":
		reason := strings.TrimPrefix(strings.TrimPrefix(c.Reason, "held by "), c.Name+": ")
		fmt.Fprintf(&b, "%s: %s", c.Name, reason)
	case c.Kind == "source":
		fmt.Fprintf(&b, "%s: %s", c.Name, c.Reason)
	case c.Code == AgentAway && len(c.Hosts) > 1:
		fmt.Fprintf(&b, "%d agents are not connected", len(c.Hosts))
	default:
		b.WriteString(c.Reason)
	}
	if n := len(c.Sources); c.Kind == "destination" && n > 0 {
		does := "wait"
		if Harmless(c.Code) && c.Code != BufferFilling {
			does = "send there"
		}
		if n == 1 {
			does = strings.Replace(strings.Replace(does, "wait", "waits", 1), "send", "sends", 1)
		}
		fmt.Fprintf(&b, "; %s %s", count(n, "source"), does)
	}
	if !c.Oldest.IsZero() && now.Sub(c.Oldest) >= time.Minute {
		fmt.Fprintf(&b, "; the oldest record that waits is %s old", spell(now.Sub(c.Oldest)))
	}
	if c.FullIn > 0 && !strings.Contains(c.Reason, "full in") {
		fmt.Fprintf(&b, "; a buffer is full in %s", spell(c.FullIn))
	}
	return b.String()
}

func count(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}
