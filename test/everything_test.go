package test

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	collogs "go.opentelemetry.io/proto/otlp/collector/logs/v1"
	common "go.opentelemetry.io/proto/otlp/common/v1"
	logs "go.opentelemetry.io/proto/otlp/logs/v1"
	"google.golang.org/protobuf/proto"

	"synaxis/internal/contract"
)

// marks is what stands in each record of the test of everything: its source and its number there.
var marks = regexp.MustCompile(`made-by=([a-z-]+) n=(\d+)\b`)

// arrivals are the records that came to each destination, by source and number, with how often each came.
type arrivals struct {
	mu sync.Mutex
	of map[string]map[string]map[int]int
}

func (a *arrivals) take(destination, text string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, m := range marks.FindAllStringSubmatch(text, -1) {
		n, _ := strconv.Atoi(m[2])
		if a.of[destination] == nil {
			a.of[destination] = map[string]map[int]int{}
		}
		if a.of[destination][m[1]] == nil {
			a.of[destination][m[1]] = map[int]int{}
		}
		a.of[destination][m[1]][n]++
	}
}

// count is how many different records of a source came to a destination, and how many came again.
func (a *arrivals) count(destination, source string) (different, again int) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, n := range a.of[destination][source] {
		different++
		again += n - 1
	}
	return different, again
}

// most is the highest number of a source that came to a destination.
func (a *arrivals) most(destination, source string) (most int) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for n := range a.of[destination][source] {
		most = max(most, n)
	}
	return most
}

// reread takes what a file holds.
func (a *arrivals) reread(t *testing.T, path string) {
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	a.mu.Lock()
	delete(a.of, "kept")
	a.mu.Unlock()
	a.take("kept", string(text))
}

// everything are the writers of all inputs. Each writes lines that say who made them, and counts them.
type everything struct {
	t     *testing.T
	dir   string
	stop  chan struct{}
	all   sync.WaitGroup
	mu    sync.Mutex
	wrote map[string]int
}

// write runs a writer until the end: turn writes lines from a number on, and answers how many.
func (e *everything) write(source string, every time.Duration, turn func(lines []string) error) {
	e.all.Go(func() {
		for n := 0; ; {
			select {
			case <-e.stop:
				return
			case <-time.After(every):
			}
			var lines []string
			for i := range 10 {
				lines = append(lines, fmt.Sprintf("made-by=%s n=%d", source, n+i))
			}
			if err := turn(lines); err != nil {
				e.t.Errorf("%s: %v", source, err)
				return
			}
			n += len(lines)
			e.mu.Lock()
			e.wrote[source] = n
			e.mu.Unlock()
		}
	})
}

