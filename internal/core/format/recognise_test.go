package format

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/record"
)

// TestRecognise: what the world writes, with the instant that it means (of a stamp without a zone: in Lisbon) and, after |, what
// is left behind it.
func TestRecognise(t *testing.T) {
	t.Parallel()
	observed := time.Date(2031, 4, 2, 12, 0, 0, 0, time.UTC).UnixNano()
	c, err := newClock(Time{Zone: "Europe/Lisbon"})
	assert.NoError(t, err)
	for text, want := range map[string]string{
		// ISO 8601 and what is like it
		"2031-04-02T06:15:09Z": "2031-04-02T06:15:09Z", "2031-04-02T06:15:09.123456789+02:00": "2031-04-02T04:15:09.123456789Z", "2031-04-02 06:15:09,250": "2031-04-02T05:15:09.25Z",
		"2031-04-02T06:15:09.5 +0200": "2031-04-02T04:15:09.5Z", "2031-04-02 06:15": "2031-04-02T05:15:00Z", "2031/04/02 06:15:09| x": "2031-04-02T05:15:09Z", "2031-04-02_06:15:09": "2031-04-02T05:15:09Z",
		"2031.04.02 06:15:09": "2031-04-02T05:15:09Z", "2031-04-02t06:15:09z": "2031-04-02T06:15:09Z", "2031-04-02T06:15:09+02| lane": "2031-04-02T04:15:09Z", "2031-04-02 06:15:09 UTC": "2031-04-02T06:15:09Z",
		"2031-04-02 06:15:09 CEST| x": "2031-04-02T04:15:09Z", "2031-04-02 06:15:09 INFO": "2031-04-02T05:15:09Z| INFO", "20310402T061509Z": "2031-04-02T06:15:09Z", "20310402T061509.25+0200": "2031-04-02T04:15:09.25Z",
		"20310402 06:15:09": "2031-04-02T05:15:09Z", "20310402-06:15:09.123": "2031-04-02T05:15:09.123Z", "2031-04-02": "2031-04-01T23:00:00Z", "2031-04-02T06:15:09:123": "2031-04-02T05:15:09.123Z", "2031-4-2 6:15:09": "2031-04-02T05:15:09Z",
		"2031-04-02 06:15:09 [main] x": "2031-04-02T05:15:09Z| [main] x", "2031-04-02 06:15:09.123 -0700 | x": "2031-04-02T13:15:09.123Z| | x", "2031-04-02 06:15:09 +0000 UTC": "2031-04-02T06:15:09Z| UTC",
		// syslog's, ctime's, mail's
		"Apr  2 06:15:09 h t: x": "2031-04-02T05:15:09Z| h t: x", "Apr 12 06:15:09.250": "2031-04-12T05:15:09.25Z", "Apr  2 2030 06:15:09": "2030-04-02T05:15:09Z", "Apr  2 06:15:09 2030": "2030-04-02T05:15:09Z",
		"Wed Apr  2 06:15:09 2031": "2031-04-02T05:15:09Z", "Wed Apr  2 06:15:09 CEST 2031": "2031-04-02T04:15:09Z", "Wed, 02 Apr 2031 06:15:09 GMT": "2031-04-02T06:15:09Z", "Wed, 2 Apr 2031 06:15:09 +0200": "2031-04-02T04:15:09Z",
		"Wednesday, 02-Apr-31 06:15:09 UTC": "2031-04-02T06:15:09Z", "Dec 31 23:59:59": "2030-12-31T23:59:59Z",
		// web servers', databases', appliances'
		"02/Apr/2031:06:15:09 +0100| x": "2031-04-02T05:15:09Z", "02-Apr-2031 06:15:09.123": "2031-04-02T05:15:09.123Z", "02 Apr 2031 06:15:09": "2031-04-02T05:15:09Z", "2 April 2031 06:15": "2031-04-02T05:15:00Z",
		"Apr 2, 2031 6:15:09 PM": "2031-04-02T17:15:09Z", "April 2, 2031, 12:15 AM": "2031-04-01T23:15:00Z", "04/02/2031 06:15:09": "2031-04-02T05:15:09Z", "04/02/2031 6:15:09 PM| x": "2031-04-02T17:15:09Z", "24/02/2031 06:15:09": "2031-02-24T06:15:09Z",
		"02.04.2031 06:15:09": "2031-04-02T05:15:09Z", "02.04.2031, 06:15": "2031-04-02T05:15:00Z", "02-04-2031 06:15:09": "2031-04-02T05:15:09Z", "04/02/31 06:15:09": "2031-04-02T05:15:09Z", "31-04-02 06:15:09": "2031-04-02T05:15:09Z",
		"31/04/02 06:15:09": "2031-04-02T05:15:09Z", "04-02 06:15:09.5": "2031-04-02T05:15:09.5Z", "04/02-06:15:09": "2031-04-02T05:15:09Z", "0402 06:15:09.25| x": "2031-04-02T05:15:09.25Z", "2-Apr-2031::06:15:09": "2031-04-02T05:15:09Z", "06:15:09.5 02.04.2031": "2031-04-02T05:15:09.5Z", "06:15:09 2 April 2031": "2031-04-02T05:15:09Z", "06:15:09": "2031-04-02T05:15:09Z", "02.04 06:15:09": "2031-04-02T05:15:09Z", "02.04.31 06:15:09": "2031-04-02T05:15:09Z", "310402 06:15:09": "2031-04-02T05:15:09Z", "02/04/2031 at 06:15:09": "2031-02-04T06:15:09Z", "02.04.2031 um 06:15 Uhr| x": "2031-04-02T05:15:00Z",
		// names of months elsewhere
		"2. März 2031 06:15:09": "2031-03-02T06:15:09Z", "02 MAI 2031 06:15": "2031-05-02T05:15:00Z", "Mi, 02. Apr. 2031 06:15:09": "2031-04-02T05:15:09Z", "2 avr. 2031 06:15:09": "2031-04-02T05:15:09Z", "2 février 2031 06:15": "2031-02-02T06:15:00Z",
		"2 de abril de 2031 06:15:09": "2031-04-02T05:15:09Z", "02/ago/2031:06:15:09 +0100": "2031-08-02T05:15:09Z", "12 Dez 2031 06:15:09": "2031-12-12T06:15:09Z", "2 maart 2031 06:15": "2031-03-02T06:15:00Z", "2 luglio 2031 06:15": "2031-07-02T05:15:00Z",
		"MÄR 2 06:15:09": "2031-03-02T06:15:09Z",
		// counted from 1970 and by TAI
		"1932963309": "2031-04-03T06:15:09Z", "1932963309.25| x": "2031-04-03T06:15:09.25Z", "1932963309250": "2031-04-03T06:15:09.25Z", "1932963309250123": "2031-04-03T06:15:09.250123Z", "1932963309250123456": "2031-04-03T06:15:09.250123456Z",
		"@400000007336adf705967800| x": "2031-04-03T06:15:09.0937472Z",
		// none of these is one
		"": "", "lane 4": "", "12:30": "", "1.2.3.4 x": "", "198.51.100.7 - -": "", "Apr": "", "April": "", "mar 4": "", "2031-13-02T06:15:09Z": "", "2031-02-30 06:15:09": "", "99/99/2031 06:15:09": "", "@4000": "", "Feb 30 06:15:09": "",
		"04/02/2031": "", "12.30 x": "", "2031-04-02T25:00:00": "", "10-20-30": "", "may 5 boats": "", "5 may": "", "Sun 4": "",
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
		if want == "" {
			assert.False(t, ok && n == len(text) && !v.isEpoch, "%q is taken for a time", text)
			continue
		}
		if !assert.True(t, ok, "%q", text) {
			continue
		}
		assert.Equal(t, len(text), n, "%q: how much of it is the stamp", text)
		got, _ := c.resolve(v, observed)
		assert.Equal(t, want, time.Unix(0, got).UTC().Format(time.RFC3339Nano), "%q", text)
	}
}

