package deliver

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"

	"synaxis/internal/core/delivery"
	"synaxis/internal/core/health"
	"synaxis/internal/core/record"
)

// fileSender appends lines of JSON to a file, and syncs each delivery.
type fileSender struct {
	path string
	out  *os.File
	body []byte
}

func newFile(spec delivery.Spec, _ Deps) (Sender, error) {
	f, err := openFile(spec.Path)
	if err != nil {
		return nil, fmt.Errorf("cannot write %s: %w", spec.Path, err)
	}
	return &fileSender{path: spec.Path, out: f}, nil
}

func (s *fileSender) Encoding() record.Encoding { return record.NDJSON }

func (s *fileSender) Close() { s.out.Close() }

func (s *fileSender) Send(_ context.Context, records []delivery.Segment) Answer {
	at, err := s.reopen()
	if err == nil {
		if err = s.write(records); err == nil {
			err = s.out.Sync()
		}
		if err != nil { // take back what was written of it, so that the next try does not double it
			_ = s.out.Truncate(at)
		}
	}
	if err != nil {
		return Answer{delivery.Again, health.DestinationUnwritable, fmt.Sprintf("cannot write %s: %v", s.path, err), 0,
			""}
	}
	return Answer{}
}

// gathered is up to how many bytes small segments are written together.
const gathered = 64 << 10

// write appends segments; only small ones are copied to be written together.
func (s *fileSender) write(records []delivery.Segment) error {
	s.body = s.body[:0]
	for _, r := range records {
		if len(s.body)+len(r.Bytes) <= gathered {
			s.body = append(s.body, r.Bytes...)
			continue
		}
		if len(s.body) > 0 {
			if _, err := s.out.Write(s.body); err != nil {
				return err
			}
			s.body = s.body[:0]
		}
		if len(r.Bytes) > gathered {
			if _, err := s.out.Write(r.Bytes); err != nil {
				return err
			}
			continue
		}
		s.body = append(s.body, r.Bytes...)
	}
	_, err := s.out.Write(s.body)
	return err
}

// reopen returns the end of the file, after opening it anew when somebody moved it away.
func (s *fileSender) reopen() (int64, error) {
	have, err := s.out.Stat()
	if err != nil {
		return 0, err
	}
	if now, err := os.Stat(s.path); err != nil || !os.SameFile(have, now) {
		f, err := openFile(s.path)
		if err != nil {
			return 0, err
		}
		s.out.Close()
		s.out = f
	}
	return s.out.Seek(0, io.SeekEnd)
}

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
