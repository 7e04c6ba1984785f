package deliver

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/cespare/xxhash/v2"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"synaxis/internal/core/delivery"
	"synaxis/internal/core/health"
	"synaxis/internal/core/record"
)

// httpSender posts bodies. OTLP goes by it too, with a body and an answer of its own.
type httpSender struct {
	*posts
	zw     *zstd.Encoder
	gw     *gzip.Writer
	body   []byte
	packed bytes.Buffer
}

// posts is what the senders of one destination share.
type posts struct {
	spec     delivery.Spec
	client   *http.Client
	encoding record.Encoding
	accepted func(answer []byte) // reads the answer to what was accepted; may be nil
	login    *login
	expires  atomic.Int64 // when a certificate of the connection ends first, in Unix seconds; 0 for none

	mu    sync.Mutex
	at    int       // which address is used
	since time.Time // since when it is not the first
}

// firstAgain is after how long the first of several addresses is tried again.
const firstAgain = time.Minute

func newHTTP(spec delivery.Spec, deps Deps) (Sender, error) {
	return posting(spec, deps, record.NDJSON)
}

func posting(spec delivery.Spec, deps Deps, enc record.Encoding) (*httpSender, error) {
	l := &login{spec: spec.Auth, secret: deps.Secret, newest: deps.Newest}
	safe, err := tlsOf(spec.TLS, deps.Secret)
	if err != nil {
		return nil, err
	}
	t := &http.Transport{
		DialContext:         (&net.Dialer{Timeout: 10 * time.Second}).DialContext,
		TLSClientConfig:     safe,
		ForceAttemptHTTP2:   true,
		MaxIdleConnsPerHost: max(2, spec.AtOnce),
		IdleConnTimeout:     90 * time.Second,
		DisableCompression:  true,
		WriteBufferSize:     64 << 10,
	}
	if spec.Proxy != "" {
		proxy, err := url.Parse(spec.Proxy)
		if err != nil {
			return nil, fmt.Errorf("proxy: %w", err)
		}
		t.Proxy = http.ProxyURL(proxy)
	}
	s := &httpSender{posts: &posts{spec: spec, encoding: enc, login: l, client: &http.Client{
		Timeout:       answerWaited,
		Transport:     t,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}}}
	return s, s.packer()
}

// another is a sender beside this one, over the same connections.
func (s *httpSender) another() (Sender, error) {
	o := &httpSender{posts: s.posts}
	return o, o.packer()
}

// packer prepares the compression.
func (s *httpSender) packer() (err error) {
	switch s.spec.Compress {
	case "gzip":
		s.gw, err = gzip.NewWriterLevel(&s.packed, gzip.BestSpeed)
	case "zstd":
		s.zw, err = zstd.NewWriter(
			&s.packed,
			zstd.WithEncoderLevel(zstd.SpeedFastest),
			zstd.WithEncoderConcurrency(1),
			zstd.WithWindowSize(1<<20),
		)
	}
	return err
}

func (s *httpSender) Encoding() record.Encoding { return s.encoding }

func (s *httpSender) Close() { s.client.CloseIdleConnections() }

// Send posts to the address in use. When it fails for now the next one is tried; the first is used again after a
// while.
func (s *httpSender) Send(ctx context.Context, records []delivery.Segment) Answer {
	parts, err := s.pack(records)
	if err != nil {
		return Answer{delivery.Again, health.NotReachable, err.Error(), 0, ""}
	}
	key := keyOf(records)
	var a Answer
	for range s.spec.URLs {
		at := s.address(time.Now())
		a = s.post(ctx, s.spec.URLs[at], parts, key)
		if a.Code == health.LoginRefused && a.Kind == "401" && s.login.renew() {
			a = s.post(ctx, s.spec.URLs[at], parts, key)
		}
		if a.Outcome != delivery.Again || ctx.Err() != nil {
			break
		}
		s.next(at, time.Now())
	}
	return a
}

// address is the one in use.
func (s *posts) address(now time.Time) int {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.at != 0 && now.Sub(s.since) >= firstAgain {
		s.at = 0
	}
	return s.at
}

