package workbench

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/format"
	"synaxis/internal/core/guess"
	"synaxis/internal/core/inventory"
	"synaxis/internal/core/yamldoc"
)

// Proposal is what a source is drafted from: lines of a log on a host.
type Proposal struct {
	Host     inventory.Host
	Settings map[string]string // in effect there
	Path     string
	Lines    []string
	Encoding string // how their bytes are characters; none for utf-8
	Name     string // of the source; by default made from the path
	Zone     string // of times that have none
	To       string // a destination; by default the one that most sources send to
	Observed time.Time
}

// Drafted is a source with the format that it needs, if that is not a built-in one.
type Drafted struct {
	Source, Format string
	Definitions    []*catalogue.Definition
}

// Text is the definitions, one after the other.
func (d Drafted) Text() string {
	var out []string
	for _, x := range d.Definitions {
		out = append(out, x.Text)
	}
	return strings.Join(out, "---\n")
}

// Propose writes the definitions of a source for a log. What it cannot know, such as a missing zone, the checks of the
// draft ask for.
func Propose(cat *catalogue.Catalogue, p Proposal) (Drafted, error) {
	name := p.Name
	if name == "" {
		name = nameOf(p.Path)
	}
	if why := catalogue.CheckName(name); why != "" {
		return Drafted{}, fmt.Errorf("%s", why)
	}
	if cat.Get("source", name) != nil {
		return Drafted{}, fmt.Errorf("there is a source %s already; give this one another name", name)
	}
	if p.Zone != "" {
		if err := format.CheckZone(p.Zone); err != nil {
			return Drafted{}, err
		}
	}
	to := p.To
	if to == "" {
		to = usual(cat)
	}
	if to == "" {
		return Drafted{}, fmt.Errorf("there is no destination yet; define one first")
	}
	best := guess.Guess([]byte(strings.Join(p.Lines, "\n")+"\n"), guess.Options{Zone: p.Zone, Observed: p.Observed,
		Name: name})[0]
	out := Drafted{Source: name, Format: string(best.Spec.Kind)}
	var texts []string
	if _, builtIn := format.BuiltIn(string(best.Spec.Kind)); !builtIn || best.Spec.Kind == "csv" {
		out.Format = name
		texts = append(texts, best.Definition(name, ""))
	}
	var b strings.Builder
	fmt.Fprintf(
		&b,
		"source: %s\nabout: %s\nhosts: %s\nread:\n  files: [%s]\n",
		name,
		yamldoc.Quote("Drafted from "+p.Path+" of "+p.Host.Name),
		yamldoc.Quote(fmt.Sprintf("host.name == %q", p.Host.Name)),
		yamldoc.Quote(pattern(p.Path, p.Settings)),
	)
	if p.Encoding != "" {
		fmt.Fprintf(&b, "  encoding: %s\n", p.Encoding)
	}
	if best.Begin != "" {
		fmt.Fprintf(&b, "records: {begin: '%s'}\n", strings.ReplaceAll(best.Begin, "'", "''"))
	}
	fmt.Fprintf(&b, "format: %s\n", out.Format)
	switch {
	case p.Zone != "":
		fmt.Fprintf(&b, "time: {zone: %s}\n", p.Zone)
	case best.NoZone && p.Settings["zone"] != "":
		b.WriteString("time: {zone: \"${setting.zone}\"}\n")
	}
	fmt.Fprintf(&b, "send: [{to: %s}]\n", to)
	texts = append(texts, b.String())
	for _, t := range texts {
		defs, problems := catalogue.Parse("", []byte(t))
		if len(problems) > 0 {
			return Drafted{}, fmt.Errorf("what was drafted cannot be read: %w", problems[0])
		}
		out.Definitions = append(out.Definitions, defs...)
	}
	return out, nil
}

// usual is the destination that most sources send to.
func usual(cat *catalogue.Catalogue) string {
	best, most := "", -1
	for _, name := range cat.Names("destination") {
		if n := len(cat.UsedBy(catalogue.ID{Kind: "destination", Name: name})); n > most {
			best, most = name, n
		}
	}
	return best
}

var notInNames = regexp.MustCompile(`[^a-z0-9]+`)

// nameOf makes a name from the last parts of a path.
func nameOf(file string) string {
	base := dated.ReplaceAllString(strings.TrimSuffix(path.Base(file), path.Ext(file)), "")
	name := strings.Trim(notInNames.ReplaceAllString(strings.ToLower(path.Base(path.Dir(file))+"-"+base), "-"), "-")
	if len(name) > 63 {
		name = strings.Trim(name[len(name)-63:], "-")
	}
	return name
}

var dated = regexp.MustCompile(`\d{4}[-_.]?\d{2}[-_.]?\d{2}`)

// pattern is a path with the setting that it begins with, and a star for a date in its name.
func pattern(file string, settings map[string]string) string {
	dir, base := path.Split(file)
	file = dir + dated.ReplaceAllString(base, "*")
	names := make([]string, 0, len(settings))
	for n := range settings {
		names = append(names, n)
	}
	slices.SortFunc(names, func(a, b string) int { // the longest value says most
		if d := len(settings[b]) - len(settings[a]); d != 0 {
			return d
		}
		return strings.Compare(a, b)
	})
	for _, n := range names {
		if v := settings[n]; len(v) > 1 && strings.HasPrefix(v, "/") && strings.HasPrefix(file, v+"/") {
			return "${setting." + n + "}" + file[len(v):]
		}
	}
	return file
}
