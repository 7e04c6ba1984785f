package mask

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestFinder(t *testing.T) {
	t.Parallel()
	passport := Spec{Name: "passport", Find: `\b[A-Z]{2}\d{7}\b`, Near: []string{"passport", "doc"}}
	far := strings.Repeat("ü", 40)
	for _, c := range []struct {
		spec        Spec
		text, field string
		want        []string
	}{
		{Spec{Name: "p", Find: `PA\d+`}, "PA1 and PA22", "", []string{"PA1", "PA22"}},
		{passport, "doc=PA1234567 seat=7", "", []string{"PA1234567"}},
		{passport, "PA1234567 was her Passport", "", []string{"PA1234567"}},
		{passport, "crate PA1234567", "", nil},
		{passport, "PA1234567", "Doc", []string{"PA1234567"}},
		{passport, "PA1234567", "crate", nil},
		{passport, "doc" + far[:74] + " PA1234567", "", nil},
		{passport, "doc" + far[:72] + " PA1234567", "", []string{"PA1234567"}},
		{passport, "PA1234567 " + far[:72] + "doc", "", []string{"PA1234567"}},
		{passport, "PA1234567 " + far[:74] + "doc", "", nil},
		{passport, "doc\nPA1234567\ndoc", "", nil},
		{Spec{Name: "card", Detector: "payment-card"}, "4111111111111111", "", []string{"4111111111111111"}},
		{Spec{Name: "card", Detector: "payment-card", Near: []string{"card"}}, "4111111111111111", "", nil},
		{Spec{Name: "card", Detector: "payment-card", Near: []string{"card."}}, "cards 4111111111111111", "", nil},
	} {
		f, err := c.spec.Finder()
		require.NoError(t, err)
		var got []string
		for _, h := range f.Find([]byte(c.text), c.field) {
			assert.Equal(t, c.spec.Name, h.Detector)
			got = append(got, c.text[h.Start:h.End])
		}
		assert.Equal(t, c.want, got, "%q in %q", c.text, c.field)
	}
	_, err := Spec{Name: "p", Find: "("}.Finder()
	assert.ErrorContains(t, err, "RE2")
	_, err = Spec{Name: "p", Detector: "cards"}.Finder()
	assert.ErrorContains(t, err, "payment-card")
}
