package format

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/record"
)

// monthShape is a shape of a stamp with a month's name.
type monthShape struct {
	shape, layout string
	syslog        bool // a line that begins so is read by the format syslog
	web           bool // so is what a web server writes
}

// monthShapes are the shapes of stamps with a month's name. %m stands for the name, %d for the day, %2d for it padded
// with a zero and %_d with a space. layout is the strftime layout of the same stamp.
var monthShapes = []monthShape{
	{"%m %_d 06:15:09", "%b %e %H:%M:%S", true, false},
	{"%m %2d 06:15:09", "%b %d %H:%M:%S", true, false},
	{"%m %d 06:15:09.250", "%b %d %H:%M:%S.%f", true, false},
	{"%m %_d 2031 06:15:09", "%b %e %Y %H:%M:%S", true, false},
	{"%m %_d 06:15:09 2031", "%b %e %H:%M:%S %Y", true, false},
	{"Wed %m %_d 06:15:09 2031", "%a %b %e %H:%M:%S %Y", true, false},
	{"Wed %m %2d 06:15:09 UTC 2031", "%a %b %d %H:%M:%S %Z %Y", true, false},
	{"Wed, %d %m 2031 06:15:09 +0000", "%a, %d %b %Y %H:%M:%S %z", true, false},
	{"Wednesday, %2d-%m-31 06:15:09 UTC", "%A, %d-%b-%y %H:%M:%S %Z", false, false},
	{"%2d/%m/2031:06:15:09 +0000", "%d/%b/%Y:%H:%M:%S %z", false, true},
	{"%m %2d, 2031 06:15:09", "%b %d, %Y %H:%M:%S", true, false},
	{"%m %d, 2031 6:15:09 AM", "%b %d, %Y %I:%M:%S %p", false, false},
	{"%d %m 06:15:09", "%d %b %H:%M:%S", false, false},
	{"%2d %m 2031 06:15:09", "%d %b %Y %H:%M:%S", true, false},
	{"%d. %m 2031 06:15:09", "%d. %b %Y %H:%M:%S", false, false},
	{"%2d-%m-2031 06:15:09", "%d-%b-%Y %H:%M:%S", false, false},
	{"%m-%2d-2031 06:15:09", "%b-%d-%Y %H:%M:%S", false, false},
	{"%m-%2d 06:15:09", "%b-%d %H:%M:%S", false, false},
	{"2031-%m-%2d 06:15:09", "%Y-%b-%d %H:%M:%S", false, false},
	{"%2d%m2031 06:15:09", "%d%b%Y %H:%M:%S", false, false},
}

func (s monthShape) write(name string, day int) string {
	return strings.NewReplacer("%m", name, "%2d", fmt.Sprintf("%02d", day), "%_d", fmt.Sprintf("%2d", day), "%d",
		fmt.Sprint(day)).
		Replace(s.shape)
}

// spellings are how a name of a month is written.
func spellings(name string) []string {
	out := []string{name, strings.ToUpper(name)}
	runes := []rune(name)
	if title := strings.ToUpper(string(runes[:1])) + string(runes[1:]); title != out[1] {
		out = append(out, title)
	}
	return slices.DeleteFunc(out, func(s string) bool { return strings.ToLower(s) != name })
}

// readBy reads a line by a format, and answers what is left of it.
func readBy(t *testing.T, p *Parser, line string, observed time.Time) (record.Record, bool) {
	t.Helper()
	b := &record.Batch{Arena: []byte(line), Schema: p.Schema()}
	r := record.Record{Body: record.Span{Len: uint32(len(line))}, Observed: observed.UnixNano()}
	return r, p.Read(b, &r)
}

