package test

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/exporters/otlp/otlplog/otlploghttp"
	otellog "go.opentelemetry.io/otel/log"
	sdklog "go.opentelemetry.io/otel/sdk/log"

	"synaxis/internal/contract"
	"synaxis/test/certs"
)

// port is one that nobody has now, of udp or tcp.
func port(t *testing.T, network string) string {
	if network == "udp" {
		c, err := net.ListenPacket("udp", "127.0.0.1:0")
		require.NoError(t, err)
		defer c.Close()
		return fmt.Sprint(c.LocalAddr().(*net.UDPAddr).Port)
	}
	_, p, _ := strings.Cut(freePort(t), ":")
	return p
}

// peer is the path of a program of Debian, which make test installs.
func peer(t *testing.T, name string) string {
	for _, dir := range []string{"", "/usr/sbin/"} {
		if path, err := exec.LookPath(dir + name); err == nil {
			return path
		}
	}
	t.Fatalf("%s is missing: make peers installs it", name)
	return ""
}

// run runs a program of a test with a text as its input.
func run(t *testing.T, in string, name string, args ...string) string {
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, peer(t, name), args...)
	cmd.Stdin = strings.NewReader(in)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s %v: %s", name, args, out)
	return string(out)
}

// TestPeers: what programs of Debian and a library that we did not write send arrives, once, with the right time,
// level, host and fields.
func TestPeers(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	dir := t.TempDir()
	d.agent("gate-a", filepath.Join(dir, "state"), d.joinToken(1, nil))
	eventually(t, time.Minute, "the agent", func() bool { return d.connected("gate-a") })
	cert, key := certs.Loopback(t)
	put := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	for name, text := range map[string]string{"listen_cert": cert, "listen_key": key, "push": "word-of-the-quay"} {
		out, code := d.cli("secret", "set", name, "--file", put(name, text))
		require.Zero(t, code, out)
	}
	udp, tcp, tls, web, push, otlp := port(t, "udp"), port(t, "tcp"), port(t, "tcp"), port(t, "udp"), port(t, "tcp"),
		port(t, "tcp")
	issued := port(t, "tcp")
	source := func(name, read, more string) string {
		return fmt.Sprintf("---\nsource: %s\nhosts: all\nread: {%s}\n%ssend: [out]\n", name, read, more)
	}
	listen := func(kind, port, more string) string {
		return fmt.Sprintf("%s: {listen: {address: 127.0.0.1, port: %s%s}", kind, port, more)
	}
	at := filepath.Join(dir, "out")
	d.publish("destination: out\ndeliver: {file: {path: " + at + "}}\nbatch: {wait: 50ms}\n" +
		source("by-udp", listen("syslog", udp, "}"), "format: syslog\ntime: {zone: UTC}\n") +
		source("by-tcp", listen("syslog", tcp, ", transport: tcp}"), "format: syslog\ntime: {zone: UTC}\n") +
		source("by-tls", listen("syslog", tls, ", transport: tls, certificate: '${secret.listen_cert}', key: "+
			"'${secret.listen_key}'}"), "format: syslog\ntime: {zone: UTC}\n") +
		source("by-issued", listen("syslog", issued, ", transport: tls, certificate: issued}"),
			"format: syslog\ntime: {zone: UTC}\n") +
		source("by-web", listen("syslog", web, "}"), "format: syslog\ntime: {zone: UTC}\nsteps: [{parse: {from: body, "+
			"format: web-combined}}]\n") +
		source("by-http", listen("http", push, "}, path: /push, token: '${secret.push}'"), "format: json\n") +
		source("by-otlp", listen("otlp", otlp, "}"), "format: raw\n"))
	d.rollOut()

	started := time.Now().Add(-2 * time.Second)
	logger := func(text string, args ...string) {
		run(t, "", "logger", append(args, "-n", "127.0.0.1", "-t", "quay", "-p", "local0.warning", text)...)
	}
	logger("old by UDP", "-P", udp, "-d", "--rfc3164")
	logger("new by UDP", "-P", udp, "-d", "--rfc5424", "--sd-id", "gate@32473", "--sd-param", `lane="4"`)
	logger("old by TCP", "-P", tcp, "-T", "--rfc3164")
	logger("new by TCP", "-P", tcp, "-T", "--rfc5424")
	logger("counted by TCP", "-P", tcp, "-T", "--rfc5424", "--octet-count")
	run(t, "<165>1 2031-04-02T06:15:09.5+02:00 gate-9 scanner 7 ID1 - by TLS\n", "openssl", "s_client", "-quiet", "-no_ign_eof",
		"-connect", "127.0.0.1:"+tls, "-CAfile", put("ca", cert), "-verify_return_error")
	authority, code := d.cli("sender", "authority")
	require.Zero(t, code, authority)
	eventually(t, time.Minute, "its certificate", func() bool {
		for _, s := range d.host("gate-a").Sources {
			if s.Name == "by-issued" && s.Numbers.CertificateEnds != nil {
				assert.InDelta(t, 90, time.Until(*s.Numbers.CertificateEnds).Hours()/24, 1)
				assert.Contains(t, strings.Join(s.Notes, "\n"), "its certificate is good until")
				return true
			}
		}
		return false
	})
	run(t, "<165>1 2031-04-02T06:15:09Z gate-9 scanner 7 ID1 - by an issued one\n", "openssl", "s_client", "-quiet",
		"-no_ign_eof", "-connect", "127.0.0.1:"+issued, "-CAfile", put("authority", authority), "-verify_return_error",
		"-verify_ip", "127.0.0.1")
	curl := func(args ...string) string {
		return run(t, "", "curl", append([]string{"-sS", "-o", "/dev/null", "-w", "%{http_code}"}, args...)...)
	}
	pushed := "http://127.0.0.1:" + push + "/push"
	auth := "Authorization: Bearer word-of-the-quay"
	assert.Equal(t, "204", curl(pushed, "-H", auth, "-H", "Content-Type: application/json", "-d",
		`[{"time":"2031-04-02T06:15:09Z","level":"error","message":"pushed","lane":4},{"message":"pushed too"}]`))
	assert.Equal(t, "401", curl(pushed, "-H", "Content-Type: application/json", "-d", `[{"message":"never"}]`))
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	_, _ = io.WriteString(z, "{\"message\":\"packed\"}\n")
	require.NoError(t, z.Close())
	assert.Equal(t, "204", curl(pushed, "-H", auth, "-H", "Content-Encoding: gzip", "-H", "Content-Type: application/x-ndjson",
		"--data-binary", "@"+put("packed", packed.String())))
	assert.Equal(t, "200", curl("http://127.0.0.1:"+otlp+"/v1/logs", "-H", "Content-Type: application/json", "-d",
		`{"resourceLogs":[{"resource":{"attributes":[{"key":"service.name","value":{"stringValue":"tide"}}]},"scopeLogs":[{`+
			`"logRecords":[{"timeUnixNano":"1932883509000000000","severityNumber":17,"body":{"stringValue":"in JSON"},`+
			`"attributes":[{"key":"cm","value":{"intValue":"412"}}]}]}]}]}`))
	sdk(t, "127.0.0.1:"+otlp)
	served := nginx(t, dir, web)
	assert.Equal(t, "200", curl("http://"+served+"/", "-A", "quay/1"))
	assert.Equal(t, "404", curl("http://"+served+"/none"))

	by := map[string]map[string]any{}
	eventually(t, time.Minute, "all of it", func() bool {
		text, _ := os.ReadFile(at)
		clear(by)
		for line := range bytes.Lines(text) {
			var r map[string]any
			if json.Unmarshal(line, &r) == nil {
				by[fmt.Sprint(r["source"], " ", r["body"])] = r
			}
		}
		return len(by) >= 14
	})
	field := func(key string, names ...string) any {
		r := by[key]
		require.NotNil(t, r, "%s in %v", key, by)
		for _, n := range names[:len(names)-1] {
			r, _ = r[n].(map[string]any)
		}
		return r[names[len(names)-1]]
	}
	for _, key := range []string{"by-udp old by UDP", "by-udp new by UDP", "by-tcp old by TCP", "by-tcp new by TCP",
		"by-tcp counted by TCP"} {
		assert.Equal(t, "WARN", field(key, "level"), key)
		assert.Equal(t, "quay", field(key, "fields", "syslog.appname"), key)
		assert.NotEmpty(t, field(key, "fields", "syslog.hostname"), key)
		when, err := time.Parse(time.RFC3339Nano, field(key, "time").(string))
		require.NoError(t, err)
		assert.WithinRange(t, when, started, time.Now().Add(time.Second), key)
		assert.Equal(t, "127.0.0.1", field(key, "sender"), key)
	}
	assert.Equal(t, "4", field("by-udp new by UDP", "fields", "syslog.data.gate@32473.lane"))
	assert.Equal(t, "2031-04-02T04:15:09.500000000Z", field("by-tls by TLS", "time"))
	assert.Equal(t, "gate-9", field("by-tls by TLS", "fields", "syslog.hostname"))
	assert.Equal(t, "gate-9", field("by-issued by an issued one", "fields", "syslog.hostname"))
	assert.Equal(t, "ERROR", field("by-http pushed", "level"))
	assert.Equal(t, 4.0, field("by-http pushed", "fields", "lane"))
	assert.NotNil(t, by["by-http pushed too"])
	assert.NotNil(t, by["by-http packed"])
	assert.Equal(t, 412.0, field("by-otlp in JSON", "fields", "cm"))
	assert.Equal(t, "2031-04-02T08:05:09.000000000Z", field("by-otlp in JSON", "time"))
	assert.Equal(t, "INFO", field("by-otlp from the SDK", "level"))
	assert.Equal(t, 7.0, field("by-otlp from the SDK", "fields", "lane"))
	assert.Equal(t, "peers", field("by-otlp from the SDK", "fields", "scope.name"))
	statuses := map[any]bool{}
	for key, r := range by {
		if f, ok := r["fields"].(map[string]any); ok && strings.HasPrefix(key, "by-web ") {
			statuses[f["http.response.status_code"]] = true
			assert.Equal(t, "nginx", f["syslog.appname"])
		}
	}
	assert.Equal(t, map[any]bool{200.0: true, 404.0: true}, statuses)
	text, err := os.ReadFile(at)
	require.NoError(t, err)
	assert.Equal(t, len(by), bytes.Count(text, []byte{'\n'}), "each once")
	for _, name := range []string{"by-udp", "by-tcp", "by-tls", "by-http", "by-otlp"} { // and what it sends itself
		out, code := d.cli("probe", name, "--host", "gate-a")
		assert.Zero(t, code, out)
		assert.Contains(t, out, "acknowledged by out", name)
	}
	senders := get[contract.SenderList](t, first(d.api.ListSenders(context.Background(),
		&contract.ListSendersParams{})), nil)
	for _, s := range senders.Items {
		assert.Equal(t, "127.0.0.1", s.Address)
	}
	for _, s := range d.host("gate-a").Sources {
		for _, x := range s.Numbers.Destinations {
			assert.Equal(t, x.Read, x.Acknowledged+x.Dropped+x.Elsewhere+x.OnDisk+x.InMemory, s.Name)
		}
	}
}

