package deliver

import (
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	collogs "go.opentelemetry.io/proto/otlp/collector/logs/v1"
	"google.golang.org/protobuf/proto"

	"synaxis/internal/core/delivery"
	"synaxis/internal/core/record"
	"synaxis/internal/core/wire"
)

// longest bounds a wait that would otherwise hang. It measures no speed: the machine may be busy.
const longest = time.Minute

// items makes an item of records with numbered bodies.
// item makes records, of equal length where there are at most a thousand. The bytes that are counted as sent are
// those of the acknowledged records; done gets the counts without them.
func item(enc record.Encoding, from, to int, done func(wire.DeliveryCounts)) *Item {
	b := &record.Batch{Origin: record.NewOrigin("h", "", "s", "", nil), Schema: record.NewSchema()}
	for i := from; i < to; i++ {
		b.Records = append(b.Records, record.Record{Body: b.Put(fmt.Appendf(nil, "n%03d", i))})
	}
	var e record.Encoder
	encoded := e.Encode(enc, b)
	each := int64(len(encoded.Bytes) / max(1, to-from))
	return &Item{Encoded: encoded, Done: func(c wire.DeliveryCounts) {
		if to <= 1000 && c.Sent != c.Acknowledged*each {
			panic(fmt.Sprintf("%d bytes are counted for %d records of %d", c.Sent, c.Acknowledged, each))
		}
		c.Sent = 0
		done(c)
	}}
}

// server collects bodies; answer decides on the number of a request and its body.
type server struct {
	*httptest.Server
	mu     sync.Mutex
	bodies []string
	taken  strings.Builder
}

func newServer(t *testing.T, answer func(n int, body string) int) *server {
	s := &server{}
	s.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var in io.Reader = r.Body
		switch r.Header.Get("Content-Encoding") {
		case "gzip":
			in, _ = gzip.NewReader(in)
		case "zstd":
			z, _ := zstd.NewReader(in)
			defer z.Close()
			in = z
		}
		text, err := io.ReadAll(in)
		if err != nil {
			w.WriteHeader(http.StatusBadRequest)
			return
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		s.bodies = append(s.bodies, string(text))
		status := answer(len(s.bodies), string(text))
		if status == http.StatusOK {
			s.taken.Write(text)
		}
		w.WriteHeader(status)
	}))
	t.Cleanup(s.Close)
	return s
}

func (s *server) all() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.taken.String()
}

func destination(t *testing.T, spec delivery.Spec) (*Destination, *Rejects) {
	spec.Name = "d"
	if spec.Batch.Records == 0 {
		spec.Batch = delivery.Batch{Records: 10, Bytes: 1 << 20, Wait: 10 * time.Millisecond}
	}
	if spec.Retry.First == 0 {
		spec.Retry = delivery.Retry{First: time.Millisecond, Longest: 5 * time.Millisecond, GiveUp: time.Hour}
	}
	if spec.Compress == "" {
		spec.Compress = "none"
	}
	r := &Rejects{Dir: filepath.Join(t.TempDir(), "rejects")}
	d, err := New(spec, Deps{Rejects: r})
	require.NoError(t, err)
	return d, r
}

func always(status int) func(int, string) int { return func(int, string) int { return status } }

func eventually(t *testing.T, done func() bool) {
	t.Helper()
	require.Eventually(t, done, longest, 5*time.Millisecond)
}

func TestEveryCompressionArrives(t *testing.T) {
	t.Parallel()
	for _, compress := range []string{"none", "gzip", "zstd"} {
		s := newServer(t, always(http.StatusOK))
		d, _ := destination(t, delivery.Spec{Kind: "http", URLs: []string{s.URL}, Encoded: "ndjson",
			Compress: compress})
		d.Start()
		done := make(chan wire.DeliveryCounts, 1)
		require.True(
			t,
			d.Put(context.Background(), item(record.NDJSON, 0, 25, func(c wire.DeliveryCounts) { done <- c }), nil),
		)
		assert.Equal(t, wire.DeliveryCounts{Acknowledged: 25}, <-done)
		assert.Equal(t, 25, strings.Count(s.all(), "\n"), compress)
		assert.Len(t, s.bodies, 3, "ten at a time")
		assert.Empty(t, d.Stop())
	}
}

