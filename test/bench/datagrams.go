package main

import (
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"sync/atomic"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"synaxis/internal/core/framing"
)

// flood sends so many messages of one sender a second for a while, or with 0 as many as go, and answers how many. The
// system cuts what is written at once into datagrams (UDP_SEGMENT of udp(7)), so that who sends is not what is
// measured.
func flood(address string, rate float64, long time.Duration) (sent int64, err error) {
	const atOnce = 64
	c, err := net.Dial("udp", address)
	if err != nil {
		return 0, err
	}
	defer c.Close()
	var all []byte
	for i := range atOnce {
		all = fmt.Appendf(all, "%s%02d", message, i)
	}
	raw, err := c.(*net.UDPConn).SyscallConn()
	if err != nil {
		return 0, err
	}
	cut := errors.New("not tried")
	if err := raw.Control(func(fd uintptr) {
		cut = unix.SetsockoptInt(int(fd), unix.SOL_UDP, unix.UDP_SEGMENT, len(all)/atOnce)
	}); err != nil || cut != nil {
		return 0, errors.Join(err, cut)
	}
	for began := time.Now(); time.Since(began) < long; sent += atOnce {
		if _, err := c.Write(all); err != nil {
			return sent, err
		}
		if rate > 0 {
			time.Sleep(time.Until(began.Add(time.Duration(float64(sent) / rate * float64(time.Second)))))
		}
	}
	return sent, nil
}

const floodFor = time.Second

// mostRead is how many messages a second are read at the rate of sending at which most are: who sends more than that
// only takes time from who reads, since both share the processors. It begins with as many as go.
func mostRead(address string, read func() int64) (most float64, sent int64, err error) {
	for _, share := range []float64{0, 0.9, 1.1, 1.2, 1.3} {
		before, began := read(), time.Now()
		n, err := flood(address, share*most, floodFor)
		if err != nil {
			return 0, sent, err
		}
		sent += n
		most = max(most, float64(read()-before)/time.Since(began).Seconds())
		time.Sleep(500 * time.Millisecond) // what waits is read
	}
	return most, sent, nil
}

// floods measures how many messages are read of a flood over UDP, and whether each that was not is counted.
func floods(row rowFunc) error {
	dir, e, at, err := listening("udp", framing.Packet)
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	defer e.Stop()
	p, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	plain, err := newPlainSyslog(dir)
	if err != nil {
		return err
	}
	defer plain.out.Close()
	ended := make(chan error, 1)
	go func() {
		b := make([]byte, 64<<10)
		for {
			n, from, err := p.ReadFrom(b)
			if err == nil {
				err = plain.take(string(b[:n]), from)
			}
			if err != nil {
				ended <- err
				return
			}
		}
	}()
	written := filepath.Join(dir, "out")
	if err := sameRecord(at, written, p.LocalAddr().String(), plain.out.Name()); err != nil {
		return err
	}
	sent := int64(1)
	rate, err := inTurn(row, "syslog over UDP, messages a second, times net, regexp and encoding/json", udpAim,
		func() (float64, error) {
			defer cutOff(written)()
			most, n, err := mostRead(at, func() int64 {
				all, _ := e.Numbers()
				return all["s"].Read
			})
			sent += n
			return most, err
		},
		func() (float64, error) {
			defer cutOff(plain.out.Name())()
			most, _, err := mostRead(p.LocalAddr().String(), plain.n.Load)
			return most, err
		})
	if err != nil {
		return err
	}
	p.Close()
	if err := <-ended; !errors.Is(err, net.ErrClosed) {
		return err
	}
	var read, missed int64
	for range 100 { // what waits is treated, and what the system dropped is read now and then
		time.Sleep(100 * time.Millisecond)
		if c, err := net.Dial("udp", at); err == nil { // with which the count of the system is looked at
			_, _ = c.Write([]byte("<134>Apr  2 06:15:09 gate-4 scanner[17]: end"))
			c.Close()
			sent++
		}
		all, _ := e.Numbers()
		if read, missed = all["s"].Read, all["s"].Missed; read+missed >= sent {
			break
		}
	}
	bare, err := bareReading()
	if err != nil {
		return err
	}
	row("... of what a loop reads that throws all away", fmt.Sprintf("%.0f %% (of %s)", 100*rate/bare, show(bare)), "",
		true)
	row("... of them in all", show(rate), show(udpLeast), rate >= udpLeast)
	row("... and sent, not read and not counted", fmt.Sprintf("%d of %d", sent-read-missed, sent), "0",
		sent-read-missed == 0)
	return nil
}

// bareReading is how many datagrams a second are read by nothing but the call of the system that reads many at once
// (recvmmsg(2)): what sending and reading takes of two processors, whatever is done with them.
func bareReading() (float64, error) {
	p, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	if err != nil {
		return 0, err
	}
	defer p.Close()
	_ = p.SetReadBuffer(16 << 20) // or as much as there may be
	raw, err := p.SyscallConn()
	if err != nil {
		return 0, err
	}
	type header struct { // struct mmsghdr
		message unix.Msghdr
		n       uint32
	}
	var headers [64]header
	var parts [64]unix.Iovec
	for i := range headers {
		b := make([]byte, 2048)
		parts[i].Base = &b[0]
		parts[i].SetLen(len(b))
		headers[i].message.Iov = &parts[i]
		headers[i].message.SetIovlen(1)
	}
	var all atomic.Int64
	go func() {
		read := func(fd uintptr) bool {
			n, _, e := unix.Syscall6(unix.SYS_RECVMMSG, fd, uintptr(unsafe.Pointer(&headers[0])),
				uintptr(len(headers)), unix.MSG_DONTWAIT, 0, 0)
			if e == 0 {
				all.Add(int64(n))
			}
			return e != unix.EAGAIN
		}
		for raw.Read(read) == nil {
		}
	}()
	most, _, err := mostRead(p.LocalAddr().String(), all.Load)
	return most, err
}
