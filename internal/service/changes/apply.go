package changes

import (
	"slices"
	"strings"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/yamldoc"
	"synaxis/internal/service/store"
)

// Landed is where the text of a draft's edit came to stand, so that what is found in a text that cannot be read can be
// told of the definition that it should be.
type Landed struct {
	catalogue.ID
	File      string
	Line, End int
}

// Apply gives the files that the catalogue would have with a draft published on a head. Definitions that the draft
// does not touch keep every byte.
func Apply(head []store.File, d store.Draft, read func(store.File) []*catalogue.Definition) ([]store.File, []Landed) {
	out := d.Files
	if !d.Whole {
		out = merge(head, d.Files, read)
	}
	if len(d.Edits) == 0 {
		return out, nil
	}
	out = slices.Clone(out)
	var landed []Landed
	for _, e := range d.Edits {
		id := catalogue.ID{Kind: e.Kind, Name: e.Name}
		i, part := find(out, id, read)
		switch {
		case e.Removed && i >= 0:
			if out[i].Text = cut(out[i].Text, part); strings.TrimSpace(out[i].Text) == "" {
				out = slices.Delete(out, i, i+1)
			}
		case e.Removed:
		case i >= 0:
			text := leading(part.Text) + strings.TrimLeft(e.Text, "\n")
			out[i].Text = put(out[i].Text, part, text)
			landed = append(landed, Landed{id, out[i].Path, part.Line, part.Line + strings.Count(text, "\n")})
		default:
			path := e.Kind + "/" + e.Name + ".yaml"
			if strings.HasPrefix(strings.TrimSpace(e.Text), "{") {
				path = e.Kind + "/" + e.Name + ".json"
			}
			j := slices.IndexFunc(out, func(f store.File) bool { return f.Path == path })
			if j < 0 {
				out = append(out, store.File{Path: path, Text: e.Text})
				landed = append(landed, Landed{id, path, 1, 1 + strings.Count(e.Text, "\n")})
				continue
			}
			out[j].Text = withNewline(out[j].Text) + "---\n"
			line := 1 + strings.Count(out[j].Text, "\n")
			out[j].Text += e.Text
			landed = append(landed, Landed{id, path, line, line + strings.Count(e.Text, "\n")})
		}
	}
	slices.SortFunc(out, func(a, b store.File) int { return strings.Compare(a.Path, b.Path) })
	return out, settle(out, d.Edits, landed)
}

// settle corrects the lines of landed, since later edits of the same file may have moved earlier ones.
func settle(files []store.File, edits []store.DraftEdit, landed []Landed) []Landed {
	texts := map[catalogue.ID]string{}
	for _, e := range edits {
		texts[catalogue.ID{Kind: e.Kind, Name: e.Name}] = strings.TrimSpace(e.Text)
	}
	for i, p := range landed {
		for _, f := range files {
			if f.Path != p.File {
				continue
			}
			for _, part := range yamldoc.Split(f.Text) {
				if strings.TrimSpace(part.Text) == texts[p.ID] {
					landed[i].Line, landed[i].End = part.Line, part.Line+strings.Count(part.Text, "\n")
				}
			}
		}
	}
	return landed
}

// merge puts the definitions of a draft's files into those of a head.
func merge(head, files []store.File, read func(store.File) []*catalogue.Definition) []store.File {
	out := slices.Clone(head)
	if len(files) == 0 {
		return out
	}
	place := map[catalogue.ID]int{} // file in out
	for i, f := range out {
		for _, def := range read(f) {
			place[def.ID] = i
		}
	}
	for _, f := range files {
		for _, def := range read(f) {
			if i, ok := place[def.ID]; ok {
				if _, part := find(out[i:i+1], def.ID, fresh); part != nil {
					out[i].Text = put(out[i].Text, part, def.Text)
				}
				continue
			}
			i := slices.IndexFunc(out, func(o store.File) bool { return o.Path == f.Path })
			if i < 0 {
				out = append(out, store.File{Path: f.Path, Text: def.Text})
				i = len(out) - 1
			} else {
				out[i].Text = withNewline(out[i].Text) + "---\n" + def.Text
			}
			place[def.ID] = i
		}
	}
	slices.SortFunc(out, func(a, b store.File) int { return strings.Compare(a.Path, b.Path) })
	return out
}

// fresh reads a file that is still being changed, so that it is not worth keeping what was read.
func fresh(f store.File) []*catalogue.Definition {
	defs, _ := catalogue.Parse(f.Path, []byte(f.Text))
	return defs
}

// find returns the file that holds a definition, and the part of it that is the definition; -1 when there is none.
func find(files []store.File, id catalogue.ID, read func(store.File) []*catalogue.Definition) (int, *yamldoc.Part) {
	for i, f := range files {
		for _, def := range read(f) {
			if def.ID != id {
				continue
			}
			for _, p := range yamldoc.Split(f.Text) {
				if p.Line == def.Line {
					return i, &p
				}
			}
		}
	}
	return -1, nil
}

// put replaces a part of a file; all other bytes stay.
func put(file string, p *yamldoc.Part, text string) string {
	if p.End < len(file) {
		text = withNewline(text)
	}
	return file[:p.Start] + text + file[p.End:]
}

// cut takes a part of a file away, with one of the lines that separate it.
func cut(file string, p *yamldoc.Part) string {
	if p.End < len(file) { // the separator that follows goes with it
		_, rest, _ := strings.Cut(file[p.End:], "\n")
		return file[:p.Start] + rest
	}
	before := strings.TrimSuffix(file[:p.Start], "\n")
	return before[:strings.LastIndexByte(before, '\n')+1]
}

// leading is the empty lines at the beginning of a text.
func leading(s string) string { return s[:len(s)-len(strings.TrimLeft(s, "\n"))] }

func withNewline(s string) string {
	if s != "" && !strings.HasSuffix(s, "\n") {
		return s + "\n"
	}
	return s
}
