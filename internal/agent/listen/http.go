package listen

import (
	"bytes"
	"compress/gzip"
	"crypto/subtle"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net"
	"net/http"
	"net/netip"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/klauspost/compress/zstd"
	collogs "go.opentelemetry.io/proto/otlp/collector/logs/v1"
	"google.golang.org/protobuf/encoding/protojson"
	"google.golang.org/protobuf/proto"

	"synaxis/internal/core/record"
)

// Bounds of requests.
const (
	mostBody    = 16 << 20 // bytes, unpacked
	mostRecords = 100_000  // of a request
	headerFor   = 10 * time.Second
	bodyFor     = time.Minute
	idleFor     = 2 * time.Minute
	mostBodies  = 8        // that are read at once
	mostParts   = 500_000  // of a body of OTLP in JSON
	mostRead    = 64 << 20 // bytes that the records of a request may take in memory
	bodyWait    = 5 * time.Second
	settleFor   = 30 * time.Second // before the caller is told to come again
	retryAfter  = 5                // seconds
	logsPath    = "/v1/logs"       // OTLP/HTTP
)

// serveHTTP answers requests. It returns what ends it: nothing new is taken, and requests go on to their answer for as
// long as the server lasts.
func (s *server) serveHTTP(l net.Listener) func() {
	h := &http.Server{Handler: http.HandlerFunc(s.request), ReadHeaderTimeout: headerFor, ReadTimeout: bodyFor,
		IdleTimeout: idleFor, MaxHeaderBytes: 64 << 10}
	s.work.Go(func() { _ = h.Serve(&admitting{l, s}) })
	var once sync.Once
	return func() {
		once.Do(func() {
			s.work.Go(func() { _ = h.Shutdown(s.ctx) }) // before the other is done, so that work does not end between
			l.Close()
		})
	}
}

// admitting is a listener that takes only the connections that may come.
type admitting struct {
	net.Listener
	s *server
}

// Accept waits for the next connection, which is in clear when TLS was taken off.
func (a *admitting) Accept() (net.Conn, error) {
	for {
		c, err := a.Listener.Accept()
		if err != nil {
			return nil, err
		}
		one := a.s.admit(c)
		if one == nil {
			continue
		}
		wire := net.Conn(c)
		if in := a.s.in.Load(); a.s.listener.Transport == "tls" {
			if in.rules.tls == nil {
				in.peers.turn(badTLS)
				a.s.let(one)
				continue
			}
			wire = tls.Server(c, in.rules.tls) // shakes hands with the first read, within the time for the header
		}
		return &counted{one, a.s, wire}, nil
	}
}

// counted is a connection that is counted until it is closed.
type counted struct {
	*conn
	s    *server
	wire net.Conn
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.wire.Read(p)
	if n > 0 {
		c.last.Store(c.s.now().UnixNano())
	}
	return n, err
}

func (c *counted) Write(p []byte) (int, error) { return c.wire.Write(p) }

// Close ends it.
func (c *counted) Close() error {
	c.s.let(c.conn)
	return nil
}

// answer says why a request is not taken.
func answer(w http.ResponseWriter, status int, words string) {
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	if status == http.StatusTooManyRequests || status == http.StatusServiceUnavailable {
		w.Header().Set("Retry-After", strconv.Itoa(retryAfter))
	}
	if status == http.StatusUnauthorized {
		w.Header().Set("WWW-Authenticate", "Bearer")
	}
	w.WriteHeader(status)
	_, _ = io.WriteString(w, words+"\n")
}

// refusal is why a request cannot be taken.
type refusal struct {
	status int
	words  string
}

func (r refusal) Error() string { return r.words }

