package test

import (
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/contract"
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
