package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"regexp"
	"strconv"
	"time"

	"synaxis/internal/core/format"
	"synaxis/internal/core/mask"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/record"
)

// readLines is so small that a log stays in the processor's cache, as what was just read from a file does.
const readLines = 5_000

// reader is the treatment of a log by a format, in one batch that is used again as on a host. What was read from the
// file is there for both sides.
func reader(spec format.Spec, data []byte) func() (int, error) {
	t, err := pipeline.Compile(pipeline.Source{Time: format.Time{Zone: "UTC"}}, spec, pipeline.Parts{})
	b := &record.Batch{}
	return func() (int, error) {
		if err != nil {
			return 0, err
		}
		read := 0
		for done := 0; done < len(data); {
			b.Reset()
			end := min(done+256<<10, len(data))
			b.Arena = data[done:end:end]
			used, c := t.Run(b, int64(done), 0, 2000, end == len(data))
			if c.Unparsed > 0 || used == 0 {
				return 0, fmt.Errorf("%d not read", c.Unparsed)
			}
			read, done = read+int(c.Read), done+used
		}
		if read != readLines {
			return 0, fmt.Errorf("%d records of %d", read, readLines)
		}
		return read, nil
	}
}

// grouped is the plain way to the same record: one regexp with named groups for each line, into a map, the time of a
// layout in UTC, and what is a number as one.
func grouped(expression string, data []byte, layout string, ints ...string) func() (int, error) {
	re := regexp.MustCompile(expression)
	names := re.SubexpNames()
	return func() (int, error) {
		n := 0
		for line := range bytes.Lines(data) {
			m := re.FindSubmatch(bytes.TrimRight(line, "\n"))
			if m == nil {
				return 0, fmt.Errorf("not read: %s", line)
			}
			fields := make(map[string]string, len(names))
			for i, name := range names[1:] {
				fields[name] = string(m[i+1])
			}
			at, err := time.Parse(layout, fields["time"])
			if err != nil {
				return 0, err
			}
			for _, name := range ints {
				if _, err := strconv.ParseInt(fields[name], 10, 64); err != nil {
					return 0, err
				}
			}
			if !at.IsZero() {
				n++
			}
		}
		return n, nil
	}
}

func made(line func(i int) string) []byte {
	var b bytes.Buffer
	for i := range readLines {
		b.WriteString(line(i))
		b.WriteByte('\n')
	}
	return b.Bytes()
}

var readFrom = time.Date(2031, 4, 2, 6, 0, 0, 0, time.UTC)

func readWeb() (pair, error) {
	data := made(func(i int) string {
		return fmt.Sprintf(
			`198.51.100.%d - - [%s] "GET /sailings/%d?seat=%d HTTP/1.1" %d %d "https://whimbrel.example/fares" "WhimbrelApp/4.%d (tide)"`,
			i%250,
			readFrom.Add(time.Duration(i/200)*time.Second).Format("02/Jan/2006:15:04:05 -0700"),
			i%977,
			i%80,
			[]int{200, 304, 404}[i%3],
			200+i%9000,
			i%10,
		)
	})
	spec, _ := format.BuiltIn("web-combined")
	base := grouped(
		`^(?P<address>\S+) \S+ (?P<user>\S+) \[(?P<time>[^\]]+)\] "(?P<method>\S+) (?P<path>[^ ?]*)(?:\?(?P<query>\S*))? HTTP/(?P<version>[\d.]+)" (?P<status>\d{3}) (?P<size>\d+|-) "(?P<referer>[^"]*)" "(?P<agent>[^"]*)"$`,
		data,
		"02/Jan/2006:15:04:05 -0700",
		"status",
		"size",
	)
	return pair{
		"web-combined, against regexp with named groups",
		"lines/s",
		25,
		reader(spec, data),
		base,
		func() {},
	}, nil
}

func readTemplate() (pair, error) {
	data := made(func(i int) string {
		return fmt.Sprintf(
			"%s [pool-%d-thread-%d] %-5s booking.seats.Desk%d - seat %d is held for sailing W%03d of a passenger, "+
				"took %d ms",
			readFrom.Add(time.Duration(i)*time.Millisecond).Format("2006-01-02 15:04:05.000"),
			i%3,
			i%40,
			[]string{"INFO", "WARN", "DEBUG"}[i%3],
			i%9,
			i%80,
			i%400,
			i%900,
		)
	})
	spec := format.Spec{
		Name:     "app",
		Kind:     "template",
		Template: "{ts:time} [{thread}] {level:token} {logger} - {message:remainder}",
		Time:     format.Time{Field: "ts"},
		Level:    format.Level{Field: "level"},
		Body:     "message",
	}
	base := grouped(
		`^(?P<time>\d{4}-\d\d-\d\d \d\d:\d\d:\d\d\.\d{3}) \[(?P<thread>.*?)\] (?P<level>\w+)\s+(?P<logger>.*?) - (?P<message>.*)$`,
		data,
		"2006-01-02 15:04:05.000",
	)
	return pair{"template, against regexp with named groups", "lines/s", 25, reader(spec, data), base, func() {}}, nil
}