// sdk sends a record with the exporter of OpenTelemetry's SDK.
func sdk(t *testing.T, address string) {
	ctx := context.Background()
	e, err := otlploghttp.New(ctx, otlploghttp.WithEndpoint(address), otlploghttp.WithInsecure(),
		otlploghttp.WithCompression(otlploghttp.GzipCompression))
	require.NoError(t, err)
	p := sdklog.NewLoggerProvider(sdklog.WithProcessor(sdklog.NewSimpleProcessor(e)))
	var r otellog.Record
	r.SetTimestamp(time.Now())
	r.SetSeverity(otellog.SeverityInfo)
	r.SetBody(attribute.StringValue("from the SDK"))
	r.AddAttributes(attribute.Int("lane", 7))
	p.Logger("peers").Emit(ctx, r)
	require.NoError(t, p.Shutdown(ctx))
}

// nginx serves one page, and sends its access log to a port. It answers its address.
func nginx(t *testing.T, dir, to string) string {
	at := freePort(t)
	root := filepath.Join(dir, "www")
	require.NoError(t, os.MkdirAll(root, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, "index.html"), []byte("here"), 0o644))
	conf := filepath.Join(dir, "nginx.conf")
	user := ""
	if os.Getuid() == 0 {
		user = "user root;\n"
	}
	require.NoError(t, os.WriteFile(conf, fmt.Appendf(nil, "%sdaemon off;\nmaster_process off;\npid %s/pid;\nerror_log stderr;\n"+
		"events {}\nhttp { access_log syslog:server=127.0.0.1:%s,tag=nginx combined; client_body_temp_path %s/t1; proxy_temp_path "+
		"%s/t2; fastcgi_temp_path %s/t3; uwsgi_temp_path %s/t4; scgi_temp_path %s/t5;\nserver { listen %s; root %s; } }\n", user, dir,
		to, dir, dir, dir, dir, dir, at, root), 0o644))
	cmd := exec.Command(peer(t, "nginx"), "-c", conf, "-p", dir)
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		if t.Failed() {
			t.Log(out.String())
		}
	})
	eventually(t, time.Minute, "nginx", func() bool {
		resp, err := http.Head("http://" + at + "/ready") // which is in the log too
		if err == nil {
			resp.Body.Close()
		}
		return err == nil
	})
	return at
}

