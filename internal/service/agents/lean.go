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
	// What came already must stand in the new buffer, since who takes over looks there and then at the connection.
	early, err := had.Reader.Peek(had.Reader.Buffered())
	if err != nil {
		conn.Close()
		return nil, nil, err
	}
	from := io.MultiReader(bytes.NewReader(bytes.Clone(early)), conn)
	reader := bufio.NewReaderSize(from, max(leanBuffer, len(early)))
	if _, err := reader.Peek(len(early)); err != nil {
		conn.Close()
		return nil, nil, err
	}
	return conn, bufio.NewReadWriter(reader, bufio.NewWriterSize(conn, leanBuffer)), nil
}