// TestMonths: every name of every month, in every shape, on days of one digit and of two, is read by the recogniser,
// by syslog, by a template with a layout and by one without.
func TestMonths(t *testing.T) {
	t.Parallel()
	observed := time.Date(2031, 12, 29, 23, 0, 0, 0, time.UTC)
	compiled := func(s Spec) *Parser {
		p, err := Compile(s, Time{}, nil)
		require.NoError(t, err, "%+v", s)
		return p
	}
	syslog := compiled(Spec{Name: "syslog", Kind: "syslog", Time: Time{Zone: "UTC"}})
	web := compiled(Spec{Name: "web-common", Kind: "web-common", Time: Time{Zone: "UTC"}})
	names := 0
	for name, month := range monthsOfTheWorld {
		for _, spelled := range spellings(name) {
			names++
			for _, shape := range monthShapes {
				free := compiled(
					Spec{
						Name:     "t",
						Kind:     "template",
						Template: "[{ts:time}] {message:remainder}",
						Time:     Time{Field: "ts", Zone: "UTC"},
					},
				)
				given := compiled(
					Spec{
						Name:     "t",
						Kind:     "template",
						Template: "[{ts:time}] {message:remainder}",
						Time:     Time{Field: "ts", Zone: "UTC", Layout: shape.layout},
					},
				)
				for _, day := range []int{2, 9, 10, 28} {
					stamp := shape.write(spelled, day)
					want := time.Date(2031, time.Month(month), day, 6, 15, 9, 0, time.UTC)
					if strings.Contains(stamp, ".250") {
						want = want.Add(250 * time.Millisecond)
					}
					for _, by := range []struct {
						what string
						p    *Parser
						line string
						ok   bool
					}{
						{"template", free, "[" + stamp + "] lane 4 opened", true},
						{"layout", given, "[" + stamp + "] lane 4 opened", true},
						{"syslog", syslog, stamp + " lock-2 gated[7]: opened", shape.syslog},
						{"syslog with priority", syslog, "<38>" + stamp + " lock-2 gated[7]: opened", shape.syslog},
						{"web", web, `192.0.2.7 - - [` + stamp + `] "GET /fares HTTP/1.1" 200 512`, shape.web},
					} {
						if !by.ok {
							continue
						}
						r, ok := readBy(t, by.p, by.line, observed)
						if !ok || !time.Unix(0, r.Time).Equal(want) {
							t.Errorf(
								"%s: %q: read %v, %s, not %s",
								by.what,
								by.line,
								ok,
								time.Unix(0, r.Time).UTC().Format(time.RFC3339),
								want.Format(time.RFC3339),
							)
							if t.Failed() && names > 40 {
								return
							}
						}
					}
				}
			}
		}
	}
	assert.Greater(t, names, 400)
}

// TestWordsWithTwoMeanings: a word that is a day's name in one language and a month's in another is what its place
// says.
func TestWordsWithTwoMeanings(t *testing.T) {
	t.Parallel()
	c, err := newClock(Time{Zone: "UTC"})
	require.NoError(t, err)
	for text, want := range map[string]string{
		"Mar  2 06:15:09": "2031-03-02T06:15:09Z", "mar 2 avr 2031 06:15:09": "2031-04-02T06:15:09Z",
		"mar. 2 avril 2031 06:15": "2031-04-02T06:15:00Z",
		"mar 4 mar 2031 06:15:09": "2031-03-04T06:15:09Z", "Mar Mar  4 06:15:09 2031": "2031-03-04T06:15:09Z",
		"mar 04/03/2031 06:15:09": "2031-04-03T06:15:09Z", "mar, 04 mar 2031 06:15:09 +0100": "2031-03-04T05:15:09Z",
		"Mar 04, 2031 06:15:09": "2031-03-04T06:15:09Z", "mar 2031-03-04 06:15:09": "2031-03-04T06:15:09Z",
		"Tue Mar  4 06:15:09 2031": "2031-03-04T06:15:09Z", "mar 04.03.2031 06:15:09": "2031-03-04T06:15:09Z",
	} {
		v, n, ok := recognise([]byte(text))
		if assert.True(t, ok, "%q", text) {
			assert.Equal(t, len(text), n, "%q", text)
			got, _ := c.resolve(&v, time.Date(2031, 12, 1, 0, 0, 0, 0, time.UTC).UnixNano(), 0)
			assert.Equal(t, want, time.Unix(0, got).UTC().Format(time.RFC3339Nano), "%q", text)
		}
	}
}

