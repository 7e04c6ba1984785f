package service

import (
	"errors"
	"io"
	"net/http"
	"time"
)

// A body must go on within bodyPatience, and come at slowestBody bytes a second or faster. What answers for long,
// events and WebSockets, has no body, and is not bounded.
const (
	bodyPatience = 20 * time.Second
	slowestBody  = 16 << 10
)

// paced cuts requests whose bodies come too slowly.
func paced(next http.Handler) http.Handler { return pacedAt(next, bodyPatience) }

func pacedAt(next http.Handler, patience time.Duration) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Body != nil && r.Body != http.NoBody {
			b := &pacedBody{
				ReadCloser: r.Body,
				control:    http.NewResponseController(w),
				patience:   patience,
				ends:       time.Now().Add(patience),
			}
			b.extend(0)
			r.Body = b
		}
		next.ServeHTTP(w, r)
	})
}

type pacedBody struct {
	io.ReadCloser
	control  *http.ResponseController
	patience time.Duration
	ends     time.Time
}

func (b *pacedBody) extend(n int) {
	b.ends = b.ends.Add(time.Duration(n) * time.Second / slowestBody)
	at := time.Now().Add(b.patience)
	if b.ends.Before(at) {
		at = b.ends
	}
	_ = b.control.SetReadDeadline(at) // an answer that cannot have one is a test's
}

func (b *pacedBody) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	if errors.Is(err, io.EOF) { // the connection is free for what comes next
		_ = b.control.SetReadDeadline(time.Time{})
	} else {
		b.extend(n)
	}
	return n, err
}
