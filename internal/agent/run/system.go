package run

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"github.com/open-telemetry/opamp-go/protobufs"

	"synaxis/internal/core/wire"
)

// lockDir makes sure that one agent uses a state folder.
func lockDir(dir string) (*os.File, error) {
	f, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("state folder: %w", err)
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		f.Close()
		return nil, fmt.Errorf("another agent uses the state folder %s; give each its own --state", dir)
	}
	return f, nil
}

// observe reads what the desk wants to know of the host. What cannot be read is left out.
func observe() []*protobufs.KeyValue {
	var out []*protobufs.KeyValue
	if text, err := os.ReadFile("/etc/os-release"); err == nil {
		for line := range strings.Lines(string(text)) {
			if name, ok := strings.CutPrefix(strings.TrimSpace(line), "PRETTY_NAME="); ok {
				out = append(out, wire.TextAttribute("os.description", strings.Trim(name, `"`)))
			}
		}
	}
	addrs, err := net.InterfaceAddrs()
	if err != nil {
		return out
	}
	var list []string
	for _, a := range addrs {
		if ip, ok := a.(*net.IPNet); ok && !ip.IP.IsLoopback() && !ip.IP.IsLinkLocalUnicast() {
			list = append(list, ip.IP.String())
		}
	}
	if len(list) > 0 {
		out = append(out, wire.TextAttribute("host.ip", strings.Join(list, ", ")))
	}
	return out
}
