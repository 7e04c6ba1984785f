package changes

import (
	"context"
	"log/slog"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/check"
	"synaxis/internal/core/inventory"
	"synaxis/internal/service/desired"
	"synaxis/internal/service/revisions"
	"synaxis/internal/service/store"
)

const (
	one = "# first\ndestination: one   # here\ndeliver: {discard: {}}\n"
	two = "\ndestination: two\ndeliver: {discard: {}}\n\n"
)

func reading(f store.File) []*catalogue.Definition {
	defs, _ := catalogue.Parse(f.Path, []byte(f.Text))
	return defs
}

// TestApplySplices: a draft that adds replaces a definition in its place; every other byte stays.
func TestApplySplices(t *testing.T) {
	t.Parallel()
	head := []store.File{
		{Path: "a.yaml", Text: one + "---\n" + two + "--- \n# the end\n"},
		{Path: "b.yaml", Text: "destination: three\ndeliver: {discard: {}}"},
	}
	add := func(path, text string) []store.File {
		files, _ := Apply(head, store.Draft{Files: []store.File{{Path: path, Text: text}}}, reading)
		return files
	}
	newTwo := "destination: two # now a file\ndeliver: {file: {path: /x}}\n"
	got := add("other.yaml", newTwo)
	require.Len(t, got, 2)
	assert.Equal(t, one+"---\n"+newTwo+"--- \n# the end\n", got[0].Text)
	assert.Equal(t, head[1], got[1])
	assert.Equal(
		t,
		one,
		add("x.yaml", strings.TrimSuffix(one, "\n"))[0].Text[:len(one)],
		"a text without its last newline does not swallow the separator",
	)

	got = add("b.yaml", "destination: four\ndeliver: {discard: {}}\n")
	assert.Equal(
		t,
		head[1].Text+"\n---\ndestination: four\ndeliver: {discard: {}}\n",
		got[1].Text,
		"a new one joins the file of its name",
	)
	got = add("0.yaml", "destination: five\ndeliver: {discard: {}}\n")
	require.Len(t, got, 3)
	assert.Equal(t, "0.yaml", got[0].Path)
	got, _ = Apply(head, store.Draft{Whole: true, Files: []store.File{{Path: "z", Text: "t"}}}, reading)
	assert.Equal(t, []store.File{{Path: "z", Text: "t"}}, got)
	assert.Equal(t, one+"---\n"+two+"--- \n# the end\n", head[0].Text, "the head itself is not touched")
}

func FuzzApply(f *testing.F) {
	f.Add(one+"---\n"+two, "destination: one\ndeliver: {file: {path: /x}}\n")
	f.Fuzz(func(t *testing.T, headText, draftText string) {
		before, bad := catalogue.Parse("a.yaml", []byte(headText))
		added, bad2 := catalogue.Parse("b.yaml", []byte(draftText))
		if len(bad)+len(bad2) > 0 {
			return
		}
		if _, dup := catalogue.New(append(before[:len(before):len(before)], before...)); len(dup) != len(before) {
			return // a name twice in one head is never published
		}
		want := map[catalogue.ID]string{}
		for _, d := range append(before, added...) {
			want[d.ID] = d.Digest()
		}
		if len(want) > len(before)+len(added) {
			return
		}
		var all []*catalogue.Definition
		files, _ := Apply(
			[]store.File{{Path: "a.yaml", Text: headText}},
			store.Draft{Files: []store.File{{Path: "b.yaml", Text: draftText}}},
			reading,
		)
		for _, file := range files {
			defs, problems := catalogue.Parse(file.Path, []byte(file.Text))
			require.Empty(t, problems, "%q", file.Text)
			all = append(all, defs...)
		}
		got := map[catalogue.ID]string{}
		for _, d := range all {
			got[d.ID] = d.Digest()
		}
		require.Equal(t, want, got)

		// One definition after the other taken away leaves the others as they are.
		for id := range want {
			rest, _ := Apply(
				files,
				store.Draft{Edits: []store.DraftEdit{{Kind: id.Kind, Name: id.Name, Removed: true}}},
				reading,
			)
			left := map[catalogue.ID]string{}
			for _, file := range rest {
				for _, d := range reading(file) {
					left[d.ID] = d.Digest()
				}
			}
			require.Len(t, left, len(want)-1, "%v of %v", id, files)
			for other, digest := range left {
				require.Equal(t, want[other], digest)
			}
		}
	})
}

