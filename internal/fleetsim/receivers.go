package fleetsim

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/klauspost/compress/zstd"
	collogs "go.opentelemetry.io/proto/otlp/collector/logs/v1"
	common "go.opentelemetry.io/proto/otlp/common/v1"
	"google.golang.org/protobuf/proto"
)

// Receivers stand in for the destinations. They count what arrives by its marks, on their own code and the generated
// OTLP types, so that what they count does not depend on how it was sent.
type Receivers struct {
	mu      sync.Mutex
	ids     map[Flow]map[string]int
	seen    map[string]bool // ids of records, by which they drop what they have
	known   int64           // records that they dropped for that
	leaks   []string        // private data that arrived, with where it stood
	probes  map[string]string
	lose    int  // of so many answers one is lost; 0 for none
	refuse  bool // weights that the archive's table does not take
	stopped bool // the archive answers 503
	calls   int
	server  *http.Server
	url     string
}

// Flow is the records of one source of one host at one destination.
type Flow struct{ Destination, Host, Source string }

// NewReceivers listens on a free loopback port, for OTLP at /v1/logs and for NDJSON at /in.
func NewReceivers() (*Receivers, error) {
	r := &Receivers{ids: map[Flow]map[string]int{}, seen: map[string]bool{}, probes: map[string]string{}}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	r.url = "http://" + l.Addr().String()
	mux := http.NewServeMux()
	mux.HandleFunc("POST /v1/logs", r.otlp)
	mux.HandleFunc("POST /in", r.ndjson)
	mux.HandleFunc("GET /records", r.find)
	r.server = &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = r.server.Serve(l) }()
	return r, nil
}

// URL is their address.
func (r *Receivers) URL() string { return r.url }

// Close ends them.
func (r *Receivers) Close() { _ = r.server.Close() }

// Distinct tells how many different records of a flow arrived, and how many in all.
func (r *Receivers) Distinct(f Flow) (distinct, all int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, n := range r.ids[f] {
		all += n
	}
	return len(r.ids[f]), all
}

// Leaks is the private data that arrived, with what stood around it.
func (r *Receivers) Leaks() []string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.Clone(r.leaks)
}

// find answers with what arrived of a probe.
func (r *Receivers) find(w http.ResponseWriter, q *http.Request) {
	r.mu.Lock()
	found, ok := r.probes[q.URL.Query().Get("probe")]
	r.mu.Unlock()
	if !ok {
		http.Error(w, "no record has this label", http.StatusNotFound)
		return
	}
	fmt.Fprintln(w, found)
}

// probed finds the label that marks the record of a probe, as it stands in JSON or in protobuf.
var probed = regexp.MustCompile(`(?s)synaxis-probe(?:":"|\x12.\x0a.)([A-Z0-9]{8})`)

// inspect looks for private data in what arrived, byte by byte, however it is encoded, and for probes.
func (r *Receivers) inspect(text []byte) {
	for _, m := range probed.FindAllSubmatch(text, -1) {
		r.mu.Lock()
		r.probes[string(m[1])] = "a record with the label synaxis-probe=" + string(m[1])
		r.mu.Unlock()
	}
	for _, p := range private.FindAllIndex(text, -1) {
		r.mu.Lock()
		if len(r.leaks) < 1000 {
			r.leaks = append(r.leaks, strings.ToValidUTF8(string(text[max(0, p[0]-40):min(len(text), p[1]+20)]), "."))
		}
		r.mu.Unlock()
	}
}

// LoseAnswers loses one of so many answers from now on: the records are taken, and their sender does not hear of it.
func (r *Receivers) LoseAnswers(of int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.lose = of
}

// Refuse lets the harbour archive refuse weights that its table does not take.
func (r *Receivers) Refuse() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.refuse = true
}

// Mend lets the table of the harbour archive take every weight.
func (r *Receivers) Mend() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.refuse = false
}

// Stop lets the harbour archive answer 503, or take records again.
func (r *Receivers) Stop(stopped bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.stopped = stopped
}

// heaviest is the largest weight that the table of the harbour archive takes.
const heaviest = 30600