// next goes on to the address after one that failed.
func (s *posts) next(failed int, now time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.at == failed {
		s.at, s.since = (failed+1)%len(s.spec.URLs), now
	}
}

// note keeps when the first certificate of a connection ends: of the receiver's chain, and of the one that the
// destination shows itself.
func (s *posts) note(state *tls.ConnectionState) {
	if state == nil {
		return
	}
	first := time.Time{}
	sooner := func(c *x509.Certificate) {
		if first.IsZero() || c.NotAfter.Before(first) {
			first = c.NotAfter
		}
	}
	for _, c := range state.PeerCertificates {
		sooner(c)
	}
	if t, ok := s.client.Transport.(*http.Transport); ok && t.TLSClientConfig != nil {
		for _, own := range t.TLSClientConfig.Certificates {
			if own.Leaf != nil {
				sooner(own.Leaf)
			}
		}
	}
	if !first.IsZero() {
		s.expires.Store(first.Unix())
	}
}

// keyOf names a delivery: one of the same records has the same key, so that a receiver can tell that it has it.
func keyOf(records []delivery.Segment) string {
	h := xxhash.New()
	n := 0
	for _, r := range records {
		_, _ = h.Write(r.Bytes)
		n += len(r.Bytes)
	}
	return fmt.Sprintf("%016x%08x", h.Sum64(), uint32(n))
}

// lookUp asks a receiver whether it has the record of a probe.
func (s *posts) lookUp(ctx context.Context, probe string) (found bool, words string) {
	to := strings.ReplaceAll(s.spec.LookUp, "{probe}", url.QueryEscape(probe))
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, to, nil)
	if err != nil {
		return false, err.Error()
	}
	if err := s.login.sign(req.Header); err != nil {
		return false, err.Error()
	}
	resp, err := s.client.Do(req)
	if err != nil {
		_, why := plain(err)
		return false, why
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
	switch {
	case err != nil:
		_, why := plain(err)
		return false, why
	case resp.StatusCode != http.StatusOK:
		return false, "the look-up address answers " + resp.Status
	}
	return bytes.Contains(text, []byte(probe)), "the look-up address answers, and does not name it"
}

func (s *posts) post(ctx context.Context, to string, parts []delivery.Segment, key string) Answer {
	again := func(code health.Code, why string) Answer {
		return Answer{delivery.Again, code, why, 0, ""}
	}
	body := &bodyOf{parts: parts}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, to, body)
	if err != nil {
		return again(health.NotReachable, err.Error())
	}
	req.GetBody = func() (io.ReadCloser, error) {
		body.sent.Store(0)
		return &bodyOf{parts: parts, counts: body}, nil
	}
	for _, p := range parts {
		req.ContentLength += int64(len(p.Bytes))
	}
	req.Header.Set("Content-Type", s.spec.ContentType())
	req.Header.Set("Idempotency-Key", key)
	if s.spec.Compress != "none" {
		req.Header.Set("Content-Encoding", s.spec.Compress)
	}
	for k, v := range s.spec.Headers {
		req.Header.Set(k, v)
	}
	if err := s.login.sign(req.Header); err != nil {
		return again(health.LoginRefused, err.Error())
	}
	began := time.Now()
	resp, err := s.client.Do(req)
	if err != nil {
		code, why := plain(err)
		if code == health.NoAnswer {
			why = fmt.Sprintf("%s does not answer (waited %d s)", to,
				int(time.Since(began).Round(time.Second).Seconds()))
		}
		if ended(err) {
			why = to + " ended the connection before it answered"
		}
		return again(code, why)
	}
	defer resp.Body.Close()
	s.note(resp.TLS)
	text, err := io.ReadAll(io.LimitReader(resp.Body, 64<<10))
	if err != nil { // the status came, the rest was lost: whether it was taken is not known, so send again
		code, why := plain(err)
		if ended(err) {
			why = to + " ended the connection in the midst of its answer"
		}
		return again(code, why)
	}
	a := Answer{Outcome: delivery.Classify(resp.StatusCode), Kind: strconv.Itoa(resp.StatusCode)}
	if a.Outcome == delivery.Accepted {
		if body.sent.Load() < req.ContentLength {
			return again(health.NotReachable, to+" answered before it had read the delivery")
		}
		a.Kind = ""
		s.login.worked()
		if s.accepted != nil {
			s.accepted(text)
		}
		return a
	}
	if wait, err := strconv.Atoi(resp.Header.Get("Retry-After")); err == nil && wait > 0 {
		a.Pause = min(time.Duration(wait)*time.Second, s.spec.Retry.Longest)
	}
	a.Code = codeOf(resp.StatusCode)
	a.Why = strings.TrimSuffix(
		fmt.Sprintf("%s answered %s: %s", to, resp.Status, bytes.TrimSpace(text[:min(len(text), 200)])),
		": ",
	)
	return a
}

