package listen

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"synaxis/internal/core/pipeline"
)

// Try tells whether an address can be bound, without keeping it. own says that this agent has it already.
func Try(l *pipeline.Listener) (own bool, err error) {
	s := &server{listener: l}
	at, family := s.address()
	transport := "tcp"
	var bound io.Closer
	if l.Transport == "udp" {
		transport = "udp"
		bound, err = net.ListenPacket("udp"+family, at)
	} else {
		bound, err = net.Listen("tcp"+family, at)
	}
	if err == nil {
		return false, bound.Close()
	}
	if errors.Is(err, syscall.EADDRINUSE) && Holder(transport, l.Port) == ourOwn {
		return true, nil
	}
	return false, errors.New(bindReason(l, err))
}

// ourOwn is what Holder says of this agent.
const ourOwn = "another source of this agent holds it"

// Holder tells which program of the host holds a port, of tcp or udp, as far as the agent may see it.
// https://docs.kernel.org/networking/proc_net_tcp.html
func Holder(transport, port string) string {
	number, err := strconv.Atoi(port)
	if err != nil {
		return "another program holds it"
	}
	inodes, owner := sockets(transport, number)
	if len(inodes) == 0 {
		return "another program holds it"
	}
	folders, _ := filepath.Glob("/proc/[0-9]*/fd")
	for _, folder := range folders {
		entries, err := os.ReadDir(folder)
		if err != nil {
			continue
		}
		for _, e := range entries {
			link, err := os.Readlink(filepath.Join(folder, e.Name()))
			if err != nil {
				continue
			}
			if inode, ok := strings.CutPrefix(link, "socket:["); ok && slices.Contains(inodes,
				strings.TrimSuffix(inode, "]")) {
				process := filepath.Dir(folder)
				if process == fmt.Sprintf("/proc/%d", os.Getpid()) {
					return ourOwn
				}
				name, _ := os.ReadFile(filepath.Join(process, "comm"))
				return fmt.Sprintf("the program %s (process %s) holds it", strings.TrimSpace(string(name)),
					filepath.Base(process))
			}
		}
	}
	return fmt.Sprintf("a program of the user with number %s holds it", owner)
}

// sockets are the inodes of those that are bound to a port, and the number of the user of the last one.
func sockets(transport string, port int) (inodes []string, owner string) {
	for _, family := range []string{"", "6"} {
		file, err := os.Open("/proc/net/" + transport + family)
		if err != nil {
			continue
		}
		lines := bufio.NewScanner(file)
		for lines.Scan() {
			f := strings.Fields(lines.Text())
			if len(f) < 10 || transport == "tcp" && f[3] != "0A" { // 0A is listening
				continue
			}
			_, hex, ok := strings.Cut(f[1], ":")
			if n, err := strconv.ParseInt(hex, 16, 32); ok && err == nil && int(n) == port {
				inodes, owner = append(inodes, f[9]), f[7]
			}
		}
		file.Close()
	}
	return inodes, owner
}
