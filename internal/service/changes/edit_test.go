package changes

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/service/store"
)

const (
	gates = "# the gates\n\nsource: gates   # all of them\nhosts: all\nread: {files: [/srv/gates.log]}\nformat: " +
		"raw\nsend: [{to: one}]\n"
	folder  = "destination: one\ndeliver: {discard: {}}\n---\n" + gates
	another = "source: gates\nhosts: all\nread: {files: [/srv/gates/*.log]}\nformat: raw\nsend: [{to: one}]\n"
)

var ada, ben = store.Person{Name: "ada", Origin: "here"}, store.Person{Name: "ben", Origin: "there"}

// published is a service on which folder is revision 1.
func published(t *testing.T) (*Service, context.Context) {
	s, ctx := service(t), context.Background()
	d, _, err := s.Load(ctx, ada, "begin", true, []store.File{{Path: "all.yaml", Text: folder}})
	require.NoError(t, err)
	_, _, err = s.Publish(ctx, ada, d.ID, "", -1)
	require.NoError(t, err)
	return s, ctx
}

func empty(t *testing.T, s *Service, who store.Person, title string) int {
	d, _, err := s.Load(context.Background(), who, title, false, nil)
	require.NoError(t, err)
	return d.ID
}

func text(t *testing.T, s *Service, draft int, kind, name string) string {
	x, err := s.Definition(context.Background(), draft, kind, name)
	require.NoError(t, err)
	return x.Text
}

func TestEditInADraft(t *testing.T) {
	t.Parallel()
	s, ctx := published(t)
	id := empty(t, s, ada, "widen")
	assert.Equal(
		t,
		gates,
		text(t, s, id, "source", "gates"),
		"what a draft does not touch is as it was published, byte for byte",
	)

	x, err := s.Put(ctx, ada, id, "source", "gates", another, "")
	require.NoError(t, err)
	assert.Equal(t, Changed, x.State)
	assert.Equal(t, gates, x.Published)
	d, err := s.Draft(ctx, id)
	require.NoError(t, err)
	_, after, _, err := s.of(ctx, d)
	require.NoError(t, err)
	assert.Equal(
		t,
		"destination: one\ndeliver: {discard: {}}\n---\n"+another,
		after.Revision.Files[0].Text,
		"it stands where it stood, and nothing else moved",
	)

	_, err = s.Put(ctx, ben, id, "source", "gates", gates, "an older etag")
	assert.ErrorAs(t, err, &Stale{})
	_, err = s.Put(ctx, ben, id, "source", "gates", another+"# more\n", x.ETag())
	require.NoError(t, err)

	fresh := "destination: two\ndeliver: {discard: {}}\n"
	_, err = s.Put(ctx, ada, id, "destination", "two", fresh, "*")
	require.NoError(t, err)
	_, err = s.Put(ctx, ada, id, "destination", "two", fresh, "*")
	assert.ErrorAs(t, err, &Stale{}, "* is for what is not there yet")

	require.NoError(t, s.Remove(ctx, ada, id, "destination", "one", ""))
	all, err := s.Drafted(ctx, id)
	require.NoError(t, err)
	states := map[string]EditState{}
	for _, x := range all {
		states[x.Name] = x.State
	}
	assert.Equal(t, map[string]EditState{"gates": Changed, "two": Added, "one": Removed}, states)
	for _, x := range all {
		if x.Name == "gates" {
			require.NotEmpty(t, x.Findings)
			assert.Equal(t, "dangling-reference", x.Findings[0].Code)
		}
	}
	require.NoError(t, s.Revert(ctx, ada, id, "destination", "one"))
	require.NoError(t, s.Remove(ctx, ada, id, "destination", "two", ""))
	changes, err := s.Changes(ctx, mustDraft(t, s, id))
	require.NoError(t, err)
	assert.Equal(t, []catalogue.ID{{Kind: "source", Name: "gates"}}, changes)

	audit, err := s.store.AuditEntries(ctx, store.AuditFilter{Limit: 10, Action: "draft put", Who: "ben"})
	require.NoError(t, err)
	require.Len(t, audit, 1)
	assert.Contains(t, audit[0].Before, "/srv/gates/*.log")
	assert.Contains(t, audit[0].After, "# more")
}

func mustDraft(t *testing.T, s *Service, id int) store.Draft {
	d, err := s.Draft(context.Background(), id)
	require.NoError(t, err)
	return d
}

// TestUnreadableTextIsKept: a draft keeps what is being written, tells what is wrong with it, and cannot be published.
func TestUnreadableTextIsKept(t *testing.T) {
	t.Parallel()
	s, ctx := published(t)
	id := empty(t, s, ada, "")
	broken := "# half\nsource: gates\nhosts: [\n"
	x, err := s.Put(ctx, ada, id, "source", "gates", broken, "")
	require.NoError(t, err)
	assert.Equal(t, broken, x.Text)
	require.NotEmpty(t, x.Findings)
	assert.Equal(t, "syntax", x.Findings[0].Code)
	_, _, err = s.Publish(ctx, ada, id, "", -1)
	assert.ErrorAs(t, err, &Rejected{})
	for _, text := range []string{"", "  \n", "source: other\nhosts: all\nread: {files: [/a]}\nformat: raw\n", gates +
		"---\n" + another} {
		_, err = s.Put(ctx, ada, id, "source", "gates", text, "")
		assert.ErrorAs(t, err, &Invalid{}, "%q", text)
	}
	_, err = s.Put(ctx, ada, id, "source", "../x", another, "")
	assert.ErrorAs(t, err, &Invalid{})
	_, err = s.Put(ctx, ada, id, "sauce", "gates", another, "")
	assert.ErrorAs(t, err, &Invalid{})
}

