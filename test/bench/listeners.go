package main

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"time"

	collogs "go.opentelemetry.io/proto/otlp/collector/logs/v1"
	common "go.opentelemetry.io/proto/otlp/common/v1"
	logs "go.opentelemetry.io/proto/otlp/logs/v1"
	resource "go.opentelemetry.io/proto/otlp/resource/v1"
	"google.golang.org/protobuf/proto"

	"synaxis/internal/agent/run"
	"synaxis/internal/core/delivery"
	"synaxis/internal/core/format"
	"synaxis/internal/core/framing"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/record"
)

// Aims of listeners.
const (
	udpAim       = 10.0    // times the plain way
	udpLeast     = 200_000 // messages a second
	tcpAim       = 15.0
	otlpAim      = 3.0
	idleConns    = 10_000
	idleConnsAim = 200.0 // MB
	idleAgentAim = 0.5   // percent of a core
)

const message = "<134>Apr  2 06:15:09 gate-4 scanner[17]: lane 4 let a vehicle through after looking at its ticket for a while, n="

// listenersTable measures listeners.
func listenersTable() (missed int, err error) {
	t, row := agentTable(&missed)
	defer t.Render()
	for _, f := range []func(rowFunc) error{floods, streams, otlpThrough, idleConnections, idleListeners} {
		if err := f(row); err != nil {
			return missed, err
		}
	}
	return missed, nil
}

// listening is an engine with one listener, in a folder in memory, and where it listens.
func listening(transport string, kind framing.Kind) (dir string, e *run.Engine, at string, err error) {
	port, err := openPort(transport)
	if err != nil {
		return "", nil, "", err
	}
	if dir, err = os.MkdirTemp(memoryFolder(), "bench"); err != nil {
		return "", nil, "", err
	}
	source := pipeline.Source{Name: "s", Format: "syslog", Unparsed: "keep", Time: format.Time{Zone: "UTC"},
		Send: []pipeline.Entry{{To: "out"}}, Listen: &pipeline.Listener{Kind: "syslog", Address: "127.0.0.1",
			Port:      port,
			Transport: transport, Framing: kind, Connections: idleConns + 10, Unknown: "keep"}}
	d := delivery.Spec{Name: "out", Kind: delivery.File, Path: filepath.Join(dir, "out"), Batch: delivery.DefaultBatch,
		Retry: delivery.DefaultRetry, AtOnce: delivery.DefaultAtOnce}
	e, err = engine(filepath.Join(dir, "state"), source, d)
	return dir, e, "127.0.0.1:" + port, err
}

func openPort(transport string) (string, error) {
	var at net.Addr
	if transport == "udp" {
		c, err := net.ListenPacket("udp", "127.0.0.1:0")
		if err != nil {
			return "", err
		}
		defer c.Close()
		at = c.LocalAddr()
	} else {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return "", err
		}
		defer l.Close()
		at = l.Addr()
	}
	_, port, err := net.SplitHostPort(at.String())
	return port, err
}

// cutOff cuts off what was written to a file again and again until it is called: who writes more would else have to
// wait for memory that was never used. Files are appended to.
func cutOff(path string) func() {
	stop, done := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(done)
		t := time.NewTicker(50 * time.Millisecond)
		defer t.Stop()
		for {
			select {
			case <-stop:
				return
			case <-t.C:
				_ = os.Truncate(path, 0) // which may not be there yet
			}
		}
	}()
	return func() {
		close(stop)
		<-done
	}
}

// streamed is how many messages a stream has for us, and streamedPlain for the plain way.
const (
	streamed      = 4_000_000
	streamedPlain = 400_000
	streamedPart  = 100_000 // that are written together
)

// streams measures messages over TCP until all are acknowledged.
func streams(row rowFunc) error {
	var part []byte
	for i := range streamedPart {
		part = fmt.Appendf(part, "%s%d\n", message, i%10)
	}
	_, err := inTurn(row, "syslog over TCP, messages a second, times net, regexp and encoding/json", tcpAim,
		func() (float64, error) { return streamRate(part) }, func() (float64, error) { return plainStreamRate(part) })
	return err
}

