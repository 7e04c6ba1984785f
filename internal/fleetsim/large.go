package fleetsim

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/open-telemetry/opamp-go/protobufs"

	"synaxis/internal/contract"
	"synaxis/internal/core/health"
	"synaxis/internal/core/wire"
)

// Parts of a large fleet: sites, and what stands at each, so many for each part of the hosts.
var (
	largeSites = []string{"northpier", "gull-point", "saltmarsh", "eastquay", "harbour-mouth", "old-mole", "ferry-slip",
		"west-basin", "lock-three", "grain-wharf", "dry-dock", "pilot-house"}
	largeRoles = []struct {
		role, source, path string
		share              int
	}{{"gate", "gate-scans", "/var/log/gate/lane-*.log", 9}, {"crane", "crane-log", "/var/log/crane/${host.name}/*.log", 6},
		{"kiosk", "kiosk-prints", "/var/log/kiosk/*.log", 5}, {"gauge", "tide-gauges", "/var/log/gauge/*.log", 3},
		{"office", "office-access", "/var/log/office/access*.log", 2}}
)

// largeCatalogue is what a large fleet runs.
func largeCatalogue() string {
	text := "destination: harbour-archive\ndeliver: {otlp: {url: \"https://archive.whimbrel.example:4318/v1/logs\"}}\n---\n" +
		"destination: watch-desk\ndeliver: {http: {url: \"https://desk.whimbrel.example/in\"}}\n"
	for _, r := range largeRoles {
		text += fmt.Sprintf("---\nsource: %s\nhosts: {role: %s}\nread: {files: [%q]}\nformat: raw\nlabels: {data: none}\n"+
			"send: [harbour-archive, watch-desk]\n", r.source, r.role, r.path)
	}
	return text
}

// Large is a large fleet in which some things are wrong at the same time, for pictures: a destination that fails for a
// site, logs that are not where they should be, agents that are away. Close ends it.
func Large(ctx context.Context, o SimulationOptions) (s *Simulation, err error) {
	s = &Simulation{Options: o}
	if s.dir, err = os.MkdirTemp(inMemory(), "synaxis-large-"); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			s.Close()
		}
	}()
	if err := s.start(ctx, "127.0.0.1:0"); err != nil {
		return nil, err
	}
	shares := 0
	for _, r := range largeRoles {
		shares += r.share
	}
	roles := map[string][]*Light{}
	for _, site := range largeSites {
		for _, r := range largeRoles {
			any, labels := 0, map[string]string{"site": site, "role": r.role}
			t, err := answer[contract.CreatedJoinToken](s.client.CreateJoinToken(ctx, contract.NewJoinToken{Uses: &any,
				Labels: &labels}))
			if err != nil {
				return nil, err
			}
			for i := range o.Hosts * r.share / shares / len(largeSites) {
				h, err := NewLight(fmt.Sprintf("%s-%s-%d", r.role, site, i+1), LightOptions{Service: s.address,
					JoinToken: t.Token, Dir: filepath.Join(s.dir, "hosts"), Report: o.Report})
				if err != nil {
					return nil, err
				}
				h.Start()
				s.hosts = append(s.hosts, h)
				roles[r.role+" "+site] = append(roles[r.role+" "+site], h)
			}
		}
	}
	if _, err := s.until(ctx, 2*time.Minute, "all to join", func() (bool, error) {
		n, err := s.links(ctx)
		return n == len(s.hosts), err
	}); err != nil {
		return nil, err
	}
	d, err := answer[contract.Draft](s.client.LoadDraft(ctx, contract.NewDraft{Whole: true,
		Files: []contract.File{{Path: "fleet.yaml", Text: largeCatalogue()}}}))
	if err != nil {
		return nil, err
	}
	if _, err := answer[contract.Published](s.client.PublishDraft(ctx, d.Id, contract.Publication{})); err != nil {
		return nil, err
	}
	if _, _, err := s.run(ctx, "one-wave", 2*time.Minute); err != nil {
		return nil, err
	}
	time.Sleep(2 * o.Report)
	s.trouble(roles)
	time.Sleep(3 * o.Report)
	return s, nil
}

// trouble is what is wrong with a large fleet.
func (s *Simulation) trouble(of map[string][]*Light) {
	since := time.Now().Add(-72 * time.Minute)
	for _, r := range largeRoles { // the archive fails for one site
		for _, h := range of[r.role+" northpier"] {
			h.Complain("destination/harbour-archive", health.ReceiverFailing, "it answers 503 Service Unavailable",
				since)
			h.Complain("source/"+r.source, health.HeldBy, "held by harbour-archive: it answers 503 Service Unavailable", since)
			h.Hold("harbour-archive")
		}
	}
	for _, h := range of["crane saltmarsh"] {
		h.Complain("source/crane-log", health.PathMatchesNothing, "no file matches /var/log/crane/"+h.Name+"/*.log",
			since)
	}
	for i, h := range of["kiosk eastquay"] {
		if i < 3 {
			h.Complain("source/kiosk-prints", health.NotReadable, "open /var/log/kiosk/prints.log: permission denied", since)
		}
	}
	for i, h := range of["gauge old-mole"] {
		if i < 4 {
			h.Complain("source/tide-gauges", health.Silent, "no record since 04:12 UTC; one was due at 04:22", since)
		}
	}
	for i, h := range of["gate gull-point"] {
		if i%2 == 0 {
			h.Stop()
			h.done, h.stop = over, func() {}
		}
	}
}

// over is a channel of what has ended.
var over = func() chan struct{} { c := make(chan struct{}); close(c); return c }()

// Close ends the fleet and its service.
func (s *Simulation) Close() {
	s.stopHosts()
	s.kill()
	_ = os.RemoveAll(s.dir)
}

// SignInLink opens the console of its service.
func (s *Simulation) SignInLink(ctx context.Context) (string, error) {
	l, err := answer[contract.SignInLink](s.client.CreateSignInLink(ctx))
	return l.Url, err
}

// URL is the address of its service.
func (s *Simulation) URL() string { return s.address }

// Token is the key of its service.
func (s *Simulation) Token() string { return s.token }

// Complain lets one of its parts, such as source/NAME, be as said.
func (h *Light) Complain(part string, code health.Code, reason string, since time.Time) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.parts == nil {
		h.parts = map[string]*protobufs.ComponentHealth{}
	}
	h.parts[part] = &protobufs.ComponentHealth{Status: string(code), LastError: reason,
		StatusTimeUnixNano: uint64(since.UnixNano())}
}

// Hold lets a destination take nothing from now on.
func (h *Light) Hold(destination string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.counted, h.since = h.count(time.Now()), time.Now()
	h.held = destination
}

// heldBack are the numbers with what waits for a destination that takes nothing, of records that were read since.
func heldBack(n wire.Numbers, destination string, more int64, since time.Time) wire.Numbers {
	n.Acknowledged -= more
	n.Pending = more
	n.Oldest = since.UnixNano()
	n.Deliveries = map[string]wire.DeliveryCounts{destination: {Read: n.Read, Acknowledged: n.Acknowledged,
		OnDisk:    more,
		DiskBytes: 120 * more, Oldest: since.UnixNano()}}
	return n
}
