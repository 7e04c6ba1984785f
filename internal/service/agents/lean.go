package agents

import (
	"bufio"
	"bytes"
	"io"
	"net"
	"net/http"
)

// leanBuffer is enough for the heads of frames; what is larger passes it by.
const leanBuffer = 512

// lean gives a connection that is taken over small buffers: those of the server are eight kilobytes together, for each
// of thousands of agents that say little.
type lean struct{ http.ResponseWriter }

// Unwrap is the writer behind it.
func (l lean) Unwrap() http.ResponseWriter { return l.ResponseWriter }

// Hijack takes the connection over. What the other side has sent already is read first.
func (l lean) Hijack() (net.Conn, *bufio.ReadWriter, error) {
	conn, had, err := http.NewResponseController(l.ResponseWriter).Hijack()
	if err != nil {
		return nil, nil, err
	}
	from := io.Reader(conn)
	if n := had.Reader.Buffered(); n > 0 {
		early, err := had.Reader.Peek(n)
		if err != nil {
			conn.Close()
			return nil, nil, err
		}
		from = io.MultiReader(bytes.NewReader(bytes.Clone(early)), conn)
	}
	return conn, bufio.NewReadWriter(bufio.NewReaderSize(from, leanBuffer), bufio.NewWriterSize(conn, leanBuffer)), nil
}