// appendTo appends lines to a file, which is renamed away now and then.
func (e *everything) appendTo(path string) func([]string) error {
	turns := 0
	return func(lines []string) error {
		f, err := os.OpenFile(path, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
		if err != nil {
			return err
		}
		defer f.Close()
		if _, err := io.WriteString(f, strings.Join(lines, "\n")+"\n"); err != nil {
			return err
		}
		if turns++; turns%200 == 0 {
			return os.Rename(path, fmt.Sprintf("%s.%d", path, turns/200))
		}
		return nil
	}
}

// pack writes lines as packed files.
func (e *everything) pack(dir string) func([]string) error {
	files := 0
	return func(lines []string) error {
		var b bytes.Buffer
		z := gzip.NewWriter(&b)
		if _, err := io.WriteString(z, strings.Join(lines, "\n")+"\n"); err != nil {
			return err
		}
		if err := z.Close(); err != nil {
			return err
		}
		files++
		at := filepath.Join(dir, fmt.Sprintf("part-%06d.gz", files))
		if err := os.WriteFile(at+".new", b.Bytes(), 0o644); err != nil {
			return err
		}
		return os.Rename(at+".new", at)
	}
}

// send writes each line as a message over one connection.
func (e *everything) send(c net.Conn, message func(line string) string) func([]string) error {
	e.t.Cleanup(func() { c.Close() })
	return func(lines []string) error {
		for _, l := range lines {
			if _, err := io.WriteString(c, message(l)); err != nil {
				return err
			}
		}
		return nil
	}
}

// push sends lines as the body of a request, again and again until it is answered well.
func (e *everything) push(url, kind string, body func(lines []string) []byte) func([]string) error {
	return func(lines []string) error {
		for began := time.Now(); ; time.Sleep(50 * time.Millisecond) {
			resp, err := http.Post(url, kind, bytes.NewReader(body(lines)))
			if err == nil {
				resp.Body.Close()
				if resp.StatusCode/100 == 2 {
					return nil
				}
				if resp.StatusCode != http.StatusTooManyRequests && resp.StatusCode != http.StatusServiceUnavailable {
					return fmt.Errorf("%s answers %s", url, resp.Status)
				}
			}
			if time.Since(began) > time.Minute {
				return fmt.Errorf("%s takes nothing: %v", url, err)
			}
		}
	}
}

func syslogLine(l string) string { return "<134>1 2031-04-02T06:15:09Z quay crane 7 - - " + l }

// script is a program of the test.
func (e *everything) script(name, text string) string {
	path := filepath.Join(e.dir, name)
	require.NoError(e.t, os.WriteFile(path, []byte("#!/bin/sh\n"+text), 0o755))
	return path
}

// prints is a program that prints lines until the file "stop" is there, and then how many into the file NAME.n.
func (e *everything) prints(name, source, line string) string {
	return e.script(name, fmt.Sprintf("n=0; while [ ! -e %[1]s/stop ]; do "+line+"; n=$((n+1)); sleep 0.05; done; "+
		"echo $n > %[1]s/%[2]s.n; exec sleep 600\n", e.dir, source))
}

// printed is how many lines such a program printed.
func (e *everything) printed(source string) (n int) {
	eventually(e.t, time.Minute, source+" to say how many", func() bool {
		text, err := os.ReadFile(filepath.Join(e.dir, source+".n"))
		if err == nil {
			n, err = strconv.Atoi(strings.TrimSpace(string(text)))
		}
		return err == nil
	})
	return n
}

// sinks are receivers of all kinds. The one of HTTP is down at times and loses answers.
func sinks(t *testing.T, got *arrivals, at string) (definitions string) {
	began := time.Now()
	var calls atomic.Int64
	push := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		text, err := io.ReadAll(r.Body)
		n := calls.Add(1)
		if err != nil || int(time.Since(began).Seconds())%10 >= 8 {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		got.take("pushed", string(text))
		if n%50 == 0 {
			if c, _, err := w.(http.Hijacker).Hijack(); err == nil {
				c.Close()
			}
		}
	}))
	t.Cleanup(func() { push.CloseClientConnections(); push.Close() })
	telemetry := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		text, err := io.ReadAll(r.Body)
		if r.Header.Get("Content-Encoding") == "gzip" && err == nil {
			var z *gzip.Reader
			if z, err = gzip.NewReader(bytes.NewReader(text)); err == nil {
				text, err = io.ReadAll(z)
			}
		}
		var req collogs.ExportLogsServiceRequest
		if err != nil || proto.Unmarshal(text, &req) != nil {
			w.WriteHeader(http.StatusBadRequest)
			return
		}
		for _, rl := range req.ResourceLogs {
			for _, sl := range rl.ScopeLogs {
				for _, x := range sl.LogRecords {
					got.take("telemetry", x.Body.GetStringValue())
				}
			}
		}
		w.Header().Set("Content-Type", "application/x-protobuf")
	}))
	t.Cleanup(func() { telemetry.CloseClientConnections(); telemetry.Close() })
	relay, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { relay.Close() })
	go func() {
		for {
			c, err := relay.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				for in := bufio.NewReader(c); ; { // each message has its length before it
					count, err := in.ReadString(' ')
					if err != nil {
						return
					}
					n, err := strconv.Atoi(strings.TrimSpace(count))
					message := make([]byte, max(0, n))
					if _, bad := io.ReadFull(in, message); err != nil || bad != nil {
						return
					}
					got.take("relay", string(message))
				}
			}()
		}
	}()
	return fmt.Sprintf("destination: pushed\ndeliver: {http: {url: %q}}\nbatch: {wait: 100ms}\nretry: {first: 50ms, longest: 500ms}\n---\n"+
		"destination: telemetry\ndeliver: {otlp: {url: %q}}\nbatch: {wait: 100ms}\n---\ndestination: relay\ndeliver: {syslog: {address: %q, "+
		"transport: tcp}}\nbatch: {wait: 100ms}\n---\ndestination: kept\ndeliver: {file: {path: %q}}\nbatch: {wait: 100ms}\n"+
		"isolate: true\n---\ndestination: nowhere\ndeliver: {discard: {}}\nbatch: {wait: 100ms}\n",
		push.URL, telemetry.URL, relay.Addr(), at)
}