// refused tells why a delivery is refused, or "".
func (r *Receivers) refused(text []byte) string {
	r.mu.Lock()
	refuse := r.refuse
	r.mu.Unlock()
	if !refuse {
		return ""
	}
	for line := range bytes.Lines(text) {
		var rec struct {
			Source string
			Fields struct{ Kg float64 }
		}
		if json.Unmarshal(line, &rec) == nil && rec.Source == "weighbridge" && rec.Fields.Kg > heaviest {
			return fmt.Sprintf("column kg takes at most %d, got %.0f", heaviest, rec.Fields.Kg)
		}
	}
	return ""
}

// lost tells whether this answer is lost; its connection is then closed.
func (r *Receivers) lost(w http.ResponseWriter) bool {
	r.mu.Lock()
	r.calls++
	lost := r.lose > 0 && r.calls%r.lose == 0
	r.mu.Unlock()
	if !lost {
		return false
	}
	if h, ok := w.(http.Hijacker); ok {
		if conn, _, err := h.Hijack(); err == nil {
			conn.Close()
			return true
		}
	}
	return false
}

// Known is how many records came again and were known by their ids.
func (r *Receivers) Known() int64 {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.known
}

// count counts a record by its mark, unless it is there: record is the id that it was given on its host.
func (r *Receivers) count(f Flow, record, id string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if key := f.Destination + " " + record; record != "" {
		if r.seen[key] {
			r.known++
			return
		}
		r.seen[key] = true
	}
	if r.ids[f] == nil {
		r.ids[f] = map[string]int{}
	}
	r.ids[f][id]++
}

func body(q *http.Request) ([]byte, error) {
	var in io.Reader = q.Body
	switch q.Header.Get("Content-Encoding") {
	case "gzip":
		z, err := gzip.NewReader(in)
		if err != nil {
			return nil, err
		}
		in = z
	case "zstd":
		z, err := zstd.NewReader(in)
		if err != nil {
			return nil, err
		}
		defer z.Close()
		in = z
	}
	return io.ReadAll(io.LimitReader(in, 64<<20))
}

func (r *Receivers) otlp(w http.ResponseWriter, q *http.Request) {
	text, err := body(q)
	r.inspect(text)
	req := &collogs.ExportLogsServiceRequest{}
	if err == nil {
		err = proto.Unmarshal(text, req)
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	for _, rl := range req.GetResourceLogs() {
		host := attribute(rl.GetResource().GetAttributes(), "host.name")
		for _, sl := range rl.GetScopeLogs() {
			for _, lr := range sl.GetLogRecords() {
				id := attribute(lr.GetAttributes(), "id")
				if id == "" {
					id = idOf(lr.GetBody().GetStringValue())
				}
				r.count(Flow{"watch-desk", host, sl.GetScope().GetName()}, attribute(lr.GetAttributes(), "log.record.uid"), id)
			}
		}
	}
	if r.lost(w) {
		return
	}
	out, err := proto.Marshal(&collogs.ExportLogsServiceResponse{})
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "application/x-protobuf")
	_, _ = w.Write(out)
}

func attribute(list []*common.KeyValue, key string) string {
	for _, kv := range list {
		if kv.GetKey() == key {
			return kv.GetValue().GetStringValue()
		}
	}
	return ""
}

func (r *Receivers) ndjson(w http.ResponseWriter, q *http.Request) {
	text, err := body(q)
	r.mu.Lock()
	stopped := r.stopped
	r.mu.Unlock()
	if stopped {
		http.Error(w, "the archive is being moved", http.StatusServiceUnavailable)
		return
	}
	r.inspect(text)
	if why := r.refused(text); why != "" {
		http.Error(w, why, http.StatusUnprocessableEntity)
		return
	}
	if err == nil {
		err = r.lines("harbour-archive", text)
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	if !r.lost(w) {
		w.WriteHeader(http.StatusNoContent)
	}
}

// lines counts records of NDJSON.
func (r *Receivers) lines(destination string, text []byte) error {
	s := bufio.NewScanner(bytes.NewReader(text))
	s.Buffer(nil, 4<<20)
	for s.Scan() {
		var rec struct {
			ID                 string `json:"id"`
			Host, Source, Body string
			Fields             map[string]any
		}
		if err := json.Unmarshal(s.Bytes(), &rec); err != nil {
			return fmt.Errorf("a line is no record: %w", err)
		}
		id, _ := rec.Fields["id"].(string)
		if id == "" {
			id = idOf(rec.Body)
		}
		r.count(Flow{destination, rec.Host, rec.Source}, rec.ID, id)
	}
	return s.Err()
}
