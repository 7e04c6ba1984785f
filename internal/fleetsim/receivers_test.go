package fleetsim

import (
	"bytes"
	"math/rand/v2"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestReceiversSeeWhatLeaks: the proof that nothing private arrives can fail.
func TestReceiversSeeWhatLeaks(t *testing.T) {
	t.Parallel()
	r, err := NewReceivers()
	require.NoError(t, err)
	t.Cleanup(r.Close)
	send := func(text string) {
		resp, err := http.Post(r.URL()+"/in", "application/x-ndjson", bytes.NewBufferString(text))
		require.NoError(t, err)
		require.NoError(t, resp.Body.Close())
	}
	send(`{"host":"h","source":"s","body":"doc=[passport] WL-********377","fields":{"id":"a"}}`)
	assert.Empty(t, r.Leaks())
	send(`{"host":"h","source":"s","body":"doc=PA1234567","fields":{"id":"b"}}`)
	require.Len(t, r.Leaks(), 1)
	assert.Contains(t, r.Leaks()[0], "PA1234567")

	rnd := rand.New(rand.NewPCG(1, 2))
	kinds := map[string]bool{}
	for n := range 200 {
		for _, line := range []string{gateLine("UTC")(rnd, "i", n, time.Now()), kioskLine("UTC")(rnd, "i", n,
			time.Now()), appLine(rnd, "i", n, time.Now()), webLine(rnd, "i", n, time.Now())} {
			for _, p := range private.FindAllString(line, -1) {
				kinds[strings.Map(func(c rune) rune {
					if c >= '0' && c <= '9' {
						return '9'
					}
					return c
				}, p)] = true
			}
		}
	}
	assert.Len(t, kinds, 11, "each kind of private data is written: %v", kinds)
}
