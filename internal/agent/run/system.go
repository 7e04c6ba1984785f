package run

import (
	"cmp"
	"fmt"
	"maps"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/open-telemetry/opamp-go/protobufs"

	"synaxis/internal/core/wire"
)

// processStart is when this process began, or nearly.
var processStart = time.Now()

// cpuTime is what this process has used on all cores.
func cpuTime() (time.Duration, error) {
	var u syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &u); err != nil {
		return 0, err
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano()), nil
}

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
func observe(stateDir string) []*protobufs.KeyValue {
	out := []*protobufs.KeyValue{
		wire.TextAttribute(wire.PortsAttribute, wire.FormatPorts(boundPorts())),
		wire.TextAttribute(wire.LowPortsAttribute, strconv.FormatBool(mayBindLowPorts())),
	}
	var disk syscall.Statfs_t
	if err := syscall.Statfs(stateDir, &disk); err == nil {
		free := int64(disk.Bavail) * disk.Bsize
		out = append(
			out,
			wire.TextAttribute(wire.FreeDiskAttribute, strconv.FormatInt(free-free%(256<<20), 10)),
		) // coarse, so that it is not news all the time
	}
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

// mayBindLowPorts tells whether this process may bind ports below 1024: by a capability, or because the system lets
// everybody.
func mayBindLowPorts() bool {
	if text, err := os.ReadFile("/proc/sys/net/ipv4/ip_unprivileged_port_start"); err == nil {
		if n, err := strconv.Atoi(strings.TrimSpace(string(text))); err == nil && n <= 1 {
			return true
		}
	}
	text, err := os.ReadFile("/proc/self/status")
	if err != nil {
		return false
	}
	for line := range strings.Lines(string(text)) {
		if hex, ok := strings.CutPrefix(line, "CapEff:"); ok {
			caps, err := strconv.ParseUint(strings.TrimSpace(hex), 16, 64)
			return err == nil && caps&(1<<10) != 0 // CAP_NET_BIND_SERVICE
		}
	}
	return false
}

// boundPorts reads the ports that other programs listen on, from the kernel's tables (proc(5)).
func boundPorts() []wire.Port {
	mine := map[string]bool{}
	fds, err := os.ReadDir("/proc/self/fd")
	if err != nil {
		return nil
	}
	for _, fd := range fds {
		if to, err := os.Readlink("/proc/self/fd/" + fd.Name()); err == nil {
			if inode, ok := strings.CutPrefix(to, "socket:["); ok {
				mine[strings.TrimSuffix(inode, "]")] = true
			}
		}
	}
	seen := map[wire.Port]bool{}
	for _, table := range []struct{ name, transport, state string }{{"tcp", "tcp", "0A"}, {"tcp6", "tcp", "0A"},
		{"udp", "udp", "07"}, {"udp6", "udp", "07"}} {
		text, err := os.ReadFile("/proc/net/" + table.name)
		if err != nil {
			continue
		}
		for line := range strings.Lines(string(text)) {
			f := strings.Fields(line)
			if len(f) < 10 || f[3] != table.state || mine[f[9]] {
				continue
			}
			_, hex, _ := strings.Cut(f[1], ":")
			if n, err := strconv.ParseUint(hex, 16, 16); err == nil && n > 0 {
				seen[wire.Port{Transport: table.transport, Number: int(n)}] = true
			}
		}
	}
	return slices.SortedFunc(maps.Keys(seen), func(a, b wire.Port) int {
		return cmp.Or(cmp.Compare(a.Number, b.Number), strings.Compare(a.Transport, b.Transport))
	})
}

// Of the files that a process may have open some are kept for the agent's own: connections, state, destinations.
const (
	ownFiles     = 64
	fewestOpened = 16
)

// openFiles is how many logs may be open at the same time. The limit is raised as far as the system lets it be.
func openFiles() int64 {
	var limit syscall.Rlimit
	if err := syscall.Getrlimit(syscall.RLIMIT_NOFILE, &limit); err != nil {
		return 1024 - ownFiles
	}
	if limit.Cur < limit.Max {
		raised := limit
		raised.Cur = raised.Max
		if syscall.Setrlimit(syscall.RLIMIT_NOFILE, &raised) == nil {
			limit = raised
		}
	}
	return max(fewestOpened, int64(min(limit.Cur, 1<<30))-ownFiles)
}
