package deliver

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/agent/buffer"
	"synaxis/internal/core/delivery"
	"synaxis/internal/core/health"
	"synaxis/internal/core/record"
	"synaxis/internal/core/wire"
)

// TestBufferTakenAway: a buffer folder that cannot be written makes sources wait and loses nothing.
func TestBufferTakenAway(t *testing.T) {
	t.Parallel()
	files := &failing{Files: buffer.Disk{}}
	b, err := buffer.Open(t.TempDir(), buffer.Options{Host: "", Files: files})
	require.NoError(t, err)
	var up atomic.Bool
	s := newServer(t, func(int, string) int {
		if up.Load() {
			return http.StatusOK
		}
		return http.StatusServiceUnavailable
	})
	spec := delivery.Spec{Name: "d", Kind: delivery.HTTP, URLs: []string{s.URL}, Compress: "none",
		Buffer: delivery.DefaultBuffer, Batch: delivery.Batch{Records: 10, Bytes: 1 << 20, Wait: time.Millisecond},
		Retry: delivery.Retry{First: time.Millisecond, Longest: 5 * time.Millisecond, GiveUp: time.Hour}}
	var total atomic.Int64
	d, err := New(spec, Deps{Rejects: &Rejects{Dir: t.TempDir()}, Buffers: b,
		Account: func(_, _, _ string, c wire.DeliveryCounts) { total.Add(c.Acknowledged) }})
	require.NoError(t, err)
	d.Start()
	done := func(c wire.DeliveryCounts) { total.Add(c.Acknowledged) }
	files.fail.Store(true)
	ctx, cancel := context.WithCancel(context.Background())
	put := make(chan bool)
	go func() {
		for i := range 5 {
			d.Put(ctx, item(record.NDJSON, i*20, i*20+20, done), func() {})
		}
		put <- true
	}()
	eventually(t, func() bool { return d.Unwritable() != nil || d.Trouble().Code != "" })
	files.fail.Store(false)
	up.Store(true)
	<-put
	cancel()
	eventually(t, func() bool { return total.Load() == 100 })
	taken := s.all()
	for i := range 100 {
		assert.Contains(t, taken, fmt.Sprintf("n%03d", i))
	}
	d.Stop()
	b.Close()
}

// TestDamagedWhileItRuns: records on disk that are damaged after the start are counted as given up once they are read,
// so that nothing waits for ever.
func TestDamagedWhileItRuns(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	b, err := buffer.Open(dir, buffer.Options{Host: ""})
	require.NoError(t, err)
	lane := b.Lane(buffer.Key{Destination: "d", Source: "s"})
	for i := range 20 {
		it := item(record.NDJSON, i*10, i*10+10, nil)
		f := buffer.Frame{Encoding: record.NDJSON, Origin: it.Encoded.Origin, At: time.Now(), Bytes: it.Encoded.Bytes,
			Ends: it.Encoded.Ends}
		_, err := lane.Append(&f, false, func() {})
		require.NoError(t, err)
	}
	b.Sync()
	s := newServer(t, func(int, string) int { return http.StatusOK })
	spec := delivery.Spec{Name: "d", Kind: delivery.HTTP, URLs: []string{s.URL}, Compress: "none",
		Buffer: delivery.DefaultBuffer, Batch: delivery.Batch{Records: 10, Bytes: 1 << 20, Wait: time.Millisecond},
		Retry: delivery.Retry{First: time.Millisecond, Longest: 5 * time.Millisecond, GiveUp: time.Hour}}
	var acknowledged, discarded atomic.Int64
	d, err := New(spec, Deps{Rejects: &Rejects{Dir: t.TempDir()}, Buffers: b,
		Account: func(_, _, _ string, c wire.DeliveryCounts) {
			acknowledged.Add(c.Acknowledged)
			discarded.Add(c.Discarded)
		}})
	require.NoError(t, err)
	segments, err := filepath.Glob(filepath.Join(dir, "d", "s", "*.seg"))
	require.NoError(t, err)
	require.Len(t, segments, 1)
	text, err := os.ReadFile(segments[0])
	require.NoError(t, err)
	at := bytes.Index(text, []byte("n105"))
	require.Positive(t, at)
	text[at] ^= 0x40
	require.NoError(t, os.WriteFile(segments[0], text, 0o600))
	d.Start()
	eventually(t, func() bool { return acknowledged.Load()+discarded.Load() == 200 })
	assert.EqualValues(t, 10, discarded.Load())
	d.Stop()
	b.Close()
}

// TestFullDiskAndDoubt: a delivery that was refused as a whole waits for one that is accepted, which would show who is
// to blame. That one must get through although others have filled the disk.
func TestFullDiskAndDoubt(t *testing.T) {
	t.Parallel()
	b, err := buffer.Open(t.TempDir(), buffer.Options{Files: buffer.Disk{}})
	require.NoError(t, err)
	s := newServer(t, func(_ int, body string) int {
		if strings.Contains(body, "n007") {
			return http.StatusUnprocessableEntity
		}
		return http.StatusOK
	})
	d, err := New(delivery.Spec{Name: "d", Kind: delivery.HTTP, URLs: []string{s.URL}, Compress: "none",
		Buffer: delivery.DefaultBuffer, Batch: delivery.Batch{Records: 10, Bytes: 1 << 20, Wait: time.Millisecond},
		Retry: delivery.Retry{First: time.Millisecond, Longest: 5 * time.Millisecond, GiveUp: time.Hour}},
		Deps{Rejects: &Rejects{Dir: t.TempDir()}, Buffers: b, DiskFull: func(int64) bool { return true }})
	require.NoError(t, err)
	d.Start()
	done := make(chan wire.DeliveryCounts, 1000)
	settled := func(c wire.DeliveryCounts) { done <- c }
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	d.Put(ctx, item(record.NDJSON, 7, 8, settled), func() {})
	eventually(t, func() bool { return d.Trouble().Code == health.RefusesEverything })
	counts, others := wire.DeliveryCounts{}, 0
	for counts.Refused == 0 {
		others++
		d.Put(ctx, item(record.NDJSON, 7+others, 8+others, settled), func() {})
		require.NoError(t, ctx.Err(), "it waits for the disk")
		for len(done) > 0 {
			c := <-done
			counts.Acknowledged += c.Acknowledged
			counts.Refused += c.Refused
		}
	}
	assert.EqualValues(t, 1, counts.Refused)
	d.Stop()
	b.Close()
}

// failing is a file system in which nothing can be opened for a while.
type failing struct {
	buffer.Files
	fail atomic.Bool
}

func (f *failing) Open(path string, create bool) (buffer.File, error) {
	if f.fail.Load() {
		return nil, fmt.Errorf("open %s: read-only file system", path)
	}
	return f.Files.Open(path, create)
}
