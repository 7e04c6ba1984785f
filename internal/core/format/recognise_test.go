package format

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/record"
)

// TestRecognise: what the world writes, with the instant that it means (of a stamp without a zone: in Lisbon) and,
// after |, what is left behind it.
func TestRecognise(t *testing.T) {
	t.Parallel()
	observed := time.Date(2031, 4, 2, 12, 0, 0, 0, time.UTC).UnixNano()
	c, err := newClock(Time{Zone: "Europe/Lisbon"})
	assert.NoError(t, err)
	for text, want := range map[string]string{
		// ISO 8601 and what is like it
		"2031-04-02T06:15:09Z":                "2031-04-02T06:15:09Z",
		"2031-04-02T06:15:09.123456789+02:00": "2031-04-02T04:15:09.123456789Z",
		"2031-04-02 06:15:09,250":             "2031-04-02T05:15:09.25Z",
		"2031-04-02T06:15:09.5 +0200":         "2031-04-02T04:15:09.5Z", "2031-04-02 06:15": "2031-04-02T05:15:00Z",
		"2031/04/02 06:15:09| x": "2031-04-02T05:15:09Z", "2031-04-02_06:15:09": "2031-04-02T05:15:09Z",
		"2031.04.02 06:15:09": "2031-04-02T05:15:09Z", "2031-04-02t06:15:09z": "2031-04-02T06:15:09Z",
		"2031-04-02T06:15:09+02| lane": "2031-04-02T04:15:09Z", "2031-04-02 06:15:09 UTC": "2031-04-02T06:15:09Z",
		"2031-04-02 06:15:09 CEST| x": "2031-04-02T04:15:09Z",
		"2031-04-02 06:15:09 INFO":    "2031-04-02T05:15:09Z| INFO", "20310402T061509Z": "2031-04-02T06:15:09Z",
		"20310402T061509.25+0200": "2031-04-02T04:15:09.25Z",
		"20310402 06:15:09":       "2031-04-02T05:15:09Z", "20310402-06:15:09.123": "2031-04-02T05:15:09.123Z",
		"2031-04-02": "2031-04-01T23:00:00Z", "2031-04-02T06:15:09:123": "2031-04-02T05:15:09.123Z",
		"2031-4-2 6:15:09":                  "2031-04-02T05:15:09Z",
		"2031-04-02 06:15:09 [main] x":      "2031-04-02T05:15:09Z| [main] x",
		"2031-04-02 06:15:09.123 -0700 | x": "2031-04-02T13:15:09.123Z| | x",
		"2031-04-02 06:15:09 +0000 UTC":     "2031-04-02T06:15:09Z| UTC",
		// syslog's, ctime's, mail's
		"Apr  2 06:15:09 h t: x": "2031-04-02T05:15:09Z| h t: x", "Apr 12 06:15:09.250": "2030-04-12T05:15:09.25Z",
		"Apr  2 2030 06:15:09": "2030-04-02T05:15:09Z", "Apr  2 06:15:09 2030": "2030-04-02T05:15:09Z",
		"Wed Apr  2 06:15:09 2031": "2031-04-02T05:15:09Z", "Wed Apr  2 06:15:09 CEST 2031": "2031-04-02T04:15:09Z",
		"Wed, 02 Apr 2031 06:15:09 GMT":     "2031-04-02T06:15:09Z",
		"Wed, 2 Apr 2031 06:15:09 +0200":    "2031-04-02T04:15:09Z",
		"Wednesday, 02-Apr-31 06:15:09 UTC": "2031-04-02T06:15:09Z", "Dec 31 23:59:59": "2030-12-31T23:59:59Z",
		// web servers', databases', appliances'
		"02/Apr/2031:06:15:09 +0100| x": "2031-04-02T05:15:09Z",
		"02-Apr-2031 06:15:09.123":      "2031-04-02T05:15:09.123Z", "02 Apr 2031 06:15:09": "2031-04-02T05:15:09Z",
		"2 April 2031 06:15":     "2031-04-02T05:15:00Z",
		"Apr 2, 2031 6:15:09 PM": "2031-04-02T17:15:09Z", "April 2, 2031, 12:15 AM": "2031-04-01T23:15:00Z",
		"04/02/2031 06:15:09": "2031-04-02T05:15:09Z", "04/02/2031 6:15:09 PM| x": "2031-04-02T17:15:09Z",
		"24/02/2031 06:15:09": "2031-02-24T06:15:09Z",
		"02.04.2031 06:15:09": "2031-04-02T05:15:09Z", "02.04.2031, 06:15": "2031-04-02T05:15:00Z",
		"02-04-2031 06:15:09": "2031-04-02T05:15:09Z", "04/02/31 06:15:09": "2031-04-02T05:15:09Z",
		"31-04-02 06:15:09": "2031-04-02T05:15:09Z",
		"31/04/02 06:15:09": "2031-04-02T05:15:09Z", "04-02 06:15:09.5": "2031-04-02T05:15:09.5Z",
		"04/02-06:15:09": "2031-04-02T05:15:09Z", "0402 06:15:09.25| x": "2031-04-02T05:15:09.25Z",
		"2-Apr-2031::06:15:09": "2031-04-02T05:15:09Z", "06:15:09.5 02.04.2031": "2031-04-02T05:15:09.5Z",
		"06:15:09 2 April 2031": "2031-04-02T05:15:09Z", "06:15:09": "2031-04-02T05:15:09Z",
		"02.04 06:15:09": "2031-04-02T05:15:09Z", "02.04.31 06:15:09": "2031-04-02T05:15:09Z",
		"310402 06:15:09": "2031-04-02T05:15:09Z", "02/04/2031 at 06:15:09": "2031-02-04T06:15:09Z",
		"02.04.2031 um 06:15 Uhr| x": "2031-04-02T05:15:00Z",
		// names of months elsewhere
		"2. März 2031 06:15:09": "2031-03-02T06:15:09Z", "02 MAI 2031 06:15": "2031-05-02T05:15:00Z",
		"Mi, 02. Apr. 2031 06:15:09": "2031-04-02T05:15:09Z", "2 avr. 2031 06:15:09": "2031-04-02T05:15:09Z",
		"2 février 2031 06:15":        "2031-02-02T06:15:00Z",
		"2 de abril de 2031 06:15:09": "2031-04-02T05:15:09Z", "02/ago/2031:06:15:09 +0100": "2031-08-02T05:15:09Z",
		"12 Dez 2031 06:15:09": "2031-12-12T06:15:09Z", "2 maart 2031 06:15": "2031-03-02T06:15:00Z",
		"2 luglio 2031 06:15":  "2031-07-02T05:15:00Z",
		"MÄR 2 06:15:09":       "2031-03-02T06:15:09Z",
		"02 апр 2031 06:15:09": "2031-04-02T05:15:09Z", "2 сентября 2031 06:15": "2031-09-02T05:15:00Z",
		"2 kwi 2031 06:15:09": "2031-04-02T05:15:09Z", "02 października 2031 06:15": "2031-10-02T05:15:00Z",
		"Пн 02 мая 2031 06:15:09": "2031-05-02T05:15:09Z",
		"2 maj 2031 06:15":        "2031-05-02T05:15:00Z", "2 Ağu 2031 06:15": "2031-08-02T05:15:00Z",
		"2 huhtikuuta 2031 06:15": "2031-04-02T05:15:00Z", "2 března 2031 06:15": "2031-03-02T06:15:00Z",
		"2 noi 2031 06:15": "2031-11-02T06:15:00Z", "2 márc 2031 06:15": "2031-03-02T06:15:00Z",
		"2 des 2031 06:15":        "2031-12-02T06:15:00Z",
		"2031年04月02日 06:15:09| x": "2031-04-02T05:15:09Z", "2031年4月2日 06时15分09秒": "2031-04-02T05:15:09Z",
		"2031年4月2日6時15分": "2031-04-02T05:15:00Z", "2031年4月2日 下午6:15:09": "2031-04-02T17:15:09Z",
		"2031년 4월 2일 오전 6:15:09": "2031-04-02T05:15:09Z", "2031년 4월 2일 6시 15분 9초": "2031-04-02T05:15:09Z",
		// glued, counted through the year, in weeks, with the year last
		"20310402061509": "2031-04-02T05:15:09Z", "20310402061509.25Z| x": "2031-04-02T06:15:09.25Z",
		"20310402061509123": "2031-04-02T05:15:09.123Z", "20310402061509+0200": "2031-04-02T04:15:09Z",
		"2031-092T06:15:09Z": "2031-04-02T06:15:09Z", "2031092T061509Z": "2031-04-02T06:15:09Z",
		"2031-W14-3T06:15:09Z": "2031-04-02T06:15:09Z", "2031W143T061509Z": "2031-04-02T06:15:09Z",
		"2032-W53-7T00:00:00Z": "2033-01-02T00:00:00Z", "2031:04:02 06:15:09": "2031-04-02T05:15:09Z",
		"2031-Apr-02 06:15:09": "2031-04-02T05:15:09Z", "02Apr2031 06:15:09": "2031-04-02T05:15:09Z",
		"02APR2031:06:15:09.123": "2031-04-02T05:15:09.123Z", "02APR31:06:15:09": "2031-04-02T05:15:09Z",
		"Wed  2 Apr 06:15:09 WEST 2031": "2031-04-02T05:15:09Z", "Wed 2 Apr 06:15:09 2031": "2031-04-02T05:15:09Z",
		"2031-04-02 06:15:09 GMT+2": "2031-04-02T04:15:09Z", "2031-04-02 06:15:09 GMT-3| x": "2031-04-02T09:15:09Z",
		"April 2, 2031 at 6:15:09 AM GMT+1": "2031-04-02T05:15:09Z",
		"2031-04-02 06:15:09 UTC+0530":      "2031-04-02T00:45:09Z",
		// a zone before the date or by its place, the year before the month
		"Wed UTC Apr  2 06:15:09 2031": "2031-04-02T06:15:09Z", "CEST Apr 02 2031 06:15:09| x": "2031-04-02T04:15:09Z",
		"06:15:09.5 CEST Wed Apr 2 2031| x":     "2031-04-02T04:15:09.5Z",
		"06:15:09 UTC 02-Apr-2031":              "2031-04-02T06:15:09Z",
		"02-Apr-2031 06:15:09 Europe/Berlin| x": "2031-04-02T04:15:09Z",
		"2031-07-02 06:15:09 America/New_York":  "2031-07-02T10:15:09Z",
		"2031-04-02 06:15:09 Gate/Lane":         "2031-04-02T05:15:09Z| Gate/Lane",
		"Wed Apr 2 06:15:09 2031 +0200| x":      "2031-04-02T04:15:09Z",
		"Wed Apr  2 06:15:09 2031 UTC":          "2031-04-02T06:15:09Z",
		"Apr  2 06:15:09 2031 +02":              "2031-04-02T05:15:09Z| +02",
		"2031 Apr  2 06:15:09| h":               "2031-04-02T05:15:09Z",
		"2031/Apr/02 06:15:09":                  "2031-04-02T05:15:09Z",
		"2031.Apr.2 06:15:09":                   "2031-04-02T05:15:09Z",
		// counted from 1970 and by TAI
		"1932963309": "2031-04-03T06:15:09Z", "1932963309.25| x": "2031-04-03T06:15:09.25Z",
		"1932963309250": "2031-04-03T06:15:09.25Z", "1932963309250123": "2031-04-03T06:15:09.250123Z",
		"1932963309250123456":          "2031-04-03T06:15:09.250123456Z",
		"@400000007336adf705967800| x": "2031-04-03T06:15:09.0937472Z",
		"6b0a5357.18d56dc1| 0x7f":      "2026-11-28T04:06:47.416640449Z",
		// none of these is one
		"": "", "lane 4": "", "12:30": "", "1.2.3.4 x": "", "198.51.100.7 - -": "", "Apr": "", "April": "",
		"mar 4": "", "2031-13-02T06:15:09Z": "", "2031-02-30 06:15:09": "", "99/99/2031 06:15:09": "", "@4000": "",
		"Feb 30 06:15:09": "",
		"2031:04:02":      "", "20311302061509": "", "20310402256509": "", "2031-366T06:15:09Z": "",
		"2031-W54-1T06:15:09Z": "", "2031-W14-8T06:15:09Z": "", "02Apr2031": "", "2031年13月02日 06:15:09": "",
		"2031年4月": "", "4 lis 12": "",
		"04/02/2031": "", "12.30 x": "", "2031-04-02T25:00:00": "", "10-20-30": "", "may 5 boats": "", "5 may": "",
		"Sun 4": "", "4294967295": "", "2147483647": "", "99999999999": "",
	} {
		text, left, _ := strings.Cut(text, "|")
		want, leftIn, inWant := strings.Cut(want, "|")
		if inWant {
			text, left = strings.TrimSuffix(text, leftIn), leftIn
		}
		if strings.Contains(text, "-0700 ") { // the bar itself is part of the line
			continue
		}
		v, n, ok := recognise([]byte(text + left))
		if text == "4294967295" || text == "2147483647" || text == "99999999999" {
			assert.False(t, ok, "%q is a number", text)
		}
		if want == "" {
			assert.False(t, ok && n == len(text) && !v.isEpoch, "%q is taken for a time", text)
			continue
		}
		if !assert.True(t, ok, "%q", text) {
			continue
		}
		assert.Equal(t, len(text), n, "%q: how much of it is the stamp", text)
		got, _ := c.resolve(&v, observed, 0)
		assert.Equal(t, want, time.Unix(0, got).UTC().Format(time.RFC3339Nano), "%q", text)
	}
}

