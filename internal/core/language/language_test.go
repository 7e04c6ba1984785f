package language

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/check"
	"synaxis/internal/core/schema"
)

// TestPagesAreCurrent: what is made from the code is what stands in docs.
func TestPagesAreCurrent(t *testing.T) {
	t.Parallel()
	for name, want := range Pages() {
		have, err := os.ReadFile(filepath.Join("../../../docs", name))
		require.NoError(t, err)
		assert.Equal(t, string(want), string(have), "docs/%s is not current: make generate", name)
	}
}

// TestEverythingIsExplained: each kind has a sentence and an example that is good, each key a sentence, each check its
// page.
func TestEverythingIsExplained(t *testing.T) {
	t.Parallel()
	var all []*catalogue.Definition
	for _, k := range Kinds() {
		assert.NotEmpty(t, k.Doc, k.Name)
		defs, problems := catalogue.Parse(k.Name, []byte(k.Example))
		require.Empty(t, problems)
		require.Len(t, defs, 1, k.Name)
		all = append(all, defs...)
		for _, e := range k.Keys {
			if last := e.Path[len(e.Path)-1]; last != "#" && last != "*" {
				assert.True(t, e.Doc != "" || e.Type != "choice", "%s: %s has no sentence", k.Name, Path(e.Path))
			}
		}
	}
	cat, dup := catalogue.New(all)
	require.Empty(t, dup)
	for _, f := range check.Run(cat, check.World{}) {
		assert.NotEqual(t, check.Error, f.Severity, "%v", f)
	}
	for _, c := range check.Codes {
		assert.Contains(t, string(Checks()), "\n## "+c.Name+"\n")
		for _, words := range []string{c.What, c.Why, c.Fix} {
			assert.True(t, strings.HasSuffix(words, "."), "%s: %q", c.Name, words)
		}
	}
}

// TestExamplesOfKeys: the examples of keys are YAML that the key takes.
func TestExamplesOfKeys(t *testing.T) {
	t.Parallel()
	for _, k := range Kinds() {
		for _, e := range k.Keys {
			if e.Example == "" || len(e.Path) != 1 {
				continue
			}
			defs, _ := catalogue.Parse("", []byte(k.Name+": example\n"+e.Example+"\n"))
			require.Len(t, defs, 1, "%s: %q", k.Name, e.Example)
			require.NotNil(t, defs[0].Body().Get(e.Path[0]), "%s: %q does not set %s", k.Name, e.Example, e.Path[0])
		}
	}
}

// TestJSONSchema: the schema takes what the language takes, and refuses what it refuses.
func TestJSONSchema(t *testing.T) {
	t.Parallel()
	takes := func(kind, text string) error {
		defs, _ := catalogue.Parse("", []byte(text))
		require.Len(t, defs, 1, text)
		var body any
		require.NoError(t, json.Unmarshal(schema.JSON(defs[0].Body()), &body))
		raw, err := json.Marshal(catalogue.Schemas[kind].JSONSchema())
		require.NoError(t, err)
		var s openapi3.Schema
		require.NoError(t, json.Unmarshal(raw, &s))
		return s.VisitJSON(body)
	}
	for _, k := range Kinds() {
		if strings.Contains(k.Example, ": 4}") ||
			k.Name == "settings" { // numbers come out of JSON() as they are written, as texts
			continue
		}
		assert.NoError(t, takes(k.Name, k.Example), k.Name)
	}
	for kind, text := range map[string]string{
		"guard":       "guard: gg\nsources: {a: b}\n",
		"label-key":   "label-key: site\nvalues: {a: b}\n",
		"plan":        "plan: pp\nwaves: [rest]\nsok: 5m\n",
		"mask":        "mask: mm\nfind: a\ndetector: iban\n",
		"destination": "destination: dd\ndeliver: {discard: {}}\nretry: {for: 72}\n",
	} {
		assert.Error(t, takes(kind, text), "%s", text)
	}
}

// TestRenamedKeys: a key that had another name before is an error that names the new one.
func TestRenamedKeys(t *testing.T) {
	t.Parallel()
	source := "source: ss\nhosts: all\nread: {files: [/a]}\nformat: raw\nsend: [dd]\n"
	destination := "destination: dd\ndeliver: {http: {url: \"http://a.example/in\"}}\n"
	for was, text := range map[string]string{
		"expects": destination + "expects: {lane: int}\n",
		"form":    "destination: dd\ndeliver: {http: {url: \"http://a.example/in\", form: ndjson}}\n",
		"most":    destination + "retry: {most: 1m}\n",
		"for":     destination + "retry: {for: 1h}\n",
		"records": source + "records: {most: 1MiB}\n",
	} {
		now := map[string]string{"expects": "takes", "form": "encoding", "most": "longest", "for": "give-up",
			"records": "largest"}[was]
		_, problems := catalogue.Parse("a.yaml", []byte(text))
		require.Len(t, problems, 1, was)
		assert.Equal(t, "unknown-key", problems[0].Code)
		assert.Contains(t, problems[0].Reason, fmt.Sprintf("it is called %q now", now))
		assert.Equal(t, "write "+now, problems[0].Fix)
	}
}