// readShort is the worst case of a template: a short line of nothing but short fields, whose expression needs no
// second look at any byte. It is measured, and has no aim.
func readShort() (pair, error) {
	data := made(func(i int) string {
		return fmt.Sprintf(
			"%s lane=%d ticket=T-%05d result=%s took=%dms",
			readFrom.Add(time.Duration(i)*time.Millisecond).Format("2006-01-02 15:04:05.000"),
			i%8,
			i%90000,
			[]string{"OK", "DENIED"}[i%2],
			i%900,
		)
	})
	spec := format.Spec{
		Name:     "lane",
		Kind:     "template",
		Template: "{ts:time} lane={lane:int} ticket={ticket:token} result={result:token} took={ms:int}ms",
		Time:     format.Time{Field: "ts"},
	}
	base := grouped(
		`^(?P<time>\d{4}-\d\d-\d\d \d\d:\d\d:\d\d\.\d{3}) lane=(?P<lane>\d+) ticket=(?P<ticket>\S+) result=(?P<result>\S+) took=(?P<ms>\d+)ms$`,
		data,
		"2006-01-02 15:04:05.000",
		"lane",
		"ms",
	)
	return pair{"template of short fields, likewise", "lines/s", 0, reader(spec, data), base, func() {}}, nil
}

func readJSON() (pair, error) {
	data := made(func(i int) string {
		return fmt.Sprintf(
			`{"time":"%s","level":"info","msg":"ticket sold","kiosk":"northpier-%d","fare":{"cents":%d,"kind":"return"},"paid":true}`,
			readFrom.Add(time.Duration(i)*time.Millisecond).Format(time.RFC3339Nano),
			i%4,
			i%9000,
		)
	})
	spec, _ := format.BuiltIn("json")
	base := func() (int, error) {
		n := 0
		for line := range bytes.Lines(data) {
			var m map[string]any
			if err := json.Unmarshal(line, &m); err != nil {
				return 0, err
			}
			if len(m) > 0 {
				n++
			}
		}
		return n, nil
	}
	return pair{"json, against encoding/json into a map", "lines/s", 6, reader(spec, data), base, func() {}}, nil
}

func readPairs() (pair, error) {
	data := made(func(i int) string {
		return fmt.Sprintf(
			`ts=%s level=info msg="vehicle weighed" axles=%d kg=%d plate=none lane=%d`,
			readFrom.Add(time.Duration(i)*time.Millisecond).Format(time.RFC3339Nano),
			2+i%4,
			900+i%30000,
			i%8,
		)
	})
	spec, _ := format.BuiltIn("keyvalue")
	re := regexp.MustCompile(`([\w.]+)=(?:"([^"]*)"|(\S*))`)
	base := func() (int, error) {
		n := 0
		for line := range bytes.Lines(data) {
			fields := map[string]string{}
			for _, m := range re.FindAllSubmatch(line, -1) {
				fields[string(m[1])] = string(m[2]) + string(m[3])
			}
			if len(fields) > 0 {
				n++
			}
		}
		return n, nil
	}
	return pair{"keyvalue, against regexp", "lines/s", 10, reader(spec, data), base, func() {}}, nil
}

// findThree is three detectors against three expressions, with private data in one line of each hundred.
func findThree() (pair, error) {
	data := made(func(i int) string {
		if i%100 == 7 {
			return "2031-04-02 06:15:09 kiosk=2 paid card 4111 1111 1111 1111 receipt to kelp@skerry.example from " +
				"192.0.2.17 result=OK"
		}
		return fmt.Sprintf(
			"2031-04-02 06:15:09 lane=%d result=OK operator=kelp load=17.25 note=the tide is out and the ramp is steep",
			i%8,
		)
	})
	const hits = readLines / 100 * 3
	var finders []*mask.Finder
	for _, d := range []string{"payment-card", "email", "ipv4"} {
		f, err := mask.BuiltIn(d).Finder()
		if err != nil {
			return pair{}, err
		}
		finders = append(finders, f)
	}
	ours := func() (int, error) {
		n := 0
		for line := range bytes.Lines(data) {
			for _, f := range finders {
				n += len(f.Find(line, ""))
			}
		}
		if n != hits {
			return 0, fmt.Errorf("%d hits of %d", n, hits)
		}
		return readLines, nil
	}
	three := []*regexp.Regexp{
		regexp.MustCompile(`\b(?:\d[ -]?){12,18}\d\b`),
		regexp.MustCompile(`[\w.+-]+@[\w-]+(?:\.[\w-]+)+`),
		regexp.MustCompile(`\b\d{1,3}(?:\.\d{1,3}){3}\b`),
	}
	base := func() (int, error) {
		n := 0
		for line := range bytes.Lines(data) {
			for _, re := range three {
				n += len(re.FindAllIndex(line, -1))
			}
		}
		if n < hits {
			return 0, fmt.Errorf("%d hits of %d", n, hits)
		}
		return readLines, nil
	}
	return pair{"three detectors, against three regexps", "lines/s", 50, ours, base, func() {}}, nil
}