// TestMonthAgain: a time that begins with its month is read the same whatever was read before it, and whatever stands
// behind it.
func TestMonthAgain(t *testing.T) {
	t.Parallel()
	tails := []string{"", " ", " gate-4 x", " gate-4", " gate-4 2031", " 2031 gate", " 2031", " 2031: x", " 2031:db8::1 x", " 2031-x y",
		" 10.0.0.1 x", " AM x", " am", " pm x", " amber x", " a.m. x", " p.m.x y", " CET x", " CET 2031 x", " CETUS x", " Uhr", " Uhr x",
		" uhr x", " Europe/Lisbon x", " Europe/Nowhere x", " +01:00 x", " -3 x", " - x", " Z x", " z", " zebra x", " utc x", " UTC+2 x",
		"Z x", ".5 x", ",25 x", ":5 x", ": x", "  x", "  CET", " \xff x", " \u00e4rger x", " [x", " <x",
		" " + strings.Repeat("g", 60),
		" b", " y 2031", " GMT 2031 x", " gmt 2031 x"}
	stamps := []string{"Apr  2 06:15:09", "Apr  2 06:15:10", "Apr 12 06:15:09", "Feb 29 06:15:09", "Apr-02 06:15:09", "Apr 02 06.15.09",
		"Mai  2 06:15:09", "Apr 2 06:15:09", "April 2 6:15:09"}
	for _, stamp := range stamps {
		for _, first := range tails {
			for _, tail := range tails {
				var c clock
				c.recognise([]byte(stamps[0] + first))
				c.recognise([]byte(stamp + first))
				v, n, ok := c.recognise([]byte(stamp + tail))
				want, k, good := recognise([]byte(stamp + tail))
				assert.Equal(t, []any{want, k, good}, []any{v, n, ok}, "%q after %q", stamp+tail, stamp+first)
			}
		}
	}
}

