package deliver

import (
	"context"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/delivery"
	"synaxis/internal/core/health"
	"synaxis/internal/core/record"
	"synaxis/internal/core/wire"
)

// TestRefusesEverything: a destination that refuses whatever it gets is asked now and then, and nothing is put among
// the rejects; once it accepts, everything arrives, and only what is then still refused is rejected.
func TestRefusesEverything(t *testing.T) {
	t.Parallel()
	var open atomic.Bool
	var asked atomic.Int64
	s := newServer(t, func(_ int, body string) int {
		asked.Add(1)
		if !open.Load() || strings.Contains(body, "n007") {
			return http.StatusBadRequest
		}
		return http.StatusOK
	})
	d, r := destination(
		t,
		delivery.Spec{
			Kind:  "http",
			URLs:  []string{s.URL},
			Batch: delivery.Batch{Records: 500, Bytes: 1 << 20, Wait: time.Millisecond},
			Retry: delivery.Retry{First: 20 * time.Millisecond, Longest: 100 * time.Millisecond, GiveUp: time.Hour},
		},
	)
	d.Start()
	done := make(chan wire.DeliveryCounts, 2)
	put := func(from, to int) {
		d.Put(context.Background(), item(record.NDJSON, from, to, func(c wire.DeliveryCounts) { done <- c }), nil)
	}
	put(0, 2000)
	put(2000, 3000)
	eventually(t, func() bool { return d.Trouble().Code == health.RefusesEverything })
	assert.Contains(t, d.Trouble().Reason, "400 Bad Request")
	time.Sleep(time.Second)
	assert.Less(t, asked.Load(), int64(40), "it is asked now and then")
	_, err := os.Stat(r.Dir)
	require.ErrorIs(t, err, os.ErrNotExist, "nothing is rejected")
	open.Store(true)
	counts := wire.DeliveryCounts{}
	for range 2 {
		c := <-done
		counts.Acknowledged += c.Acknowledged
		counts.Refused += c.Refused
	}
	assert.Equal(t, wire.DeliveryCounts{Acknowledged: 2999, Refused: 1}, counts)
	assert.Equal(t, 2999, strings.Count(s.all(), "\n"), "each once")
	assert.Empty(t, d.Trouble().Code)
	why, at := d.Refusal()
	assert.Contains(t, why, "400")
	assert.WithinDuration(t, time.Now(), at, time.Minute)
	assert.Empty(t, d.Stop())
}

// TestOneRefusedSourceHoldsNobody: when all records of one source are refused, those of another still arrive, and the
// former are rejected.
func TestOneRefusedSourceHoldsNobody(t *testing.T) {
	t.Parallel()
	s := newServer(t, func(_ int, body string) int {
		if strings.Contains(body, `"n0`) {
			return http.StatusUnprocessableEntity
		}
		return http.StatusOK
	})
	d, _ := destination(t, delivery.Spec{Kind: "http", URLs: []string{s.URL}})
	d.pace.SetLimit(10_000)
	d.Start()
	bad, good := make(chan wire.DeliveryCounts, 1), make(chan wire.DeliveryCounts, 1)
	d.Put(context.Background(), item(record.NDJSON, 0, 45, func(c wire.DeliveryCounts) { bad <- c }), nil)
	d.Put(context.Background(), item(record.NDJSON, 100, 130, func(c wire.DeliveryCounts) { good <- c }), nil)
	assert.Equal(t, wire.DeliveryCounts{Acknowledged: 30}, <-good)
	assert.Equal(t, wire.DeliveryCounts{Refused: 45}, <-bad)
	assert.Empty(t, d.Stop())
}

