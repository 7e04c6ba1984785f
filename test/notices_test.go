package test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/contract"
	"synaxis/internal/core/notice"
	"synaxis/internal/service/notices"
)

// hook is a receiver of webhooks that checks signatures, and may fail at first.
type hook struct {
	*httptest.Server
	mu       sync.Mutex
	fails    int
	items    []notice.Item
	keys     map[string]int
	unsigned int
}

func newHook(t *testing.T, secret string, fails int) *hook {
	h := &hook{fails: fails, keys: map[string]int{}}
	h.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		h.mu.Lock()
		defer h.mu.Unlock()
		if h.fails > 0 {
			h.fails--
			w.WriteHeader(http.StatusInternalServerError)
			return
		}
		at, _ := strconv.ParseInt(r.Header.Get(notices.TimeHeader), 10, 64)
		if r.Header.Get(notices.SignatureHeader) != notices.Sign(secret, at, body) {
			h.unsigned++
		}
		h.keys[r.Header.Get("Idempotency-Key")]++
		var m notice.Message
		if json.Unmarshal(body, &m) == nil {
			h.items = append(h.items, m.Items...)
		}
	}))
	t.Cleanup(h.Close)
	return h
}

func (h *hook) told(what, words string) int {
	h.mu.Lock()
	defer h.mu.Unlock()
	n := 0
	for _, i := range h.items {
		if i.What == what && strings.Contains(i.Words, words) {
			n++
		}
	}
	return n
}

// mailbox takes mail by SMTP, one letter a connection.
func mailbox(t *testing.T) (address string, letters func() []string) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	var mu sync.Mutex
	var all []string
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				fmt.Fprintf(conn, "220 mail.whimbrel.example\r\n")
				in := bufio.NewScanner(conn)
				for in.Scan() {
					switch line := in.Text(); {
					case strings.HasPrefix(line, "DATA"):
						fmt.Fprintf(conn, "354 go on\r\n")
						var text strings.Builder
						for in.Scan() && in.Text() != "." {
							text.WriteString(in.Text() + "\n")
						}
						mu.Lock()
						all = append(all, text.String())
						mu.Unlock()
						fmt.Fprintf(conn, "250 taken\r\n")
					case strings.HasPrefix(line, "QUIT"):
						fmt.Fprintf(conn, "221 bye\r\n")
						return
					default:
						fmt.Fprintf(conn, "250 fine\r\n")
					}
				}
			}()
		}
	}()
	return l.Addr().String(), func() []string {
		mu.Lock()
		defer mu.Unlock()
		return append([]string{}, all...)
	}
}

