// Package cost tells what sources cost destinations a day, from what was measured: in bytes before and after the
// steps, in money where a destination has a price, and against budgets; and what a draft would make of it, by its
// trial.
package cost

import (
	"cmp"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"synaxis/internal/core/yamldoc"
)

// Price is what so many bytes cost.
type Price struct {
	Amount   float64
	Currency string
	Bytes    float64
}

var priced = regexp.MustCompile(`^(\d+(?:\.\d+)?) ([A-Z]{3})/(\S+)$`)

// ParsePrice reads a price such as 0.35 EUR/GiB: an amount, a currency by ISO 4217, and a size.
func ParsePrice(text string) (Price, error) {
	m := priced.FindStringSubmatch(text)
	if m == nil {
		return Price{}, fmt.Errorf("%q is no price such as 0.35 EUR/GiB", text)
	}
	amount, err := strconv.ParseFloat(m[1], 64)
	if err != nil || amount > 1e9 {
		return Price{}, fmt.Errorf("%q: %s is no amount", text, m[1])
	}
	size := m[3]
	if size != "" && (size[0] < '0' || size[0] > '9') {
		size = "1" + size
	}
	bytes, err := yamldoc.ParseSize(size)
	if err != nil || bytes <= 0 {
		return Price{}, fmt.Errorf("%q: %s is no size such as GiB", text, m[3])
	}
	return Price{amount, m[2], float64(bytes)}, nil
}

// Of is what so many bytes cost; 0 without a price.
func (p Price) Of(bytes float64) float64 {
	if p.Bytes == 0 {
		return 0
	}
	return bytes / p.Bytes * p.Amount
}

// Measured is what went one way: of a source, or with a destination what of it that one acknowledged.
type Measured struct {
	Source, Destination string
	Records, Bytes      int64
}

// Tried is what the trial of a draft found of a source at a destination: records that were read, and bytes that would
// be sent, by what is in force and by the draft.
type Tried struct {
	Source, Destination string
	NowRead, ThenRead   int64
	Now, Then           int64
}

// Rules are what definitions say.
type Rules struct {
	Prices  map[string]Price              // by destination
	Budgets map[string]float64            // bytes a day, by destination
	Labels  map[string]map[string]string  // of each source
	Limits  map[string]map[string]float64 // bytes a day, by the key and the value of a label
}

// Line is a source, in a day.
type Line struct {
	Source        string
	Records, Read float64 // bytes, before the steps
	To            []To
}

// To is what a destination gets of a source in a day, after the steps. Then is by the draft; it is there with
// Forecast.
type To struct {
	Destination string
	Bytes, Then float64
	Money       float64
	Forecast    bool
}

// Sum is what a destination gets in all, or all sources with a label send, in a day. A copy to each destination
// counts.
type Sum struct {
	Name              string
	Bytes, Then       float64
	Budget            float64 // 0 for none
	Money             float64
	Currency          string
	Forecast, Exceeds bool
}

// Report is what all of it costs in a day.
type Report struct {
	Lines        []Line
	Destinations []Sum
	Labels       map[string][]Sum // by the key of the label, of those with budgets
}

// Daily makes what was measured in a span into a day, and lays the trial of a draft over it.
func Daily(list []Measured, span time.Duration, tried []Tried, rules Rules) Report {
	factor := 0.0
	if span > 0 {
		factor = float64(24*time.Hour) / float64(span)
	}
	lines := map[string]*Line{}
	line := func(source string) *Line {
		if lines[source] == nil {
			lines[source] = &Line{Source: source}
		}
		return lines[source]
	}
	to := func(source, destination string) *To {
		l := line(source)
		i := slices.IndexFunc(l.To, func(t To) bool { return t.Destination == destination })
		if i < 0 {
			i = len(l.To)
			l.To = append(l.To, To{Destination: destination})
		}
		return &l.To[i]
	}
	for _, m := range list {
		if m.Destination == "" {
			l := line(m.Source)
			l.Records += float64(m.Records) * factor
			l.Read += float64(m.Bytes) * factor
			continue
		}
		to(m.Source, m.Destination).Bytes += float64(m.Bytes) * factor
	}
	for _, t := range tried {
		x := to(t.Source, t.Destination)
		x.Forecast = true
		switch {
		case t.Now > 0: // as many bytes more or fewer, of what is measured
			x.Then = x.Bytes * float64(t.Then) / float64(t.Now)
		case t.ThenRead > 0: // it is new there: by what a record comes to
			x.Then = line(t.Source).Records * float64(t.Then) / float64(t.ThenRead)
		}
	}
	r := Report{Labels: map[string][]Sum{}}
	destinations, labels := map[string]*Sum{}, map[string]map[string]*Sum{}
	for _, name := range slices.Sorted(maps.Keys(lines)) {
		l := lines[name]
		slices.SortFunc(l.To, func(a, b To) int {
			return cmp.Or(cmp.Compare(b.Bytes, a.Bytes), strings.Compare(a.Destination, b.Destination))
		})
		for i := range l.To {
			t := &l.To[i]
			if !t.Forecast {
				t.Then = t.Bytes
			}
			p := rules.Prices[t.Destination]
			t.Money = p.Of(t.Bytes)
			s := destinations[t.Destination]
			if s == nil {
				s = &Sum{Name: t.Destination, Budget: rules.Budgets[t.Destination], Currency: p.Currency}
				destinations[t.Destination] = s
			}
			s.add(*t)
			for key, limits := range rules.Limits {
				value := rules.Labels[name][key]
				if labels[key] == nil {
					labels[key] = map[string]*Sum{}
				}
				if labels[key][value] == nil {
					labels[key][value] = &Sum{Name: value, Budget: limits[value]}
				}
				labels[key][value].add(*t)
			}
		}
		r.Lines = append(r.Lines, *l)
	}
	slices.SortStableFunc(r.Lines, func(a, b Line) int { return cmp.Compare(b.sent(), a.sent()) })
	r.Destinations = sums(destinations)
	for key, of := range labels {
		r.Labels[key] = sums(of)
	}
	return r
}

// sent is what all destinations get of it.
func (l Line) sent() (n float64) {
	for _, t := range l.To {
		n += t.Bytes
	}
	return n
}

func (s *Sum) add(t To) {
	s.Bytes += t.Bytes
	s.Then += t.Then
	s.Money += t.Money
	s.Forecast = s.Forecast || t.Forecast
	s.Exceeds = s.Budget > 0 && max(s.Bytes, s.Then) > s.Budget
}

func sums(of map[string]*Sum) []Sum {
	out := []Sum{}
	for _, s := range of {
		out = append(out, *s)
	}
	slices.SortFunc(out, func(a, b Sum) int {
		return cmp.Or(cmp.Compare(b.Bytes, a.Bytes), strings.Compare(a.Name, b.Name))
	})
	return out
}
