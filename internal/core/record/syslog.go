package record

import (
	"strconv"
	"strings"
	"time"

	"google.golang.org/protobuf/encoding/protowire"
)

// NextOTLP is how long the first of several encoded OTLP records is, with its tag; 0 when there is none.
func NextOTLP(records []byte) int {
	_, _, n := protowire.ConsumeField(records)
	return max(n, 0)
}

// syslogUser is the facility of messages of programs (RFC 5424, section 6.2.1).
const syslogUser = 1

// severities are those of RFC 5424 for the levels of records.
func severity(level uint8) int {
	switch {
	case level == 0:
		return 5 // notice
	case level < Info:
		return 7
	case level < Warn:
		return 6
	case level < Error:
		return 4
	case level < Fatal:
		return 3
	}
	return 2
}

// AppendSyslog writes the first record of a batch as a message of RFC 5424. Labels and fields are structured data,
// under the enterprise number that RFC 5612 keeps for examples and for what needs none registered.
func AppendSyslog(dst []byte, b *Batch) []byte {
	r := &b.Records[0]
	dst = append(dst, '<')
	dst = strconv.AppendInt(dst, int64(syslogUser*8+severity(r.Level)), 10)
	dst = append(dst, ">1 "...)
	dst = time.Unix(0, r.Time).UTC().AppendFormat(dst, "2006-01-02T15:04:05.000000Z")
	dst = append(dst, ' ')
	dst = appendName(dst, b.Origin.Host, 255)
	dst = append(dst, ' ')
	dst = appendName(dst, b.Origin.Source, 48)
	dst = append(dst, " - - "...)
	dst = append(dst, "[record@32473"...)
	if b.UID != nil {
		dst = append(b.appendUID(append(dst, ` id="`...), r), '"')
	}
	if r.Flags&Unparsed != 0 {
		dst = append(dst, ` parsed="false"`...)
	}
	if b.Origin.File != "" {
		dst = appendParam(dst, "file", []byte(b.Origin.File))
	}
	dst = append(dst, ']')
	if len(b.Origin.Labels) > 0 {
		dst = append(dst, "[label@32473"...)
		for _, l := range b.Origin.Labels {
			dst = appendParam(dst, l.Key, []byte(l.Value))
		}
		dst = append(dst, ']')
	}
	if r.N > 0 {
		dst = append(dst, "[field@32473"...)
		for _, v := range b.Fields(r) {
			dst = appendParam(dst, b.Schema.Name(v.Slot), b.textOf(v))
		}
		dst = append(dst, ']')
	}
	dst = append(dst, " \xef\xbb\xbf"...) // the body is UTF-8
	return append(dst, b.Bytes(r.Body)...)
}

// textOf is a value as text.
func (b *Batch) textOf(v Value) []byte {
	switch v.Kind {
	case Int:
		return strconv.AppendInt(nil, int64(v.Num), 10)
	case Bool:
		return strconv.AppendBool(nil, v.Num != 0)
	case Float:
		return appendNumber(nil, v.Num)
	}
	return b.Bytes(v.Span)
}

// appendName writes what a header field may hold: printable ASCII without spaces, so many bytes at most; "-" for
// nothing.
func appendName(dst []byte, s string, most int) []byte {
	if s == "" {
		return append(dst, '-')
	}
	for i := 0; i < len(s) && i < most; i++ {
		if c := s[i]; c > ' ' && c < 0x7f {
			dst = append(dst, c)
		} else {
			dst = append(dst, '?')
		}
	}
	return dst
}

// appendParam writes one parameter of structured data.
func appendParam(dst []byte, name string, value []byte) []byte {
	dst = append(dst, ' ')
	name = strings.Map(func(c rune) rune {
		if c <= ' ' || c >= 0x7f || c == '=' || c == ']' || c == '"' {
			return '_'
		}
		return c
	}, name)
	dst = appendName(dst, name, 32)
	dst = append(dst, '=', '"')
	for _, c := range value {
		if c == '"' || c == '\\' || c == ']' {
			dst = append(dst, '\\')
		}
		dst = append(dst, c)
	}
	return append(dst, '"')
}