// request takes the records of one request, and answers when all of them are settled.
func (s *server) request(w http.ResponseWriter, r *http.Request) {
	in := s.in.Load()
	fail := func(err refusal) {
		if err.status != http.StatusTooManyRequests && err.status != http.StatusServiceUnavailable {
			in.peers.turn(badRequest)
		}
		answer(w, err.status, err.words)
	}
	path := in.rules.listener.Path
	if s.listener.Kind == "otlp" {
		path = logsPath
	}
	switch {
	case r.URL.Path != path:
		fail(refusal{http.StatusNotFound, "records are taken at " + path})
		return
	case r.Method != http.MethodPost && r.Method != http.MethodPut:
		w.Header().Set("Allow", "POST, PUT")
		fail(refusal{http.StatusMethodNotAllowed, "records are taken by POST"})
		return
	case !in.rules.knows(r):
		fail(refusal{http.StatusUnauthorized, "the token of this listener is missing or wrong: Authorization: Bearer TOKEN"})
		return
	case s.ending.Load():
		fail(refusal{http.StatusServiceUnavailable, "this listener ends"})
		return
	case in.held.Load():
		fail(refusal{http.StatusTooManyRequests, "a destination has no room now; come again later"})
		return
	}
	a, _ := netip.ParseAddrPort(r.RemoteAddr)
	p := &parcel{peer: in.probes.from(a), at: s.now()}
	if p.peer == nil {
		p.peer = in.peers.heard(in.rules, a.Addr().Unmap().WithZone(""), s.now())
	}
	select {
	case s.bodies <- struct{}{}:
	case <-time.After(bodyWait):
		fail(refusal{http.StatusTooManyRequests, "too many requests are read at once; come again later"})
		return
	}
	body, err := readAll(w, r)
	if err == nil && s.listener.Kind == "otlp" {
		err = readOTLP(p, r, body)
	} else if err == nil {
		err = readBody(p, r, body, in.rules.limit)
	}
	<-s.bodies
	var why refusal
	if errors.As(err, &why) {
		fail(why)
		return
	}
	// the time for the body would end the wait too; of one that was not read to its end it must stay
	_ = http.NewResponseController(w).SetReadDeadline(time.Time{})
	settled := make(chan struct{})
	p.done = func() { close(settled) }
	if len(p.messages) == 0 {
		close(settled)
	} else if !in.inbox.deliver(p) {
		fail(refusal{http.StatusTooManyRequests, "there is no room now; come again later"})
		return
	}
	t := time.NewTimer(settleFor)
	defer t.Stop()
	select {
	case <-settled:
		s.taken(w, r)
	case <-t.C:
		fail(refusal{http.StatusServiceUnavailable, "the records could not be settled in time; some may come twice"})
	case <-s.ctx.Done():
		fail(refusal{http.StatusServiceUnavailable, "this listener ends"})
	case <-r.Context().Done(): // the caller is gone; without words it would be told that all is settled
		fail(refusal{http.StatusServiceUnavailable, "the connection ended before the records were settled; some may come twice"})
	}
}

// taken answers that all is settled.
func (s *server) taken(w http.ResponseWriter, r *http.Request) {
	if s.listener.Kind != "otlp" {
		w.WriteHeader(http.StatusNoContent)
		return
	}
	if strings.HasPrefix(r.Header.Get("Content-Type"), "application/json") {
		w.Header().Set("Content-Type", "application/json")
		_, _ = io.WriteString(w, "{}")
		return
	}
	w.Header().Set("Content-Type", "application/x-protobuf")
	w.WriteHeader(http.StatusOK) // an empty ExportLogsServiceResponse has no bytes
}

// knows tells whether a request has the token, where one is asked for.
func (r *rules) knows(req *http.Request) bool {
	if r.listener.Token == "" {
		return true
	}
	given, ok := strings.CutPrefix(req.Header.Get("Authorization"), "Bearer ")
	return ok && r.token != "" && subtle.ConstantTimeCompare([]byte(given), []byte(r.token)) == 1
}

// readAll reads a body, unpacked.
func readAll(w http.ResponseWriter, r *http.Request) ([]byte, error) {
	var from io.Reader = http.MaxBytesReader(w, r.Body, mostBody)
	switch e := strings.ToLower(strings.TrimSpace(r.Header.Get("Content-Encoding"))); e {
	case "", "identity":
	case "gzip":
		z, err := gzip.NewReader(from)
		if err != nil {
			return nil, refusal{http.StatusBadRequest, "the body is no gzip"}
		}
		from = z
	case "zstd":
		z, err := zstd.NewReader(from, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(mostBody+1<<20))
		if err != nil {
			return nil, refusal{http.StatusBadRequest, "the body is no zstd"}
		}
		defer z.Close()
		from = z
	default:
		return nil, refusal{http.StatusUnsupportedMediaType, fmt.Sprintf("Content-Encoding %.40q is not known; gzip and zstd are", e)}
	}
	body, err := io.ReadAll(io.LimitReader(from, mostBody+1))
	var large *http.MaxBytesError
	switch {
	case len(body) > mostBody || errors.As(err, &large) || errors.Is(err, zstd.ErrDecoderSizeExceeded):
		return nil, refusal{http.StatusRequestEntityTooLarge, fmt.Sprintf("a body may have %d bytes, unpacked",
			mostBody)}
	case err != nil:
		return nil, refusal{http.StatusBadRequest, "the body cannot be read to its end: it is torn, or not packed as its header says"}
	}
	return body, nil
}

func mediaType(r *http.Request) string {
	t, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type"))
	return strings.ToLower(t)
}

