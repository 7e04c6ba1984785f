package fleetsim

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"synaxis/internal/contract"
)

// scannerClocks are files into which the scanners write that they are there, and who is told when one does not.
const scannerClocks = `# The scanners say every second that they are there.
source: scanner-clocks
hosts: {role: gate}
labels: {team: boarding, data: none}
read: {files: ["${setting.log_root}/gate/clock.log"], first-read: start}
format: raw
expect: {every: 4s}
send: [harbour-archive]
---
notice: scanner-silent
about: The watch desk is told when a scanner falls silent
when: code == "silent" && labels.role == "gate"
to:
  - webhook: {url: "http://%s/told"}
`

// fallSilent lets a scanner fall silent, and tells who heard of it. The others go on as long as living lasts.
func (d *Demo) fallSilent(ctx, living context.Context) error {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	told := make(chan string, 16)
	desk := &http.Server{ReadHeaderTimeout: time.Second, Handler: http.HandlerFunc(
		func(_ http.ResponseWriter, r *http.Request) {
			var m struct {
				Items []struct{ What, Words string }
			}
			body, _ := io.ReadAll(io.LimitReader(r.Body, 1<<20))
			if json.Unmarshal(body, &m) == nil {
				for _, i := range m.Items {
					told <- i.What + ": " + i.Words
				}
			}
		})}
	go func() { _ = desk.Serve(listener) }()
	defer desk.Close()
	var gates []string
	for _, m := range d.Fleet {
		if m.Role == "gate" {
			gates = append(gates, filepath.Join(m.LogRoot(), "gate/clock.log"))
		}
	}
	silent := make(chan struct{})
	go func() {
		for i := 0; living.Err() == nil; i++ {
			for n, path := range gates {
				if n == 0 && closed(silent) {
					continue
				}
				if f, err := os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644); err == nil {
					fmt.Fprintf(f, "here, %d\n", i)
					f.Close()
				}
			}
			time.Sleep(time.Second)
		}
	}()
	if _, err := d.put(ctx, "Scanner clocks", fmt.Sprintf(scannerClocks, listener.Addr())); err != nil {
		return err
	}
	plan := "one-wave"
	r, err := answer[contract.Rollout](d.client.StartRollout(ctx, contract.NewRollout{Plan: &plan}))
	if err != nil {
		return err
	}
	if _, err := d.ended(ctx, r.Id, time.Minute); err != nil {
		return err
	}
	first := d.Fleet[slices.IndexFunc(d.Fleet, func(m *Running) bool { return m.Role == "gate" })]
	state := func(want contract.State) func() (bool, error) {
		return func() (bool, error) {
			h, err := answer[contract.Host](d.client.GetHost(ctx, first.Name))
			i := slices.IndexFunc(h.Sources, func(s contract.HostSource) bool { return s.Name == "scanner-clocks" })
			return i >= 0 && h.Sources[i].Verdict.State == want, err
		}
	}
	if err := d.wait(ctx, time.Minute, "the clocks to be read", state(contract.Healthy)); err != nil {
		return err
	}
	close(silent)
	if err := d.wait(ctx, time.Minute, "the scanner to be silent", state(contract.Degraded)); err != nil {
		return err
	}
	select {
	case words := <-told:
		d.say("The scanner of %s fell silent; the watch desk was told by webhook: %s", first.Name, words)
		if !strings.Contains(words, "silent") {
			return fmt.Errorf("the watch desk was told something else: %s", words)
		}
	case <-time.After(time.Minute):
		return fmt.Errorf("the watch desk was not told that the scanner of %s is silent", first.Name)
	case <-ctx.Done():
		return ctx.Err()
	}
	return nil
}

func closed(c chan struct{}) bool {
	select {
	case <-c:
		return true
	default:
		return false
	}
}
