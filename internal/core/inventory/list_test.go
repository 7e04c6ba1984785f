package inventory

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParseList(t *testing.T) {
	t.Parallel()
	want := []Entry{
		{
			Host:     "gate-1",
			Labels:   map[string]string{"site": "northpier"},
			Settings: map[string]string{"root": "/a,b"},
			Line:     2,
		},
		{Host: "gate-2", Labels: map[string]string{}, Settings: map[string]string{"root": "/c"}, Line: 3},
	}
	got, problems := ParseList(
		"x.csv",
		[]byte("\ufeffhost, label.site, setting.root\ngate-1,northpier,\"/a,b\"\ngate-2,,/c\n"),
	)
	require.Empty(t, problems)
	assert.Equal(t, want, got)
	got, problems = ParseList(
		"x.yaml",
		[]byte("# the gates\n- host: gate-1\n  labels: {site: northpier}\n- {host: gate-2, settings: {n: 3}}\n"),
	)
	require.Empty(t, problems)
	assert.Equal(
		t,
		[]Entry{
			{Host: "gate-1", Labels: map[string]string{"site": "northpier"}, Line: 2},
			{Host: "gate-2", Settings: map[string]string{"n": "3"}, Line: 4},
		},
		got,
	)
	got, problems = ParseList("x.json", []byte(`[{"host": "a", "labels": {"x": "y"}}]`))
	require.Empty(t, problems)
	assert.Equal(t, "y", got[0].Labels["x"])
}

func TestParseListRefuses(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ file, text, want string }{
		{"x.txt", "a", "x.txt:1:1: a list of hosts is a .csv, .yaml or .json file"},
		{"x.csv", "", "the list is empty"},
		{"x.csv", "name\na\n", `has no column "host"`},
		{"x.csv", "host,colour\na,b\n", `column "colour" is not known`},
		{"x.csv", "host,label.a\na\n", "x.csv:2:"},
		{"x.csv", "host\nok\na b\n", `x.csv:3:1: "a b": a host name may hold`},
		{"x.csv", "host\na\nb\na\n", "x.csv:4:1: a is in line 2 already"},
		{"x.csv", "host,label.A\na,b\n", `a key may hold a-z`},
		{"x.yaml", "host: a\n", "expected a list of hosts"},
		{"x.yaml", "- {host: a, label: {b: c}}\n", `a host has no key "label" (did you mean "labels"?)`},
		{"x.yaml", "- {labels: {b: c}}\n", `a host needs "host"`},
		{"x.yaml", "[]\n", "the list is empty"},
		{"x.json", "[{", "x.json:1:"},
	} {
		_, problems := ParseList(c.file, []byte(c.text))
		require.NotEmpty(t, problems, c.text)
		assert.Contains(t, problems[0].Error(), c.want)
	}
}

func TestCompareAndExport(t *testing.T) {
	t.Parallel()
	hosts := []Host{
		{Name: "a", Labels: map[string]string{"site": "np", "x": "y"}, Settings: map[string]string{"root": "/a"}},
		{Name: "b", Labels: map[string]string{"site": "sm"}},
	}
	changes := Compare(
		hosts,
		[]Entry{
			{Host: "a", Labels: map[string]string{"site": "gp"}},
			{Host: "b", Labels: map[string]string{"site": "sm"}},
			{Host: "c", Settings: map[string]string{"root": "/c"}},
		},
	)
	assert.Equal(
		t,
		[]Change{
			{Host: "a", What: "changed", Labels: []Edit{{Key: "site", Before: "np", After: "gp"}}},
			{Host: "b", What: "same"},
			{Host: "c", What: "added", Settings: []Edit{{Key: "root", Before: "", After: "/c"}}},
		},
		changes,
	)
	var b strings.Builder
	require.NoError(t, WriteCSV(&b, hosts))
	assert.Equal(t, "host,label.site,label.x,setting.root\na,np,y,/a\nb,sm,,\n", b.String())
	list, problems := ParseList("x.csv", []byte(b.String()))
	require.Empty(t, problems)
	for _, c := range Compare(hosts, list) {
		assert.Equal(t, "same", c.What, "what is exported changes nothing when it is imported")
	}
}
