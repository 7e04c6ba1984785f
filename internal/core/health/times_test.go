package health

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/expect"
)

// zonesOfTheWorld are zones whose offsets are whole, half and quarter hours, east and west.
var zonesOfTheWorld = []string{"UTC", "Europe/Lisbon", "Europe/Berlin", "Europe/Helsinki", "Africa/Nairobi",
	"Asia/Tehran", "Asia/Kabul", "Asia/Karachi", "Asia/Kolkata", "Asia/Kathmandu", "Asia/Dhaka", "Asia/Yangon",
	"Asia/Bangkok", "Asia/Shanghai", "Australia/Eucla", "Asia/Tokyo", "Australia/Adelaide", "Australia/Sydney",
	"Australia/Lord_Howe", "Pacific/Auckland", "Pacific/Chatham", "Pacific/Kiritimati", "Atlantic/Azores",
	"America/Sao_Paulo", "America/St_Johns", "America/Santiago", "America/New_York", "America/Denver",
	"America/Los_Angeles", "Pacific/Marquesas", "Pacific/Honolulu"}

// TestZoneWrong: over all pairs of zones in all months, times that are written in one and read as another are found,
// where the two differ, and named by the offset that they are written in.
func TestZoneWrong(t *testing.T) {
	t.Parallel()
	for month := time.January; month <= time.December; month++ {
		at := time.Date(2031, month, 10, 7, 31, 12, 0, time.UTC)
		for _, written := range zonesOfTheWorld {
			for _, said := range zonesOfTheWorld {
				w, err := time.LoadLocation(written)
				require.NoError(t, err)
				s, err := time.LoadLocation(said)
				require.NoError(t, err)
				_, wo := at.In(w).Zone()
				_, so := at.In(s).Zone()
				off := time.Duration(wo-so) * time.Second
				v := EvaluateSource(Source{Host: Verdict{State: Healthy}, Reported: true, Read: 100,
					Offset: off - 700*time.Millisecond, Offsets: 3, Zone: said}, at)
				if off == 0 {
					require.Equal(t, Healthy, v.State, "%s as %s", written, said)
					continue
				}
				require.Equal(t, ZoneWrong, v.Code, "%s as %s", written, said)
				require.Contains(t, v.Reason, "they look like UTC"+map[bool]string{true: ",",
					false: at.In(w).Format("-07:00")}[wo == 0], "%s as %s: %s", written, said, v.Reason)
				require.Contains(t, v.Reason, "are read as "+said)
			}
		}
	}
}

func TestTimes(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		offset  time.Duration
		reports int
		code    Code
	}{
		"right":                        {-300 * time.Millisecond, 9, ""},
		"written a little late":        {-4 * time.Minute, 9, ""},
		"written late":                 {-3*time.Hour - 7*time.Minute, 9, ""},
		"an hour, once":                {time.Hour, 2, ""},
		"an hour ahead":                {time.Hour, 3, ZoneWrong},
		"an hour and seconds behind":   {-time.Hour - 20*time.Second, 3, ZoneWrong},
		"ahead by no quarter hours":    {7 * time.Minute, 3, TimesAhead},
		"days ahead":                   {49 * time.Hour, 3, TimesAhead},
		"day and month are exchanged":  {-30 * 24 * time.Hour, 3, TimesBehind},
		"a day behind, nearly":         {-23*time.Hour - 52*time.Minute, 3, ""},
		"farther than zones are apart": {-27 * time.Hour, 3, TimesBehind},
	} {
		v := EvaluateSource(Source{Host: Verdict{State: Healthy}, Reported: true, Read: 100, Offset: c.offset,
			Offsets: c.reports}, now)
		assert.Equal(t, c.code, v.Code, name)
	}
}

