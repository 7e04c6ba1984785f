package links

import (
	"context"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/coder/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// pair is a connection of an agent that answers, or not, and its other end.
func pair(t *testing.T, l *Links, offers func(*Conn), answers bool) *Conn {
	made := make(chan *Conn, 1)
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		ws, err := websocket.Accept(w, r, nil)
		if !assert.NoError(t, err) {
			return
		}
		c := l.Open(ws, true, offers)
		made <- c
		_ = c.Read(context.Background(), func([]byte) error { return nil })
		l.Left(c)
	}))
	t.Cleanup(s.Close)
	ws, _, err := websocket.Dial(context.Background(), strings.Replace(s.URL, "http", "ws", 1), nil)
	require.NoError(t, err)
	t.Cleanup(func() { _ = ws.CloseNow() })
	if answers { // it does so while it reads
		go func() { _, _, _ = ws.Read(context.Background()) }()
	}
	return <-made
}

// TestSilentConnections: who was silent for long is to be pinged, once at a time; who answers was heard; who left is
// not asked any more.
func TestSilentConnections(t *testing.T) {
	t.Parallel()
	l := New(time.Now)
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	answers, dead := pair(t, l, nil, true), pair(t, l, nil, false)
	assert.Empty(t, l.Silent(time.Minute))
	for _, c := range []*Conn{answers, dead} {
		c.heard.Store(time.Now().Add(-2 * time.Minute).UnixNano())
	}
	silent := l.Silent(time.Minute) // compared by which they are: what they hold is in use
	require.Len(t, silent, 2)
	assert.True(t, slices.Contains(silent, answers))
	assert.True(t, slices.Contains(silent, dead))
	assert.Empty(t, l.Silent(time.Minute), "an answer is waited for")
	require.NoError(t, answers.Ping(ctx))
	soon, cancelSoon := context.WithTimeout(ctx, 50*time.Millisecond)
	defer cancelSoon()
	require.Error(t, dead.Ping(soon))
	silent = l.Silent(time.Minute)
	require.Len(t, silent, 1)
	assert.Same(t, dead, silent[0], "which has not answered")
	dead.Close()
	require.Eventually(t, func() bool {
		dead.pinged.Store(false)
		return len(l.Silent(time.Minute)) == 0
	}, 10*time.Second, 10*time.Millisecond)
}

// TestOffersAreSent: whenever something is offered, it is taken by one goroutine at a time, and the newest is never
// left.
func TestOffersAreSent(t *testing.T) {
	t.Parallel()
	l := New(time.Now)
	var at, took atomic.Int64
	var last atomic.Value
	last.Store("")
	c := pair(t, l, func(c *Conn) {
		assert.Equal(t, int64(1), at.Add(1), "one at a time")
		if o := l.Take("h", c); o != nil {
			took.Add(1)
			last.Store(o.Text)
		}
		at.Add(-1)
	}, true)
	l.Hear("h", 1, c, true)
	for range 2000 {
		require.True(t, l.Offer("h", Offer{Text: "older"}))
	}
	require.True(t, l.Offer("h", Offer{Text: "newest"}))
	assert.Eventually(t, func() bool { return last.Load() == "newest" }, 10*time.Second, time.Millisecond)
	assert.Positive(t, took.Load())
}

// TestMissingPollers: who polls and stays away is missed once; who is connected is not, nor who came back over a
// connection; one whose connection was taken for a copy's counts like one that polls.
func TestMissingPollers(t *testing.T) {
	t.Parallel()
	now := noon
	l := New(func() time.Time { return now })
	c, lost := &Conn{}, &Conn{}
	l.Hear("polls", 1, nil, true)
	l.Hear("changed", 1, nil, true)
	l.Hear("changed", 2, c, true)
	l.Hear("taken", 1, lost, true)
	l.Detach("taken", lost)
	now = now.Add(PollPatience)
	assert.Empty(t, l.Missing())
	now = now.Add(time.Second)
	assert.ElementsMatch(t, []string{"polls", "taken"}, l.Missing())
	assert.Empty(t, l.Missing())
	assert.False(t, l.Connected("polls"))
	assert.True(t, l.Connected("changed"))
	l.Hear("polls", 2, nil, true)
	assert.True(t, l.Connected("polls"))
	l.Bye("polls")
	now = now.Add(time.Hour)
	assert.Empty(t, l.Missing(), "it said that it goes")
}