// TestYears: a date without a year is the newest that is at most two days after what it is measured by, in any zone,
// on any day.
func TestYears(t *testing.T) {
	t.Parallel()
	for _, zone := range []string{"UTC", "Europe/Lisbon", "Pacific/Kiritimati", "America/Los_Angeles"} {
		loc, err := time.LoadLocation(zone)
		require.NoError(t, err)
		p, err := Compile(Spec{Name: "syslog", Kind: "syslog", Time: Time{Zone: zone}}, Time{}, nil)
		require.NoError(t, err)
		for from := time.Date(2030, 11, 20, 13, 30, 0, 0, time.UTC); from.Year() < 2034; from = from.AddDate(0, 0,
			17) {
			for day := time.Date(2032, 1, 1, 6, 15, 9, 0, loc); day.Year() == 2032; day = day.AddDate(0, 0, 1) {
				r, ok := readBy(t, p, day.Format("Jan _2 15:04:05")+" lock-2 gated: opened", from)
				require.True(t, ok)
				got := time.Unix(0, r.Time).In(loc)
				require.Equal(t, day.Format("0102 150405"), got.Format("0102 150405"), "from %s", from)
				require.LessOrEqual(
					t,
					got.Sub(from),
					48*time.Hour,
					"%s from %s in %s",
					day.Format("Jan _2"),
					from,
					zone,
				)
				next := time.Date(got.Year()+1, got.Month(), got.Day(), 6, 15, 9, 0, loc)
				require.True(
					t,
					next.Month() != got.Month() || next.Sub(from) > 48*time.Hour,
					"%s from %s in %s: %s is not the newest",
					day.Format("Jan _2"),
					from,
					zone,
					got,
				)
				require.Equal(t, record.TimeGuessedYear, r.TimeNote)
			}
		}
	}
}

// TestYearsOfAFile: what a file holds is measured by when it was last written, when that is known, not by when it is
// read.
func TestYearsOfAFile(t *testing.T) {
	t.Parallel()
	p, err := Compile(Spec{Name: "syslog", Kind: "syslog", Time: Time{Zone: "UTC"}}, Time{}, nil)
	require.NoError(t, err)
	written := time.Date(2030, 2, 3, 9, 0, 0, 0, time.UTC)
	for line, want := range map[string]string{
		"Dec 30 23:59:59 lock-2 gated: a": "2029-12-30T23:59:59Z",
		"Jan  1 00:00:00 lock-2 gated: b": "2030-01-01T00:00:00Z",
		"Feb  3 08:59:00 lock-2 gated: c": "2030-02-03T08:59:00Z",
		"Feb 29 08:59:00 lock-2 gated: d": "2028-02-29T08:59:00Z",
	} {
		b := &record.Batch{Arena: []byte(line), Schema: p.Schema(), Written: written.UnixNano()}
		r := record.Record{
			Body:     record.Span{Len: uint32(len(line))},
			Observed: time.Date(2031, 11, 28, 0, 0, 0, 0, time.UTC).UnixNano(),
		}
		require.True(t, p.Read(b, &r), line)
		assert.Equal(t, want, time.Unix(0, r.Time).UTC().Format(time.RFC3339), line)
	}
}

// TestFractionBeforeTheZone: a fraction that is not the end of a layout counts in every record, though most of a stamp
// is remembered.
func TestFractionBeforeTheZone(t *testing.T) {
	t.Parallel()
	p, err := Compile(
		Spec{
			Name:     "t",
			Kind:     "template",
			Template: "[{ts:time}] {m:remainder}",
			Time:     Time{Field: "ts", Layout: "%Y-%m-%d %H:%M:%S.%f %z"},
		},
		Time{},
		nil,
	)
	require.NoError(t, err)
	for range 3 {
		r, ok := readBy(t, p, "[2031-04-02 06:15:09.250 +02:00] a", time.Unix(0, 0))
		require.True(t, ok)
		assert.Equal(t, "2031-04-02T04:15:09.25Z", time.Unix(0, r.Time).UTC().Format(time.RFC3339Nano))
	}
}