func TestSilence(t *testing.T) {
	t.Parallel()
	every := expect.Expectation{Every: 10 * time.Minute}
	day := expect.Expectation{Every: time.Hour, During: expect.Hours{From: 5 * 60, To: 23 * 60}}
	at := func(h, m int) time.Time { return time.Date(2031, 4, 2, h, m, 0, 0, time.UTC) }
	for name, c := range map[string]struct {
		source Source
		code   Code
		words  string
	}{
		"nothing is expected": {Source{Last: at(1, 0), Told: at(9, 0)}, "", ""},
		"it comes":            {Source{Expect: every, Last: at(8, 55), Told: at(9, 0)}, "", ""},
		"just not due":        {Source{Expect: every, Last: at(8, 50), Told: at(9, 0)}, "", ""},
		"due":                 {Source{Expect: every, Last: at(8, 49), Told: at(9, 0)}, Silent, "due by 2031-04-02 08:59:00 UTC"},
		"reports come late":   {Source{Expect: every, Last: at(8, 30), Told: at(8, 35)}, "", ""},
		"never told":          {Source{Expect: every}, "", ""},
		"never read":          {Source{Expect: every, Began: at(8, 0), Told: at(9, 0)}, Silent, "none came since"},
		"began just now":      {Source{Expect: every, Began: at(8, 55), Last: at(1, 0), Told: at(9, 0)}, "", ""},
		"at night":            {Source{Expect: day, Last: at(0, 0), Told: at(5, 59)}, "", ""},
		"in the morning":      {Source{Expect: day, Last: at(0, 0), Told: at(6, 1)}, Silent, "during 05:00-23:00 (UTC)"},
		"as a whole, not here": {Source{Expect: expect.Expectation{Every: time.Minute, Per: "source"}, Last: at(1, 0),
			Told: at(9, 0)}, "", ""},
		"too few": {Source{Expect: expect.Expectation{AtLeast: 1000}, Hour: 999, HourFull: true, Told: at(9, 0)},
			TooFewRecords, "999 records came"},
		"enough": {Source{Expect: expect.Expectation{AtLeast: 1000}, Hour: 1000, HourFull: true, Told: at(9, 0)}, "", ""},
		"of a part of the hour": {Source{Expect: expect.Expectation{AtLeast: 1000}, Hour: 9, Told: at(9, 0)}, "",
			""},
		"of an hour that it began in": {Source{Expect: expect.Expectation{AtLeast: 1000}, HourFull: true, Began: at(8,
			30),
			Told: at(9, 0)}, "", ""},
		"of an hour half at night": {Source{Expect: expect.Expectation{AtLeast: 1000, During: day.During},
			HourFull: true, Told: at(5, 30)}, "", ""},
	} {
		c.source.Host, c.source.Reported, c.source.Read = Verdict{State: Healthy}, true, 100
		v := EvaluateSource(c.source, at(9, 0))
		assert.Equal(t, c.code, v.Code, name)
		assert.Contains(t, v.Reason, c.words, name)
	}
}

func TestSilentFiles(t *testing.T) {
	t.Parallel()
	at := func(h, m int) time.Time { return time.Date(2031, 4, 2, h, m, 0, 0, time.UTC) }
	every := expect.Expectation{Every: 10 * time.Minute}
	for name, c := range map[string]struct {
		expect expect.Expectation
		grew   map[string]time.Time
		since  time.Time
		words  string
	}{
		"no file":  {every, nil, time.Time{}, ""},
		"all grow": {every, map[string]time.Time{"a": at(8, 50), "b": at(8, 59)}, time.Time{}, ""},
		"one does not": {every, map[string]time.Time{"a": at(8, 49), "b": at(8, 59)}, at(8, 59),
			"a grew last at 2031-04-02 08:49:00 UTC, and was to grow by 2031-04-02 08:59:00 UTC; each file is expected to " +
				"every 10 min; 1 of 2 files are silent"},
		"the first that was due is told": {every, map[string]time.Time{"a": at(8, 0), "b": at(7, 0)}, at(7, 10), "b grew"},
		"one alone":                      {every, map[string]time.Time{"a": at(8, 0)}, at(8, 10), "to every 10 min"},
		"out of hours": {expect.Expectation{Every: time.Hour, During: expect.Hours{From: 10 * 60, To: 12 * 60}},
			map[string]time.Time{"a": at(0, 0)}, time.Time{}, ""},
		"in hours": {expect.Expectation{Every: time.Hour, During: expect.Hours{From: 5 * 60, To: 12 * 60}},
			map[string]time.Time{"a": at(0, 0)}, at(6, 0), "during 05:00-12:00 (UTC)"},
	} {
		reason, since := SilentFiles(c.expect, c.grew, at(9, 0))
		assert.Equal(t, c.since, since, name)
		assert.Contains(t, reason, c.words, name)
		assert.Equal(t, c.since.IsZero(), reason == "", name)
	}
}

