// Package service is the long-running service as a whole: it opens the store, connects the parts, and serves agents,
// the API and the console on one address.
package service

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"synaxis/internal/contract"
	"synaxis/internal/core/health"
	"synaxis/internal/core/wire"
	"synaxis/internal/service/api"
	"synaxis/internal/service/assemble"
	"synaxis/internal/service/auth"
	"synaxis/internal/service/certificates"
	"synaxis/internal/service/console"
	"synaxis/internal/service/join"
	"synaxis/internal/service/rollouts"
	"synaxis/internal/service/store"
)

// Options of the service.
type Options struct {
	Data            string
	Listen          string
	TLSCert, TLSKey string
	TLSAuto         bool
	TLSNames        []string // more names for the certificate of TLSAuto
	Insecure        bool
	NoHostReading   bool   // nobody may see lines of logs on hosts
	Agents          string // folder of the agents that are served to hosts; "" is the one beside the program
	Log             *slog.Logger
	Started         func(address, tokenFile, pin string, firstStart bool) // called once it listens
}

// Run serves until ctx ends, then stops gracefully.
func Run(ctx context.Context, o Options) error {
	if o.Agents == "" {
		o.Agents = join.DefaultDir()
	}
	if err := ownFolder(o.Data, o.Log); err != nil {
		return fmt.Errorf("data folder: %w", err)
	}
	lock, err := os.OpenFile(filepath.Join(o.Data, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return fmt.Errorf("data folder: %w", err)
	}
	defer lock.Close()
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		return fmt.Errorf("another service uses the data folder %s", o.Data)
	}
	tlsConfig, pin, err := tlsSetting(o)
	if err != nil {
		return err
	}
	if tlsConfig == nil && !o.Insecure && !onLoopback(o.Listen) {
		return fmt.Errorf(
			"--listen %s without TLS: tokens and configs would travel in clear; use --tls-auto, or --tls-cert and "+
				"--tls-key, or say --insecure",
			o.Listen,
		)
	}
	if err := store.CheckPresent(o.Data); err != nil {
		return err
	}
	st, err := store.Open(ctx, o.Data)
	if err != nil {
		return err
	}
	defer st.Close()
	events := api.NewEvents()
	authn, created, err := auth.New(
		st,
		o.Data,
		auth.Rules{NoHostReading: o.NoHostReading, Ended: events.EndSession},
		o.Log,
		time.Now,
	)
	if err != nil {
		return err
	}
	parts, err := assemble.New(ctx, st, assemble.World{Data: o.Data, Log: o.Log, Now: time.Now, Note: events.Note})
	if err != nil {
		return err
	}

	listener, err := net.Listen("tcp", o.Listen)
	if err != nil {
		return fmt.Errorf("listen: %w", err)
	}
	a := &api.API{Owners: parts, Auth: authn, Events: events, Log: o.Log, Now: time.Now,
		Until: ends(tlsConfig),
		Join:  join.New(join.Way{Pin: pin, Dir: o.Agents}, parts.Membership, parts.Hosts, parts.Changes)}
	server := &http.Server{
		Handler:           handler(a, st, authn),
		ReadHeaderTimeout: 10 * time.Second,
		IdleTimeout:       2 * time.Minute,
		TLSConfig:         tlsConfig,
		ErrorLog:          slog.NewLogLogger(o.Log.Handler(), slog.LevelDebug),
	}
	var running sync.WaitGroup
	partsCtx, stopParts := context.WithCancel(context.WithoutCancel(ctx))
	defer stopParts()
	running.Go(func() { parts.Agents.Run(partsCtx) })
	running.Go(func() { parts.Rollouts.Run(partsCtx) })
	running.Go(func() { parts.Numbers.Run(partsCtx) })
	running.Go(func() { parts.Notices.Run(partsCtx) })
	running.Go(func() { keepBooks(partsCtx, st, parts.Rollouts, o.Log) })
	failed := make(chan error, 1)
	go func() {
		if tlsConfig != nil {
			failed <- server.ServeTLS(listener, "", "")
		} else {
			failed <- server.Serve(listener)
		}
	}()
	scheme := "http://"
	if tlsConfig != nil {
		scheme = "https://"
	}
	if o.Started != nil {
		o.Started(scheme+listener.Addr().String(), filepath.Join(o.Data, auth.TokenFile), pin, created)
	}
	select {
	case err = <-failed:
	case <-ctx.Done():
		o.Log.Info("stopping")
		events.Close()
		stopCtx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer cancel()
		parts.Links.Close()
		err = server.Shutdown(stopCtx)
		if errors.Is(err, context.DeadlineExceeded) {
			err = server.Close()
		}
	}
	stopParts()
	running.Wait()
	if errors.Is(err, http.ErrServerClosed) {
		err = nil
	}
	return err
}

