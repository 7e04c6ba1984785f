package catalogue

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestCoverage: every source is held against every guard; a label that is known only on a host is covered.
func TestCoverage(t *testing.T) {
	t.Parallel()
	source := func(name, more string) string {
		return "source: " + name + "\nhosts: {role: gate}\nread: {files: [/var/log/" + name + ".log]}\nformat: raw\n" +
			more + "---\n"
	}
	defs, problems := Parse("c.yaml", []byte(
		source("lane", "labels: {data: passenger}\nsend: [desk, harbour, desk]\n")+
			source(
				"kiosk",
				"labels: {data: '${labels.data}'}\nsteps:\n  - mask: [email, phone]\n  - mask: [phone]\nsend: "+
					"[desk]\nunparsed: rejects\n",
			)+
			source(
				"tide",
				"labels: {data: water}\nunparsed: drop\nsend: [{to: desk, when: level >= WARN}, {otherwise: "+
					"harbour}]\n",
			)+
			"guard: passengers\nsources: {data: passenger}\nmasks: [phone, iban]\n---\nguard: plates\nsources: "+
			"{data: [passenger, plates]}\nmasks: [iban, mac]\n"))
	require.Empty(t, problems)
	cat, dup := New(defs)
	require.Empty(t, dup)
	type row struct {
		source             string
		guards             int
		masks, own, wentTo []string
	}
	var got []row
	for _, c := range cat.Coverage() {
		got = append(got, row{c.Source.Name, len(c.Guards), c.Masks, c.Own, c.To})
	}
	assert.ElementsMatch(t, []row{
		{"lane", 2, []string{"phone", "iban", "mac"}, nil, []string{"desk", "harbour"}},
		{"kiosk", 2, []string{"phone", "iban", "mac"}, []string{"email", "phone"}, []string{"desk", "rejects"}},
		{"tide", 0, nil, nil, []string{"desk", "harbour"}},
	}, got)
}
