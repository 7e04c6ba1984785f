package expect

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// weeks makes hours of four weeks; count tells how many records come at an hour of the day.
func weeks(n int, zone *time.Location, count func(hour int, day time.Weekday) int64) (out []Counted) {
	at := time.Date(2031, 4, 7, 0, 0, 0, 0, zone)
	for end := at.AddDate(0, 0, 7*n); at.Before(end); at = at.Add(time.Hour) {
		w := at.In(zone)
		out = append(out, Counted{at, count(w.Hour(), w.Weekday())})
	}
	return out
}

func TestLearn(t *testing.T) {
	t.Parallel()
	lisbon, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	rnd := rand.New(rand.NewPCG(2, 2))
	ferries := func(hour int, _ time.Weekday) int64 {
		if hour < 5 || hour >= 23 {
			return 0
		}
		return 1200 + rnd.Int64N(700)
	}
	for name, c := range map[string]struct {
		hours []Counted
		text  string
		why   string
	}{
		"ferries by day": {weeks(4, lisbon, ferries), `expect: {every: 1m, during: "05:00-23:00", at-least: 6`, ""},
		"all day": {weeks(4, lisbon, func(int, time.Weekday) int64 { return 60 }),
			`expect: {every: 10m, at-least: 30/h}`, ""},
		"seldom": {weeks(4, lisbon, func(int, time.Weekday) int64 { return 2 }), `expect: {every: 6h}`, ""},
		"over midnight": {weeks(4, lisbon, func(hour int, _ time.Weekday) int64 {
			return map[bool]int64{true: 100}[hour >= 22 || hour < 4]
		}), `expect: {every: 10m, during: "22:00-04:00", at-least: 50/h}`, ""},
		"one week": {weeks(1, lisbon, ferries), "", "too little"},
		"nothing":  {nil, "", "too little"},
		"never the same": {weeks(4, lisbon, func(hour int, d time.Weekday) int64 {
			return map[bool]int64{true: 9}[(hour+int(d))%2 == 0]
		}), "", "no hour of the day"},
	} {
		u := Learn(c.hours, lisbon)
		text, why := u.Suggest()
		assert.Contains(t, text, c.text, name)
		assert.Contains(t, why, c.why, name)
		assert.Equal(t, text == "", why != "", name)
	}
	u := Learn(weeks(4, lisbon, ferries), lisbon)
	r, known := u.At(time.Date(2031, 6, 2, 11, 30, 0, 0, lisbon))
	assert.True(t, known)
	assert.GreaterOrEqual(t, r.Low, int64(1200))
	assert.Less(t, r.High, int64(1900))
	r, known = u.At(time.Date(2031, 6, 2, 3, 30, 0, 0, lisbon))
	assert.True(t, known)
	assert.Zero(t, r.High)
	empty := Learn(nil, nil)
	_, known = empty.At(time.Now())
	assert.False(t, known)
}