// How often it is tried whether records can be written, and what nobody asks for is removed.
const (
	probeEvery = 10 * time.Second
	pruneEvery = time.Hour
)

// keepBooks notices when the data folder takes no records, and when it does again, and keeps the databases within
// bounds.
func keepBooks(ctx context.Context, st *store.Store, driver *rollouts.Driver, log *slog.Logger) {
	probe := time.NewTicker(probeEvery)
	defer probe.Stop()
	var pruned, told time.Time
	for {
		now := time.Now()
		if err := st.Probe(ctx); err != nil {
			if now.Sub(told) >= time.Minute {
				told = now
				log.Error("the service cannot keep its records", "error", err)
			}
		} else if now.Sub(pruned) >= pruneEvery {
			pruned = now
			if _, err := st.Prune(ctx, driver.Manifests()); err != nil {
				log.Error("what is not needed any more cannot be removed", "error", err)
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-probe.C:
		}
	}
}

func onLoopback(listen string) bool {
	host, _, err := net.SplitHostPort(listen)
	if err != nil {
		return false
	}
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

func tlsSetting(o Options) (*tls.Config, string, error) {
	switch {
	case o.TLSAuto:
		var names []string
		if host, _, err := net.SplitHostPort(o.Listen); err == nil {
			names = append(o.TLSNames, host)
		}
		cert, pin, err := autoTLS(certificates.New(o.Data, time.Now), names, time.Now())
		if err != nil {
			return nil, "", fmt.Errorf("--tls-auto: %w", err)
		}
		return &tls.Config{MinVersion: tls.VersionTLS12, Certificates: []tls.Certificate{cert}}, pin, nil
	case o.TLSCert != "" || o.TLSKey != "":
		cert, err := tls.LoadX509KeyPair(o.TLSCert, o.TLSKey)
		if err != nil {
			return nil, "", fmt.Errorf("--tls-cert and --tls-key: %w", err)
		}
		leaf, err := x509.ParseCertificate(cert.Certificate[0])
		if err != nil {
			return nil, "", fmt.Errorf("--tls-cert: %w", err)
		}
		return &tls.Config{
				MinVersion:   tls.VersionTLS12,
				Certificates: []tls.Certificate{cert},
			}, wire.Fingerprint(
				leaf.Raw,
			), nil
	}
	return nil, "", nil
}

// handler puts agents, API, measurements and console under one roof.
func handler(a *api.API, st *store.Store, authn *auth.Auth) http.Handler {
	gin.SetMode(gin.ReleaseMode)
	router := gin.New()
	router.Use(gin.CustomRecoveryWithWriter(nil, func(c *gin.Context, reason any) {
		a.Log.Error("a request panicked", "path", c.Request.URL.Path, "reason", reason)
		c.AbortWithStatus(http.StatusInternalServerError)
	}))
	router.GET("/healthz", func(c *gin.Context) { c.String(http.StatusOK, "ok\n") })
	router.GET("/readyz", func(c *gin.Context) {
		if err := st.Ping(c.Request.Context()); err != nil {
			c.String(http.StatusServiceUnavailable, "the store does not answer: %v\n", err)
			return
		}
		if t := st.Trouble(); t.Reason != "" {
			c.String(
				http.StatusServiceUnavailable,
				"the service cannot keep its records since %s: %s\n",
				t.Since.UTC().Format(time.RFC3339),
				t.Reason,
			)
			return
		}
		c.String(http.StatusOK, "ready\n")
	})
	metrics := promhttp.HandlerFor(registry(a), promhttp.HandlerOpts{EnableOpenMetrics: true})
	router.GET("/metrics", func(c *gin.Context) {
		id, err := authn.Identify(c.Request)
		if err != nil {
			c.Header("WWW-Authenticate", "Bearer")
			c.String(http.StatusUnauthorized, "%v\n", err)
			return
		}
		if !id.May(contract.MayLook, "") {
			c.String(http.StatusForbidden, "%s\n", api.MayNot(id, contract.MayLook))
			return
		}
		metrics.ServeHTTP(c.Writer, c.Request)
	})
	a.Register(router)
	a.Join.Register(router)
	web := console.Handler()
	router.NoRoute(func(c *gin.Context) {
		if strings.HasPrefix(c.Request.URL.Path, "/api/") {
			api.NotFound(c)
			return
		}
		if c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead {
			c.Status(http.StatusMethodNotAllowed)
			return
		}
		c.Status(http.StatusOK)
		web.ServeHTTP(c.Writer, c.Request)
	})
	mux := http.NewServeMux() // beside Gin: these connections last
	mux.HandleFunc(wire.OpAMPPath, a.Agents.ServeOpAMP)
	mux.HandleFunc("POST "+wire.MetricsPath, a.Agents.ServeMetrics)
	mux.Handle("/", router)
	return paced(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("X-Content-Type-Options", "nosniff")
		w.Header().Set("Cache-Control", "no-store") // the console says otherwise of its own files
		mux.ServeHTTP(w, r)
	}))
}

