package listen

import (
	"encoding/json"
	"os"
	"path/filepath"

	"synaxis/internal/core/format"
	"synaxis/internal/core/guess"
	"synaxis/internal/core/pipeline"
)

// Bounds of recognising how a sender writes: how many lines are looked at, and in how many bytes; and for how many
// senders that is done.
const (
	enoughLines    = 200
	enoughBytes    = 64 << 10
	mostRecognised = 2000
	mostLearning   = 500 // at the same time; others wait for their turn
	leastShare     = 0.5 // of its lines that a format must read
)

// recognised is how a sender writes, as it was found from its first lines. It is never changed by itself.
type recognised struct {
	Format format.Spec   `json:"format"`
	Others []format.Spec `json:"others,omitempty"` // that it names
	Share  float64       `json:"share"`
}

func (in *Input) recognisedPath() string {
	return filepath.Join(in.Dir, "recognised", in.Spec.Name+".json")
}

// remembered is what was recognised before. Where it cannot be read it is recognised anew.
func (in *Input) remembered() map[string]recognised {
	out := map[string]recognised{}
	if text, err := os.ReadFile(in.recognisedPath()); err == nil {
		if err := json.Unmarshal(text, &out); err != nil {
			in.Log.Warn("what was recognised of senders cannot be read; it is recognised anew", "error", err)
			return map[string]recognised{}
		}
	}
	return out
}

func (in *Input) remember() {
	text, err := json.Marshal(in.known)
	path := in.recognisedPath()
	if err == nil {
		err = os.MkdirAll(filepath.Dir(path), 0o700)
	}
	if err == nil {
		err = os.WriteFile(path+".new", text, 0o600)
	}
	if err == nil {
		err = os.Rename(path+".new", path)
	}
	if err != nil {
		in.Log.Warn("what was recognised of senders cannot be written; after a restart it is recognised anew", "error", err)
	}
}

// recall gives a sender the format that was recognised for it. The peers are not locked.
func (in *Input) recall(p *peer) {
	known, ok := in.known[p.addr.String()]
	if !ok {
		return
	}
	in.use(p, known)
}

// use lets the records of a sender be treated by what was recognised.
func (in *Input) use(p *peer, r recognised) {
	if r.Format.Kind != format.Raw {
		t, err := in.Compile(r.Format, r.Others)
		if err != nil {
			in.Log.Warn("what was recognised of a sender cannot be used", "sender", p.addr, "error", err)
			return
		}
		p.treatment = t
	}
	p.learns, p.lines = false, nil
	in.peers.mu.Lock()
	p.format, p.share = string(r.Format.Kind), r.Share
	in.peers.mu.Unlock()
}

// learn keeps the lines of a sender until there are enough, and then takes the format that reads them best. It answers
// how this parcel is treated.
func (in *Input) learn(p *peer, from *parcel) *pipeline.Treatment {
	switch {
	case len(in.known) >= mostRecognised:
		p.learns, p.lines = false, nil
		return p.treatment
	case p.lines == nil && in.learning >= mostLearning:
		return p.treatment
	case p.lines == nil:
		in.learning++
	}
	for i := range from.messages {
		if p.seen == enoughLines || len(p.lines) >= enoughBytes {
			break
		}
		m := from.messages[i].Text
		p.lines = append(append(p.lines, from.arena[m.Off:m.Off+m.Len]...), '\n')
		p.seen++
	}
	if p.seen < enoughLines && len(p.lines) < enoughBytes {
		return p.treatment
	}
	in.learning--
	spec, _ := format.BuiltIn(string(format.Raw))
	found := recognised{Format: spec, Share: 1}
	for _, c := range guess.Guess(p.lines, guess.Options{Zone: in.Spec.Time.Zone, Observed: in.Now(), Name: "recognised"}) {
		if c.Spec.Kind != format.Raw && c.Begin == "" && c.Share >= leastShare && (!c.NoZone || in.Spec.Time.Zone != "") {
			found = recognised{Format: plain(c.Spec), Share: c.Share}
			for _, o := range c.Parts {
				found.Others = append(found.Others, plain(o))
			}
			break
		}
	}
	in.known[p.addr.String()] = found
	in.remember()
	in.use(p, found)
	return p.treatment
}

// plain is a format without its samples, which are lines of the sender.
func plain(s format.Spec) format.Spec {
	s.Samples = nil
	return s
}
