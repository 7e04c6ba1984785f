package test

import (
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
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

// peer is the path of a program of Debian, which make test installs.
func peer(t *testing.T, name string) string {
	for _, dir := range []string{"", "/usr/sbin/", "/lib/systemd/"} {
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
	run(t, "", "python3", "peers/syslog.py", udp, tcp)
	run(t, "", "perl", "peers/syslog.pl", udp, tcp)
	run(t, "", "node", "peers/otlp.mjs", "127.0.0.1:"+otlp)
	for _, address := range haproxy(t, dir, udp, tcp) {
		assert.Equal(t, "200", curl("http://"+address))
	}

	by := map[string]map[string]any{}
	eventually(t, time.Minute, "all of it", func() bool {
		clear(by)
		for _, r := range recordsIn(at) {
			first, _, _ := strings.Cut(fmt.Sprint(r["body"]), "\n")
			by[fmt.Sprint(r["source"], " ", first)] = r
		}
		return len(by) >= 36
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
	for _, way := range []string{"udp", "tcp"} {
		for _, c := range []struct {
			body, level, program string
			facility             float64
			rest                 string
		}{
			{"Python by " + strings.ToUpper(way), "WARN", "tides", 19, ""},
			{"Python fails by " + strings.ToUpper(way), "ERROR", "tides", 19, "\nValueError: high water"},
			{"Python ends by " + strings.ToUpper(way), "FATAL", "tides", 19, ""},
			{"Perl by " + way, "WARN", "gates", 18, ""},
			{"Perl tells by " + way, "ERROR", "gates", 18, "\nin two lines"},
			{"Perl ends by " + way, "INFO", "gates", 18, ""},
			{"HAProxy served /quay", "INFO", "haproxy", map[string]float64{"udp": 16, "tcp": 17}[way], ""},
		} {
			key := "by-" + way + " " + c.body
			assert.Equal(t, c.level, field(key, "level"), key)
			assert.Equal(t, c.program, field(key, "fields", "syslog.appname"), key)
			assert.Equal(t, c.facility, field(key, "fields", "syslog.facility"), key)
			body, _ := field(key, "body").(string)
			assert.True(t, strings.HasSuffix(body, c.rest), "%s: %q", key, body)
			assert.False(t, strings.HasSuffix(body, "\n"), "%s: %q", key, body)
			when, err := time.Parse(time.RFC3339Nano, field(key, "time").(string))
			require.NoError(t, err)
			assert.WithinRange(t, when, started, time.Now().Add(time.Second), key)
		}
		assert.Equal(t, "pier-1", field("by-"+way+" HAProxy served /quay", "fields", "syslog.hostname"))
	}
	for _, body := range []string{"[HAProxy] passed /quay", "HAProxy counted /quay", "HAProxy counted /ship"} {
		assert.Nil(t, field("by-tcp "+body, "fields"), "a text without a header has no more")
	}
	for _, body := range []string{"JavaScript in JSON, none", "JavaScript in JSON, gzip", "JavaScript in protobuf, none",
		"JavaScript in protobuf, gzip"} {
		key := "by-otlp " + body
		assert.Equal(t, "WARN", field(key, "level"), key)
		assert.Equal(t, "2031-04-02T06:15:09.123000000Z", field(key, "time"), key)
		for name, want := range map[string]any{"lane": 3.0, "open": true, "share": 1.5, "seats": []any{"a", "b"},
			"ship": map[string]any{"name": "Whimbrel", "decks": 2.0}, "trace_id": "5b8efff798038103d269b633813fc60c",
			"span_id": "eee19b7ec3c1b174", "trace_flags": "01", "event_name": "ship.docked", "scope.name": "peers",
			"scope.version": "1.2", "resource.telemetry.sdk.language": "nodejs"} {
			assert.Equal(t, want, field(key, "fields", name), "%s: %s", key, name)
		}
	}
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

// haproxy answers at three addresses, and sends what it served by UDP, and over TCP: with the length before each
// message, with that and nothing else, and as lines without a priority. It answers what to ask it for.
func haproxy(t *testing.T, dir, udp, tcp string) []string {
	conf := filepath.Join(dir, "haproxy.cfg")
	var text strings.Builder
	for name, way := range map[string]string{"counted": "rfc5424", "bare": "raw", "lines": "iso"} {
		fmt.Fprintf(&text, "ring %s\n  format %s\n  timeout connect 5s\n  timeout server 10s\n  server s 127.0.0.1:%s log-proto %s\n",
			name, way, tcp, map[bool]string{true: "legacy", false: "octet-count"}[name == "lines"])
	}
	text.WriteString("global\n  log-send-hostname pier-1\ndefaults\n  mode http\n  option dontlognull\n  timeout client 5s\n" +
		"  timeout server 5s\n  timeout connect 5s\n")
	var at []string
	for _, logs := range []string{
		"  log 127.0.0.1:" + udp + " format rfc3164 local0\n  log ring@counted format rfc5424 local1\n  log-format \"HAProxy served %HP\"\n",
		"  log ring@lines format iso local2\n  log-format \"[HAProxy] passed %HP\"\n",
		"  log ring@bare format raw local2\n  log-format \"HAProxy counted %HP\"\n",
	} {
		at = append(at, freePort(t))
		fmt.Fprintf(&text, "frontend f%d\n  bind %s\n%s  http-request return status 200 content-type text/plain string here\n",
			len(at), at[len(at)-1], logs)
	}
	require.NoError(t, os.WriteFile(conf, []byte(text.String()), 0o644))
	background(t, peer(t, "haproxy"), "-f", conf, "-db")
	for _, a := range at {
		eventually(t, time.Minute, "haproxy", func() bool {
			c, err := net.Dial("tcp", a)
			if err == nil {
				c.Close()
			}
			return err == nil
		})
	}
	return []string{at[0] + "/quay", at[1] + "/quay", at[2] + "/quay", at[2] + "/ship"}
}

// background runs a program until the test ends.
func background(t *testing.T, path string, args ...string) {
	cmd := exec.Command(path, args...)
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
	background(t, peer(t, "nginx"), "-c", conf, "-p", dir)
	eventually(t, time.Minute, "nginx", func() bool {
		resp, err := http.Head("http://" + at + "/ready") // which is in the log too
		if err == nil {
			resp.Body.Close()
		}
		return err == nil
	})
	return at
}