func TestBoundOfBytes(t *testing.T) {
	t.Parallel()
	s := newServer(t, always(http.StatusOK))
	d, _ := destination(
		t,
		delivery.Spec{
			Kind:  "http",
			URLs:  []string{s.URL},
			Batch: delivery.Batch{Records: 1000, Bytes: 500, Wait: time.Millisecond},
		},
	)
	d.Start()
	done := make(chan wire.DeliveryCounts, 1)
	d.Put(context.Background(), item(record.NDJSON, 0, 30, func(c wire.DeliveryCounts) { done <- c }), nil)
	<-done
	for _, b := range s.bodies {
		assert.LessOrEqual(t, len(b), 500)
	}
	assert.Equal(t, 30, strings.Count(s.all(), "\n"))
	d.Stop()
}

// TestBisect: of a delivery that is refused for good only the records to blame go to the rejects.
func TestBisect(t *testing.T) {
	t.Parallel()
	s := newServer(t, func(_ int, body string) int {
		if strings.Contains(body, "n003") || strings.Contains(body, "n017") {
			return http.StatusUnprocessableEntity
		}
		return http.StatusOK
	})
	d, r := destination(t, delivery.Spec{Kind: "http", URLs: []string{s.URL}})
	d.Start()
	done := make(chan wire.DeliveryCounts, 1)
	d.Put(context.Background(), item(record.NDJSON, 0, 20, func(c wire.DeliveryCounts) { done <- c }), nil)
	assert.Equal(t, wire.DeliveryCounts{Acknowledged: 18, Refused: 2}, <-done)
	text, err := readRejects(r)
	require.NoError(t, err)
	assert.Equal(t, 2, bytes.Count(text, []byte{'\n'}))
	assert.Contains(t, string(text), `"body":"n003"`)
	assert.Contains(t, string(text), "422 Unprocessable Entity")
	d.Stop()
}

func TestRetryUntilItIsTooLong(t *testing.T) {
	t.Parallel()
	s := newServer(t, func(n int, _ string) int {
		if n < 5 {
			return http.StatusTooManyRequests
		}
		return http.StatusOK
	})
	d, _ := destination(t, delivery.Spec{Kind: "http", URLs: []string{s.URL}})
	d.Start()
	done := make(chan wire.DeliveryCounts, 1)
	d.Put(context.Background(), item(record.NDJSON, 0, 3, func(c wire.DeliveryCounts) { done <- c }), nil)
	assert.Equal(t, int64(3), (<-done).Acknowledged)
	assert.Len(t, s.bodies, 5)
	d.Stop()

	never := newServer(t, always(http.StatusUnauthorized))
	d, r := destination(
		t,
		delivery.Spec{
			Kind:  "otlp",
			URLs:  []string{never.URL},
			Retry: delivery.Retry{First: time.Millisecond, Longest: time.Millisecond, GiveUp: 30 * time.Millisecond},
		},
	)
	d.Start()
	d.Put(context.Background(), item(record.OTLP, 0, 3, func(c wire.DeliveryCounts) { done <- c }), nil)
	assert.Equal(t, int64(3), (<-done).Refused)
	text, err := readRejects(r)
	require.NoError(t, err)
	assert.Contains(t, string(text), "given up after")
	d.Stop()
}

// TestHandOver: what is not settled goes on at the destination that takes over, each record once.
func TestHandOver(t *testing.T) {
	t.Parallel()
	first := newServer(t, func(n int, _ string) int {
		if n == 1 {
			return http.StatusOK
		}
		return http.StatusServiceUnavailable
	})
	d, _ := destination(t, delivery.Spec{Kind: "http", URLs: []string{first.URL}})
	d.Start()
	done := make(chan wire.DeliveryCounts, 2)
	d.Put(context.Background(), item(record.NDJSON, 0, 25, func(c wire.DeliveryCounts) { done <- c }), nil)
	d.Put(context.Background(), item(record.NDJSON, 25, 30, func(c wire.DeliveryCounts) { done <- c }), nil)
	eventually(t, func() bool { return strings.Contains(d.Trouble().Reason, "503") })
	rest := d.Stop()
	require.Len(t, rest, 2)
	assert.False(t, d.Put(context.Background(), item(record.NDJSON, 0, 1, nil), nil), "a stopped one takes nothing")
	second := newServer(t, always(http.StatusOK))
	e, _ := destination(t, delivery.Spec{Kind: "http", URLs: []string{second.URL}})
	e.Adopt(rest)
	e.Start()
	assert.Equal(t, int64(25), (<-done).Acknowledged)
	assert.Equal(t, int64(5), (<-done).Acknowledged)
	assert.Equal(t, 10, strings.Count(first.all(), "\n"))
	assert.Equal(t, 20, strings.Count(second.all(), "\n"), "the ten that were taken do not come again")
	e.Stop()
}

