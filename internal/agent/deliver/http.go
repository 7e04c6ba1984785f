package deliver

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"synaxis/internal/core/delivery"
	"synaxis/internal/core/health"
	"synaxis/internal/core/record"
)

// httpSender posts bodies. OTLP goes by it too, with a body and an answer of its own.
type httpSender struct {
	spec     delivery.Spec
	client   *http.Client
	encoding record.Encoding
	accepted func(answer []byte) // reads the answer to what was accepted; may be nil

	zw     *zstd.Encoder
	gw     *gzip.Writer
	body   []byte
	packed bytes.Buffer
}

func newHTTP(spec delivery.Spec, _ *slog.Logger) (Sender, error) {
	return posting(spec, record.NDJSON)
}

func posting(spec delivery.Spec, enc record.Encoding) (*httpSender, error) {
	s := &httpSender{spec: spec, encoding: enc, client: &http.Client{
		Timeout: answerWaited,
		Transport: &http.Transport{
			DialContext:         (&net.Dialer{Timeout: 10 * time.Second}).DialContext,
			TLSClientConfig:     &tls.Config{MinVersion: tls.VersionTLS12},
			ForceAttemptHTTP2:   true,
			MaxIdleConnsPerHost: 2,
			IdleConnTimeout:     90 * time.Second,
			DisableCompression:  true,
			WriteBufferSize:     64 << 10,
		},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}}
	var err error
	switch spec.Compress {
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
	return s, err
}

func (s *httpSender) Encoding() record.Encoding { return s.encoding }

func (s *httpSender) Close() { s.client.CloseIdleConnections() }

func (s *httpSender) Send(ctx context.Context, records []delivery.Segment) Answer {
	parts, err := s.pack(records)
	if err != nil {
		return Answer{delivery.Again, health.NotReachable, err.Error(), 0}
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, s.spec.URL, &bodyOf{parts: parts})
	if err != nil {
		return Answer{delivery.Again, health.NotReachable, err.Error(), 0}
	}
	req.GetBody = func() (io.ReadCloser, error) { return &bodyOf{parts: parts}, nil }
	for _, p := range parts {
		req.ContentLength += int64(len(p.Bytes))
	}
	req.Header.Set("Content-Type", s.spec.ContentType())
	if s.spec.Compress != "none" {
		req.Header.Set("Content-Encoding", s.spec.Compress)
	}
	for k, v := range s.spec.Headers {
		req.Header.Set(k, v)
	}
	began := time.Now()
	resp, err := s.client.Do(req)
	if err != nil {
		code, why := plain(err)
		if code == health.NoAnswer {
			why = fmt.Sprintf(
				"%s does not answer (waited %d s)",
				s.spec.URL,
				int(time.Since(began).Round(time.Second).Seconds()),
			)
		}
		return Answer{delivery.Again, code, why, 0}
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(io.LimitReader(resp.Body, 64<<10))
	if err != nil { // the status came, the rest was lost: whether it was taken is not known, so send again
		code, why := plain(err)
		return Answer{delivery.Again, code, why, 0}
	}
	a := Answer{Outcome: delivery.Classify(resp.StatusCode)}
	if a.Outcome == delivery.Accepted {
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
		fmt.Sprintf("%s answered %s: %s", s.spec.URL, resp.Status, bytes.TrimSpace(text[:min(len(text), 200)])),
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
	parts []delivery.Segment
	at    int // in the first of them
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