// TestSenders: who sends to a listener is listed from the desk, known or not, with what its lines look like; an
// unknown one becomes a definition by a command, by a list and by a click.
func TestSenders(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	dir := t.TempDir()
	d.agent("gate-a", filepath.Join(dir, "state"), d.joinToken(1, nil))
	eventually(t, time.Minute, "the agent", func() bool { return d.connected("gate-a") })
	udp := port(t, "udp")
	d.publish("destination: out\ndeliver: {discard: {}}\n---\nsource: bridges\nhosts: all\n# what listens\nread:\n  socket: {listen: " +
		"{address: 127.0.0.1, port: " + udp + ", transport: udp}}\n  senders:\n    - {name: bridge-a, from: 127.0.0.2}  # the old one\n" +
		"format: raw\nsteps: [{mask: [email]}]\nsend: [out]\n")
	d.rollOut()
	say := func(from string, text string) {
		c, err := (&net.Dialer{LocalAddr: &net.UDPAddr{IP: net.ParseIP(from)}}).Dial("udp", "127.0.0.1:"+udp)
		require.NoError(t, err)
		defer c.Close()
		_, err = io.WriteString(c, text)
		require.NoError(t, err)
	}
	var l contract.SenderList
	eventually(t, time.Minute, "both to be heard", func() bool {
		say("127.0.0.2", "weight=12 lane=3")
		say("127.0.0.3", `{"time":"2031-04-02T06:15:09Z","level":"warn","message":"mail ada.vos@whimbrel.example"}`)
		time.Sleep(250 * time.Millisecond)
		l = get[contract.SenderList](t, first(d.api.ListSenders(context.Background(), &contract.ListSendersParams{})),
			nil)
		return len(l.Items) == 2 && l.Items[0].Messages > 3 && len(l.Items[0].Examples) > 0
	})
	stranger := l.Items[0]
	assert.Nil(t, stranger.Name, "the unknown first")
	assert.Equal(t, "127.0.0.3", stranger.Address)
	require.NotNil(t, stranger.Format)
	assert.Equal(t, "json", *stranger.Format)
	assert.Positive(t, stranger.Minute)
	assert.NotContains(t, strings.Join(stranger.Examples, ""), "ada.vos", "without private data")
	assert.Equal(t, "bridge-a", *l.Items[1].Name)

	out, code := d.cli("sender", "list")
	assert.Zero(t, code)
	assert.Regexp(t, `(?m)▲ unknown +127\.0\.0\.3 +bridges +gate-a .* json`, out)
	out, code = d.cli("sender", "list", "bridges", "--unknown")
	assert.Zero(t, code)
	assert.NotContains(t, out, "bridge-a")
	out, code = d.cli("sender", "show", "127.0.0.3")
	assert.Zero(t, code)
	assert.Contains(t, out, "synaxis sender define NAME --source bridges --from 127.0.0.3")
	out, code = d.cli("why", "bridge-a")
	assert.Zero(t, code, out)
	assert.Regexp(t, `Sender bridge-a \(127\.0\.0\.2\) sends to bridges on gate-a, and was heard last `, out)
	assert.Contains(t, out, "Nothing is wrong with what takes the records of bridge-a.")
	out, code = d.cli("sender", "define", "bridge-b", "--source", "bridges", "--from", "127.0.0.3", "--label", "site=saltmarsh",
		"--format", "json", "--every", "10m")
	require.Zero(t, code, out)
	assert.Contains(t, out, "1 sender added and 0 written anew in source bridges, draft ")
	list := filepath.Join(dir, "bridges.csv")
	require.NoError(t, os.WriteFile(list, []byte("name,from,site,zone\nbridge-a,127.0.0.2,northpier,Europe/Lisbon\n"+
		"bridge-c,127.0.1.0/24,gull-point,\n"), 0o644))
	draft := out[strings.LastIndex(out, " ")+1 : len(out)-1]
	out, code = d.cli("sender", "import", list, "--source", "bridges", "--draft", draft)
	require.Zero(t, code, out)
	assert.Contains(t, out, "1 sender added and 1 written anew")
	out, code = d.cli("draft", "show", draft, "source", "bridges")
	require.Zero(t, code, out)
	for _, want := range []string{"# what listens", "bridge-b", "site: saltmarsh", "every: 10m", "bridge-c", "from: 127.0.1.0/24",
		"zone: Europe/Lisbon"} {
		assert.Contains(t, out, want)
	}
	out, code = d.cli("sender", "define", "bridge-x", "--source", "bridges", "--from", "no address")
	assert.Equal(t, 1, code, out)
	assert.Contains(t, out, "neither an address nor a network")
	out, code = d.cli("draft", "publish", draft)
	require.Zero(t, code, out)
	d.rollOut()
	eventually(t, time.Minute, "all to be known", func() bool {
		say("127.0.0.3", `{"n":1,"message":"mail ada.vos@whimbrel.example"}`)
		l = get[contract.SenderList](t, first(d.api.ListSenders(context.Background(), &contract.ListSendersParams{})),
			nil)
		return len(l.Items) == 2 && l.Items[1].Name != nil && *l.Items[1].Name == "bridge-b" && l.Items[0].Name != nil
	})

	eventually(t, time.Minute, "what came from it over time", func() bool {
		out, code = d.cli("numbers", "--by", "sender", "--source", "bridges")
		require.Zero(t, code, out)
		return regexp.MustCompile(`bridge-b +read +\d+ `).MatchString(out) &&
			regexp.MustCompile(`bridge-b +acknowledged +[1-9]\d* `).MatchString(out)
	})
	out, code = d.cli("sender", "show", "bridge-b")
	require.Zero(t, code, out)
	assert.Regexp(t, `\nread +\d+ `, out)
	assert.Regexp(t, `\nacknowledged +[1-9]`, out)
	out, code = d.cli("numbers", "--by", "sender", "--number", "masked:*,lag,waiting")
	assert.Zero(t, code)
	assert.Regexp(t, `\nbridge-b +masked:email +[1-9]`, out)
	assert.Regexp(t, `\nbridge-b +lag +\d+s `, out)
	out, code = d.cli("numbers", "--by", "sender", "--number", "disk")
	assert.NotZero(t, code)
	assert.Contains(t, out, "of senders there are read, bytes, unparsed, dropped, masked, acknowledged, sent, rejected, "+
		"waiting, lag, and no \"disk\"")

	say("127.0.0.9", "a stranger")
	ctx, stop := context.WithTimeout(context.Background(), 2*time.Minute)
	defer stop()
	tab := d.browse(ctx)
	eventually(t, time.Minute, "the stranger", func() bool {
		l = get[contract.SenderList](t, first(d.api.ListSenders(context.Background(), &contract.ListSendersParams{})),
			nil)
		return len(l.Items) == 3
	})
	require.NoError(t, tab.Open(d.url+"/senders"))
	require.NoError(t, tab.See("1 sender of 3 is in no definition."))
	require.NoError(t, tab.Click("bridge-b"))
	require.NoError(t, tab.See("Records of bridge-b"))
	require.NoError(t, tab.Click("▲ unknown"))
	require.NoError(t, tab.See("a stranger"))
	require.NoError(t, tab.Type("#sender-name", "bridge-z"))
	require.NoError(t, tab.Click("Make it known in a draft"))
	require.NoError(t, tab.See("Know bridge-z of bridges"))
}