// TestNotices: a log that cannot be read is told to a webhook that fails at first, to a mailbox and to a syslog
// receiver, once each; a restart tells it not again; who looks after it is shown; when it is over that is told.
func TestNotices(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	dir := t.TempDir()
	h := newHook(t, "a key that nobody guesses", 1)
	address, letters := mailbox(t)
	lines, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	defer lines.Close()
	out, code := d.cliIn("a key that nobody guesses", "secret", "set", "hook_key")
	require.Zero(t, code, out)
	d.agent("gate-a", filepath.Join(dir, "state"), d.joinToken(1, map[string]string{"site": "northpier"}))
	eventually(t, time.Minute, "the agent", func() bool { return d.connected("gate-a") })
	catalogue := fmt.Sprintf(`source: gates
hosts: all
read: {files: ["%s/gate.log"], first-read: start}
format: raw
send: [nowhere]
---
destination: nowhere
deliver: {discard: {}}
---
notice: gates
when: source == "gates" && labels.site == "northpier"
repeat: 1h
to:
  - webhook: {url: "%s/in", secret: "${secret.hook_key}"}
  - mail: {server: "%s", from: desk@whimbrel.example, to: [watch@whimbrel.example]}
  - syslog: {address: "%s"}
`, dir, h.URL, address, lines.LocalAddr())
	out, code = d.cli("notice", "list")
	require.Zero(t, code, out)
	assert.Contains(t, out, "No notice is published")
	d.publish(catalogue)
	d.rollOut()
	eventually(t, time.Minute, "the webhook", func() bool { return h.told(notice.Begins, "no file matches") == 1 })
	eventually(t, time.Minute, "the letter", func() bool { return len(letters()) == 1 })
	assert.Contains(t, letters()[0], "To: watch@whimbrel.example")
	assert.Contains(t, letters()[0], "no file matches")
	assert.NotContains(t, letters()[0], "nobody guesses")
	buf := make([]byte, 2000)
	require.NoError(t, lines.SetReadDeadline(time.Now().Add(time.Minute)))
	n, _, err := lines.ReadFrom(buf)
	require.NoError(t, err)
	assert.Regexp(t, `^<28>1 \S+ \S+ synaxisd - notice - gates begins: gates: no file matches`, string(buf[:n]))

	out, code = d.cli("notice", "show", "gates")
	require.Zero(t, code, out)
	assert.Contains(t, out, "no file matches")
	assert.Contains(t, out, "delivered")
	list := get[contract.NoticeList](t, first(d.api.ListNotices(context.Background())), nil)
	require.Len(t, list.Items[0].Alerts, 1)
	out, code = d.cli("notice", "acknowledge", "gates", list.Items[0].Alerts[0].Cause[:6], "-m", "the scanner is new")
	require.Zero(t, code, out)
	out, code = d.cli("notice", "acknowledge", "gates", "zzz")
	assert.NotZero(t, code, out)
	out, _ = d.cli("notice", "show", "gates")
	assert.Contains(t, out, "admin: the scanner is new")
	out, code = d.cli("notice", "try", "gates", "--since", "1h")
	require.Zero(t, code, out)
	assert.Contains(t, out, "1 message")
	assert.Contains(t, out, "no file matches")
	out, code = d.cli("why", "gates")
	require.Zero(t, code, out)
	assert.Contains(t, out, "no file matches")
	out, code = d.cli("status", "--short")
	require.Zero(t, code, out)
	assert.Contains(t, out, "gate-a: gates: no file matches")
	_, code = d.cli("status", "--strict")
	assert.Equal(t, 1, code, "degraded is not strictly well")
	_, code = d.cli("wait", "--for", "healthy", "--timeout", "2s")
	assert.Equal(t, 6, code)

	d.kill()
	d.run()
	eventually(t, time.Minute, "the agent again", func() bool { return d.connected("gate-a") })
	require.NoError(t, os.WriteFile(filepath.Join(dir, "gate.log"), []byte("lane 4 opened\n"), 0o644))
	out, code = d.cli("wait", "--for", "healthy", "--hosts", "site=northpier", "--timeout", "60s")
	require.Zero(t, code, out)
	assert.Contains(t, out, "1 host is healthy")
	assert.Equal(t, 1, h.told(notice.Begins, "no file matches"), "a restart tells it not again")
	eventually(t, 5*time.Minute, "the end to be told", func() bool {
		return h.told(notice.Ends,
			"no file matches") == 1
	})
	h.mu.Lock()
	defer h.mu.Unlock()
	assert.Zero(t, h.unsigned)
	for key, times := range h.keys {
		assert.Equal(t, 1, times, "message %s", key)
	}
}

// TestMaintenance: of hosts in maintenance nothing is told; when it ends, what is still wrong is.
func TestMaintenance(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	dir := t.TempDir()
	h := newHook(t, "", 0)
	d.agent("gate-a", filepath.Join(dir, "state"), d.joinToken(1, nil))
	eventually(t, time.Minute, "the agent", func() bool { return d.connected("gate-a") })
	out, code := d.cli("maintenance", "start", "--hosts", "host.name == \"gate-a\"", "--for", "1h", "-m", "new switches")
	require.Zero(t, code, out)
	assert.Contains(t, out, "Maintenance 1: nothing is told")
	d.publish(fmt.Sprintf("source: gates\nhosts: all\nread: {files: [\"%s/gate.log\"]}\nformat: raw\nsend: [nowhere]\n"+
		"---\ndestination: nowhere\ndeliver: {discard: {}}\n---\nnotice: all\nwhen: state != \"offline\"\n"+
		"to: [{webhook: {url: \"%s\"}}]\n", dir, h.URL))
	d.rollOut()
	eventually(t, time.Minute, "it to be wrong", func() bool {
		return get[contract.Status](t, first(d.api.GetStatus(context.Background())), nil).Hosts.Degraded == 1
	})
	time.Sleep(5 * time.Second)
	assert.Zero(t, h.told(notice.Begins, ""))
	out, code = d.cli("maintenance", "list")
	require.Zero(t, code, out)
	assert.Contains(t, out, "new switches")
	out, code = d.cli("maintenance", "end", "1")
	require.Zero(t, code, out)
	_, code = d.cli("maintenance", "end", "1")
	assert.NotZero(t, code)
	eventually(t, time.Minute, "it to be told", func() bool { return h.told(notice.Begins, "no file matches") == 1 })
	_, code = d.cli("maintenance", "start", "--hosts", "all", "--for", "5s")
	assert.NotZero(t, code, "too short")
}