func TestNoRoomWaits(t *testing.T) {
	t.Parallel()
	d, _ := destination(t, delivery.Spec{Kind: "discard"})
	ctx, cancel := context.WithCancel(context.Background())
	big := item(record.NDJSON, 0, 80000, func(wire.DeliveryCounts) {})
	require.Greater(t, len(big.Encoded.Bytes), MaxQueued)
	require.True(t, d.Put(ctx, big, nil))
	waited := make(chan struct{}, 10)
	put := make(chan bool)
	go func() {
		put <- d.Put(ctx, item(record.NDJSON, 0, 1, func(wire.DeliveryCounts) {}), func() { waited <- struct{}{} })
	}()
	<-waited
	cancel()
	assert.True(t, <-put, "when the source stops its batch is queued all the same")
	d.Start()
	eventually(t, func() bool { return d.queue.empty() })
	d.Stop()
}

func TestFile(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "out.ndjson")
	require.NoError(t, os.WriteFile(path, []byte("{\"a\":1}\n{\"torn"), 0o640))
	d, _ := destination(t, delivery.Spec{Kind: "file", Path: path})
	d.Start()
	done := make(chan wire.DeliveryCounts, 1)
	d.Put(context.Background(), item(record.NDJSON, 0, 2, func(c wire.DeliveryCounts) { done <- c }), nil)
	<-done
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.True(
		t,
		strings.HasPrefix(string(text), "{\"a\":1}\n{\"time\""),
		"a line that a crash tore off is cut: %s",
		text,
	)
	assert.Equal(t, 3, bytes.Count(text, []byte{'\n'}))
	d.Stop()
	_, err = New(
		delivery.Spec{Name: "x", Kind: "file", Path: filepath.Join(path, "below", "a-file")},
		Deps{},
	)
	assert.ErrorContains(t, err, "destination x: cannot write")
}

func TestPartialSuccess(t *testing.T) {
	t.Parallel()
	text, err := proto.Marshal(
		&collogs.ExportLogsServiceResponse{
			PartialSuccess: &collogs.ExportLogsPartialSuccess{RejectedLogRecords: 3, ErrorMessage: "too old"},
		},
	)
	require.NoError(t, err)
	n, why := partialSuccess(text)
	assert.Equal(t, int64(3), n)
	assert.Equal(t, "too old", why)
	n, _ = partialSuccess([]byte("no protobuf \xff"))
	assert.Zero(t, n)
}

// readRejects reads all rejects of the destination d.
func readRejects(r *Rejects) (all []byte, err error) {
	names, err := filepath.Glob(filepath.Join(r.Dir, "d", "*.ndjson"))
	for _, name := range names {
		text, err := os.ReadFile(name)
		if err != nil {
			return nil, err
		}
		all = append(all, text...)
	}
	return all, err
}

// TestQuietSourceGoesOn: a source that fills its destination's queue holds itself, and not one that sends little.
func TestQuietSourceGoesOn(t *testing.T) {
	t.Parallel()
	s := newServer(t, func(int, string) int { time.Sleep(20 * time.Millisecond); return http.StatusOK })
	d, _ := destination(t, delivery.Spec{Kind: "http", URLs: []string{s.URL},
		Batch: delivery.Batch{Records: 100, Bytes: 1 << 20, Wait: time.Millisecond}})
	d.Start()
	defer d.Stop()
	ctx, cancel := context.WithCancel(context.Background())
	var noisy sync.WaitGroup
	noisy.Go(func() {
		for ctx.Err() == nil {
			d.Put(ctx, item(record.NDJSON, 0, 20000, func(wire.DeliveryCounts) {}), func() {})
		}
	})
	eventually(t, func() bool {
		d.queue.mu.Lock()
		defer d.queue.mu.Unlock()
		return d.queue.queued >= MaxQueued/2
	})
	for range 5 {
		quiet := item(record.NDJSON, 0, 3, nil)
		quiet.Encoded.Origin = record.NewOrigin("h", "", "quiet", "", nil)
		quiet.Stream = 7
		done := make(chan struct{})
		quiet.Done = func(wire.DeliveryCounts) { close(done) }
		require.True(t, d.Put(ctx, quiet, func() { assert.Fail(t, "it finds room at once") }))
		select {
		case <-done:
		case <-time.After(10 * time.Second):
			require.Fail(t, "it waits behind the noisy one")
		}
	}
	cancel()
	noisy.Wait()
}
