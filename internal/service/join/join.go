// Package join serves what a host needs to join: the script of the join line, the agent for each platform, and what
// the desk knows of the host that is about to come. The line holds the SHA-256 of the script, the script that of the
// agent, and the agent checks the fingerprint of the service, so that nothing is run that the desk has not made.
package join

import (
	"crypto/sha256"
	_ "embed"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/gin-gonic/gin"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/delivery"
	"synaxis/internal/core/hostconfig"
	"synaxis/internal/core/inventory"
	"synaxis/internal/core/wire"
	"synaxis/internal/service/changes"
	"synaxis/internal/service/hosts"
	"synaxis/internal/service/membership"
)

//go:embed join.sh
var script string

// Platforms are those for which agents are built and served.
var Platforms = []string{"linux-amd64", "linux-arm64"}

// Way is how agents come to the service.
type Way struct {
	Pin string // fingerprint that agents must pin, or ""
	Dir string // holds PLATFORM/synaxis-agent; for this machine's platform the one beside the service will do
}

// Join serves the way in.
type Join struct {
	way        Way
	membership *membership.Membership
	hosts      *hosts.Hosts
	changes    *changes.Service

	mu   sync.Mutex
	sums map[string]sum
}

// New makes it.
func New(w Way, m *membership.Membership, h *hosts.Hosts, c *changes.Service) *Join {
	return &Join{way: w, membership: m, hosts: h, changes: c}
}

// Pin is the fingerprint that agents must pin, or "".
func (j *Join) Pin() string { return j.way.Pin }

type sum struct {
	size int64
	at   time.Time
	hex  string
}

// DefaultDir is the folder of agents beside the running program.
func DefaultDir() string {
	exe, err := os.Executable()
	if err != nil {
		return "agents"
	}
	return filepath.Join(filepath.Dir(exe), "agents")
}

// path finds the agent for a platform; "" when it was not built.
func (j *Join) path(platform string) string {
	own := filepath.Join(filepath.Dir(filepath.Clean(j.way.Dir)), "synaxis-agent")
	for _, p := range []string{filepath.Join(j.way.Dir, platform, "synaxis-agent"), own} {
		if p == own && platform != runtime.GOOS+"-"+runtime.GOARCH {
			continue
		}
		if info, err := os.Stat(p); err == nil && info.Mode().IsRegular() {
			return p
		}
	}
	return ""
}

// sum is the SHA-256 of the agent for a platform in hexadecimal digits, "" when there is none. It is computed once for
// each file as it is.
func (j *Join) sum(platform string) (string, error) {
	p := j.path(platform)
	if p == "" {
		return "", nil
	}
	info, err := os.Stat(p)
	if err != nil {
		return "", err
	}
	j.mu.Lock()
	defer j.mu.Unlock()
	if s, ok := j.sums[p]; ok && s.size == info.Size() && s.at.Equal(info.ModTime()) {
		return s.hex, nil
	}
	text, err := os.ReadFile(p)
	if err != nil {
		return "", err
	}
	h := sha256.Sum256(text)
	s := sum{info.Size(), info.ModTime(), hex.EncodeToString(h[:])}
	if j.sums == nil {
		j.sums = map[string]sum{}
	}
	j.sums[p] = s
	return s.hex, nil
}

// Script is the join script of a service that is reached at base.
func (j *Join) Script(base string) (string, error) {
	if strings.ContainsAny(base, "'\"\\ \n$`") {
		return "", fmt.Errorf("%q is no address that a script can hold", base)
	}
	fill := []string{"@SERVICE@", base, "@PIN@", j.way.Pin, "@STATE@", hostconfig.AgentFolder}
	for _, p := range Platforms {
		s, err := j.sum(p)
		if err != nil {
			return "", fmt.Errorf("the agent for %s: %w", p, err)
		}
		fill = append(fill, "@SUM_"+strings.TrimPrefix(p, "linux-")+"@", s)
	}
	return strings.NewReplacer(fill...).Replace(script), nil
}

// ErrNoAgent says that there is no agent to serve.
var ErrNoAgent = errors.New("this service has no agent to serve; make build makes them")

// Line is what a person pastes on a host: it fetches the script, checks it, and runs it with the token. name is that
// of the one host that the token is for, or "".
func (j *Join) Line(base, token, name string) (string, error) {
	if !j.any() {
		return "", ErrNoAgent
	}
	text, err := j.Script(base)
	if err != nil {
		return "", err
	}
	h := sha256.Sum256([]byte(text))
	unchecked, plain := "", ""
	if strings.HasPrefix(base, "https:") { // the sum vouches for the script, whatever certificate came with it
		unchecked, plain = " -k", " --no-check-certificate"
	}
	return fmt.Sprintf(
		`J=$(mktemp -d)/join.sh; { curl -fsS%s %s/join.sh || wget -qO-%s %s/join.sh; } > $J && echo "%x  $J" | sha256sum -c - && SYNAXIS_JOIN_TOKEN=%s sh $J%s`,
		unchecked,
		base,
		plain,
		base,
		h,
		token,
		Named(name),
	), nil
}

// Named is how a command is told the name of the host; nothing where the system's own will do.
func Named(name string) string {
	if name == "" {
		return ""
	}
	return " --name " + name
}

func (j *Join) any() bool {
	for _, p := range Platforms {
		if j.path(p) != "" {
			return true
		}
	}
	return false
}