// FuzzStamps: a time is read the same whatever was read before it, though most of it is remembered.
func FuzzStamps(f *testing.F) {
	for _, s := range [][2]string{{"2031-04-02 06:15:09.120 x", "2031-04-02 06:15:09.121 x"}, {"2031-04-02 06:15:09.120 x", "2031-04-02 06:15:09.1+02:00 x"}, {"2031-04-02T06:15:09Z x", "2031-04-02T06:15:09,5 PM x"},
		{"2031-04-02 06:15:09 x", "2031-04-02 06:15:091 x"}, {"02/Apr/2031:06:15:09 +0100 x", "02/Apr/2031:06:15:09 +0200 x"}, {"2031-04-02 06:15:09.1234567 CET x", "2031-04-02 06:15:09.12345678901 x"}, {"2031-04-02 06:15:09 [a", "2031-04-02 06:15:09.5 p.m. a"}} {
		f.Add(s[0], s[1], byte(0))
		f.Add(s[0], s[1], byte(7))
	}
	layouts := []string{"", "%Y-%m-%d %H:%M:%S", "%Y-%m-%dT%H:%M:%S.%f", "%d/%b/%Y:%H:%M:%S %z"}
	f.Fuzz(func(t *testing.T, before, text string, how byte) {
		spec := Spec{Name: "t", Kind: "template", Template: "{ts:time} {rest:remainder}", Time: Time{Field: "ts", Layout: layouts[how&3]}}
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
