// Package fleetsim is a whole made-up fleet in one process: the Whimbrel Line with its terminals and vessels, real
// agents for each of its hosts, programs that write logs, and receivers that count what arrives.
package fleetsim

import (
	"fmt"
	"math/rand/v2"
	"regexp"
	"strings"
	"time"
)

// Machine is a host of the ferry line.
type Machine struct {
	Name string
	Site string
	Role string
	Logs []Log
}

// Log is a file that a program on a machine writes. Line makes record number n at a time; id is the mark by which the
// record is known again at the receivers.
type Log struct {
	Source string // "" when nobody collects it
	Path   string // below the machine's log folder
	Rotate string // rename, copytruncate, or ""
	Every  time.Duration
	Line   func(r *rand.Rand, id string, n int, at time.Time) string
	Goes   []string // destinations that get every record that is not dropped
}

func pick(r *rand.Rand, list ...string) string { return list[r.IntN(len(list))] }

func gateLine(zone string) func(*rand.Rand, string, int, time.Time) string {
	loc := mustZone(zone)
	return func(r *rand.Rand, id string, n int, at time.Time) string {
		return fmt.Sprintf(
			"%s lane=%d ticket=T-%05d doc=%s result=%s id=%s took=%dms\n",
			at.In(loc).Format("2006-01-02 15:04:05.000"),
			1+n%6,
			r.IntN(100000),
			passportNumber(r),
			pick(r, "OK", "OK", "OK", "OK", "OK", "OK", "DENIED", "FAULT"),
			id,
			20+r.IntN(180),
		)
	}
}

func kioskLine(zone string) func(*rand.Rand, string, int, time.Time) string {
	loc := mustZone(zone)
	return func(r *rand.Rand, id string, n int, at time.Time) string {
		said := pick(r, "ticket sold", "ticket sold", "drawer opened", "paper low")
		if n%4 == 0 { // in the text, where no field tells that it is private
			said = fmt.Sprintf("loyalty card %s, receipt to %s", loyaltyCard(r), email(r))
		}
		return fmt.Sprintf(
			`{"time":"%s","level":"%s","msg":"%s","id":"%s","fare":{"kind":"%s","cents":%d},"cash":%t}`+"\n",
			at.In(loc).Format("2006-01-02T15:04:05.000"),
			pick(
				r,
				"info",
				"info",
				"info",
				"warn",
			),
			said,
			id,
			pick(r, "foot", "car", "bicycle"),
			450+50*r.IntN(60),
			n%5 == 0,
		)
	}
}

func bridgeLine(zone string) func(*rand.Rand, string, int, time.Time) string {
	loc := mustZone(zone)
	return func(r *rand.Rand, id string, n int, at time.Time) string {
		return fmt.Sprintf(
			"time=%s level=%s axles=%d kg=%d plate=none msg=\"vehicle %s\" id=%s\n",
			at.In(loc).Format("2006-01-02T15:04:05.000000"),
			pick(
				r,
				"info",
				"info",
				"warning",
			),
			2+r.IntN(4),
			900+r.IntN(30000),
			pick(r, "weighed", "weighed", "too heavy for deck 2"),
			id,
		)
	}
}

func tideLine(gauge string) func(*rand.Rand, string, int, time.Time) string {
	return func(r *rand.Rand, id string, n int, at time.Time) string {
		return fmt.Sprintf(
			"%s %s level=%.2fm trend=%s id=%s\n",
			at.UTC().Format("02.01.2006 15:04:05"),
			gauge,
			2+float64(n%120)/100,
			pick(r, "rising", "falling", "slack"),
			id,
		)
	}
}

func webLine(r *rand.Rand, id string, n int, at time.Time) string {
	return fmt.Sprintf(
		"198.51.100.%d - - [%s] \"%s /%s?id=%s HTTP/1.1\" %s %d \"%s\" \"%s\"\n",
		1+r.IntN(250),
		at.UTC().Format("02/Jan/2006:15:04:05 -0700"),
		pick(r, "GET", "GET", "GET", "POST"),
		pick(
			r,
			"sailings",
			"fares",
			"book",
			"seats",
			"manage/"+email(r),
		),
		id,
		pick(r, "200", "200", "200", "304", "404", "503"),
		200+r.IntN(9000),
		pick(r, "-", "https://whimbrel.example/"),
		pick(r, "WhimbrelApp/4.2 (tide)", "Explorer/126.0.0.0 \\\"kiosk\\\""),
	)
}