// TestListenersPage: the definitions and the commands of docs/listeners.md, as they stand but for the ports, which are
// free ones.
func TestListenersPage(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	dir := t.TempDir()
	d.agent("gate-a", filepath.Join(dir, "state"), d.joinToken(1, map[string]string{"role": "gate"}))
	eventually(t, time.Minute, "the agent", func() bool { return d.connected("gate-a") })
	require.NoError(t, os.WriteFile(filepath.Join(dir, "push"), []byte("word-of-the-quay"), 0o600))
	out, code := d.cli("secret", "set", "push", "--file", filepath.Join(dir, "push"))
	require.Zero(t, code, out)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "monday.txt"), []byte("no ships\n"), 0o600))
	out, code = d.cli("host", "set", "gate-a", "reports="+dir)
	require.Zero(t, code, out)
	text, err := os.ReadFile("../docs/listeners.md")
	require.NoError(t, err)
	page := string(text)
	for from, network := range map[string]string{"5514": "udp", "6514": "tcp", "8480": "tcp", "4318": "tcp"} {
		page = strings.ReplaceAll(page, from, port(t, network))
	}
	page = strings.ReplaceAll(page, "address: 0.0.0.0, ", "address: 127.0.0.1, ")
	all := "destination: out\ndeliver: {discard: {}}\n"
	for _, block := range strings.Split(page, "```yaml\n")[1:] {
		block, _, _ = strings.Cut(block, "```")
		all += "---\n" + block
	}
	d.publish(all)
	d.rollOut()
	f := &fleet{desk: d}
	drafts := 0
	ran := f.follow(page, nil, func(command, out string) {
		switch {
		case strings.Contains(command, "4318"), strings.Contains(command, "v1/logs"):
			assert.Equal(t, "{}", out)
		case strings.Contains(command, "sender list"):
			assert.Regexp(t, `▲ unknown +127\.0\.0\.1 +(weighbridges|radar|gauges|programs) +gate-a`, out, command)
		case strings.Contains(command, "sender authority"):
			assert.Contains(t, out, "BEGIN CERTIFICATE")
		case strings.Contains(command, "sender show"):
			assert.Contains(t, out, "lane=3 weight=12400")
		case strings.Contains(command, "sender define"), strings.Contains(command, "sender import"):
			assert.Contains(t, out, "added and 0 written anew in source weighbridges, draft ")
			drafts++
		}
	})
	assert.Equal(t, 11, ran)
	assert.Equal(t, 2, drafts)
	want := map[string]int64{"weighbridges": 1, "radar": 1, "gauges": 2, "programs": 1, "tides": 1, "reports": 1}
	eventually(t, time.Minute, "all of it", func() bool {
		have := map[string]int64{}
		for _, s := range d.host("gate-a").Sources {
			if _, ok := want[s.Name]; ok {
				have[s.Name] = s.Numbers.Acknowledged
			}
		}
		return assert.ObjectsAreEqual(want, have)
	})
}
