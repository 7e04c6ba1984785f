// Package language tells everything that definitions can say and everything that is checked, for the reference pages,
// for editors and for forms. It adds nothing of its own: it puts together what the kinds and the checks say of
// themselves.
package language

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/check"
	"synaxis/internal/core/hostconfig"
	"synaxis/internal/core/schema"
)

// Kind is one kind of definition.
type Kind struct {
	Name    string         `json:"kind"`
	Doc     string         `json:"doc"`
	Example string         `json:"example"`
	Keys    []schema.Entry `json:"keys"`
}

var about = map[string][2]string{
	"source": {"What to read, on which hosts, how to treat it, and where it goes.", `source: gate-scans
about: Boarding gate scanners, one file a lane
labels: {team: boarding, data: passenger}
hosts: {role: gate, site: [northpier, saltmarsh]}
read:
  files: ["${setting.log_root}/gate/lane-*.log"]
format: gate-scan
time: {zone: Europe/Lisbon}
send:
  - {to: harbour-archive, when: level >= WARN}
  - otherwise: harbour-archive
`},
	"format": {"How a line is read: its fields and their types, its time, its level.", `format: gate-scan
template: '{ts:time} lane={lane:int} doc={doc} result={result:token}'
time: {field: ts, layout: '%Y-%m-%d %H:%M:%S', zone: Europe/Lisbon}
level: {field: result, map: {DENIED: WARN, '*': INFO}}
samples:
  - {line: '2031-04-02 06:15:09 lane=4 doc=PA1234567 result=DENIED', gives: {lane: 4}, level: WARN}
`},
	"mask": {"What private data looks like, and what takes its place before a record leaves its host.", `mask: passport
find: '\b[A-Z]{2}\d{7}\b'
near: [passport, doc]
fill: {text: '[passport]'}
samples: {hits: ['doc=PA1234567'], misses: ['PA12']}
`},
	"guard": {
		"Masks that must be applied to all sources with certain labels, and cannot be skipped.",
		`guard: passenger-data
sources: {data: passenger}
masks: [passport, payment-card]
`,
	},
	"destination": {"Where records go, and how hard it is tried.", `destination: harbour-archive
deliver: {otlp: {url: "https://archive.whimbrel.example:4318/v1/logs"}}
auth: {bearer: "${secret.archive_token}"}
compress: gzip
retry: {first: 500ms, longest: 1m, give-up: 72h}
`},
	"settings": {"Values that hosts have in common, laid under their own.", `settings: saltmarsh
hosts: {site: saltmarsh}
rank: 10
values: {log_root: /srv/harbour}
`},
	"agents": {"How much of their host agents may use, and how often they report.", `agents: small-boxes
hosts: {role: gauge}
limits: {cpu: 20%, memory: 64MiB}
report: {every: 30s}
`},
	"plan": {"How a rollout goes: in which waves, how long each is watched, and what stops it.", `plan: careful
waves: [1 host, 5%, 25%, rest]
spread-by: site
soak: 5m
stop-when: failing > 0 || degraded_share > 0.02
on-stop: hold
`},
	"notice": {"Who is told of what is wrong, when, and how.", `notice: archive-stuck
when: destination == "harbour-archive" && oldest > 600.0
for: 5m
repeat: 4h
quiet: "22:00-06:00"
zone: Europe/Lisbon
to:
  - webhook: {url: "https://desk.whimbrel.example/in", secret: "${secret.hook_key}"}
`},
	"label-key": {"The vocabulary of a label of hosts.", `label-key: site
values: [northpier, saltmarsh, gull-point]
required: true
`},
}

// Kinds lists the kinds with everything that they may hold.
func Kinds() []Kind {
	out := make([]Kind, 0, len(catalogue.Kinds))
	for _, k := range catalogue.Kinds {
		out = append(out, Kind{k, about[k][0], about[k][1], catalogue.Schemas[k].Entries()})
	}
	return out
}

// JSONSchema describes one document of the catalogue, for editors (JSON Schema, draft 2020-12).
func JSONSchema() map[string]any {
	defs := map[string]any{}
	var kinds []any
	for _, k := range catalogue.Kinds {
		s := catalogue.Schemas[k].JSONSchema()
		properties, _ := s["properties"].(map[string]any)
		properties[k] = map[string]any{
			"type":        []string{"string", "number"},
			"pattern":     "^[a-z0-9-]{2,63}$",
			"description": about[k][0],
		}
		required, _ := s["required"].([]string)
		s["required"] = append([]string{k}, required...)
		defs[k] = s
		kinds = append(
			kinds,
			map[string]any{
				"if":   map[string]any{"required": []string{k}},
				"then": map[string]any{"$ref": "#/$defs/" + k},
			},
		)
	}
	var one []any
	for _, k := range catalogue.Kinds {
		one = append(one, map[string]any{"required": []string{k}})
	}
	return map[string]any{
		"$schema": "https://json-schema.org/draft/2020-12/schema",
		"title":   "A definition of the Synaxis catalogue",
		"type":    "object",
		"$defs":   defs,
		"allOf":   kinds,
		"anyOf":   one,
	}
}

// SchemaFile is JSONSchema as a file.
func SchemaFile() []byte {
	text, err := json.MarshalIndent(JSONSchema(), "", " ")
	if err != nil {
		panic(err) // maps, lists and texts only
	}
	return append(text, '\n')
}

const made = "<!-- Made from the code by make generate; edit the code, not this page. -->\n\n"

