package agents

import (
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"sync"
	"time"

	"synaxis/internal/contract"
	"synaxis/internal/core/wire"
	"synaxis/internal/service/membership"
)

// crowd bounds how much one credential does at once. Who comes with a join token, which many share, waits for a while:
// how fast a fleet joins is for the machine to say.
type crowd struct {
	members, joiners int // with a credential of their own; with a join token
	mu               sync.Mutex
	inside           map[string]*inside
}

// inside are those of one credential or token.
type inside struct {
	n      int
	queued []chan struct{}
}

// Bounds of waiting.
const (
	maxQueued = 20_000
	queuedFor = 15 * time.Second
)

// enter lets a request in, or answers false when there are too many.
func (c *crowd) enter(ctx context.Context, who membership.Caller) bool {
	most := c.members
	if who.Token != nil {
		most = c.joiners
	}
	c.mu.Lock()
	if c.inside == nil {
		c.inside = map[string]*inside{}
	}
	in := c.inside[who.ID()]
	if in == nil {
		in = &inside{}
		c.inside[who.ID()] = in
	}
	if in.n < most {
		in.n++
		c.mu.Unlock()
		return true
	}
	if who.Token == nil || len(in.queued) >= maxQueued {
		c.mu.Unlock()
		return false
	}
	turn := make(chan struct{})
	in.queued = append(in.queued, turn)
	c.mu.Unlock()
	wait := time.NewTimer(queuedFor)
	defer wait.Stop()
	select {
	case <-turn:
		return true
	case <-ctx.Done():
	case <-wait.C:
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if i := slices.Index(in.queued, turn); i >= 0 {
		in.queued = slices.Delete(in.queued, i, i+1)
		return false
	}
	return true // its turn came at the same moment
}

// leave lets the next one in.
func (c *crowd) leave(who membership.Caller) {
	c.mu.Lock()
	defer c.mu.Unlock()
	in := c.inside[who.ID()]
	if len(in.queued) > 0 {
		close(in.queued[0])
		in.queued = in.queued[1:]
		return
	}
	if in.n--; in.n == 0 {
		delete(c.inside, who.ID())
	}
}

func busy(w http.ResponseWriter) {
	w.Header().Set("Retry-After", "5")
	problem(
		w,
		http.StatusTooManyRequests,
		contract.Busy,
		"there are too many requests with this credential at once; try again in a few seconds",
	)
}

// readBody reads a message from a request, plain or gzip, of at most so many bytes, as they come and unpacked. It
// answers what is wrong, and false.
func readBody(
	w http.ResponseWriter, r *http.Request, most int64, kind string, read func([]byte) error,
) bool {
	text, err := unpacked(r, most)
	switch {
	case err != nil:
		problem(w, http.StatusBadRequest, contract.BadMessage, err.Error())
		return false
	case int64(len(text)) > most:
		problem(
			w,
			http.StatusRequestEntityTooLarge,
			contract.TooLarge,
			fmt.Sprintf("the message is larger than %d bytes", most),
		)
		return false
	}
	if err := read(text); errors.Is(err, wire.ErrElements) {
		problem(w, http.StatusRequestEntityTooLarge, contract.TooLarge, err.Error())
		return false
	} else if err != nil {
		problem(w, http.StatusBadRequest, contract.BadMessage, fmt.Sprintf("the body is no %s: %v", kind, err))
		return false
	}
	return true
}

// unpacked reads a body up to one byte beyond the bound.
func unpacked(r *http.Request, most int64) ([]byte, error) {
	var body io.Reader = io.LimitReader(r.Body, most+1)
	if r.Header.Get("Content-Encoding") == "gzip" {
		z, err := gzip.NewReader(body)
		if err != nil {
			return nil, fmt.Errorf("the body is not gzip: %w", err)
		}
		body = io.LimitReader(z, most+1)
	}
	return io.ReadAll(body)
}
