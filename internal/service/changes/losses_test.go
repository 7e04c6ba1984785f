package changes

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/check"
)

func TestLosses(t *testing.T) {
	t.Parallel()
	parse := func(text string) *catalogue.Catalogue {
		defs, findings := catalogue.Parse("f.yaml", []byte(text))
		require.Empty(t, findings)
		c, findings := catalogue.New(defs)
		require.Empty(t, findings)
		return c
	}
	source := func(name, more string) string {
		return "source: " + name + "\nhosts: all\nlabels: {data: passenger}\nread: {files: [/a]}\nformat: raw\n" +
			more + "send: [out]\n---\n"
	}
	const guard = "guard: passengers\nsources: {data: passenger}\nmasks: [email, phone]\n---\n"
	const out = "destination: out\ndeliver: {discard: {}}\n"
	before := parse(source("aa", "") + source("bb", "steps: [{mask: [iban]}]\n") + guard + out)
	for text, want := range map[string][]string{
		source("aa", "") + source("bb", "steps: [{mask: [iban]}]\n") + guard + out: nil,
		source("aa", "") + source("bb", "steps: [{mask: [iban]}]\n") + out: {
			"records of 2 sources would leave without email, phone: aa, bb"},
		source("aa", "") + source("bb", "") + guard + out: {"records of 1 source would leave without iban: bb"},
		source("aa", "steps: [{mask: [email, phone]}]\n") + source("bb", "steps: [{mask: [iban, phone]}]\n") + out: {
			"records of 1 source would leave without email: bb"},
		source("aa", "") + guard + out:                          {"source bb goes, and still reads 3.0 MiB a day on 2 hosts"},
		source("bb", "steps: [{mask: [iban]}]\n") + guard + out: nil,
	} {
		assert.Equal(t, want, losses(before, parse(text), []check.Volume{{Host: "h", Source: "bb", Bytes: 1 << 20},
			{Host: "i", Source: "bb", Bytes: 2 << 20}}), text)
	}
}