// pack is the body of records, in parts, compressed where that is asked for. What is joined as it is is not copied
// first.
func (s *httpSender) pack(records []delivery.Segment) ([]delivery.Segment, error) {
	parts := records
	if !s.spec.Joined() {
		s.body = s.spec.AppendBody(s.body[:0], records)
		parts = []delivery.Segment{{Bytes: s.body}}
	}
	var w io.WriteCloser
	s.packed.Reset()
	switch {
	case s.gw != nil:
		s.gw.Reset(&s.packed)
		w = s.gw
	case s.zw != nil:
		s.zw.Reset(&s.packed)
		w = s.zw
	default:
		return parts, nil
	}
	for _, p := range parts {
		if _, err := w.Write(p.Bytes); err != nil {
			return nil, err
		}
	}
	err := w.Close()
	return []delivery.Segment{{Bytes: s.packed.Bytes()}}, err
}

// bodyOf reads a body that stands in parts.
type bodyOf struct {
	parts  []delivery.Segment
	at     int // in the first of them
	sent   atomic.Int64
	counts *bodyOf // which counts what is sent; itself when nil
}

func (b *bodyOf) Read(p []byte) (n int, err error) {
	for len(b.parts) > 0 && n < len(p) {
		k := copy(p[n:], b.parts[0].Bytes[b.at:])
		n, b.at = n+k, b.at+k
		if b.at == len(b.parts[0].Bytes) {
			b.parts, b.at = b.parts[1:], 0
		}
	}
	if n == 0 && len(p) > 0 {
		return 0, io.EOF
	}
	if b.counts != nil {
		b.counts.sent.Add(int64(n))
	} else {
		b.sent.Add(int64(n))
	}
	return n, nil
}

func (b *bodyOf) Close() error { return nil }

// codeOf is the trouble that a status means.
func codeOf(status int) health.Code {
	switch {
	case status == http.StatusUnauthorized, status == http.StatusForbidden:
		return health.LoginRefused
	case status == http.StatusTooManyRequests, status == http.StatusServiceUnavailable:
		return health.ReceiverBusy
	case status >= 500:
		return health.ReceiverFailing
	}
	return health.WrongPath
}

// ended tells whether the other side ended a connection.
func ended(err error) bool {
	return errors.Is(err, syscall.ECONNRESET) || errors.Is(err, syscall.EPIPE) || errors.Is(err, io.EOF) ||
		errors.Is(err, io.ErrUnexpectedEOF)
}

// plain takes the wrapping off an error of the HTTP client, and tells which trouble it means.
func plain(err error) (code health.Code, why string) {
	var (
		name   *net.DNSError
		op     *net.OpError
		verify *tls.CertificateVerificationError
		header tls.RecordHeaderError
		alert  tls.AlertError
	)
	why = err.Error()
	if errors.As(err, &op) {
		why = op.Error()
	}
	var late interface{ Timeout() bool }
	switch {
	case errors.As(err, &name):
		return health.NameNotFound, why
	case errors.As(err, &verify), errors.As(err, &header), errors.As(err, &alert):
		var u *url.Error
		if errors.As(err, &u) {
			why = u.Err.Error()
		}
		return health.TLSFailed, why
	case errors.Is(err, syscall.ECONNREFUSED):
		return health.ConnectionRefused, why
	case errors.As(err, &late) && late.Timeout():
		return health.NoAnswer, why
	case strings.Contains(why, "server gave HTTP response to HTTPS client"):
		return health.TLSFailed, why
	}
	return health.NotReachable, why
}