func TestSeldomFilled(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		filled []Filled
		code   Code
		words  string
	}{
		"often enough":     {[]Filled{{"lane", 0.95, 0.95, 100}}, "", ""},
		"just not":         {[]Filled{{"lane", 0.9499, 0.95, 10_000}}, FieldSeldomFilled, "in 94.9 % of the last 10000"},
		"never":            {[]Filled{{"lane", 0, 0.95, 100}}, FieldSeldomFilled, "in 0 % of the last 100 records; 95 % are"},
		"too few to say":   {[]Filled{{"lane", 0, 0.95, Fewest - 1}}, "", ""},
		"another of them":  {[]Filled{{"lane", 1, 0.95, 100}, {"doc", 0.5, 0.6, 100}}, FieldSeldomFilled, "the field doc"},
		"none is expected": {nil, "", ""},
	} {
		v := EvaluateSource(Source{Host: Verdict{State: Healthy}, Reported: true, Read: 100, Filled: c.filled}, now)
		assert.Equal(t, c.code, v.Code, name)
		assert.Contains(t, v.Reason, c.words, name)
	}
}

// TestFirstReport: until when a report is waited for is what it took before.
func TestFirstReport(t *testing.T) {
	t.Parallel()
	of := func(usually time.Duration, began time.Time) Verdict {
		return EvaluateSource(Source{Host: Verdict{State: Healthy}, Usually: usually, Agent: Complaint{Since: began}},
			now)
	}
	v := of(20*time.Second, now.Add(-5*time.Second))
	assert.Equal(t, Waiting, v.State)
	assert.Contains(t, v.Reason, "its first report usually comes within 20 s")
	assert.Equal(t, now.Add(15*time.Second), v.Until)
	assert.Contains(t, of(20*time.Second, now.Add(-time.Minute)).Reason, ", which is over")
	assert.Equal(t, now.Add(-5*time.Second).Add(settling), of(0, now.Add(-5*time.Second)).Until)
	assert.True(t, of(0, time.Time{}).Until.IsZero())
}

func TestAwayAndClocks(t *testing.T) {
	t.Parallel()
	well := Host{Joined: true, Connected: true, LastSeen: now, Assigned: "x", Running: "x", ConfigState: ConfigApplied}
	for name, c := range map[string]struct {
		edit  func(h *Host)
		state State
		code  Code
	}{
		"well":         {func(*Host) {}, Healthy, ""},
		"a little off": {func(h *Host) { h.Skew = -119 * time.Second }, Healthy, ""},
		"ahead":        {func(h *Host) { h.Skew = 3 * time.Minute }, Degraded, ClockOff},
		"years behind": {func(h *Host) { h.Skew = -3 * 365 * 24 * time.Hour }, Degraded, ClockOff},
		"away": {func(h *Host) { h.Connected, h.LastSeen = false, now.Add(-time.Hour) }, Offline,
			AgentAway},
		"away, as it may be": {func(h *Host) {
			h.Connected, h.LastSeen, h.Away = false, now.Add(-time.Hour),
				12*time.Hour
		}, Waiting, AwayAsUsual},
		"away longer than that": {func(h *Host) {
			h.Connected, h.LastSeen, h.Away = false, now.Add(-13*time.Hour),
				12*time.Hour
		}, Offline, AgentAway},
	} {
		h := well
		c.edit(&h)
		v := EvaluateHost(h, now)
		assert.Equal(t, c.state, v.State, name)
		assert.Equal(t, c.code, v.Code, name)
	}
}