// Register adds the routes to a router.
func (j *Join) Register(r gin.IRouter) {
	r.GET("/join.sh", func(c *gin.Context) {
		text, err := j.Script(Base(c.Request))
		if err != nil {
			c.String(http.StatusInternalServerError, "%v\n", err)
			return
		}
		c.Data(http.StatusOK, "text/x-shellscript; charset=utf-8", []byte(text))
	})
	r.GET("/agents/:platform/synaxis-agent", func(c *gin.Context) {
		p := ""
		for _, known := range Platforms {
			if known == c.Param("platform") {
				p = j.path(known)
			}
		}
		if p == "" {
			c.String(
				http.StatusNotFound,
				"there is no agent for %s here; make build makes them\n",
				c.Param("platform"),
			)
			return
		}
		c.Header("Content-Type", "application/octet-stream")
		c.File(p)
	})
	r.GET(wire.NeedsPath, j.serveNeeds)
}

// Base is the address under which a caller reaches the service.
func Base(r *http.Request) string {
	if r.TLS != nil {
		return "https://" + r.Host
	}
	return "http://" + r.Host
}

// serveNeeds tells the holder of a join token what a host of a name would need, a line for each: KEY=VALUE.
func (j *Join) serveNeeds(c *gin.Context) {
	labels, err := j.membership.TokenLabels(c.GetHeader("Authorization"))
	if err != nil {
		var d membership.Denied
		status := http.StatusInternalServerError
		if errors.As(err, &d) {
			status = http.StatusUnauthorized
		}
		c.String(status, "%v\n", err)
		return
	}
	head, err := j.changes.Head(c.Request.Context())
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		c.String(http.StatusInternalServerError, "the catalogue cannot be read\n")
		return
	}
	h := inventory.Host{Name: c.Query("name"), Labels: labels, OS: c.Query("os"), Arch: c.Query("arch")}
	if why := inventory.CheckName(h.Name); why != "" {
		c.String(http.StatusBadRequest, "the host name %q cannot be used: %s; give another with --name\n", h.Name, why)
		return
	}
	if v, ok := j.hosts.Get(h.Name); ok && v.RetiredAt.IsZero() {
		h.Labels, h.Settings = maps.Clone(labels), v.Settings
		if h.Labels == nil {
			h.Labels = map[string]string{}
		}
		maps.Copy(h.Labels, v.Labels)
	}
	c.String(http.StatusOK, "%s", Needs(head.Catalogue, &h))
}

// Needs tells what a host needs by a catalogue, a line for each: low-ports=WHY, reads-tmp=WHY, writes=FOLDER,
// cpu=SHARE, memory=SIZE.
func Needs(cat *catalogue.Catalogue, h *inventory.Host) string {
	var b strings.Builder
	settings, _ := cat.Layers(h, nil)
	get := catalogue.Lookup(h, settings, nil)
	writes := map[string]bool{}
	for _, d := range cat.All() {
		switch {
		case d.Source != nil && d.Source.Hosts.Match(h):
			for _, e := range entries(d) {
				text, _, err := catalogue.Expand(e, get)
				if n, nerr := strconv.Atoi(text); err == nil && nerr == nil && n > 0 && n < 1024 {
					fmt.Fprintf(&b, "low-ports=source %s listens on port %d\n", d.Name, n)
				}
			}
			for _, pattern := range d.Source.Files {
				text, missing, err := catalogue.Expand(pattern, get)
				if base, _ := doublestar.SplitPattern(text); err == nil && len(missing) == 0 &&
					(base == "/" || hostconfig.Inside(base, "/tmp") || hostconfig.Inside(base, "/var/tmp")) {
					fmt.Fprintf(&b, "reads-tmp=source %s reads %s\n", d.Name, text)
				}
			}
			for _, to := range d.Source.Destinations() {
				dest := cat.Get("destination", to)
				if dest == nil || dest.Destination == nil || dest.Destination.Kind != delivery.File {
					continue
				}
				if text, missing, err := catalogue.Expand(dest.Destination.Path, get); err == nil &&
					len(missing) == 0 &&
					!writes[path.Dir(text)] {
					writes[path.Dir(text)] = true
					fmt.Fprintf(&b, "writes=%s\n", path.Dir(text))
				}
			}
		case d.Agents != nil && d.Agents.Hosts.Match(h):
			if d.Agents.CPU > 0 {
				fmt.Fprintf(&b, "cpu=%g%%\n", d.Agents.CPU*100)
			}
			if d.Agents.Memory > 0 {
				fmt.Fprintf(&b, "memory=%s\n", unitSize(d.Agents.Memory))
			}
		}
	}
	return b.String()
}

// unitSize writes bytes as units of systemd do, whose M are MiB.
func unitSize(n int64) string {
	if n%(1<<20) == 0 {
		return fmt.Sprintf("%dM", n>>20)
	}
	return strconv.FormatInt(n, 10)
}

// entries are the ports that a source listens on, as they are written.
func entries(d *catalogue.Definition) []string {
	var out []string
	read := d.Body().Get("read")
	for _, kind := range []string{"syslog", "socket", "http", "otlp"} {
		if port := read.Get(kind).Get("listen").Get("port"); port != nil {
			out = append(out, port.Text())
		}
	}
	return out
}
