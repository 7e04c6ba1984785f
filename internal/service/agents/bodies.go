package agents

import (
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"net/http"
	"sync"

	"google.golang.org/protobuf/proto"

	"synaxis/internal/core/wire"
)

// crowd bounds how much one credential does at once.
type crowd struct {
	members, joiners int // with a credential of their own; with a join token, which many share
	mu               sync.Mutex
	inside           map[string]int
}

func (c *crowd) enter(who caller) bool {
	id, most := who.id(), c.members
	if who.token != nil {
		most = c.joiners
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.inside[id] >= most {
		return false
	}
	if c.inside == nil {
		c.inside = map[string]int{}
	}
	c.inside[id]++
	return true
}

func (c *crowd) leave(who caller) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.inside[who.id()]--; c.inside[who.id()] == 0 {
		delete(c.inside, who.id())
	}
}

func busy(w http.ResponseWriter) {
	w.Header().Set("Retry-After", "5")
	problem(w, http.StatusTooManyRequests, "busy", "there are too many requests with this credential at once; try again in a few seconds")
}

// readBody reads a message from a request, plain or gzip, of at most so many bytes, as they come and unpacked. It answers what is
// wrong, and false.
func readBody(w http.ResponseWriter, r *http.Request, most int64, m proto.Message) bool {
	text, err := unpacked(r, most)
	switch {
	case err != nil:
		problem(w, http.StatusBadRequest, "bad-message", err.Error())
		return false
	case int64(len(text)) > most:
		problem(w, http.StatusRequestEntityTooLarge, "too-large", fmt.Sprintf("the message is larger than %d bytes", most))
		return false
	}
	if err := wire.Read(text, m); errors.Is(err, wire.ErrElements) {
		problem(w, http.StatusRequestEntityTooLarge, "too-large", err.Error())
		return false
	} else if err != nil {
		problem(w, http.StatusBadRequest, "bad-message", fmt.Sprintf("the body is no %s: %v", m.ProtoReflect().Descriptor().Name(), err))
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
