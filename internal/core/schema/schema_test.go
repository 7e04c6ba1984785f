package schema

import (
	"encoding/json"
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/yamldoc"
)

var sample = Obj(
	"a thing",
	Key{Name: "name", Value: Plain, Need: true, Hint: "what it is called"},
	Key{Name: "size", Value: ASize, Part: "big"},
	Key{Name: "mode", Value: Words("fast", "slow"), Default: "fast"},
	Key{Name: "tags", Value: TableOf(WithRefs)},
	Key{
		Name: "to",
		Value: ListOf(
			Either(
				Names("place"),
				OneOf("an entry", Key{Name: "here", Value: Flag}, Key{Name: "there", Value: Whole(2)}),
			),
		),
	},
	Key{Name: "odd", Value: Checked("odd-code", func(s string) error {
		if s == "bad" {
			return errors.New("is bad")
		}
		return nil
	})},
	Key{Name: "soon", Value: Plain, Later: true},
	Key{Name: "note", Value: Plain, Desk: true},
	Key{Name: "made", Value: Plain, Made: true},
)

func root(t *testing.T, text string) *yamldoc.Node {
	docs, problems := yamldoc.Parse("x.yaml", []byte(text))
	require.Empty(t, problems)
	return docs[0].Root
}

func TestValidate(t *testing.T) {
	t.Parallel()
	small := Where{Parts: func(part string) bool { return part != "big" }}
	for _, c := range []struct {
		text  string
		where Where
		code  string // "" is good
	}{
		{"name: x\nsize: 1MiB\nmode: slow\ntags: {a: '${label.x}'}\nto: [here, {there: 2}]\nodd: good\n", Where{}, ""},
		{"size: 1MiB\n", Where{}, "schema"},
		{"name: x\nsize: 5\n", Where{}, "schema"},
		{"name: x\nmode: fastest\n", Where{}, "schema"},
		{"name: x\nmodes: fast\n", Where{}, "unknown-key"},
		{"name: [x]\n", Where{}, "schema"},
		{"name: ~\n", Where{}, "schema"},
		{"name: x\nto: [{there: 1}]\n", Where{}, "schema"},
		{"name: x\nto: [{here: true, there: 3}]\n", Where{}, "schema"},
		{"name: x\nodd: bad\n", Where{}, "odd-code"},
		{"name: x\nsoon: x\n", Where{}, "not-yet"},
		{"name: x\nnote: x\n", Where{}, ""},
		{"name: x\nnote: x\n", Where{Host: true}, "unknown-key"},
		{"name: x\nmade: x\n", Where{}, "unknown-key"},
		{"name: x\nmade: x\n", Where{Host: true}, ""},
		{"name: x\nsize: 1MiB\n", small, "agent-lacks"},
		{"name: x\n", small, ""},
		{"[1]\n", Where{}, "schema"},
	} {
		r := &yamldoc.Reader{}
		sample.Validate(r, root(t, c.text), "thing", c.where)
		if c.code == "" {
			assert.Empty(t, r.Problems, c.text)
		} else if assert.Len(t, r.Problems, 1, c.text) {
			assert.Equal(t, c.code, r.Problems[0].Code, c.text)
		}
	}
}

// TestCanonical: what is written differently and means the same has one form; what stays at the desk is not in it.
func TestCanonical(t *testing.T) {
	t.Parallel()
	write := func(text string) string {
		return string(
			sample.AppendCanonical(nil, root(t, text), "", DeskKeys, func(s string) string { return "<" + s + ">" }),
		)
	}
	want := write("name: x\ntags: {a: '${label.x}', b: c}\nto: [here, {there: 2}]\n")
	assert.Equal(
		t,
		want,
		write(
			"to:\n  - 'here' # first\n  - there: 2\ntags:\n  a: ${label.x}\n  \"b\": c\nnote: nobody gets "+
				"this\nname: \"x\"\n",
		),
	)
	assert.NotEqual(
		t,
		want,
		write("name: x\ntags: {a: '${label.x}', b: c}\nto: [{there: 2}, here]\n"),
		"the order of a list is meant",
	)
	assert.Contains(t, want, "<${label.x}>")
}

func TestEntriesAndJSONSchema(t *testing.T) {
	t.Parallel()
	by := map[string]Entry{}
	for _, e := range sample.Entries() {
		key := ""
		for _, p := range e.Path {
			key += "/" + p
		}
		by[key+" "+e.Type] = e
	}
	assert.True(t, by["/name text"].Need)
	assert.Equal(t, []string{"fast", "slow"}, by["/mode choice"].Choices)
	assert.Equal(t, "place", by["/to/# text"].Names)
	assert.Contains(t, by, "/to/# object")
	assert.Contains(t, by, "/to/#/there integer")
	assert.True(t, by["/tags/* text"].Refs)
	assert.True(t, by["/soon text"].Later)
	assert.NotContains(t, by, "/made text")
	raw, err := json.Marshal(sample.JSONSchema())
	require.NoError(t, err)
	assert.NotContains(t, string(raw), "soon")
	assert.Contains(t, string(raw), `"required":["name"]`)
}

func TestJSON(t *testing.T) {
	t.Parallel()
	got := JSON(root(t, "b: 1\na: [true, 0644, ~, 'x\"y', {c: 1.0}]\n"))
	assert.Equal(t, `{"b":"1","a":[true,"0644",null,"x\"y",{"c":"1.0"}]}`, string(got))
	assert.True(t, json.Valid(got))
}