// TestYearAgain: the year of a date without one is the same whatever was asked before, through a year of hours.
func TestYearAgain(t *testing.T) {
	t.Parallel()
	zone, err := time.LoadLocation("Asia/Kathmandu")
	require.NoError(t, err)
	kept := clock{zone: zone}
	at := time.Date(2031, 12, 28, 0, 0, 0, 0, time.UTC)
	for h := range 24 * 366 {
		by := at.Add(time.Duration(h) * time.Hour).UnixNano()
		for _, v := range []civil{{month: 1, day: 1, noYear: true}, {month: 12, day: 31, hour: 23, noYear: true},
			{month: 2, day: 29, noYear: true}, {month: 7, day: 2, hour: 6, noYear: true}} {
			for range 2 {
				fresh := clock{zone: zone}
				require.Equal(t, fresh.newestYear(v, by), kept.newestYear(v, by))
			}
		}
	}
}

// FuzzStamps: a time is read the same whatever was read before it, though most of it is remembered.
func FuzzStamps(f *testing.F) {
	for _, s := range [][2]string{{"2031-04-02 06:15:09.120 x", "2031-04-02 06:15:09.121 x"},
		{"2031-04-02 06:15:09.120 x", "2031-04-02 06:15:09.1+02:00 x"}, {"2031-04-02T06:15:09Z x",
			"2031-04-02T06:15:09,5 PM x"},
		{"2031-04-02 06:15:09 x", "2031-04-02 06:15:091 x"}, {"02/Apr/2031:06:15:09 +0100 x",
			"02/Apr/2031:06:15:09 +0200 x"}, {"2031-04-02 06:15:09.1234567 CET x",
			"2031-04-02 06:15:09.12345678901 x"}, {"2031-04-02 06:15:09 [a", "2031-04-02 06:15:09.5 p.m. a"},
		{"Apr  2 06:15:09 gate-4 x", "Apr  2 06:15:09 2031 x"}, {"Apr  2 06:15:09 gate-4 x", "Apr  2 06:15:09 pm x"}} {
		f.Add(s[0], s[1], byte(0))
		f.Add(s[0], s[1], byte(7))
	}
	layouts := []string{"", "%Y-%m-%d %H:%M:%S", "%Y-%m-%dT%H:%M:%S.%f", "%d/%b/%Y:%H:%M:%S %z"}
	f.Fuzz(func(t *testing.T, before, text string, how byte) {
		spec := Spec{
			Name:     "t",
			Kind:     "template",
			Template: "{ts:time} {rest:remainder}",
			Time:     Time{Field: "ts", Layout: layouts[how&3]},
		}
		if how&4 != 0 {
			spec.Time.Zone = "Europe/Lisbon"
		}
		if how&8 != 0 {
			spec.Template = "{ts:time}]{rest:remainder}"
		}
		read := func(lines ...string) (r record.Record, ok bool, end record.Span) {
			p, err := Compile(spec, Time{}, nil)
			require.NoError(t, err)
			for _, l := range lines {
				b := &record.Batch{Arena: []byte(l), Schema: p.Schema()}
				r = record.Record{Body: record.Span{Len: uint32(len(l))}, Observed: 1932873309_000000001}
				if ok = p.Read(b, &r); ok {
					end = b.Values[0].Span
				}
			}
			return r, ok, end
		}
		if len(before)+len(text) > 200 {
			return
		}
		r1, ok1, end1 := read(text)
		r2, ok2, end2 := read(before, text)
		require.Equal(t, ok1, ok2)
		if ok1 {
			require.Equal(t, end1, end2)
			require.Equal(t, []any{r1.Time, r1.TimeNote}, []any{r2.Time, r2.TimeNote})
		}
	})
}
