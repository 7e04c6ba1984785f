package notices

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/notice"
	"synaxis/internal/service/store"
)

var message = notice.Message{Notice: "n", At: time.Unix(0, 0).UTC(), Items: []notice.Item{{What: notice.Begins,
	State: "failing", Words: "gates: broken\r\nBcc: all@whimbrel.example", Where: "gate-a"}}}

// TestBadWebhooks: one that hangs, redirects, answers errors or never ends its answer is left in time, told in words,
// and gets nothing that is for another.
func TestBadWebhooks(t *testing.T) {
	t.Parallel()
	var elsewhere atomic.Int64
	other := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { elsewhere.Add(1) }))
	t.Cleanup(other.Close)
	ended := make(chan struct{})
	t.Cleanup(func() { close(ended) })
	for name, c := range map[string]struct {
		answer func(w http.ResponseWriter, r *http.Request)
		want   string
	}{
		"hangs": {func(_ http.ResponseWriter, r *http.Request) {
			select {
			case <-r.Context().Done():
			case <-ended:
			}
		}, "deadline"},
		"redirects": {func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, other.URL, http.StatusTemporaryRedirect)
		}, "307"},
		"fails": {func(w http.ResponseWriter, _ *http.Request) {
			http.Error(w, "the desk is closed", http.StatusInternalServerError)
		}, "the desk is closed"},
		"answers without end": {func(w http.ResponseWriter, r *http.Request) {
			w.WriteHeader(http.StatusBadGateway)
			for r.Context().Err() == nil {
				if _, err := io.WriteString(w, strings.Repeat("x", 1000)); err != nil {
					return
				}
			}
		}, "502"},
		"cuts": {func(w http.ResponseWriter, _ *http.Request) {
			conn, _, err := http.NewResponseController(w).Hijack()
			if err == nil {
				conn.Close()
			}
		}, "EOF"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				_, _ = io.Copy(io.Discard, r.Body) // until then it is not noticed that the other side has left
				c.answer(w, r)
			}))
			t.Cleanup(s.Close)
			ctx, stop := context.WithTimeout(context.Background(), 2*time.Second)
			defer stop()
			err := post(ctx, s.URL, "key", []byte("{}"), 1, time.Now())
			require.ErrorContains(t, err, c.want)
			assert.Less(t, len(err.Error()), 400)
			assert.NotContains(t, err.Error(), "key")
		})
	}
	t.Cleanup(func() { assert.Zero(t, elsewhere.Load()) })
}

// TestBadMailServers: one that says nothing, nonsense, or no to something is left in time, with what it said.
func TestBadMailServers(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		says []string // one a line that it reads, the first at once
		want string
	}{
		"says nothing":      {nil, "timeout"},
		"talks nonsense":    {[]string{"hello there"}, "hello there"},
		"wants nobody":      {[]string{"554 closed"}, "closed"},
		"knows no sender":   {[]string{"220 hi", "250 hi", "550 who is that"}, "who is that"},
		"knows no receiver": {[]string{"220 hi", "250 hi", "250 fine", "550 no such box"}, "no such box"},
		"has no room":       {[]string{"220 hi", "250 hi", "250 fine", "250 fine", "354 go", "452 full"}, "full"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			l, err := net.Listen("tcp", "127.0.0.1:0")
			require.NoError(t, err)
			defer l.Close()
			go func() {
				conn, err := l.Accept()
				if err != nil {
					return
				}
				defer conn.Close()
				buf := make([]byte, 4096)
				for _, line := range c.says {
					fmt.Fprintf(conn, "%s\r\n", line)
					if _, err := conn.Read(buf); err != nil {
						return
					}
				}
				_, _ = io.Copy(io.Discard, conn)
			}()
			ctx, stop := context.WithTimeout(context.Background(), 2*time.Second)
			defer stop()
			began := time.Now()
			err = mail(ctx, notice.Mail{Server: l.Addr().String(), From: "a@whimbrel.example",
				To: []string{"b@whimbrel.example"}}, "", &message, 1)
			require.ErrorContains(t, err, c.want)
			assert.Less(t, time.Since(began), 30*time.Second)
		})
	}
	assert.NotContains(t, oneLine(message.Subject()), "\n", "nothing of the words becomes a header")
}

// TestTries: a receiver that answers 500 for a day is tried ever more seldom, and gets the message once when it is
// well again; one that never is well is given up after a week.
func TestTries(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		down        time.Duration
		taken       int64
		least, most int // tries
	}{
		"down for a day":     {24 * time.Hour, 1, 90, 120},
		"down for a minute":  {time.Minute, 1, 4, 6},
		"down for two weeks": {14 * 24 * time.Hour, 0, 600, 720},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			ctx := context.Background()
			st, err := store.Open(ctx, t.TempDir())
			require.NoError(t, err)
			t.Cleanup(func() { require.NoError(t, st.Close()) })
			now := time.Unix(1_000_000, 0)
			up := now.Add(c.down)
			var taken atomic.Int64
			s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
				if now.Before(up) {
					w.WriteHeader(http.StatusInternalServerError)
					return
				}
				taken.Add(1)
			}))
			t.Cleanup(s.Close)
			rule := &notice.Rule{Name: "n", To: []notice.Way{{Webhook: &notice.Webhook{URL: s.URL}}}}
			n := &Notices{store: st, log: slog.New(slog.DiscardHandler), now: func() time.Time { return now },
				note: func(string) {}, rules: map[string]*notice.Rule{"n": rule}}
			text, err := json.Marshal(message)
			require.NoError(t, err)
			require.NoError(t, st.SaveNotice(ctx, store.NoticeState{Name: "n", Alerts: "{}"}, []store.Message{{Notice: "n",
				ToWhom: rule.To[0].String(), Message: string(text), Made: now}}))
			var m store.Message
			for range 5000 {
				require.NoError(t, n.SendDue(ctx))
				list, err := st.Messages(ctx, "n", 10)
				require.NoError(t, err)
				require.Len(t, list, 1)
				if m = list[0]; !m.Done.IsZero() {
					break
				}
				now = m.Next
			}
			assert.Equal(t, c.taken, taken.Load())
			assert.False(t, m.Done.IsZero())
			assert.Equal(t, c.taken == 0, strings.HasPrefix(m.Error, "given up after a week"))
			assert.GreaterOrEqual(t, m.Tries, c.least)
			assert.LessOrEqual(t, m.Tries, c.most)
			rule.To = nil // it is told no more
			require.NoError(t, st.SaveNotice(ctx, store.NoticeState{Name: "n", Alerts: "{}"}, []store.Message{{Notice: "n",
				ToWhom: "webhook of before", Message: string(text), Made: now}}))
			require.NoError(t, n.SendDue(ctx))
			left, err := st.DueMessages(ctx, now.Add(time.Hour), 10)
			require.NoError(t, err)
			assert.Empty(t, left)
		})
	}
}