// TestStoppedInDoubt: what is in doubt when a destination is replaced goes on at the next one, whole, and what was
// taken in between does not come again.
func TestStoppedInDoubt(t *testing.T) {
	t.Parallel()
	for _, rounds := range []int{0, 1, 3, 8} {
		var n atomic.Int64
		first := newServer(t, func(_ int, body string) int {
			if strings.Contains(body, "n004") || n.Add(1) > int64(rounds) {
				return http.StatusBadRequest
			}
			return http.StatusOK
		})
		d, _ := destination(t, delivery.Spec{Kind: "http", URLs: []string{first.URL}})
		d.Start()
		done := make(chan wire.DeliveryCounts, 2)
		d.Put(context.Background(), item(record.NDJSON, 0, 35, func(c wire.DeliveryCounts) { done <- c }), nil)
		d.Put(context.Background(), item(record.NDJSON, 35, 60, func(c wire.DeliveryCounts) { done <- c }), nil)
		time.Sleep(50 * time.Millisecond)
		rest := d.Stop()
		second := newServer(t, always(http.StatusOK))
		e, _ := destination(t, delivery.Spec{Kind: "http", URLs: []string{second.URL}})
		e.Adopt(rest)
		e.Start()
		sum := int64(0)
		for range 2 {
			c := <-done
			sum += c.Acknowledged + c.Refused
		}
		assert.Equal(t, int64(60), sum)
		for i := range 60 {
			body := strings.Replace("nNNN", "NNN", string([]byte{'0', byte('0' + i/10), byte('0' + i%10)}), 1)
			times := strings.Count(first.all(), body) + strings.Count(second.all(), body)
			assert.LessOrEqual(t, times, 1, body)
			assert.True(t, times == 1 || body == "n004", "%s is lost", body)
		}
		e.Stop()
	}
}

// TestTroubles: each way in which a delivery fails has a code of its own, and words that say what was tried.
func TestTroubles(t *testing.T) {
	t.Parallel()
	gone, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	require.NoError(t, gone.Close())
	answers := func(status int) string { return newServer(t, always(status)).URL }
	self := httptest.NewTLSServer(http.NotFoundHandler())
	t.Cleanup(self.Close)
	silent, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { silent.Close() })
	for url, want := range map[string]struct {
		code  health.Code
		words string
	}{
		"http://" + gone.Addr().String():   {health.ConnectionRefused, "refused"},
		"http://no-such-host.invalid/":     {health.NameNotFound, "no-such-host.invalid"},
		self.URL:                           {health.TLSFailed, "certificate"},
		"https" + answers(200)[4:]:         {health.TLSFailed, "HTTP response to HTTPS client"},
		answers(401):                       {health.LoginRefused, "401"},
		answers(403):                       {health.LoginRefused, "403"},
		answers(404):                       {health.WrongPath, "404"},
		answers(302):                       {health.WrongPath, "302"},
		answers(429):                       {health.ReceiverBusy, "429"},
		answers(503):                       {health.ReceiverBusy, "503"},
		answers(500):                       {health.ReceiverFailing, "500"},
		"http://" + silent.Addr().String(): {health.NoAnswer, "has not answered"},
	} {
		d, _ := destination(t, delivery.Spec{Kind: "http", URLs: []string{url}})
		if want.code == health.NoAnswer {
			d.said = 50 * time.Millisecond
		}
		d.Start()
		d.Put(context.Background(), item(record.NDJSON, 0, 3, func(wire.DeliveryCounts) {}), nil)
		eventually(t, func() bool { return d.Trouble().Code != "" })
		assert.Equal(t, want.code, d.Trouble().Code, url)
		assert.Contains(t, d.Trouble().Reason, want.words, url)
		d.Stop()
	}
	folder := filepath.Join(t.TempDir(), "out")
	require.NoError(t, os.Mkdir(folder, 0o755))
	d, _ := destination(t, delivery.Spec{Kind: "file", Path: filepath.Join(folder, "a")})
	require.NoError(t, os.RemoveAll(folder))
	d.Start()
	d.Put(context.Background(), item(record.NDJSON, 0, 3, func(wire.DeliveryCounts) {}), nil)
	eventually(t, func() bool { return d.Trouble().Code == health.DestinationUnwritable })
	d.Stop()
}

// TestFirstOfLonelyDelivery: of a delivery that is alone the first record may be to blame; the others are tried too.
func TestFirstOfLonelyDelivery(t *testing.T) {
	t.Parallel()
	for _, bad := range []string{"n000", "n004"} { // of the last one it is known when others were accepted after it
		s := newServer(t, func(_ int, body string) int {
			if strings.Contains(body, bad) {
				return http.StatusUnprocessableEntity
			}
			return http.StatusOK
		})
		d, _ := destination(t, delivery.Spec{Kind: "http", URLs: []string{s.URL}})
		d.Start()
		done := make(chan wire.DeliveryCounts, 1)
		d.Put(context.Background(), item(record.NDJSON, 0, 10, func(c wire.DeliveryCounts) { done <- c }), nil)
		select {
		case c := <-done:
			assert.Equal(t, wire.DeliveryCounts{Acknowledged: 9, Refused: 1}, c, bad)
		case <-time.After(30 * time.Second):
			assert.Fail(t, "it waits for ever", bad)
		}
		d.Stop()
	}
}