func appLine(r *rand.Rand, id string, n int, at time.Time) string {
	said := pick(r, "seats held", "booking confirmed", "fare quoted", "payment desk does not answer")
	if n%3 == 0 {
		said = fmt.Sprintf(
			"card %s declined for %s",
			pick(r, "4111 1111 1111 1111", "5555-5555-5555-4444", "378282246310005"),
			email(r),
		)
	}
	return fmt.Sprintf(
		`{"timestamp":"%s","severity":"%s","message":"%s","id":"%s","sailing":"W%03d","seats":[%d,%d],"passenger":{"name":"%s","passport":"%s","phone":"%s"},"took_ms":%.1f}`+"\n",
		at.UTC().Format(time.RFC3339Nano),
		pick(
			r,
			"INFO",
			"INFO",
			"INFO",
			"DEBUG",
			"ERROR",
		),
		said,
		id,
		r.IntN(400),
		r.IntN(80),
		r.IntN(80),
		pick(r, "Avelina Brisk", "Tomé Salgado", "Runa Kestrel"),
		passportNumber(r),
		phoneNumber(r),
		3+r.Float64()*90,
	)
}

// crewLine is of a log that nobody collects yet.
func crewLine(r *rand.Rand, id string, n int, at time.Time) string {
	return fmt.Sprintf(
		"%s | %-5s | ramp %d | %s | %s\n",
		at.UTC().Format("2006-01-02 15:04:05"),
		pick(r, "INFO", "INFO", "WARN"),
		1+n%3,
		pick(r, "opened", "closed", "salted"),
		id,
	)
}

// Passengers are made up, and so is all that belongs to them.
func passportNumber(r *rand.Rand) string { return fmt.Sprintf("PA%07d", r.IntN(10_000_000)) }
func loyaltyCard(r *rand.Rand) string    { return fmt.Sprintf("WL-%08d", r.IntN(100_000_000)) }
func phoneNumber(r *rand.Rand) string    { return fmt.Sprintf("+351 21 555 %04d", r.IntN(10_000)) }
func email(r *rand.Rand) string {
	return fmt.Sprintf("%s.%d@traveller.example", pick(r, "avelina", "tome", "runa"), r.IntN(10_000))
}

// private finds the private data of the demo in what is written and in what arrives. It knows how the demo makes it
// up, and nothing of masks.
var private = regexp.MustCompile(
	`PA\d{7}|WL-\d{8}|@traveller\.example|\+351 21 555|4111 1111|5555-5555|378282246310005|198\.51\.100\.\d|Avelina Brisk|Tomé Salgado|Runa Kestrel`,
)

func noteLine(r *rand.Rand, id string, n int, at time.Time) string {
	return fmt.Sprintf(
		"%s %s id=%s\n",
		at.UTC().Format("15:04"),
		pick(
			r,
			"fog bank west of Gull Point, speed reduced",
			"Dunlin asks for berth 2",
			"swell at Saltmarsh below one metre",
		),
		id,
	)
}

func engineLine(vessel string) func(*rand.Rand, string, int, time.Time) string {
	return func(r *rand.Rand, id string, n int, at time.Time) string {
		return fmt.Sprintf(
			"== %s %s engine %d id=%s rpm %d\n   oil %.1f bar\n   coolant %d C\n",
			at.UTC().Format("2006-01-02T15:04:05-0700"),
			vessel,
			1+n%2,
			id,
			900+r.IntN(900),
			3+r.Float64()*2,
			70+r.IntN(20),
		)
	}
}

func mustZone(name string) *time.Location {
	loc, err := time.LoadLocation(name)
	if err != nil {
		panic(fmt.Sprintf("zone %s of the demo: %v", name, err))
	}
	return loc
}

