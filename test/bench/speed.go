package main

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"runtime/metrics"
	"strconv"
	"strings"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"synaxis/internal/core/delivery"
	"synaxis/internal/core/pipeline"
)

// Aims of the whole agent, in MB of the file a second of one core, and of what a compressor does alone on the bytes
// that are sent.
const (
	discardAim  = 400
	ndjsonAim   = 150
	compressAim = 0.7
	memoryAim   = 64 << 20
)

// speedRecords is how many lines the whole agent reads.
const speedRecords = 1_500_000

// speeds measures the whole agent: from a file of web-combined lines to nowhere, and over HTTP to a receiver in a
// process of its own. What counts is the processor time of this process.
func speeds(row func(what, is, aim string, met bool)) error {
	dir, err := os.MkdirTemp(memoryFolder(), "bench")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	file := filepath.Join(dir, "access.log")
	size, err := writeWebLog(file, speedRecords)
	if err != nil {
		return err
	}
	sink, stop, err := receiver()
	if err != nil {
		return err
	}
	defer stop()
	run := func(what string, d delivery.Spec) (agentSpeed, error) {
		d.Name, d.Batch, d.Retry = "out", delivery.DefaultBatch, delivery.DefaultRetry
		d.Batch.Wait = 20 * time.Millisecond // the last delivery is not full
		return wholeAgent(filepath.Join(dir, what), file, d)
	}
	measured := func(what, name string, d delivery.Spec, aim float64) error {
		got, err := run(name, d)
		if err != nil {
			return err
		}
		rate := float64(size) / 1e6 / got.cpu.Seconds()
		row(what+", MB a second of a core", fmt.Sprintf("%.0f", rate), fmt.Sprintf("%.0f", aim), rate >= aim)
		row("... memory", fmt.Sprintf("%d MiB", got.peak>>20), "64 MiB", got.peak <= memoryAim)
		return nil
	}
	http := func(compress string) delivery.Spec {
		return delivery.Spec{Kind: "http", URLs: []string{sink}, Encoded: "ndjson", Compress: compress,
			Buffer: delivery.DefaultBuffer, AtOnce: delivery.DefaultAtOnce}
	}
	if err := measured("web-combined to nowhere", "discard", delivery.Spec{Kind: "discard"}, discardAim); err != nil {
		return err
	}
	if err := measured("web-combined as NDJSON over HTTP", "none", http("none"), ndjsonAim); err != nil {
		return err
	}
	alone := map[string]float64{}
	body, err := sentBytes(dir, file)
	if err != nil {
		return err
	}
	sent := float64(len(body)) / speedShare
	for _, name := range []string{"gzip", "zstd"} {
		if alone[name], err = compressorAlone(name, body); err != nil {
			return err
		}
	}
	body = nil
	for _, name := range []string{"gzip", "zstd"} {
		got, err := run(name, http(name))
		if err != nil {
			return err
		}
		rate := sent / 1e6 / got.took.Seconds()
		row(
			"... with "+name+", of what it does alone on the same bytes",
			fmt.Sprintf("%.2f (%.0f of %.0f MB/s)", rate/alone[name], rate, alone[name]),
			fmt.Sprint(compressAim),
			rate/alone[name] >= compressAim,
		)
		row("... memory", fmt.Sprintf("%d MiB", got.peak>>20), "64 MiB", got.peak <= memoryAim)
	}
	return nil
}

// agentSpeed is what a run of the whole agent took: its processor time, from begin to end, and the largest memory in
// use.
type agentSpeed struct {
	cpu, took time.Duration
	peak      uint64
}

// speedShare is which share of the lines is kept to measure a compressor alone.
const speedShare = 0.1

func writeWebLog(file string, records int) (int64, error) {
	f, err := os.Create(file)
	if err != nil {
		return 0, err
	}
	w := bufio.NewWriterSize(f, 1<<20)
	began := time.Date(2031, 4, 2, 6, 0, 0, 0, time.UTC)
	for i := range records {
		at := began.Add(time.Duration(i/200) * time.Second).Format("02/Jan/2006:15:04:05 -0700")
		fmt.Fprintf(
			w,
			"198.51.100.%d - %s [%s] \"GET /sailings/%d?seat=%d&deck=2 HTTP/1.1\" %d %d "+
				"\"https://whimbrel.example/fares\" \"WhimbrelApp/4.%d (tide; like a wave) Explorer/126.0.0.0\"\n",
			i%250,
			[]string{"-", "ada", "-"}[i%3],
			at,
			i%977,
			i%80,
			[]int{200, 304, 404}[i%3],
			200+i*7919%9000,
			i%10,
		)
	}
	if err := w.Flush(); err != nil {
		return 0, err
	}
	info, err := f.Stat()
	if err != nil {
		return 0, err
	}
	return info.Size(), f.Close()
}

// wholeAgent reads a file to a destination, and answers the processor time that it took and the largest memory in use.
func wholeAgent(dir, file string, d delivery.Spec) (agentSpeed, error) {
	return wholeSource(dir, pipeline.Source{Name: "s", Files: []string{file}, FirstRead: "start",
		Format: "web-combined", Unparsed: "keep", Send: []pipeline.Entry{{To: "out"}}}, d)
}

