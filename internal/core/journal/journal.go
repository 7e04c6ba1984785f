// Package journal reads the export format of the system's journal.
// https://systemd.io/JOURNAL_EXPORT_FORMATS, section "Journal Export Format"
package journal

import (
	"bytes"
	"encoding/binary"
	"errors"
	"strconv"
	"strings"

	"synaxis/internal/core/record"
)

// Entry is one entry of the journal.
type Entry struct {
	Cursor  string
	Message []byte
	Given   record.Given // its time, its level, and its fields as journal.NAME

	units []unitField
	first bool // by the process with the number 1
	root  bool // by a process of root
}

// MostEntry bounds one entry, in bytes.
const MostEntry = 16 << 20

// ErrForm says that what comes is no export of a journal.
var ErrForm = errors.New("it is no export of a journal")

// left out: what says nothing of the entry.
var leftOut = map[string]bool{"_BOOT_ID": true, "_MACHINE_ID": true, "_SOURCE_REALTIME_TIMESTAMP": true,
	"_SOURCE_MONOTONIC_TIMESTAMP": true, "SYSLOG_TIMESTAMP": true, "_SYSTEMD_INVOCATION_ID": true,
	"_SYSTEMD_SLICE": true, "_SYSTEMD_CGROUP": true, "_CAP_EFFECTIVE": true, "_SELINUX_CONTEXT": true,
	"_RUNTIME_SCOPE": true, "_STREAM_ID": true}

// levels are those of syslog's severities (RFC 5424, section 6.2.1).
var levels = [8]uint8{record.Fatal, record.Fatal, record.Fatal, record.Error, record.Warn, record.Info + 1,
	record.Info,
	record.Debug}

// Next reads one entry off the front of data. It answers ok=false when more must come first. What it answers is a
// copy.
func Next(data []byte) (e Entry, used int, ok bool, err error) {
	at := 0
	for at < len(data) && data[at] == '\n' { // between entries
		at++
	}
	any := false
	for {
		if len(data) > MostEntry && at > MostEntry {
			return e, 0, false, ErrForm
		}
		end := bytes.IndexByte(data[at:], '\n')
		switch {
		case end < 0 && len(data)-at > MostEntry:
			return e, 0, false, ErrForm
		case end < 0:
			return e, 0, false, nil
		case end == 0:
			return e, at + 1, any, nil
		}
		line := data[at : at+end]
		at += end + 1
		name, value, text := bytes.Cut(line, []byte{'='})
		if !isName(name) {
			return e, 0, false, ErrForm
		}
		if !text { // its length in eight bytes, and as many
			if len(data)-at < 8 {
				return e, 0, false, nil
			}
			n := binary.LittleEndian.Uint64(data[at:])
			if n > MostEntry {
				return e, 0, false, ErrForm
			}
			if len(data)-at-8 < int(n)+1 {
				return e, 0, false, nil
			}
			value = data[at+8 : at+8+int(n)]
			if data[at+8+int(n)] != '\n' {
				return e, 0, false, ErrForm
			}
			at += 8 + int(n) + 1
		}
		any = true
		e.take(string(name), value)
	}
}

// isName tells whether a text can be the name of a field.
func isName(p []byte) bool {
	if len(p) == 0 || len(p) > 64 {
		return false
	}
	for _, c := range p {
		if c != '_' && (c < 'A' || c > 'Z') && (c < '0' || c > '9') {
			return false
		}
	}
	return true
}

// mostFields bounds the fields of an entry.
const mostFields = 256

func (e *Entry) take(name string, value []byte) {
	switch name {
	case "_SYSTEMD_UNIT", "UNIT", "OBJECT_SYSTEMD_UNIT", "COREDUMP_UNIT":
		if len(e.units) < mostUnits || name[0] == '_' { // what the system says counts, whatever a program says before
			e.units = append(e.units, unitField{name, string(value)})
		}
	case "_PID":
		e.first = string(value) == "1"
	case "_UID":
		e.root = string(value) == "0"
	}
	switch {
	case name == "__CURSOR":
		e.Cursor = string(value)
	case name == "__REALTIME_TIMESTAMP":
		if us, err := strconv.ParseInt(string(value), 10, 64); err == nil && us > 0 && us < 1<<53 {
			e.Given.Time = us * 1000
		}
	case name == "MESSAGE":
		e.Message = bytes.Clone(value)
	case name == "PRIORITY":
		if len(value) == 1 && value[0] >= '0' && value[0] <= '7' {
			e.Given.Level = levels[value[0]-'0']
		}
	case strings.HasPrefix(name, "__"), leftOut[name], len(e.Given.Fields) >= mostFields:
	default:
		f := record.GivenField{Name: []byte("journal." + strings.ToLower(strings.TrimLeft(name, "_"))),
			Kind: record.Text,
			Text: bytes.Clone(value)}
		if n, err := strconv.ParseInt(string(value), 10, 64); err == nil && numbers[name] {
			f.Kind, f.Num, f.Text = record.Int, uint64(n), nil
		}
		e.Given.Fields = append(e.Given.Fields, f)
	}
}

// numbers are the fields that hold one.
var numbers = map[string]bool{"_PID": true, "_UID": true, "_GID": true, "SYSLOG_PID": true, "SYSLOG_FACILITY": true,
	"ERRNO": true, "CODE_LINE": true, "EXIT_STATUS": true}
