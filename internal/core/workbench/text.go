package workbench

import (
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"

	"synaxis/internal/core/lines"
)

// packed are how files begin that other ways of compressing write, with their names.
var packed = map[string]string{
	"\xfd7zXZ\x00":     "xz",
	"\x28\xb5\x2f\xfd": "zstd",
	"BZh":              "bzip2",
	"PK\x03\x04":       "zip",
	"\x04\x22\x4d\x18": "lz4",
}

// Unpack gives the bytes of a log that may be packed by gzip (RFC 1952), as logs that were rotated away often are: at
// most most of them, and whether there are more. The error says that it is packed in another way, or broken.
func Unpack(data []byte, most int) (out []byte, more bool, err error) {
	for start, name := range packed {
		if bytes.HasPrefix(data, []byte(start)) && !lines.IsText(data, "") {
			return nil, false, fmt.Errorf("it is packed by %s; unpack it first", name)
		}
	}
	if bytes.HasPrefix(data, []byte("\x1f\x8b")) {
		z, err := gzip.NewReader(bytes.NewReader(data))
		if err != nil {
			return nil, false, fmt.Errorf("it begins as gzip does, and is broken: %w", err)
		}
		if data, err = io.ReadAll(io.LimitReader(z, int64(most)+1)); err != nil &&
			!errors.Is(err, io.ErrUnexpectedEOF) { // a file that was cut off is good as far as it goes
			return nil, false, fmt.Errorf("what gzip packed is broken: %w", err)
		}
	}
	if len(data) > most {
		return data[:most], true, nil
	}
	return data, false, nil
}

// Text makes the bytes of a log into characters, and tells the encoding that it found.
func Text(data []byte) (text []byte, encoding string) {
	encoding = lines.Detect(data)
	if text = lines.Text(data, encoding); encoding == "" {
		encoding = "utf-8"
	}
	return text, encoding
}