// wholeSource lets an agent read a source whole.
func wholeSource(dir string, src pipeline.Source, d delivery.Spec) (got agentSpeed, err error) {
	debug.FreeOSMemory()
	base := memoryInUse()
	before, began := used(), time.Now()
	e, err := engine(dir, src, d)
	if err != nil {
		return got, err
	}
	defer e.Stop()
	for {
		all, _ := e.Numbers()
		if n := all["s"]; n.Unparsed > 0 || n.Acknowledged > speedRecords {
			return got, fmt.Errorf("%d unparsed, %d acknowledged", n.Unparsed, n.Acknowledged)
		} else if n.Acknowledged == speedRecords {
			got.cpu, got.took = used()-before, time.Since(began)
			return got, nil
		}
		got.peak = max(got.peak, memoryInUse()-min(base, memoryInUse()))
		time.Sleep(10 * time.Millisecond)
	}
}

// memoryInUse is what heap and stacks take, garbage too.
func memoryInUse() (bytes uint64) {
	samples := []metrics.Sample{
		{Name: "/memory/classes/heap/objects:bytes"},
		{Name: "/memory/classes/heap/unused:bytes"},
		{Name: "/memory/classes/heap/stacks:bytes"},
	}
	metrics.Read(samples)
	for _, s := range samples {
		bytes += s.Value.Uint64()
	}
	return bytes
}

// receiver runs this program again as the receiver.
func receiver() (url string, stop func(), err error) {
	exe, err := os.Executable()
	if err != nil {
		return "", nil, err
	}
	cmd := exec.Command(exe)
	cmd.Env = append(os.Environ(), "BENCH_RECEIVER=1")
	out, err := cmd.StdoutPipe()
	if err != nil {
		return "", nil, err
	}
	if err := cmd.Start(); err != nil {
		return "", nil, err
	}
	line, err := bufio.NewReader(out).ReadString('\n')
	return strings.TrimSpace(line), func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }, err
}

// receive takes everything and keeps nothing.
func receive() error {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	fmt.Println("http://" + l.Addr().String() + "/in")
	buffers := make(chan []byte, 16)
	srv := &http.Server{
		ReadHeaderTimeout: time.Minute,
		Handler: http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
			var b []byte
			select {
			case b = <-buffers:
			default:
				b = make([]byte, 256<<10)
			}
			_, _ = io.CopyBuffer(io.Discard, struct{ io.Reader }{r.Body}, b)
			buffers <- b
		}),
	}
	return srv.Serve(l)
}

// sentBytes are the bytes that the agent sends of the first lines of a file.
func sentBytes(dir, file string) ([]byte, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	text = text[:bytes.LastIndexByte(text[:int(speedShare*float64(len(text)))], '\n')+1]
	part, out := filepath.Join(dir, "part.log"), filepath.Join(dir, "out.ndjson")
	if err := os.WriteFile(part, text, 0o600); err != nil {
		return nil, err
	}
	lines := int64(bytes.Count(text, []byte{'\n'}))
	e, err := engine(
		filepath.Join(dir, "sent"),
		pipeline.Source{Name: "s", Files: []string{part}, FirstRead: "start", Format: "web-combined", Unparsed: "keep",
			Send: []pipeline.Entry{
				{To: "out"},
			}},
		delivery.Spec{
			Name:    "out",
			Kind:    "file",
			Path:    out,
			Encoded: "ndjson",
			Batch:   delivery.DefaultBatch,
			Retry:   delivery.DefaultRetry,
		},
	)
	if err != nil {
		return nil, err
	}
	defer e.Stop()
	for all, _ := e.Numbers(); all["s"].Acknowledged < lines; all, _ = e.Numbers() {
		time.Sleep(5 * time.Millisecond)
	}
	return os.ReadFile(out)
}

// compressorAlone is what a compressor does as the agent uses it, in MB a second of a core.
func compressorAlone(name string, body []byte) (float64, error) {
	const delivery = 1 << 20
	var gw *gzip.Writer
	zw, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1))
	if err == nil {
		gw, err = gzip.NewWriterLevel(io.Discard, gzip.BestSpeed)
	}
	if err != nil {
		return 0, err
	}
	runtime.GC()
	before := used()
	var out []byte
	for from := 0; from < len(body); from += delivery {
		part := body[from:min(from+delivery, len(body))]
		if name == "zstd" {
			out = zw.EncodeAll(part, out[:0])
			continue
		}
		gw.Reset(io.Discard)
		if _, err := gw.Write(part); err != nil {
			return 0, err
		}
		if err := gw.Close(); err != nil {
			return 0, err
		}
	}
	took := (used() - before).Seconds()
	if took <= 0 {
		return 0, fmt.Errorf("%s took no time over %s bytes", name, strconv.Itoa(len(body)))
	}
	return float64(len(body)) / 1e6 / took, nil
}