// inTurn measures two rates in turn, and shows the medians, and the median of the ratios of neighbours in time. It
// answers our rate.
func inTurn(row rowFunc, what string, aim float64, ours, base func() (float64, error)) (float64, error) {
	var o, b, ratios []float64
	for range 5 {
		rate, err := ours()
		if err != nil {
			return 0, err
		}
		plain, err := base()
		if err != nil {
			return 0, err
		}
		o, b, ratios = append(o, rate), append(b, plain), append(ratios, rate/plain)
	}
	for _, list := range [][]float64{o, b, ratios} {
		slices.Sort(list)
	}
	middle := len(ratios) / 2
	row(what, fmt.Sprintf("%.1fx (%s against %s)", ratios[middle], show(o[middle]), show(b[middle])),
		fmt.Sprintf("%.0fx", aim), ratios[middle] >= aim)
	return o[middle], nil
}

// stream writes so many messages to an address, in parts.
func stream(at string, part []byte, n int) error {
	c, err := net.Dial("tcp", at)
	if err != nil {
		return err
	}
	defer c.Close()
	for range n / streamedPart {
		if _, err := c.Write(part); err != nil {
			return err
		}
	}
	return nil
}

// streamRate is how many messages a second we take.
func streamRate(part []byte) (float64, error) {
	dir, e, at, err := listening("tcp", framing.Syslog)
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(dir)
	defer e.Stop()
	defer cutOff(filepath.Join(dir, "out"))()
	began := time.Now()
	if err := stream(at, part, streamed); err != nil {
		return 0, err
	}
	for {
		if all, _ := e.Numbers(); all["s"].Acknowledged >= streamed {
			return streamed / time.Since(began).Seconds(), nil
		}
		time.Sleep(5 * time.Millisecond)
	}
}

// plainStreamRate is how many the plain way takes.
func plainStreamRate(part []byte) (float64, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	dir, err := os.MkdirTemp(memoryFolder(), "bench")
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(dir)
	plain, err := newPlainSyslog(dir)
	if err != nil {
		return 0, err
	}
	defer plain.out.Close()
	defer cutOff(plain.out.Name())()
	done := make(chan error, 1)
	go func() {
		c, err := l.Accept()
		if err != nil {
			done <- err
			return
		}
		defer c.Close()
		lines := bufio.NewScanner(c)
		for err == nil && lines.Scan() {
			err = plain.take(lines.Text(), c.RemoteAddr())
		}
		done <- errors.Join(err, lines.Err())
	}()
	began := time.Now()
	if err := stream(l.Addr().String(), part, streamedPlain); err != nil {
		return 0, err
	}
	if err := <-done; err != nil {
		return 0, err
	}
	return streamedPlain / time.Since(began).Seconds(), nil
}

