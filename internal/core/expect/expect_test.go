package expect

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// zones have changes of clocks of an hour and of half an hour, in both halves of the year, at midnight, and none.
var zones = []string{"UTC", "Europe/Lisbon", "Europe/Berlin", "America/New_York", "America/St_Johns",
	"Australia/Lord_Howe", "Asia/Kathmandu", "Africa/Cairo", "America/Santiago", "Pacific/Auckland", "Asia/Beirut",
	"Africa/Casablanca", "Atlantic/Azores", "America/Havana", "Asia/Tehran", "Pacific/Chatham"}

// TestAgainstMinutes: over zones, hours and both changes of clocks, what is due is due when minutes that are counted
// one by one say so.
func TestAgainstMinutes(t *testing.T) {
	t.Parallel()
	rnd := rand.New(rand.NewPCG(7, 7))
	begins := []time.Time{time.Date(2031, 3, 29, 0, 0, 0, 0, time.UTC), time.Date(2031, 10, 25, 0, 0, 0, 0, time.UTC),
		time.Date(2031, 4, 5, 0, 0, 0, 0, time.UTC), time.Date(2031, 11, 1, 0, 0, 0, 0, time.UTC),
		time.Date(2031, 3, 8, 0, 0, 0, 0, time.UTC), time.Date(2031, 9, 6, 0, 0, 0, 0, time.UTC),
		time.Date(2031, 7, 1, 0, 0, 0, 0, time.UTC), time.Date(2031, 4, 25, 0, 0, 0, 0, time.UTC)}
	for _, name := range zones {
		zone, err := time.LoadLocation(name)
		require.NoError(t, err)
		for range 40 {
			e := Expectation{Every: time.Duration(1+rnd.IntN(1500)) * time.Minute, Zone: zone,
				During: Hours{rnd.IntN(24*4) * 15, rnd.IntN(24*4) * 15}}
			last := begins[rnd.IntN(len(begins))].Add(time.Duration(rnd.IntN(2*24*60)) * time.Minute)
			want, left := last, e.Every
			within := time.Duration(0)
			for ; left > 0; want = want.Add(time.Minute) {
				if e.In(want) {
					left -= time.Minute
					within += time.Minute
				}
				require.Less(t, want.Sub(last), 365*24*time.Hour)
			}
			what := fmt.Sprintf("%s, every %s during %s, after %s", name, e.Every, e.During, last.In(zone))
			require.Equal(t, want.UTC(), e.Due(last).UTC(), what)
			require.Equal(t, within, e.Within(last, want), what)
		}
	}
}

func TestParseHours(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]Hours{"": {}, "05:00-23:00": {300, 1380}, "22:30-06:00": {1350, 360},
		"00:00-00:00": {}} {
		got, err := ParseHours(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"5-23", "05:00", "05:00-25:00", "05:00-", "-", "05.00-06.00"} {
		_, err := ParseHours(text)
		assert.Error(t, err, text)
	}
	assert.Equal(t, "05:00-23:00", Hours{300, 1380}.String())
	assert.Empty(t, Hours{}.String())
}

func TestNothingIsExpected(t *testing.T) {
	t.Parallel()
	var e Expectation
	assert.False(t, e.Any())
	assert.True(t, e.Due(time.Now()).IsZero())
	assert.True(t, e.In(time.Now()))
}