// registry measures the service itself.
func registry(a *api.API) *prometheus.Registry {
	r := prometheus.NewRegistry()
	r.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	gauge := func(name, help string, value func() float64) {
		r.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: name, Help: help}, value))
	}
	gauge("synaxis_hosts", "Hosts in the inventory.", func() float64 { return float64(a.Inventory.Len()) })
	gauge("synaxis_hosts_connected", "Hosts whose agent is connected.", func() float64 {
		n := 0
		a.Links.Each(func(uid string) {
			if _, ok := a.Inventory.ByUID(uid); ok {
				n++
			}
		})
		return float64(n)
	})
	r.MustRegister(states{a})
	gauge(
		"synaxis_revision_in_force",
		"The revision whose rollout was completed last.",
		func() float64 { return float64(a.Rollouts.InForce()) },
	)
	return r
}

// states measures how well the fleet is: hosts and sources on hosts by state, what they read and what was
// acknowledged.
type states struct{ api *api.API }

var (
	hostsDesc = prometheus.NewDesc("synaxis_hosts_state", "Hosts that are not retired, by state.",
		[]string{"state"}, nil)
	sourcesDesc = prometheus.NewDesc("synaxis_sources_state", "Sources on hosts, by state.", []string{"state"}, nil)
	causesDesc  = prometheus.NewDesc("synaxis_causes", "Causes of what is wrong.", nil, nil)
	readDesc    = prometheus.NewDesc("synaxis_records_read_total", "Records that hosts have read.", nil, nil)
	ackDesc     = prometheus.NewDesc("synaxis_records_acknowledged_total",
		"Records that all of their destinations have acknowledged.", nil, nil)
)

// Describe tells what is measured.
func (s states) Describe(out chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{hostsDesc, sourcesDesc, causesDesc, readDesc, ackDesc} {
		out <- d
	}
}

// Collect measures.
func (s states) Collect(out chan<- prometheus.Metric) {
	hosts, sources := map[health.State]int{}, map[health.State]int{}
	for _, state := range []health.State{health.Healthy, health.Waiting, health.Degraded, health.Offline,
		health.Failing} {
		hosts[state], sources[state] = 0, 0
	}
	var read, acknowledged int64
	for _, row := range s.api.Inventory.All(false) {
		kept := s.api.Hosts.Health(row.Name)
		hosts[kept.Worst.State]++
		for state, n := range kept.Sources {
			sources[state] += n
		}
		read += kept.Read
		acknowledged += kept.Acknowledged
	}
	for desc, counts := range map[*prometheus.Desc]map[health.State]int{hostsDesc: hosts, sourcesDesc: sources} {
		for state, n := range counts {
			if state != "" {
				out <- prometheus.MustNewConstMetric(desc, prometheus.GaugeValue, float64(n), string(state))
			}
		}
	}
	out <- prometheus.MustNewConstMetric(causesDesc, prometheus.GaugeValue,
		float64(len(health.Group(s.api.Hosts.Troubles()))))
	out <- prometheus.MustNewConstMetric(readDesc, prometheus.CounterValue, float64(read))
	out <- prometheus.MustNewConstMetric(ackDesc, prometheus.CounterValue, float64(acknowledged))
}

// ends is when the certificate of the service ends, or zero.
func ends(c *tls.Config) time.Time {
	if c == nil || len(c.Certificates) == 0 {
		return time.Time{}
	}
	leaf, err := x509.ParseCertificate(c.Certificates[0].Certificate[0])
	if err != nil {
		return time.Time{}
	}
	return leaf.NotAfter
}