// otlpThrough compares OTLP from request to request with the generated types, on one processor, so that whoever leaves
// garbage takes it away himself.
func otlpThrough(row rowFunc) error {
	text := func(s string) *common.AnyValue {
		return &common.AnyValue{Value: &common.AnyValue_StringValue{StringValue: s}}
	}
	scope := &logs.ScopeLogs{Scope: &common.InstrumentationScope{Name: "bench"}}
	for i := range 1000 {
		scope.LogRecords = append(scope.LogRecords, &logs.LogRecord{TimeUnixNano: uint64(time.Now().UnixNano()),
			SeverityNumber: 9,
			Body:           text("lane 4 let a vehicle through after looking at its ticket for a while"),
			Attributes: []*common.KeyValue{
				{Key: "lane", Value: &common.AnyValue{Value: &common.AnyValue_IntValue{IntValue: int64(i)}}},
				{Key: "result", Value: text("OK")}, {Key: "ticket", Value: text("T-20417")}}})
	}
	request, err := proto.Marshal(&collogs.ExportLogsServiceRequest{ResourceLogs: []*logs.ResourceLogs{{
		Resource:  &resource.Resource{Attributes: []*common.KeyValue{{Key: "service.name", Value: text("planner")}}},
		ScopeLogs: []*logs.ScopeLogs{scope}}}})
	if err != nil {
		return err
	}
	raw, _ := format.BuiltIn("raw")
	t, err := pipeline.Compile(pipeline.Source{Name: "s", Format: "raw", Unparsed: "keep"}, raw, pipeline.Parts{})
	if err != nil {
		return err
	}
	b := record.Batch{Origin: record.NewSenderOrigin("h", "bench", "s", "127.0.0.1", nil)}
	var enc record.Encoder
	ours := func() error {
		b.Reset()
		var messages []pipeline.Message
		if err := record.ReadOTLP(request, func(body []byte, given *record.Given) error {
			messages = append(messages, pipeline.Message{Text: b.Put(body), Given: given})
			return nil
		}); err != nil {
			return err
		}
		t.RunMessages(&b, messages, 0, time.Now().UnixNano())
		out := enc.Encode(record.OTLP, &b)
		if len(out.Ends) != 1000 {
			return fmt.Errorf("%d records", len(out.Ends))
		}
		out.Release()
		return nil
	}
	generated := func() error {
		var in, out collogs.ExportLogsServiceRequest
		if err := proto.Unmarshal(request, &in); err != nil {
			return err
		}
		for _, rl := range in.ResourceLogs {
			extra := rl.GetResource().GetAttributes()
			for _, sl := range rl.ScopeLogs {
				for _, r := range sl.LogRecords {
					r.Attributes = append(r.Attributes, extra...)
				}
			}
			out.ResourceLogs = append(out.ResourceLogs, rl)
		}
		_, err := proto.Marshal(&out)
		return err
	}
	speed := func(f func() error) (float64, error) {
		n := 0
		for began := time.Now(); ; n++ {
			if took := time.Since(began); took > time.Second {
				return float64(1000*n) / took.Seconds(), nil
			}
			if err := f(); err != nil {
				return 0, err
			}
		}
	}
	cores := runtime.GOMAXPROCS(1)
	defer runtime.GOMAXPROCS(cores)
	_, err = inTurn(row, "OTLP in to OTLP out, records a second, times the generated types", otlpAim,
		func() (float64, error) { return speed(ours) }, func() (float64, error) { return speed(generated) })
	return err
}

// idleConnections measures what connections take on which nothing comes, both ends of them together.
func idleConnections(row rowFunc) error {
	dir, e, at, err := listening("tcp", framing.Syslog)
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	defer e.Stop()
	debug.FreeOSMemory()
	before := memoryInUse()
	n := idleConns - 500 // of what this process may open, both ends count
	var conns []net.Conn
	defer func() {
		for _, c := range conns {
			c.Close()
		}
	}()
	for range n {
		c, err := net.Dial("tcp", at)
		if err != nil {
			return err
		}
		conns = append(conns, c)
		if _, err := io.WriteString(c, "<134>Apr  2 06:15:09 gate-4 scanner[17]: here\n"); err != nil {
			return err
		}
	}
	for {
		if all, _ := e.Numbers(); all["s"].Read == int64(n) {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	time.Sleep(6 * time.Second) // until they count as idle
	debug.FreeOSMemory()
	debug.FreeOSMemory() // pools let go in two turns
	took := float64(memoryInUse()-before) / 1e6 * idleConns / float64(n)
	row(fmt.Sprintf("%d idle connections, both ends, MB", idleConns), fmt.Sprintf("%.0f", took), fmt.Sprintf("%.0f",
		idleConnsAim), took < idleConnsAim)
	return nil
}

// idleListeners measures the built agent with 100 files and 5 listeners to which nothing comes.
func idleListeners(row rowFunc) error {
	share, memory, err := idleAgent(100, 5)
	if err != nil {
		return err
	}
	row("an agent with 100 files and 5 listeners, of one core", fmt.Sprintf("%.2f %%", share), fmt.Sprintf("%.1f %%",
		idleAgentAim), share < idleAgentAim)
	row("... in memory, MB", fmt.Sprintf("%.0f", memory), "40", memory < 40)
	return nil
}
