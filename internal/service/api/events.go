package api

import (
	"fmt"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
)

// Events tells the pages which topics changed, as server-sent events. Topics that change faster than a page can use
// are joined.
type Events struct {
	mu   sync.Mutex
	subs map[chan string]*sub
	ends chan struct{}
	once sync.Once
}

// sub is a page that listens.
type sub struct {
	waiting map[string]bool // topics
	session string          // that it is signed in with; "" for a token
	end     chan struct{}
}

// EndSession ends the streams of a browser that signed out.
func (e *Events) EndSession(session []byte) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, s := range e.subs {
		if s.session != "" && s.session == string(session) {
			close(s.end)
			s.session = ""
		}
	}
}

// NewEvents makes an empty hub.
func NewEvents() *Events {
	return &Events{subs: map[chan string]*sub{}, ends: make(chan struct{})}
}

// Note says that something of a topic changed. It never blocks.
func (e *Events) Note(topic string) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for ch, s := range e.subs {
		if s.waiting[topic] {
			continue
		}
		select {
		case ch <- topic:
			s.waiting[topic] = true
		default:
		}
	}
}

// Close ends all streams, so that the server can stop.
func (e *Events) Close() { e.once.Do(func() { close(e.ends) }) }

// gather is how long topics are joined before they go out.
const gather = 300 * time.Millisecond

func (e *Events) serve(c *gin.Context) {
	ch := make(chan string, 16)
	id := identity(c)
	me := &sub{waiting: map[string]bool{}, session: string(id.Session()), end: make(chan struct{})}
	e.mu.Lock()
	e.subs[ch] = me
	e.mu.Unlock()
	expired := make(<-chan time.Time)
	if !id.Expires.IsZero() {
		timer := time.NewTimer(time.Until(id.Expires))
		defer timer.Stop()
		expired = timer.C
	}
	defer func() {
		e.mu.Lock()
		delete(e.subs, ch)
		e.mu.Unlock()
	}()
	c.Header("Content-Type", "text/event-stream")
	c.Header("X-Accel-Buffering", "no")
	fmt.Fprint(c.Writer, "event: ready\ndata: {}\n\n")
	c.Writer.Flush()
	alive := time.NewTicker(20 * time.Second)
	defer alive.Stop()
	for {
		select {
		case <-c.Request.Context().Done():
			return
		case <-e.ends:
			return
		case <-me.end:
			return
		case <-expired:
			return
		case <-alive.C:
			fmt.Fprint(c.Writer, ": alive\n\n")
		case topic := <-ch:
			time.Sleep(gather)
			topics := []string{topic}
			for more := true; more; {
				select {
				case t := <-ch:
					topics = append(topics, t)
				default:
					more = false
				}
			}
			e.mu.Lock()
			clear(me.waiting)
			e.mu.Unlock()
			for _, t := range topics {
				fmt.Fprintf(c.Writer, "event: changed\ndata: {\"topic\":%q}\n\n", t)
			}
		}
		c.Writer.Flush()
	}
}
