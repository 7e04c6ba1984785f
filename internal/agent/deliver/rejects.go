package deliver

import (
	"bytes"
	"encoding/json"
	"os"
	"sync"
	"time"

	"synaxis/internal/core/delivery"
	"synaxis/internal/core/record"
)

// Rejects keeps records that destinations refused for good, one file of JSON lines for each destination.
type Rejects struct {
	Dir string
	mu  sync.Mutex
}

// Add appends the records of a batch with the reason.
func (r *Rejects) Add(spec delivery.Spec, batch []piece, why string) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if err := os.MkdirAll(r.Dir, 0o700); err != nil {
		return err
	}
	f, err := openFile(r.Dir + "/" + spec.Name + ".ndjson")
	if err != nil {
		return err
	}
	defer f.Close()
	var lines []byte
	for _, p := range batch {
		for i := p.from; i < p.to; i++ {
			one := piece{p.item, i, i + 1}.bytes()
			line := map[string]any{"rejected": time.Now().UTC(), "reason": why, "source": p.item.Encoded.Origin.Source}
			if spec.Encoding() == record.OTLP {
				line["otlp"] = record.AppendResourceLogs(nil, p.item.Encoded.Origin, one)
			} else {
				line["record"] = json.RawMessage(bytes.TrimSpace(one))
			}
			text, err := json.Marshal(line)
			if err != nil {
				return err
			}
			lines = append(append(lines, text...), '\n')
		}
	}
	if _, err := f.Write(lines); err != nil {
		return err
	}
	return f.Sync()
}