// WhimbrelLine is the fleet.
func WhimbrelLine() []Machine {
	const lisbon, azores = "Europe/Lisbon", "Atlantic/Azores"
	archive := []string{"harbour-archive"}
	var all []Machine
	gate := func(name, site, zone string) {
		all = append(all, Machine{name, site, "gate", []Log{
			{"gate-scans", "gate/lane-1.log", "rename", 400 * time.Millisecond, gateLine(zone), archive},
			{"gate-scans", "gate/lane-2.log", "copytruncate", 700 * time.Millisecond, gateLine(zone), archive},
			{"", "gate/crew.log", "", 2 * time.Second, crewLine, nil},
		}})
	}
	kiosk := func(name, site, zone string, printer bool) {
		m := Machine{
			name,
			site,
			"kiosk",
			[]Log{
				{
					"kiosk-sales",
					"kiosk/sales.json",
					"rename",
					900 * time.Millisecond,
					kioskLine(zone),
					[]string{"watch-desk"},
				},
			},
		}
		if printer {
			m.Logs = append(
				m.Logs,
				Log{"kiosk-printer", "kiosk/printer.log", "", 3 * time.Second, noteLine, []string{"harbour-archive"}},
			)
		}
		all = append(all, m)
	}
	gate("gate-northpier-1", "northpier", lisbon)
	gate("gate-northpier-2", "northpier", lisbon)
	gate("gate-saltmarsh-1", "saltmarsh", lisbon)
	gate("gate-gull-point-1", "gull-point", azores)
	kiosk("kiosk-northpier-1", "northpier", lisbon, true)
	kiosk("kiosk-saltmarsh-1", "saltmarsh", lisbon, true)
	kiosk("kiosk-gull-point-1", "gull-point", azores, false)
	for _, name := range []string{"booking-1", "booking-2"} {
		all = append(all, Machine{name, "northpier", "booking", []Log{
			{"booking-web", "web/access.log", "rename", 150 * time.Millisecond, webLine, []string{"harbour-archive"}},
			{
				"booking-app",
				"app/booking.json",
				"copytruncate",
				300 * time.Millisecond,
				appLine,
				[]string{"watch-desk"},
			},
		}})
	}
	all = append(
		all,
		Machine{
			"bridge-saltmarsh",
			"saltmarsh",
			"weighbridge",
			[]Log{
				{
					"weighbridge",
					"bridge/axles.log",
					"",
					1500 * time.Millisecond,
					bridgeLine(lisbon),
					[]string{"harbour-archive"},
				},
			},
		},
	)
	for _, site := range []string{"northpier", "saltmarsh", "gull-point"} {
		name := "gauge-" + site
		all = append(
			all,
			Machine{
				name,
				site,
				"gauge",
				[]Log{
					{"tide-gauges", "tide/gauge.log", "rename", time.Second, tideLine(name), []string{"watch-desk"}},
				},
			},
		)
	}
	for _, name := range []string{"petrel", "dunlin", "turnstone"} {
		all = append(
			all,
			Machine{
				name,
				"fleet",
				"vessel",
				[]Log{
					{
						"engine-reports",
						"engine/main.log",
						"rename",
						1200 * time.Millisecond,
						engineLine(name),
						[]string{"harbour-archive"},
					},
				},
			},
		)
	}
	return append(
		all,
		Machine{
			"watch-desk-1",
			"northpier",
			"desk",
			append([]Log{
				{
					"desk-notes",
					"desk/notes.txt",
					"",
					4 * time.Second,
					noteLine,
					[]string{"desk-journal", "watch-desk"},
				},
			}, devices()...),
		},
	)
}

// idOf finds the mark in the text of a record.
func idOf(text string) string {
	for _, before := range []string{"id=", `"id":"`} {
		if i := strings.Index(text, before); i >= 0 {
			rest := text[i+len(before):]
			if end := strings.IndexAny(rest, " \"\n&"); end >= 0 {
				rest = rest[:end]
			}
			return rest
		}
	}
	return ""
}