// Path writes the path of an entry as people read it.
func Path(path []string) string {
	var b strings.Builder
	for i, p := range path {
		switch {
		case p == "#":
			b.WriteString("[]")
			continue
		case i > 0:
			b.WriteByte('.')
		}
		if p == "*" {
			p = "NAME"
		}
		b.WriteString(p)
	}
	return b.String()
}

// Words says in one line what an entry may hold.
func Words(e schema.Entry) string {
	words := e.Type
	switch {
	case len(e.Choices) > 0:
		words = strings.Join(e.Choices, ", ")
	case e.Names != "":
		words = "name of a " + e.Names
	case e.Type == "size":
		words = "size, 64MiB"
	case e.Type == "duration":
		words = "duration, 30s"
	case e.Type == "condition":
		words = "condition"
	case e.Type == "host-condition":
		words = "all, or a condition over a host"
	}
	if e.Secrets {
		words += "; may hold ${secret.NAME}"
	} else if e.Refs {
		words += "; may hold ${...}"
	}
	return words
}

// Reference is the page that lists every kind and key.
func Reference() []byte {
	var b strings.Builder
	b.WriteString("# Every kind and key of the catalogue\n\n" + made)
	b.WriteString(
		"What the keys mean together is told in [language.md](language.md); what is checked, in " +
			"[checks.md](checks.md). Editors that know JSON Schema can use " +
			"[catalogue.schema.json](catalogue.schema.json).\n" +
			"A key in **bold** must be there. `[]` is an item of a list, `NAME` a key of your own choice. *Part* is " +
			"what the agent of a host must be able to run for it; a host whose agent cannot is named by the check " +
			"`agent-lacks`.\n",
	)
	for _, k := range Kinds() {
		fmt.Fprintf(
			&b,
			"\n## %s\n\n%s\n\n```yaml\n%s```\n\n| key | holds | | part |\n|---|---|---|---|\n",
			k.Name,
			k.Doc,
			k.Example,
		)
		for _, e := range Folded(k.Keys) {
			name := "`" + Path(e.Path) + "`"
			if e.Need {
				name = "**" + name + "**"
			}
			doc := e.Doc
			if e.Default != "" {
				doc += " Default: `" + e.Default + "`."
			}
			if e.Example != "" {
				doc += " For example `" + e.Example + "`."
			}
			if e.Later {
				doc = "Not available yet. " + doc
			}
			fmt.Fprintf(&b, "| %s | %s | %s | %s |\n", name, cell(e.Type), cell(strings.TrimSpace(doc)), e.Part)
		}
	}
	b.WriteString(agentsRun())
	return []byte(b.String())
}

// agentsRun tells which parts the agent of this version runs, and which it does not have yet.
func agentsRun() string {
	has, lacks := slices.Clone(hostconfig.Runs), []string{}
	for _, k := range Kinds() {
		for _, e := range k.Keys {
			if e.Part != "" && !slices.Contains(has, e.Part) {
				lacks = append(lacks, e.Part)
			}
		}
	}
	list := func(parts []string) string {
		slices.Sort(parts)
		return "`" + strings.Join(slices.Compact(parts), "`, `") + "`"
	}
	return "\n## What agents run\n\nThe agent of this version runs these parts: " + list(
		has,
	) + ".\n\nIt does not have these yet, and a definition that needs one of them is refused by the check " +
		"`agent-lacks`: " + list(
		lacks,
	) + ".\n"
}

// Folded joins the forms of one key in one line, and leaves out items that need no words of their own. Type is in
// words.
func Folded(keys []schema.Entry) []schema.Entry {
	var out []schema.Entry
	for _, e := range keys {
		last := e.Path[len(e.Path)-1]
		of := len(out) - 1
		switch {
		case of >= 0 && Path(out[of].Path) == Path(e.Path):
			out[of].Type += ", or " + Words(e)
		case e.Doc == "" && (last == "#" || last == "*"):
			if of >= 0 && len(out[of].Path) == len(e.Path)-1 && e.Type != "object" {
				out[of].Type += " of " + Words(e)
			}
		default:
			e.Type = Words(e)
			out = append(out, e)
		}
	}
	return out
}

func cell(s string) string {
	return strings.ReplaceAll(strings.ReplaceAll(s, "|", "\\|"), "\n", " ")
}

// Checks is the page that explains every check.
func Checks() []byte {
	var b strings.Builder
	b.WriteString("# Every check\n\n" + made)
	b.WriteString(
		"A finding has a code; this page says for each what it finds, why that matters, and what to do. An error " +
			"stops a publication; a warning and a note do not.\n" +
			"`synaxis reference CODE` shows the same. *Needs the fleet*: the check is made against the hosts, so " +
			"`synaxis check DIR` alone cannot make it.\n",
	)
	for _, c := range check.Codes {
		needs := ""
		if c.Fleet {
			needs = ", needs the fleet"
		}
		fmt.Fprintf(
			&b,
			"\n## %s\n\n*%s%s.* %s\n\n%s\n\n**What to do:** %s\n",
			c.Name,
			c.Severity,
			needs,
			c.What,
			c.Why,
			c.Fix,
		)
	}
	return []byte(b.String())
}

// Pages are the files that are made from the code, by their path below docs.
func Pages() map[string][]byte {
	return map[string][]byte{"reference.md": Reference(), "checks.md": Checks(), "catalogue.schema.json": SchemaFile()}
}
