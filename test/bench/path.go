package main

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"synaxis/internal/agent/run"
	"synaxis/internal/core/delivery"
	"synaxis/internal/core/hostconfig"
	"synaxis/internal/core/pipeline"
)

const pathLines = 200_000

// sink counts the lines that it is sent.
type sink struct {
	lines atomic.Int64
	srv   *http.Server
	url   string
}

func newSink() (*sink, error) {
	s := &sink{}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	s.url = "http://" + l.Addr().String() + "/in"
	s.srv = &http.Server{
		ReadHeaderTimeout: time.Second,
		Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			buf := make([]byte, 64<<10)
			for {
				n, err := r.Body.Read(buf)
				s.lines.Add(int64(bytes.Count(buf[:n], []byte{'\n'})))
				if err != nil {
					break
				}
			}
		}),
	}
	go func() { _ = s.srv.Serve(l) }()
	return s, nil
}

// filePath is file -> web-combined -> NDJSON to loopback HTTP without compression, against a plain program of the
// standard library that does the same.
func filePath() (pair, error) {
	dir, err := os.MkdirTemp("", "synaxis-bench-")
	if err != nil {
		return pair{}, err
	}
	file := filepath.Join(dir, "access.log")
	f, err := os.Create(file)
	if err != nil {
		return pair{}, err
	}
	w := bufio.NewWriter(f)
	began := time.Date(2031, 4, 2, 6, 0, 0, 0, time.UTC)
	for i := range pathLines {
		fmt.Fprintf(
			w,
			"198.51.100.%d - %s [%s] \"GET /sailings/%d?seat=%d&deck=2 HTTP/1.1\" %d %d "+
				"\"https://whimbrel.example/fares\" \"WhimbrelApp/4.%d (tide; like a wave) Explorer/126.0.0.0\"\n",
			i%250,
			[]string{"-", "ada", "-"}[i%3],
			began.Add(time.Duration(i/200)*time.Second).Format("02/Jan/2006:15:04:05 -0700"),
			i%977,
			i%80,
			[]int{200, 304, 404}[i%3],
			200+i%9000,
			i%10,
		)
	}
	if err := w.Flush(); err != nil {
		return pair{}, err
	}
	if err := f.Close(); err != nil {
		return pair{}, err
	}
	s, err := newSink()
	if err != nil {
		return pair{}, err
	}
	round := 0
	ours := func() (int, error) {
		round++
		s.lines.Store(0)
		e, err := run.NewEngine(filepath.Join(dir, strconv.Itoa(round)), "bench", false, slog.New(slog.DiscardHandler))
		if err != nil {
			return 0, err
		}
		batch := delivery.DefaultBatch
		// the last delivery is not full; the plain program does not wait for more either
		batch.Wait = 20 * time.Millisecond
		d := delivery.Spec{
			Name:     "out",
			Kind:     "http",
			URLs:     []string{s.url},
			Buffer:   delivery.DefaultBuffer,
			AtOnce:   delivery.DefaultAtOnce,
			Encoded:  "ndjson",
			Compress: "none",
			Batch:    batch,
			Retry:    delivery.DefaultRetry,
		}
		src := pipeline.Source{
			Name:      "web",
			Files:     []string{file},
			FirstRead: "start",
			Format:    "web-combined",
			Unparsed:  "keep",
			Send:      []pipeline.Entry{{To: "out"}},
		}
		if err := e.Apply(hostconfig.Config{Host: "bench", Labels: map[string]string{"site": "northpier"},
			Destinations: []delivery.Spec{d}, Sources: []pipeline.Source{src}}); err != nil {
			return 0, err
		}
		for s.lines.Load() < pathLines {
			time.Sleep(time.Millisecond)
		}
		n, _ := e.Numbers()
		if n["web"].Read != pathLines || n["web"].Unparsed != 0 {
			return 0, fmt.Errorf("read %d, unparsed %d of %d", n["web"].Read, n["web"].Unparsed, pathLines)
		}
		go e.Stop() // what it still waits for is not the work
		return pathLines, confirm(s)
	}
	baseline := func() (int, error) {
		s.lines.Store(0)
		if err := plainProgram(file, s.url); err != nil {
			return 0, err
		}
		return pathLines, confirm(s)
	}
	for _, d := range []int{1, 2, 3, 4, 5} {
		if err := os.MkdirAll(filepath.Join(dir, strconv.Itoa(d)), 0o755); err != nil {
			return pair{}, err
		}
	}
	return pair{
		"file -> web-combined -> NDJSON over HTTP",
		"lines/s",
		5,
		ours,
		baseline,
		func() { _ = s.srv.Close(); _ = os.RemoveAll(dir) },
	}, nil
}

func confirm(s *sink) error {
	if n := s.lines.Load(); n != pathLines {
		return fmt.Errorf("%d lines arrived of %d", n, pathLines)
	}
	return nil
}

var webCombined = regexp.MustCompile(
	`^(\S+) \S+ (\S+) \[([^\]]+)\] "(\S+) ([^ ?]*)(?:\?(\S*))? HTTP/([\d.]+)" (\d{3}) (\d+|-) "([^"]*)" "([^"]*)"$`,
)

// plainProgram does the same as a program that one writes in an hour: bufio.Scanner, regexp, encoding/json, net/http.
func plainProgram(file, url string) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	var body bytes.Buffer
	enc := json.NewEncoder(&body)
	n := 0
	post := func() error {
		resp, err := http.Post(url, "application/x-ndjson", bytes.NewReader(body.Bytes()))
		if err != nil {
			return err
		}
		_, _ = io.Copy(io.Discard, resp.Body)
		resp.Body.Close()
		body.Reset()
		n = 0
		if resp.StatusCode != http.StatusOK {
			return fmt.Errorf("answered %s", resp.Status)
		}
		return nil
	}
	names := []string{
		"client.address",
		"user.name",
		"",
		"http.request.method",
		"url.path",
		"url.query",
		"network.protocol.version",
		"",
		"",
		"http.request.header.referer",
		"user_agent.original",
	}
	s := bufio.NewScanner(f)
	for s.Scan() {
		m := webCombined.FindStringSubmatch(s.Text())
		if m == nil {
			return fmt.Errorf("not read: %s", s.Text())
		}
		t, err := time.Parse("02/Jan/2006:15:04:05 -0700", m[3])
		if err != nil {
			return err
		}
		fields := map[string]any{}
		for i, name := range names {
			if v := m[i+1]; name != "" && v != "" && v != "-" {
				fields[name] = v
			}
		}
		if fields["http.response.status_code"], err = strconv.Atoi(m[8]); err != nil {
			return err
		}
		if m[9] != "-" {
			if fields["http.response.body.size"], err = strconv.Atoi(m[9]); err != nil {
				return err
			}
		}
		if err := enc.Encode(map[string]any{"time": t.UTC().Format(time.RFC3339Nano),
			"observed": time.Now().UTC().Format(time.RFC3339Nano), "body": strings.Clone(s.Text()), "fields": fields,
			"host": "bench", "source": "web", "labels": map[string]string{"site": "northpier"},
			"file": file}); err != nil {
			return err
		}
		if n++; n == 2000 || body.Len() > 1<<20 {
			if err := post(); err != nil {
				return err
			}
		}
	}
	if s.Err() != nil {
		return s.Err()
	}
	return post()
}
