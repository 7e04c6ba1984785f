package guess

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/format"
)

func guessed(text string) []Candidate {
	return Guess([]byte(text), Options{Zone: "UTC", Observed: time.Date(2031, 4, 2, 12, 0, 0, 0, time.UTC)})
}

// TestWhatIsLeftOut: what no field holds is named, with an example, and a way to read it is offered; who leaves
// nothing out is not blamed.
func TestWhatIsLeftOut(t *testing.T) {
	t.Parallel()
	line := `192.0.2.7 - - [02/Apr/2031:06:15:09 +0100] "GET /fares HTTP/1.1" 200 512 "-" "Explorer/9"`
	common := `192.0.2.7 - - [02/Apr/2031:06:15:09 +0100] "GET /fares HTTP/1.1" 200 512`
	for text, want := range map[string]string{
		strings.Repeat(line+" 0.004\n", 3):                                     `such as "0.004"`,
		strings.Repeat(common+" 0.120\n", 3):                                   `such as "0.120"`,
		strings.Repeat("REQ ts=2031-04-02T06:15:09Z lane=4 took=12 done\n", 3): "",
		strings.Repeat(line+"\n", 3):                                           "",
		strings.Repeat(common+"\n", 3):                                         "",
	} {
		all := guessed(text)
		warned := strings.Join(all[0].Warnings, "; ")
		if want == "" {
			assert.NotContains(t, warned, "in no field", text)
			continue
		}
		assert.Contains(t, warned, want, text)
		assert.Less(t, all[0].Sure(), 1.0)
		offered := false
		for _, c := range all {
			offered = offered || c.Spec.Kind == "template" && c.leaves == "" && c.Share == 1
		}
		assert.True(t, offered, "a template that has it: %s", text)
	}
}

// TestRunningTextIsNoTemplate: words that follow each other are one message, however often they come again.
func TestRunningTextIsNoTemplate(t *testing.T) {
	t.Parallel()
	words := []string{"gate opens slowly", "gate shuts slowly", "ramp opens fast", "ramp shuts fast"}
	var bare, stamped string
	for i := range 20 {
		bare += words[i%4] + "\n"
		stamped += "2031-04-02 06:15:09 " + words[i%4] + "\n"
	}
	assert.Equal(t, format.Kind("raw"), guessed(bare)[0].Spec.Kind)
	assert.Equal(t, "{ts:time} {message:remainder}", guessed(stamped)[0].Spec.Template)
}

// TestErrorsAreNotMissed: an answer that leaves out just the records of errors says so, and does not rank above one
// that has them.
func TestErrorsAreNotMissed(t *testing.T) {
	t.Parallel()
	text := strings.Repeat(
		"2031-04-02 06:15:09 [7] lane 4 is open\n2031-04-02 06:15:10 [8] lane 5 is open\n",
		10,
	) + "ERROR at 06:15 lane 5 is stuck\nERROR at 06:16 lane 4 is stuck\n"
	all := guessed(text)
	for _, c := range all {
		if c.Share < 1 && c.Spec.Kind == "template" {
			assert.Contains(t, strings.Join(c.Warnings, "; "), "mostly those of errors", c.Spec.Template)
		}
	}
}

// TestLayoutWithZone: where all stamps say their zone the definition says so too, and the check asks for none.
func TestLayoutWithZone(t *testing.T) {
	t.Parallel()
	for stamp, layout := range map[string]string{
		"2031-04-02T06:15:09+0000": "%Y-%m-%dT%H:%M:%S%z", "2031-04-02 06:15:09.250 +02:00": "%Y-%m-%d %H:%M:%S.%f %z",
		"2031-04-02T06:15:09Z": "%Y-%m-%dT%H:%M:%S%z", "2031-04-02 06:15:09 CEST": "%Y-%m-%d %H:%M:%S %Z",
		"02/Apr/2031:06:15:09 +0100":     "%d/%b/%Y:%H:%M:%S %z",
		"Wed, 2 Apr 2031 06:15:09 +0200": "%a, %d %b %Y %H:%M:%S %z",
		"Wed Apr  2 06:15:09 CEST 2031":  "%a %b %e %H:%M:%S %Z %Y", "2031-04-02 06:15:09": "",
	} {
		best := Guess([]byte("["+stamp+"] gate opens\n["+stamp+"] ramp goes down slowly\n["+stamp+"] gate shuts\n"),
			Options{Observed: time.Date(2031, 4, 2, 12, 0, 0, 0, time.UTC)})[0]
		assert.Equal(t, layout, best.Spec.Time.Layout, stamp)
		defs, problems := catalogue.Parse("a.yaml", []byte(best.Definition("gate", "")))
		require.Empty(t, problems)
		assert.Equal(t, layout == "", defs[0].Format.NeedsZone(nil), stamp)
	}
}
