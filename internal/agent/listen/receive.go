package listen

import (
	"encoding/binary"
	"net"
	"net/netip"
	"os"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"
)

// packet is a datagram with who sent it. It is good until the next read.
type packet struct {
	from netip.AddrPort
	data []byte
}

// receiver reads datagrams of a socket, many by one call of the system (recvmmsg(2)), and makes nothing anew for them.
type receiver struct {
	raw     syscall.RawConn
	headers [atOnce]header
	parts   [atOnce]unix.Iovec
	names   [atOnce]unix.RawSockaddrInet6 // has room for addresses of both kinds
	buffers [atOnce][]byte
	packets [atOnce]packet
	all     []byte // buffers are its parts
	mapped  bool   // it is outside of the heap
	call    func(fd uintptr) bool
	n       int
	errno   syscall.Errno
}

// apart is what lies between buffers of datagrams: at distances of a power of two the begins of all would share the
// same few lines of the processor's caches.
const apart = 5 * 64

// header is struct mmsghdr.
type header struct {
	message unix.Msghdr
	n       uint32
}

func newReceiver(conn *net.UDPConn) (*receiver, error) {
	raw, err := conn.SyscallConn()
	if err != nil {
		return nil, err
	}
	r := &receiver{raw: raw}
	// outside of the heap: most of it is never touched, and would let garbage grow as much before it is collected
	all, err := unix.Mmap(-1, 0, atOnce*(mostDatagram+apart), unix.PROT_READ|unix.PROT_WRITE,
		unix.MAP_PRIVATE|unix.MAP_ANONYMOUS)
	if r.mapped = err == nil; !r.mapped {
		all = make([]byte, atOnce*(mostDatagram+apart))
	}
	r.all = all
	for i := range r.headers {
		at := i * (mostDatagram + apart)
		r.buffers[i] = all[at : at+mostDatagram : at+mostDatagram]
		r.parts[i].Base = &r.buffers[i][0]
		r.parts[i].SetLen(mostDatagram)
		m := &r.headers[i].message
		m.Name = (*byte)(unsafe.Pointer(&r.names[i]))
		m.Iov = &r.parts[i]
		m.SetIovlen(1)
	}
	r.call = func(fd uintptr) bool {
		for i := range r.headers {
			r.headers[i].message.Namelen = unix.SizeofSockaddrInet6
		}
		for {
			n, _, errno := syscall.Syscall6(unix.SYS_RECVMMSG, fd, uintptr(unsafe.Pointer(&r.headers[0])), atOnce,
				unix.MSG_DONTWAIT, 0, 0)
			if r.n, r.errno = int(n), errno; errno != syscall.EINTR {
				return errno != syscall.EAGAIN
			}
		}
	}
	return r, nil
}

// close lets go of the memory. Packets that were read are gone.
func (r *receiver) close() {
	if r.mapped {
		_ = unix.Munmap(r.all)
	}
}

// read waits for datagrams.
func (r *receiver) read() ([]packet, error) {
	if err := r.raw.Read(r.call); err != nil {
		return nil, err
	}
	if r.errno != 0 {
		return nil, os.NewSyscallError("recvmmsg", r.errno)
	}
	n := 0
	for i := range r.n {
		from, ok := writer(&r.names[i])
		if !ok {
			continue
		}
		r.packets[n] = packet{from, r.buffers[i][:r.headers[i].n]}
		n++
	}
	return r.packets[:n], nil
}

// writer is who wrote a datagram, as the system tells it; an address of IPv4 that comes as one of IPv6 is one of IPv4.
func writer(name *unix.RawSockaddrInet6) (netip.AddrPort, bool) {
	port := binary.BigEndian.Uint16((*[2]byte)(unsafe.Pointer(&name.Port))[:])
	switch name.Family {
	case unix.AF_INET:
		four := (*unix.RawSockaddrInet4)(unsafe.Pointer(name))
		return netip.AddrPortFrom(netip.AddrFrom4(four.Addr), port), true
	case unix.AF_INET6:
		return netip.AddrPortFrom(netip.AddrFrom16(name.Addr).Unmap(), port), true
	}
	return netip.AddrPort{}, false
}
