package pipeline

import (
	"slices"
	"strings"
	"time"

	"synaxis/internal/core/expect"
	"synaxis/internal/core/format"
	"synaxis/internal/core/lines"
	"synaxis/internal/core/yamldoc"
)

// DefaultIdle is after how long without a new line the last record counts as complete.
const DefaultIdle = 5 * time.Second

// Decode takes a source out of a document that Keys found good. Its name has been taken already.
func Decode(n *yamldoc.Node, name string) Source {
	read := n.Get("read")
	s := Source{
		Name:   name,
		Was:    n.Get("was").Text(),
		Labels: n.Get("labels").TextMap(),
		Files:  read.Get("files").Texts(),
		Except: read.Get("except").Texts(),
		Links: read.Get("links").
			Text(),
		FirstRead: read.Get("first-read").Text(),
		Encoding:  read.Get("encoding").Text(),
		Begin:     n.Get("records").Get("begin").Text(),
		Format:    n.Get("format").Text(),
		Time:      format.DecodeTime(n.Get("time")),
		KeepOriginal: n.Get("keep-original").
			Bool(false),
		NoIDs:    !n.Get("record-ids").Bool(true),
		Unparsed: n.Get("unparsed").Text(),
		Guards:   n.Get("guards").Texts(),
	}
	if w := n.Get("watch"); w != nil {
		s.Watch.Filled = w.Get("filled").Texts()
		s.Watch.File = decodeExpect(w, w.Get("zone").Text())
	}
	s.Idle, s.Most = DefaultIdle, lines.MaxRecord
	if d, err := yamldoc.ParseDuration(n.Get("records").Get("idle").Text()); err == nil && d > 0 {
		s.Idle = d
	}
	if size, err := yamldoc.ParseSize(n.Get("records").Get("largest").Text()); err == nil && size > 0 {
		s.Most = int(min(size, lines.MostRecord))
	}
	s.Expect = decodeExpect(n.Get("expect"), s.Time.Zone)
	if s.Links == "" {
		s.Links = "near"
	}
	if s.FirstRead == "" {
		s.FirstRead = "now"
	}
	if s.Unparsed == "" {
		s.Unparsed = "keep"
	}
	s.FilesFrom = decodeProgram(read.Get("files-from"), "command", DefaultAsk)
	s.Command = decodeProgram(read.Get("command"), "run", 0)
	if g := read.Get("generate"); g != nil {
		s.Generate = decodeGenerate(g)
	}
	if j := read.Get("journal"); j != nil {
		s.Journal = &Journal{Units: j.Get("units").Texts()}
	}
	for _, kind := range Listeners {
		if l := read.Get(kind); l != nil {
			s.Listen = decodeListener(kind, l)
			s.Listen.Senders = decodeSenders(read.Get("senders"), s.Time.Zone)
			if u := read.Get("unknown-senders").Text(); u != "" {
				s.Listen.Unknown = u
			}
		}
	}
	if steps := n.Get("steps"); steps != nil {
		for _, item := range steps.Items {
			if len(item.Entries) == 1 {
				s.Steps = append(s.Steps, Step{Kind: StepKind(item.Entries[0].Key), Value: item.Entries[0].Value})
			}
		}
	}
	if send := n.Get("send"); send != nil {
		for _, item := range send.Items {
			e := Entry{To: item.Get("to").Text(), When: item.Get("when").Text()}
			if item.Kind != yamldoc.Map {
				e.To = item.Text()
			} else if o := item.Get("otherwise"); o != nil {
				e.To, e.Otherwise = o.Text(), true
			}
			s.Send = append(s.Send, e)
		}
	}
	return s
}

// Destinations returns the names of the destinations that the source sends to, each once.
func (s Source) Destinations() []string {
	var out []string
	for _, e := range s.Send {
		if e.To != "" && !slices.Contains(out, e.To) {
			out = append(out, e.To)
		}
	}
	if s.Unparsed != "keep" && s.Unparsed != "drop" && s.Unparsed != "" && !slices.Contains(out, s.Unparsed) {
		out = append(out, s.Unparsed)
	}
	return out
}

// Masks returns the names of the masks of steps and guards, each once.
func (s Source) Masks() []string {
	var out []string
	for _, st := range s.Steps {
		if st.Kind == Mask {
			out = append(out, st.Value.Texts()...)
		}
	}
	out = append(out, s.Guards...)
	slices.Sort(out)
	return slices.Compact(out)
}

// Formats returns the names of the formats that the source uses, each once.
func (s Source) Formats() []string {
	out := []string{s.Format}
	if s.Listen != nil {
		for _, sender := range s.Listen.Senders {
			if sender.Format != "" && !slices.Contains(out, sender.Format) {
				out = append(out, sender.Format)
			}
		}
	}
	for _, st := range s.Steps {
		if st.Kind == Parse {
			if f := st.Value.Get("format").Text(); f != "" && !slices.Contains(out, f) {
				out = append(out, f)
			}
		}
	}
	return out
}

// decodeExpect reads what is normal for a source. Where its zone is a value of the host, during is taken in UTC.
func decodeExpect(n *yamldoc.Node, zone string) (e expect.Expectation) {
	if n == nil {
		return e
	}
	e.Every, e.Per = n.Get("every").Duration(0), n.Get("per").Text()
	e.During, _ = expect.ParseHours(n.Get("during").Text())
	e.AtLeast, _ = hourly(n.Get("at-least").Text())
	if z, err := time.LoadLocation(zone); err == nil {
		e.Zone = z
	}
	if f := n.Get("filled"); f != nil && f.Kind == yamldoc.Map {
		for _, entry := range f.Entries {
			share, _ := yamldoc.ParseShare(entry.Value.Text())
			e.Filled = append(e.Filled, expect.Filled{Field: entry.Key, Share: share})
		}
		slices.SortFunc(e.Filled, func(a, b expect.Filled) int { return strings.Compare(a.Field, b.Field) })
	}
	return e
}
