package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"strconv"
	"sync/atomic"
	"time"
)

// plainSyslog reads a message by an expression and writes the same record as we do, as a program that nobody made
// fast would.
type plainSyslog struct {
	out    *os.File
	stream string
	n      atomic.Int64
}

// plainRecord is our record with package encoding/json.
type plainRecord struct {
	Time     time.Time         `json:"time"`
	Observed time.Time         `json:"observed"`
	Level    string            `json:"level"`
	Body     string            `json:"body"`
	Fields   plainFields       `json:"fields"`
	Host     string            `json:"host"`
	Source   string            `json:"source"`
	Sender   string            `json:"sender"`
	ID       string            `json:"id"`
	Notes    map[string]string `json:"notes,omitempty"`
}

type plainFields struct {
	Facility int    `json:"syslog.facility"`
	Severity int    `json:"syslog.severity"`
	Hostname string `json:"syslog.hostname"`
	AppName  string `json:"syslog.appname"`
	ProcID   string `json:"syslog.procid,omitempty"`
}

var (
	plainHeader = regexp.MustCompile(`^<(\d+)>(\w{3} [ \d]\d \d\d:\d\d:\d\d) (\S+) ([^:\[]+)(?:\[(\d+)\])?: (.*)$`)
	plainLevels = [8]string{"FATAL", "FATAL", "FATAL", "ERROR", "WARN", "INFO", "INFO", "DEBUG"}
)

// newPlainSyslog appends to a new file of a folder.
func newPlainSyslog(dir string) (*plainSyslog, error) {
	f, err := os.OpenFile(filepath.Join(dir, "plain"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	return &plainSyslog{out: f, stream: fmt.Sprintf("%016x", rand.Uint64())}, err
}

// take takes a message that came from an address.
func (p *plainSyslog) take(line string, from net.Addr) error {
	m := plainHeader.FindStringSubmatch(line)
	if m == nil {
		return fmt.Errorf("not read: %s", line)
	}
	pri, err := strconv.Atoi(m[1])
	if err != nil {
		return err
	}
	now := time.Now().UTC()
	at, err := time.Parse(time.Stamp, m[2])
	if err != nil {
		return err
	}
	if at = at.AddDate(now.Year(), 0, 0); at.After(now.Add(24 * time.Hour)) {
		at = at.AddDate(-1, 0, 0)
	}
	sender, _, err := net.SplitHostPort(from.String())
	if err != nil {
		return err
	}
	n := p.n.Add(1)
	text, err := json.Marshal(plainRecord{Time: at, Observed: now, Level: plainLevels[pri&7], Body: m[6],
		Fields: plainFields{pri >> 3, pri & 7, m[3], m[4], m[5]}, Host: "bench", Source: "s", Sender: sender,
		ID: fmt.Sprintf("%s%016x", p.stream, n), Notes: map[string]string{"time": "guessed-year"}})
	if err != nil {
		return err
	}
	_, err = p.out.Write(append(text, '\n'))
	return err
}

// sameRecord sends one message to us and to the plain way, and compares what they write.
func sameRecord(at, written, plainAt, plainWritten string) error {
	line := func(at, written string) (map[string]any, error) {
		c, err := net.Dial("udp", at)
		if err != nil {
			return nil, err
		}
		defer c.Close()
		if _, err := io.WriteString(c, message+"05"); err != nil {
			return nil, err
		}
		var text []byte
		for range 500 {
			if text, _ = os.ReadFile(written); bytes.HasSuffix(text, []byte("\n")) {
				break
			}
			time.Sleep(10 * time.Millisecond)
		}
		var r map[string]any
		if err := json.Unmarshal(text, &r); err != nil {
			return nil, err
		}
		for _, name := range []string{"observed", "id"} { // which no two records share
			if r[name] == nil || r[name] == "" {
				return nil, fmt.Errorf("no %s in %s", name, text)
			}
			delete(r, name)
		}
		t, err := time.Parse(time.RFC3339Nano, fmt.Sprint(r["time"]))
		r["time"] = t
		return r, err
	}
	ours, err := line(at, written)
	if err != nil {
		return err
	}
	plain, err := line(plainAt, plainWritten)
	if err != nil {
		return err
	}
	if !reflect.DeepEqual(ours, plain) {
		return fmt.Errorf("we write %v, the plain way %v", ours, plain)
	}
	return nil
}