// readBody takes the records of a body: the elements of a JSON array, JSON objects, or lines. A text in JSON is a
// line.
func readBody(p *parcel, r *http.Request, body []byte, limit int) error {
	body = bytes.TrimPrefix(body, []byte("\ufeff")) // which some systems put before a text
	switch t := mediaType(r); {
	case t == "application/json", strings.HasSuffix(t, "+json"):
		if text := bytes.Trim(body, " \t\r\n"); len(text) > 0 {
			return readJSON(p, text, limit)
		}
		return nil
	case t == "", t == "application/x-ndjson", t == "application/ndjson", t == "application/jsonl",
		strings.HasPrefix(t, "text/"),
		t == "application/octet-stream", t == "application/x-www-form-urlencoded":
		for line := range bytes.Lines(body) {
			line = bytes.TrimRight(line, "\r\n")
			if len(line) == 0 {
				continue
			}
			if len(p.messages) == mostRecords {
				return tooManyRecords
			}
			n := min(len(line), limit)
			p.add(line[:n], n < len(line), nil)
		}
		return nil
	default:
		return refusal{http.StatusUnsupportedMediaType, fmt.Sprintf("Content-Type %.60q is not known; application/json, "+
			"application/x-ndjson and text/plain are", t)}
	}
}

var tooManyRecords = refusal{http.StatusRequestEntityTooLarge, fmt.Sprintf("a request may have %d records",
	mostRecords)}

// readJSON takes the elements of an array, or values that follow each other. All or none are taken.
func readJSON(p *parcel, text []byte, limit int) error {
	bad := func(err error) error {
		return refusal{http.StatusBadRequest, fmt.Sprintf("the body is no JSON: %v", err)}
	}
	add := func(value json.RawMessage) error {
		var line bytes.Buffer
		if value[0] == '"' { // a line
			var text string
			if err := json.Unmarshal(value, &text); err != nil {
				return bad(err)
			}
			line.WriteString(text)
		} else if err := json.Compact(&line, value); err != nil {
			return bad(err)
		}
		if len(p.messages) == mostRecords {
			return tooManyRecords
		}
		n := min(line.Len(), limit)
		p.add(line.Bytes()[:n], n < line.Len(), nil)
		return nil
	}
	d := json.NewDecoder(bytes.NewReader(text))
	if text[0] == '[' {
		if _, err := d.Token(); err != nil {
			return bad(err)
		}
		for d.More() {
			var value json.RawMessage
			if err := d.Decode(&value); err != nil {
				return bad(err)
			}
			if err := add(value); err != nil {
				return err
			}
		}
		if _, err := d.Token(); err != nil {
			return bad(err)
		}
		if _, err := d.Token(); !errors.Is(err, io.EOF) {
			return bad(errors.New("something stands behind the array"))
		}
		return nil
	}
	for {
		var value json.RawMessage
		if err := d.Decode(&value); errors.Is(err, io.EOF) {
			return nil
		} else if err != nil {
			return bad(err)
		}
		if err := add(value); err != nil {
			return err
		}
	}
}

// readOTLP takes the records of an OTLP request, in protobuf or JSON.
func readOTLP(p *parcel, r *http.Request, body []byte) error {
	add := func(text []byte, given *record.Given) error {
		if len(p.messages) == mostRecords {
			return tooManyRecords
		}
		p.add(text, false, given)
		if p.size += given.Size(); p.size > mostRead {
			return refusal{http.StatusRequestEntityTooLarge, fmt.Sprintf("the records of a request may take %d bytes, unpacked", mostRead)}
		}
		return nil
	}
	var err error
	switch t := mediaType(r); t {
	case "application/x-protobuf":
		err = record.ReadOTLP(body, add)
	case "application/json":
		if bytes.Count(body, []byte("{"))+bytes.Count(body, []byte("["))+bytes.Count(body, []byte(",")) > mostParts {
			return refusal{http.StatusRequestEntityTooLarge, fmt.Sprintf("a body in JSON may have %d parts",
				mostParts)}
		}
		var req collogs.ExportLogsServiceRequest
		if err = (protojson.UnmarshalOptions{DiscardUnknown: true}).Unmarshal(body, &req); err == nil {
			var text []byte
			if text, err = proto.Marshal(&req); err == nil {
				err = record.ReadOTLP(text, add)
			}
		}
	default:
		return refusal{http.StatusUnsupportedMediaType, fmt.Sprintf("Content-Type %.60q is not OTLP; application/x-protobuf and "+
			"application/json are", t)}
	}
	var why refusal
	if err != nil && !errors.As(err, &why) {
		return refusal{http.StatusBadRequest, fmt.Sprintf("the body is no ExportLogsServiceRequest: %v", err)}
	}
	return err
}