// TestConflicts: one definition in two drafts shows both; the one that comes second is stopped until somebody looked.
func TestConflicts(t *testing.T) {
	t.Parallel()
	s, ctx := published(t)
	first, second := empty(t, s, ada, "first"), empty(t, s, ben, "second")
	_, err := s.Put(ctx, ada, first, "source", "gates", another, "")
	require.NoError(t, err)
	mine := gates + "# seen by ben\n"
	_, err = s.Put(ctx, ben, second, "source", "gates", mine, "")
	require.NoError(t, err)
	list, err := s.Conflicts(ctx, second)
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, Side{Draft: second, Title: "second", Author: "ben", Text: mine}, list[0].Mine)
	assert.Equal(t, Side{Draft: first, Title: "first", Author: "ada", Text: another}, list[0].Other)

	_, _, err = s.Publish(ctx, ada, first, "", -1)
	require.NoError(t, err)
	list, err = s.Conflicts(ctx, second)
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, Side{Revision: 2, Title: "first", Author: "ada", Text: another}, list[0].Other)
	_, _, err = s.Publish(ctx, ben, second, "", -1)
	var conflict Conflict
	require.ErrorAs(t, err, &conflict)
	assert.Contains(t, conflict.Words, "source gates was changed by revision 2")

	_, err = s.Put(ctx, ben, second, "source", "gates", another+"# seen by ben\n", "")
	require.NoError(t, err)
	_, _, err = s.Publish(ctx, ben, second, "", -1)
	require.NoError(t, err, "who has looked may publish")
}

// TestRemovedMeanwhile: a draft that deletes what another, published first, has come to use is stopped by the check.
func TestRemovedMeanwhile(t *testing.T) {
	t.Parallel()
	s, ctx := published(t)
	remove := empty(t, s, ada, "")
	_, err := s.Put(ctx, ada, remove, "destination", "two", "destination: two\ndeliver: {discard: {}}\n", "")
	require.NoError(t, err)
	_, _, err = s.Publish(ctx, ada, remove, "", -1)
	require.NoError(t, err)
	remove, use := empty(t, s, ada, ""), empty(t, s, ben, "")
	require.NoError(t, s.Remove(ctx, ada, remove, "destination", "two", ""))
	_, err = s.Put(
		ctx,
		ben,
		use,
		"source",
		"gates",
		"source: gates\nhosts: all\nread: {files: [/srv/gates.log]}\nformat: raw\nsend: [{to: two}]\n",
		"",
	)
	require.NoError(t, err)
	_, _, err = s.Publish(ctx, ben, use, "", -1)
	require.NoError(t, err)
	_, _, err = s.Publish(ctx, ada, remove, "", -1)
	var rejected Rejected
	require.ErrorAs(t, err, &rejected)
	assert.Equal(t, "dangling-reference", rejected.Findings[0].Code)
}

func TestTry(t *testing.T) {
	t.Parallel()
	s, ctx := published(t)
	got, err := s.Try(
		ctx,
		0,
		"\n# two lines above\nsource: gates\nhosts: all\nread: {files: [srv/gates.log]}\nformat: raw\nsend: [{to: "+
			"onee}]\n",
	)
	require.NoError(t, err)
	lines := map[string]int{}
	for _, f := range got.Findings {
		lines[f.Code] = f.Line
	}
	assert.Equal(t, 5, lines["path-relative"], "%v", got.Findings)
	assert.Equal(t, 7, lines["dangling-reference"], "%v", got.Findings)
	assert.Equal(t, []string{"a", "b"}, got.Hosts)
	assert.Equal(t, 2, got.Changes)

	got, err = s.Try(
		ctx,
		0,
		"source: gates\nhosts: {rol: x}\nread: {files: [/a]}\nformat: raw\nfiles: 1\nsend: [{to: one}]\n",
	)
	require.NoError(t, err)
	assert.Empty(t, got.Hosts)
	require.Len(t, got.Findings, 1, "what only follows from it is left out")
	assert.Equal(t, "unknown-key", got.Findings[0].Code)
	assert.Equal(t, 5, got.Findings[0].Line)
	for _, broken := range []string{"", "source: [", "a: b\n---\nc: d\n", folder} {
		got, err = s.Try(ctx, 0, broken)
		require.NoError(t, err)
		assert.NotEmpty(t, got.Findings, "%q", broken)
		assert.Nil(t, got.Def)
	}
	head, err := s.Head(ctx)
	require.NoError(t, err)
	assert.Equal(t, head.Catalogue, s.desired.At(head).Input().Catalogue, "what was tried is nowhere kept")
}