type fleet struct{ x *inventory.Index }

func (f fleet) Index() *inventory.Index { return f.x }
func (f fleet) Volumes() []check.Volume { return nil }

type noSecrets struct{}

func (noSecrets) Versions() map[string]int { return nil }

func service(t *testing.T) *Service {
	st, err := store.Open(context.Background(), t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, st.Close()) })
	hosts := fleet{inventory.NewIndex([]inventory.Host{{Name: "a"}, {Name: "b"}})}
	revs := revisions.New(st)
	want, err := desired.New(context.Background(), st, hosts, noSecrets{}, revs, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	return New(st, revs, want, hosts, time.Now, func(string) {})
}

// TestRevisionOfAMeaning: the revision in which a meaning last changed is told through revisions that only reword it.
func TestRevisionOfAMeaning(t *testing.T) {
	t.Parallel()
	s, ctx, who := service(t), context.Background(), store.Person{Name: "ada", Origin: "here"}
	publish := func(text string) int {
		d, _, err := s.Load(ctx, who, "", true, []store.File{{Path: "a.yaml", Text: text}})
		require.NoError(t, err)
		r, _, err := s.Publish(ctx, who, d.ID, "", -1)
		require.NoError(t, err)
		return r.Number
	}
	source := "source: ss\nhosts: all\nread: {files: [/a]}\nformat: raw\nsend: [{to: one}]\n---\n"
	assert.Equal(t, 1, publish(source+one))
	publish("# a remark\n" + source + one)
	publish(source + one + "---\n" + two)
	publish(source + strings.Replace(one, "discard: {}", "file: {path: /x}", 1) + "---\n" + two)
	head, err := s.Head(ctx)
	require.NoError(t, err)
	assert.Equal(
		t,
		map[catalogue.ID]int{
			{Kind: "source", Name: "ss"}:       1,
			{Kind: "destination", Name: "one"}: 4,
			{Kind: "destination", Name: "two"}: 3,
		},
		head.Changed,
	)

	d, _, err := s.Load(ctx, who, "what", false, []store.File{{Path: "b.yaml", Text: "# said better\n" + one}})
	require.NoError(t, err)
	i, err := s.Impact(ctx, d)
	require.NoError(t, err)
	assert.Equal(t, "changed", i.Definitions[0].What)
	assert.Equal(t, 2, i.Hosts)
	require.Len(t, i.Groups, 1)
	assert.Equal(t, []string{"a", "b"}, i.Groups[0].Hosts)
	d, _, err = s.Load(
		ctx,
		who,
		"what",
		true,
		[]store.File{
			{Path: "b.yaml", Text: "# other words\n" + strings.Replace(one, "discard: {}", "file: {path: /x}", 1)},
		},
	)
	require.NoError(t, err)
	i, err = s.Impact(ctx, d)
	require.NoError(t, err)
	what := map[string]string{}
	for _, c := range i.Definitions {
		what[c.Name] = c.What
	}
	assert.Equal(t, map[string]string{"ss": "removed", "two": "removed", "one": "reworded"}, what)
}

func TestLoadRefuses(t *testing.T) {
	t.Parallel()
	s, ctx := service(t), context.Background()
	for _, files := range [][]store.File{
		{{Path: "/abs.yaml", Text: one}}, {{Path: "a/../../b.yaml", Text: one}}, {{Path: "", Text: one}}, {
			{Path: "a//b.yaml", Text: one}},
		{{Path: "a.yaml", Text: one}, {Path: "a.yaml", Text: two}},
	} {
		_, _, err := s.Load(ctx, store.Person{}, "", true, files)
		var invalid Invalid
		assert.ErrorAs(t, err, &invalid, "%v", files)
	}
	_, _, err := s.Load(
		ctx,
		store.Person{},
		"",
		true,
		[]store.File{{Path: "a.yaml", Text: one}, {Path: "b.yaml", Text: one}},
	)
	var rejected Rejected
	require.ErrorAs(t, err, &rejected)
	assert.Equal(t, "duplicate-name", rejected.Findings[0].Code)
	drafts, err := s.store.Drafts(ctx)
	require.NoError(t, err)
	assert.Empty(t, drafts)
}
