package wire

import (
	"maps"
	"slices"
	"strings"
	"time"
)

// AskSenders is the question by which the desk asks who sends to the listeners of a host. Ask.Source chooses a source;
// without it all are told.
const AskSenders = "senders"

// MaxSenders bounds the senders of one answer.
const MaxSenders = 2000

// Sender is who sends to a listener.
type Sender struct {
	Source   string    `json:"source"`
	Name     string    `json:"name,omitempty"` // "" for one that is in no definition
	Address  string    `json:"address"`
	First    time.Time `json:"first,omitzero"` // zero for one that is expected and was never heard
	Last     time.Time `json:"last,omitzero"`
	Messages int64     `json:"messages"`
	Minute   int64     `json:"minute,omitempty"` // messages of the last minute, about
	Bytes    int64     `json:"bytes"`
	Unparsed int64     `json:"unparsed,omitempty"`
	Missed   int64     `json:"missed,omitempty"` // for which there was no room
	Examples []string  `json:"examples,omitempty"`
	// what format: recognise has taken for it, and which share of its lines that read
	Format string  `json:"format,omitempty"`
	Share  float64 `json:"share,omitempty"`
}

// SenderAt is the name of what became of a sender's records at a destination.
func SenderAt(destination, sender string) string { return destination + "/" + sender }

// CutSenderAt parts it.
func CutSenderAt(name string) (destination, sender string) {
	destination, sender, _ = strings.Cut(name, "/")
	return destination, sender
}

// TakeSendersAt takes what became of senders' records at a destination from other numbers of the same source.
func (n *Numbers) TakeSendersAt(destination string, from Numbers) {
	for _, p := range Parts {
		if !p.AtDestinations {
			continue
		}
		for name, v := range *p.Of(&from) {
			if to, _ := CutSenderAt(name); to == destination {
				put(p.Of(n), name, v)
			}
		}
	}
}

// SendersTold bounds of how many senders an agent tells in one report: with that many, whose records go to up to six
// destinations, it is within MaxMetrics and MaxElements.
const SendersTold = 300

// SomeSenders leaves in numbers, which nobody else has, what one report has room for: the parts of the senders that
// come next behind one that was told before, and begins anew behind the last. It answers the last that it left. What
// is not told counts as it was told before.
func SomeSenders(all map[string]Numbers, behind string) (last string) {
	of := map[string]bool{}
	for source, n := range all {
		for _, p := range Parts {
			for name := range *p.Of(&n) {
				if p.Senders() {
					of[source+" "+p.sender(name)] = true
				}
			}
		}
	}
	if len(of) <= SendersTold {
		return ""
	}
	names := slices.Sorted(maps.Keys(of))
	from, found := slices.BinarySearch(names, behind)
	if found {
		from++
	}
	told := map[string]bool{}
	for i := range SendersTold {
		last = names[(from+i)%len(names)]
		told[last] = true
	}
	for source, n := range all {
		for _, p := range Parts {
			of := p.Of(&n)
			if !p.Senders() {
				continue
			}
			maps.DeleteFunc(*of, func(name string, _ int64) bool { return !told[source+" "+p.sender(name)] })
			if len(*of) == 0 {
				*of = nil
			}
		}
		all[source] = n
	}
	return last
}

// sender is whose a number is, by its name.
func (p Part) sender(name string) string {
	if p.AtDestinations {
		_, name = CutSenderAt(name)
	}
	return name
}
