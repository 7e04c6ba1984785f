package cost

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParsePrice(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]Price{"0.35 EUR/GiB": {0.35, "EUR", 1 << 30}, "2 USD/TiB": {2, "USD", 1 << 40},
		"1.5 NOK/100GiB": {1.5, "NOK", 100 << 30}} {
		p, err := ParsePrice(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, p)
		assert.InDelta(t, want.Amount, p.Of(want.Bytes), 1e-9)
		assert.InDelta(t, 2*want.Amount, p.Of(2*want.Bytes), 1e-9)
	}
	for _, text := range []string{"", "0.35", "0.35 EUR", "EUR/GiB", "0.35 euro/GiB", "-1 EUR/GiB", "1 EUR/0GiB", "1 EUR/day",
		"99999999999 EUR/GiB"} {
		_, err := ParsePrice(text)
		assert.Error(t, err, text)
	}
	assert.Zero(t, Price{}.Of(100))
}

// TestDaily: over random flows what destinations and labels come to is what the sources come to; a span of any length
// gives the same day for the same rate; a trial that changes nothing forecasts what is measured, and one that halves a
// source halves it.
func TestDaily(t *testing.T) {
	t.Parallel()
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 5))
		hours := 1 + r.IntN(200)
		var list []Measured
		var same, half []Tried
		rules := Rules{Prices: map[string]Price{"d0": {2, "EUR", 1 << 20}}, Budgets: map[string]float64{"d1": 1 << 20},
			Labels: map[string]map[string]string{}, Limits: map[string]map[string]float64{"team": {"a": 1, "b": 1e18}}}
		for s := range 1 + r.IntN(6) {
			name := fmt.Sprintf("s%d", s)
			rules.Labels[name] = map[string]string{"team": string("ab"[s%2])}
			list = append(list, Measured{Source: name, Records: int64(r.IntN(1000) * hours),
				Bytes: int64(r.IntN(1e6) * hours)})
			for d := range 1 + r.IntN(3) {
				to := fmt.Sprintf("d%d", d)
				list = append(list, Measured{name, to, 1, int64((1 + r.IntN(1e6)) * hours)})
				same = append(same, Tried{name, to, 10, 10, 5000, 5000})
				half = append(half, Tried{name, to, 10, 10, 5000, 2500})
			}
		}
		day := Daily(list, time.Duration(hours)*time.Hour, nil, rules)
		total, then := 0.0, 0.0
		for _, l := range day.Lines {
			for _, x := range l.To {
				total += x.Bytes
				assert.InDelta(t, map[bool]float64{true: x.Bytes / (1 << 20) * 2}[x.Destination == "d0"], x.Money,
					1e-6)
			}
		}
		sum := func(list []Sum) (n float64) {
			for _, s := range list {
				n += s.Bytes
			}
			return n
		}
		assert.InEpsilon(t, total, sum(day.Destinations), 1e-9)
		assert.InEpsilon(t, total, sum(day.Labels["team"]), 1e-9)
		for _, s := range day.Labels["team"] {
			assert.Equal(t, s.Name == "a", s.Exceeds)
		}
		for _, s := range day.Destinations {
			assert.Equal(t, s.Name == "d1" && s.Bytes > 1<<20, s.Exceeds)
		}
		for i := range list {
			list[i].Bytes, list[i].Records = list[i].Bytes/int64(hours), list[i].Records/int64(hours)
		}
		hour := Daily(list, time.Hour, nil, rules)
		require.Len(t, hour.Destinations, len(day.Destinations))
		for i, s := range day.Destinations {
			assert.InEpsilon(t, s.Bytes, hour.Destinations[i].Bytes, 1e-9, "the same rate gives the same day")
		}
		for _, l := range Daily(list, time.Hour, same, rules).Lines {
			for _, x := range l.To {
				assert.InEpsilon(t, x.Bytes, x.Then, 1e-9)
				assert.True(t, x.Forecast)
			}
		}
		for _, s := range Daily(list, time.Hour, half, rules).Destinations {
			then += s.Then
		}
		assert.InEpsilon(t, total/2, then, 1e-9)
	}
	r := Daily([]Measured{{Source: "s", Records: 100, Bytes: 1000}}, time.Hour, []Tried{{"s", "new", 0, 10, 0, 500}},
		Rules{})
	require.Len(t, r.Lines, 1)
	assert.InDelta(t, 100*24*50, r.Lines[0].To[0].Then, 1e-6, "a way that is new is forecast by what a record comes to")
	assert.Empty(t, Daily(nil, 0, nil, Rules{}).Lines)
}