// TestEverything reads by every input and delivers in every way at the same time, and accounts for each record in one
// table: what was written, read and dropped by a rule, and what came to each destination. SYNAXIS_LONG=10m makes it
// long.
func TestEverything(t *testing.T) {
	t.Parallel()
	long := howLong(t, "SYNAXIS_LONG", 10*time.Second)
	e := &everything{t: t, dir: t.TempDir(), stop: make(chan struct{}), wrote: map[string]int{}}
	for _, name := range []string{"log", "named", "packed"} {
		require.NoError(t, os.Mkdir(filepath.Join(e.dir, name), 0o755))
	}
	got := &arrivals{of: map[string]map[string]map[int]int{}}
	kept := filepath.Join(e.dir, "kept.ndjson")
	ports := map[string]string{"datagrams": port(t, "udp")}
	for _, name := range []string{"streams", "secret-streams", "nulls", "pushes", "protobufs", "json-otlp"} {
		ports[name] = port(t, "tcp")
	}
	which := e.script("which", "find "+e.dir+"/named -type f\n")
	often := e.script("often", fmt.Sprintf("[ -e %[1]s/stop ] && exit 0; n=$(cat %[1]s/often.at 2>/dev/null || echo 0); for i in 1 2 3 4 5; do "+
		"echo made-by=often n=$n; n=$((n+1)); done; echo $n > %[1]s/often.at\n", e.dir))
	always := e.prints("always", "always", "echo made-by=always n=$n")
	system := newSystemJournal(t)
	listen := func(kind, name, more string) string {
		return fmt.Sprintf("{%s: {listen: {address: 127.0.0.1, port: %s%s}}}", kind, ports[name], more)
	}
	reads := map[string]string{
		"files":          fmt.Sprintf("{files: [%q], first-read: start}", filepath.Join(e.dir, "log", "*")),
		"named-files":    fmt.Sprintf("{files-from: {command: [%s], every: 500ms}, first-read: start}", which),
		"packed":         fmt.Sprintf("{files: [%q], first-read: start}", filepath.Join(e.dir, "packed", "*.gz")),
		"datagrams":      listen("syslog", "datagrams", ""),
		"streams":        listen("syslog", "streams", ", transport: tcp"),
		"secret-streams": listen("syslog", "secret-streams", ", transport: tls, certificate: issued"),
		"nulls":          strings.Replace(listen("socket", "nulls", ""), "listen:", "framing: \"null\", listen:", 1),
		"pushes":         listen("http", "pushes", ""),
		"protobufs":      listen("otlp", "protobufs", ""),
		"json-otlp":      listen("otlp", "json-otlp", ""),
		"often":          fmt.Sprintf("{command: {run: [%s], every: 500ms}}", often),
		"always":         fmt.Sprintf("{command: {run: [%s]}}", always),
		"journal":        "{journal: {}}",
		"made-up":        `{generate: {rate: 50/s, template: "made-by=made-up n={n}"}}`,
	}
	names := slices.Sorted(maps.Keys(reads))
	outs := sinks(t, got, kept)
	catalogue := func(label string, those ...string) string {
		text := outs
		for _, name := range those {
			format := "raw"
			if strings.Contains(reads[name], "{syslog:") {
				format = "syslog\ntime: {zone: UTC}"
			}
			own := label
			if strings.Contains("often always made-up", name) { // a program is started anew for a new label
				own = ""
			}
			text += fmt.Sprintf("---\nsource: %s\nhosts: all\nread: %s\nformat: %s\n%ssteps: [{drop: 'body.endsWith(\"7\")'}]\n"+
				"send: [pushed, telemetry, relay, kept, nowhere]\n", name, reads[name], format, own)
		}
		return text
	}
	d := startDesk(t)
	startWith(t, append(joinsBy(d.joinToken(1, nil)), "PATH="+e.dir+":"+system.path), "synaxis-agent", "--service",
		d.url, "--state", filepath.Join(e.dir, "state"), "--name", "quay", "--report", "200ms")
	eventually(t, time.Minute, "the agent", func() bool { return d.connected("quay") })
	started := time.Now()
	d.publish(catalogue("", names...))
	require.Equal(t, contract.RolloutStateDone, d.rollOut().State)

	dial := func(network, name string) (c net.Conn) {
		eventually(t, time.Minute, name, func() bool {
			var err error
			c, err = net.Dial(network, "127.0.0.1:"+ports[name])
			return err == nil
		})
		return c
	}
	authority, code := d.cli("sender", "authority")
	require.Zero(t, code)
	trusted := x509.NewCertPool()
	require.True(t, trusted.AppendCertsFromPEM([]byte(authority)))
	var secret net.Conn
	eventually(t, time.Minute, "the certificate", func() bool {
		c, err := tls.Dial("tcp", "127.0.0.1:"+ports["secret-streams"], &tls.Config{RootCAs: trusted, ServerName: "quay"})
		if err == nil {
			secret = c
		}
		return err == nil
	})
	newline := func(l string) string { return syslogLine(l) + "\n" }
	system.followed(1)
	e.write("journal", 50*time.Millisecond, func(lines []string) error {
		for _, l := range lines {
			system.write("quay.service", l)
		}
		return nil
	})
	e.write("files", 50*time.Millisecond, e.appendTo(filepath.Join(e.dir, "log", "a.log")))
	e.write("named-files", 50*time.Millisecond, e.appendTo(filepath.Join(e.dir, "named", "b.log")))
	e.write("packed", time.Second, e.pack(filepath.Join(e.dir, "packed")))
	e.write("datagrams", 20*time.Millisecond, e.send(dial("udp", "datagrams"), syslogLine))
	e.write("streams", 20*time.Millisecond, e.send(dial("tcp", "streams"), newline))
	e.write("secret-streams", 20*time.Millisecond, e.send(secret, newline))
	e.write("nulls", 20*time.Millisecond, e.send(dial("tcp", "nulls"), func(l string) string { return l + "\x00" }))
	url := func(name, path string) string { return "http://127.0.0.1:" + ports[name] + path }
	e.write("pushes", 50*time.Millisecond, e.push(url("pushes", "/"), "text/plain", func(lines []string) []byte {
		return []byte(strings.Join(lines, "\n"))
	}))
	telemetry := func(lines []string) *collogs.ExportLogsServiceRequest {
		scope := &logs.ScopeLogs{}
		for _, l := range lines {
			scope.LogRecords = append(scope.LogRecords, &logs.LogRecord{Body: &common.AnyValue{
				Value: &common.AnyValue_StringValue{StringValue: l}}})
		}
		return &collogs.ExportLogsServiceRequest{ResourceLogs: []*logs.ResourceLogs{
			{ScopeLogs: []*logs.ScopeLogs{scope}}}}
	}
	e.write("protobufs", 50*time.Millisecond, e.push(url("protobufs", "/v1/logs"), "application/x-protobuf",
		func(lines []string) []byte {
			text, err := proto.Marshal(telemetry(lines))
			assert.NoError(t, err)
			return text
		}))
	e.write("json-otlp", 50*time.Millisecond, e.push(url("json-otlp", "/v1/logs"), "application/json",
		func(lines []string) []byte {
			var all []string
			for _, l := range lines {
				all = append(all, fmt.Sprintf(`{"body":{"stringValue":%q}}`, l))
			}
			return []byte(`{"resourceLogs":[{"scopeLogs":[{"logRecords":[` + strings.Join(all, ",") + `]}]}]}`)
		}))
	time.Sleep(long / 2)
	d.publish(catalogue("labels: {turn: second}\n", names...)) // while all of it goes on
	require.Equal(t, contract.RolloutStateDone, d.rollOut().State)
	time.Sleep(long / 2)
	close(e.stop)
	e.all.Wait()
	require.NoError(t, os.WriteFile(filepath.Join(e.dir, "stop"), nil, 0o600))
	require.False(t, t.Failed())
	e.wrote["always"] = e.printed("always")
	// what is made up ends with its source only
	d.publish(catalogue("labels: {turn: second}\n", slices.DeleteFunc(slices.Clone(names), func(n string) bool {
		return n == "made-up"
	})...))
	require.Equal(t, contract.RolloutStateDone, d.rollOut().State)
	size := int64(-1)
	eventually(t, time.Minute, "what was made up to arrive", func() bool { // nothing more comes for a while
		time.Sleep(time.Second)
		info, err := os.Stat(kept)
		was := size
		size = info.Size()
		return err == nil && was == size
	})
	got.reread(t, kept)
	e.wrote["made-up"] = got.most("kept", "made-up")
	at, err := os.ReadFile(filepath.Join(e.dir, "often.at"))
	require.NoError(t, err)
	e.wrote["often"], err = strconv.Atoi(strings.TrimSpace(string(at)))
	require.NoError(t, err)
	ways := []string{"pushed", "telemetry", "relay", "kept"}
	settled := func() bool {
		for _, name := range names {
			for _, way := range ways {
				if have, _ := got.count(way, name); have < e.left(name) {
					return false
				}
			}
		}
		return true
	}
	for began := time.Now(); !settled() && time.Since(began) < time.Minute; time.Sleep(100 * time.Millisecond) {
		got.reread(t, kept)
	}
	var numbers map[string]contract.Numbers
	arrived := time.Now()
	eventually(t, time.Minute, "the books to be closed", func() bool {
		numbers = map[string]contract.Numbers{}
		open := int64(0)
		for _, x := range d.host("quay").Sources {
			numbers[x.Name] = x.Numbers
			// what has arrived is told with the next report; what never is, the table shows
			if time.Since(arrived) < 15*time.Second {
				open += max(0, int64(e.wrote[x.Name])-x.Numbers.Read)
			}
			for _, to := range x.Numbers.Destinations {
				open += to.InMemory + to.OnDisk
			}
		}
		return open == 0
	})
	got.reread(t, kept)
	out := table.NewWriter()
	out.AppendHeader(table.Row{"input", "written", "read", "dropped by the rule", "pushed", "telemetry", "relay", "kept",
		"nowhere", "came again", "not accounted for"})
	for _, name := range names {
		x, again, off := numbers[name], 0, 0
		row := table.Row{name, e.wrote[name], x.Read, x.Dropped}
		if name == "made-up" { // which the host does not run any more
			row[2], row[3] = "-", "-"
		}
		for _, way := range ways {
			have, more := got.count(way, name)
			row = append(row, have)
			again += more
			off += abs(have - e.left(name))
		}
		nowhere := int64(0)
		for _, to := range x.Destinations {
			assert.Equal(t, to.Read, to.Acknowledged+to.Dropped+to.Elsewhere, "%s to %s", name, to.Destination)
			if to.Destination == "nowhere" {
				nowhere = to.Acknowledged
			}
		}
		if name != "made-up" {
			off += abs(int(x.Read) - e.wrote[name])
			off += abs(int(nowhere) - e.left(name))
		}
		if name == "made-up" {
			row = append(row, "-")
		} else {
			row = append(row, nowhere)
		}
		out.AppendRow(append(row, again, off))
		assert.Zero(t, off, name)
		assert.Positive(t, e.wrote[name], name)
	}
	t.Logf("%s of every input and every way out:\n%s", time.Since(started).Round(time.Second), out.Render())
}

// left is how many of the records of a source its rule leaves: those whose number does not end in 7.
func (e *everything) left(source string) int {
	first, n := 0, e.wrote[source]
	if source == "made-up" { // which counts from 1 to n
		first, n = 1, n+1
	}
	left := 0
	for i := first; i < n; i++ {
		if i%10 != 7 {
			left++
		}
	}
	return left
}

func abs(n int) int { return max(n, -n) }
