package deliver

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"strconv"
	"time"

	"synaxis/internal/core/delivery"
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

// send makes one attempt. pause is what the other side asked to wait, or 0.
func (d *Destination) send(ctx context.Context, batch []piece) (outcome delivery.Outcome, why string, pause time.Duration) {
	if d.Spec.Kind == "discard" {
		return delivery.Accepted, "", 0
	}
	d.body = d.Spec.AppendBody(d.body[:0], d.segments(batch))
	if d.Spec.Kind == "file" {
		return d.write()
	}
	body, err := d.pack()
	if err != nil {
		return delivery.Again, err.Error(), 0
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, d.Spec.URL, bytes.NewReader(body))
	if err != nil {
		return delivery.Again, err.Error(), 0
	}
	req.Header.Set("Content-Type", d.Spec.ContentType())
	if d.Spec.Compress != "none" {
		req.Header.Set("Content-Encoding", d.Spec.Compress)
	}
	for k, v := range d.Spec.Headers {
		req.Header.Set(k, v)
	}
	resp, err := d.client.Do(req)
	if err != nil {
		return delivery.Again, plain(err), 0
	}
	defer resp.Body.Close()
	answer, err := io.ReadAll(io.LimitReader(resp.Body, 64<<10))
	if err != nil { // the status came, the rest was lost: whether it was taken is not known, so send again
		return delivery.Again, plain(err), 0
	}
	outcome = delivery.Classify(resp.StatusCode)
	if outcome == delivery.Accepted {
		if d.Spec.Kind == "otlp" {
			d.partial(answer)
		}
		return outcome, "", 0
	}
	if s, err := strconv.Atoi(resp.Header.Get("Retry-After")); err == nil && s > 0 {
		pause = min(time.Duration(s)*time.Second, d.Spec.Retry.Most)
	}
	return outcome, fmt.Sprintf("%s answered %s: %s", d.Spec.URL, resp.Status, bytes.TrimSpace(answer[:min(len(answer), 200)])), pause
}

// plain takes the wrapping off an error of the HTTP client.
func plain(err error) string {
	var op *net.OpError
	if errors.As(err, &op) {
		return op.Error()
	}
	return err.Error()
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

func (d *Destination) write() (delivery.Outcome, string, time.Duration) {
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
		return delivery.Again, fmt.Sprintf("cannot write %s: %v", d.Spec.Path, err), 0
	}
	return delivery.Accepted, "", 0
}

func (d *Destination) pack() ([]byte, error) {
	switch d.Spec.Compress {
	case "gzip":
		d.packed.Reset()
		w, err := gzip.NewWriterLevel(&d.packed, gzip.BestSpeed)
		if err == nil {
			_, err = w.Write(d.body)
		}
		if err == nil {
			err = w.Close()
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
