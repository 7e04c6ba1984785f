package join

import (
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/inventory"
)

func TestLine(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	j := New(Way{Pin: "sha256:aa", Dir: filepath.Join(dir, "agents")}, nil, nil, nil)
	_, err := j.Line("http://127.0.0.1:1", "t", "")
	require.ErrorIs(t, err, ErrNoAgent)

	// For this machine's own platform the agent beside the service will do; for others there is none.
	require.NoError(t, os.WriteFile(filepath.Join(dir, "synaxis-agent"), []byte("one"), 0o755))
	script, err := j.Script("https://desk.example:7800")
	require.NoError(t, err)
	for _, p := range Platforms {
		want := ""
		if p == runtime.GOOS+"-"+runtime.GOARCH {
			want = fmt.Sprintf("%x", sha256.Sum256([]byte("one")))
		}
		assert.Contains(t, script, "SUM_"+strings.TrimPrefix(p, "linux-")+"='"+want+"'")
	}
	assert.Contains(t, script, "PIN='sha256:aa'")
	assert.NotRegexp(t, `@[A-Za-z0-9_]+@`, script)
	assert.Contains(t, script, "STATE='/var/lib/synaxis-agent'")
	line, err := j.Line("https://desk.example:7800", "j1.token", "")
	require.NoError(t, err)
	assert.Contains(t, line, fmt.Sprintf("%x", sha256.Sum256([]byte(script))), "the line vouches for the script")
	assert.Contains(t, line, "SYNAXIS_JOIN_TOKEN=j1.token")
	assert.Contains(t, line, "curl -fsS -k https://")
	plain, err := j.Line("http://desk.example:7800", "t", "gate-1")
	require.NoError(t, err)
	assert.NotContains(t, plain, " -k ")
	assert.True(t, strings.HasSuffix(plain, "sh $J --name gate-1"), plain)

	// A new agent has a new sum.
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "agents", "linux-arm64"), 0o755))
	require.NoError(
		t,
		os.WriteFile(filepath.Join(dir, "agents", "linux-arm64", "synaxis-agent"), []byte("another"), 0o755),
	)
	script, err = j.Script("https://desk.example:7800")
	require.NoError(t, err)
	assert.Contains(t, script, fmt.Sprintf("SUM_arm64='%x'", sha256.Sum256([]byte("another"))))

	for _, base := range []string{"http://a'; rm -rf /; '", "http://a$(x)", "http://a b", "http://a`x`"} {
		_, err := j.Script(base)
		assert.Error(t, err, "%q does not become part of a script", base)
	}
}

func TestNeeds(t *testing.T) {
	t.Parallel()
	defs, problems := catalogue.Parse("c.yaml", []byte(`source: bridge
hosts: {role: relay}
read: {syslog: {listen: {port: "${setting.port}"}}}
format: raw
send: [{to: away}]
---
source: high
hosts: all
read: {http: {listen: {port: 8080}}}
format: raw
send: [{to: away}]
---
destination: away
deliver: {discard: {}}
---
settings: ports
hosts: {site: np}
values: {port: 514}
---
agents: boxes
hosts: labels.role == "relay" && observed.arch == "arm64"
limits: {cpu: 20%, memory: 64MiB}
`))
	require.Empty(t, problems)
	cat, problems := catalogue.New(defs)
	require.Empty(t, problems)
	for _, c := range []struct {
		host inventory.Host
		want string
	}{
		{inventory.Host{Name: "a"}, ""},
		{inventory.Host{Name: "a", Labels: map[string]string{"role": "relay"}}, ""}, // the port is not known yet
		{inventory.Host{Name: "a", Labels: map[string]string{"role": "relay", "site": "np"}},
			"low-ports=source bridge listens on port 514\n"},
		{inventory.Host{Name: "a", Labels: map[string]string{"role": "relay"}, Settings: map[string]string{
			"port": "1514"}}, ""},
		{inventory.Host{Name: "a", Labels: map[string]string{"role": "relay"}, Arch: "arm64"},
			"cpu=20%\nmemory=64M\n"},
	} {
		assert.Equal(t, c.want, Needs(cat, &c.host), "%v", c.host)
	}
	defs, problems = catalogue.Parse("d.yaml", []byte(`source: scans
hosts: {role: gate}
read: {files: ["/tmp/scans/*.log", "${setting.root}/*.log"]}
format: raw
send: [{to: shelf, when: 'level > INFO'}, {otherwise: shelf-too}]
---
source: elsewhere
hosts: {role: kiosk}
read: {files: [/var/tmp.d/*.log]}
format: raw
send: [{to: shelf}]
---
destination: shelf
deliver: {file: {path: "/srv/${host.name}/a.ndjson"}}
---
destination: shelf-too
deliver: {file: {path: "/srv/${host.name}/b.ndjson"}}
`))
	require.Empty(t, problems)
	cat, problems = catalogue.New(defs)
	require.Empty(t, problems)
	assert.Equal(
		t,
		"reads-tmp=source scans reads /tmp/scans/*.log\nwrites=/srv/g\n",
		Needs(cat, &inventory.Host{Name: "g", Labels: map[string]string{"role": "gate"}}),
	)
	assert.Equal(
		t,
		"writes=/srv/k\n",
		Needs(cat, &inventory.Host{Name: "k", Labels: map[string]string{"role": "kiosk"}}),
	)
}
