package deliver

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/klauspost/compress/gzip"

	"synaxis/internal/core/delivery"
	"synaxis/internal/core/health"
)

// openFile opens a file to append to. A last line that a crash tore off is cut: its records were not settled.
func openFile(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o640)
	if err != nil {
		return nil, err
	}
	size, err := f.Seek(0, io.SeekEnd)
	buf := make([]byte, 64<<10)
	for end := size; err == nil && end > 0; {
		n := min(end, int64(len(buf)))
		if _, err = f.ReadAt(buf[:n], end-n); err != nil {
			break
		}
		if end == size && buf[n-1] == '\n' {
			break
		}
		if i := bytes.LastIndexByte(buf[:n], '\n'); i >= 0 || end-n == 0 {
			if err = f.Truncate(end - n + int64(i+1)); err == nil {
				_, err = f.Seek(0, io.SeekEnd)
			}
			break
		}
		end -= n
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

func (d *Destination) segments(batch []piece) []delivery.Segment {
	out := make([]delivery.Segment, len(batch))
	for i, p := range batch {
		out[i] = delivery.Segment{Origin: p.item.Encoded.Origin, Bytes: p.bytes()}
	}
	return out
}

// answer is what came of one attempt. pause is what the other side asked to wait, or 0; code is that of the trouble.
type answer struct {
	outcome delivery.Outcome
	code    health.Code
	why     string
	pause   time.Duration
}

// send makes one attempt. When no answer comes for a while that is said, before the attempt ends.
func (d *Destination) send(ctx context.Context, batch []piece) answer {
	if d.Spec.Kind == "discard" {
		return answer{}
	}
	d.body = d.Spec.AppendBody(d.body[:0], d.segments(batch))
	if d.Spec.Kind == "file" {
		return d.write()
	}
	body, err := d.pack()
	if err != nil {
		return answer{delivery.Again, health.NotReachable, err.Error(), 0}
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, d.Spec.URL, bytes.NewReader(body))
	if err != nil {
		return answer{delivery.Again, health.NotReachable, err.Error(), 0}
	}
	req.Header.Set("Content-Type", d.Spec.ContentType())
	if d.Spec.Compress != "none" {
		req.Header.Set("Content-Encoding", d.Spec.Compress)
	}
	for k, v := range d.Spec.Headers {
		req.Header.Set(k, v)
	}
	began := time.Now()
	silent := time.AfterFunc(d.said, func() {
		d.trouble(health.NoAnswer, fmt.Sprintf("%s has not answered for %d s", d.Spec.URL, int(time.Since(began).Seconds())), began)
	})
	defer silent.Stop()
	resp, err := d.client.Do(req)
	if err != nil {
		code, why := plain(err)
		if code == health.NoAnswer {
			why = fmt.Sprintf("%s does not answer (waited %d s)", d.Spec.URL, int(time.Since(began).Round(time.Second).Seconds()))
		}
		return answer{delivery.Again, code, why, 0}
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(io.LimitReader(resp.Body, 64<<10))
	if err != nil { // the status came, the rest was lost: whether it was taken is not known, so send again
		code, why := plain(err)
		return answer{delivery.Again, code, why, 0}
	}
	a := answer{outcome: delivery.Classify(resp.StatusCode)}
	if a.outcome == delivery.Accepted {
		if d.Spec.Kind == "otlp" {
			d.partial(text)
		}
		return a
	}
	if s, err := strconv.Atoi(resp.Header.Get("Retry-After")); err == nil && s > 0 {
		a.pause = min(time.Duration(s)*time.Second, d.Spec.Retry.Most)
	}
	a.code = codeOf(resp.StatusCode)
	a.why = strings.TrimSuffix(fmt.Sprintf("%s answered %s: %s", d.Spec.URL, resp.Status, bytes.TrimSpace(text[:min(len(text), 200)])), ": ")
	return a
}

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

// reopen returns the end of the file, after opening it anew when somebody moved it away.
func (d *Destination) reopen() (int64, error) {
	have, err := d.out.Stat()
	if err != nil {
		return 0, err
	}
	if now, err := os.Stat(d.Spec.Path); err != nil || !os.SameFile(have, now) {
		f, err := openFile(d.Spec.Path)
		if err != nil {
			return 0, err
		}
		d.out.Close()
		d.out = f
	}
	return d.out.Seek(0, io.SeekEnd)
}

func (d *Destination) write() answer {
	at, err := d.reopen()
	if err == nil {
		if _, err = d.out.Write(d.body); err == nil {
			err = d.out.Sync()
		}
		if err != nil { // take back what was written of it, so that the next try does not double it
			_ = d.out.Truncate(at)
		}
	}
	if err != nil {
		return answer{delivery.Again, health.DestinationUnwritable, fmt.Sprintf("cannot write %s: %v", d.Spec.Path, err), 0}
	}
	return answer{}
}

func (d *Destination) pack() ([]byte, error) {
	switch d.Spec.Compress {
	case "gzip":
		d.packed.Reset()
		if d.gw == nil {
			w, err := gzip.NewWriterLevel(&d.packed, gzip.BestSpeed)
			if err != nil {
				return nil, err
			}
			d.gw = w
		}
		d.gw.Reset(&d.packed)
		_, err := d.gw.Write(d.body)
		if err == nil {
			err = d.gw.Close()
		}
		return d.packed.Bytes(), err
	case "zstd":
		return d.zw.EncodeAll(d.body, nil), nil
	}
	return d.body, nil
}

// partial reads an OTLP partial success. What the receiver says it rejected is only told: the specification has no
// way to know which records these were.
func (d *Destination) partial(answer []byte) {
	if n, msg := partialSuccess(answer); n > 0 {
		d.log.Warn("the receiver took the delivery but rejected some of its records", "rejected", n, "message", msg)
	}
}
