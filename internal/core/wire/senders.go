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

// SenderOf is the name of a number of a sender with what it is told apart by beside: a destination, a reason or a
// mask.
func SenderOf(with, sender string) string { return with + "/" + sender }

// CutSenderOf parts it.
func CutSenderOf(name string) (with, sender string) {
	with, sender, _ = strings.Cut(name, "/")
	return with, sender
}

// TakeSendersAt takes what became of senders' records at a destination from other numbers of the same source.
func (n *Numbers) TakeSendersAt(destination string, from Numbers) {
	for _, p := range Parts {
		if !p.AtDestinations() {
			continue
		}
		for name, v := range *p.Of(&from) {
			if to, _ := CutSenderOf(name); to == destination {
				put(p.Of(n), name, v)
			}
		}
	}
}

// SendersTold and SenderBytesTold bound how many numbers of senders an agent tells in one report, and how much room
// they take about: they leave some of MaxElements and MaxMetrics to all else.
const (
	SendersTold     = 6000
	SenderBytesTold = MaxMetrics * 3 / 4
)

// pointSize is how many bytes a point of a sender takes about, beside its names.
const pointSize = 80

// SomeSenders leaves in numbers, which nobody else has, what one report has room for: the parts of the senders that
// come next behind one that was told before, and begins anew behind the last. It answers the last that it left, or ""
// where all have room. What is not told counts as it was told before.
func SomeSenders(all map[string]Numbers, behind string) (last string) {
	type size struct{ numbers, bytes int }
	of, sum := map[string]size{}, size{}
	for source, n := range all {
		for _, p := range Parts {
			if !p.Senders() {
				continue
			}
			for name := range *p.Of(&n) {
				key := source + " " + p.sender(name)
				s := of[key]
				s.numbers++
				s.bytes += pointSize + len(source) + len(name)
				of[key] = s
				sum.numbers++
				sum.bytes += pointSize + len(source) + len(name)
			}
		}
	}
	if sum.numbers <= SendersTold && sum.bytes <= SenderBytesTold {
		return ""
	}
	names := slices.Sorted(maps.Keys(of))
	from, found := slices.BinarySearch(names, behind)
	if found {
		from++
	}
	told := map[string]bool{}
	sum = size{}
	for i := range names {
		name := names[(from+i)%len(names)]
		sum.numbers += of[name].numbers
		sum.bytes += of[name].bytes
		if i > 0 && (sum.numbers > SendersTold || sum.bytes > SenderBytesTold) {
			break
		}
		last = name
		told[name] = true
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
	if p.With != "" {
		_, name = CutSenderOf(name)
	}
	return name
}
