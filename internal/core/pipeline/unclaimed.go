package pipeline

import (
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"synaxis/internal/core/record"
	"synaxis/internal/core/wire"
)

// Bounds of the examples of what nobody claimed.
const (
	unclaimedEach = 10          // of a reason
	unclaimedText = 2 << 10     // bytes of one
	unclaimedSpan = time.Second // in which so many are looked at, so that a log that is all wrong costs little
	unclaimedMost = 20
)

// Short is a text of so many bytes at most, and a mark where it was cut, between two characters.
func Short(text string, most int) string {
	if len(text) <= most {
		return text
	}
	for most > 0 && !utf8.RuneStart(text[most]) {
		most--
	}
	return strings.Clone(text[:most]) + "…"
}

// Unclaimed keeps the newest examples of records that the format did not read, and of those that no route took,
// without what the masks of the source take: one of each shape. It is safe for concurrent use.
type Unclaimed struct {
	mu   sync.Mutex
	of   map[string][]wire.UnclaimedExample // by reason, the newest last
	from int64                              // of the span, in Unix nanoseconds
	n    int                                // looked at in it
}

// Examples are those of a reason, the newest last.
func (u *Unclaimed) Examples(reason string) []wire.UnclaimedExample {
	u.mu.Lock()
	defer u.mu.Unlock()
	return append([]wire.UnclaimedExample(nil), u.of[reason]...)
}

// unclaimed keeps a record as an example. The masks of the source have gone over it already, unless it was dropped
// before them.
func (t *Treatment) unclaimed(b *record.Batch, r *record.Record, reason string, masked bool) {
	u := t.Unclaimed
	u.mu.Lock()
	defer u.mu.Unlock()
	if r.Observed-u.from >= int64(unclaimedSpan) || r.Observed < u.from {
		u.from, u.n = r.Observed, 0
	}
	if u.n >= unclaimedMost {
		return
	}
	u.n++
	text := Short(string(b.Bytes(r.Body)), unclaimedText)
	if !masked {
		text, _ = cover(text, "body", t.hidden(text, "", nil))
	}
	e := wire.UnclaimedExample{Text: strings.ToValidUTF8(text, "�"), At: time.Unix(0, r.Observed).UTC(),
		Shape: shape(text)}
	if b.Origin != nil {
		e.File = b.Origin.File
	}
	if u.of == nil {
		u.of = map[string][]wire.UnclaimedExample{}
	}
	list := u.of[reason]
	for i := range list {
		if list[i].Shape == e.Shape {
			list = append(list[:i], list[i+1:]...)
			break
		}
	}
	if len(list) >= unclaimedEach {
		list = list[1:]
	}
	u.of[reason] = append(list, e)
}

// shape is what lines of one form have in common: runs of digits, and of letters and digits mixed, stand for each
// other.
func shape(line string) string {
	var b strings.Builder
	for i := 0; i < len(line) && b.Len() < 80; {
		j := i
		digits := false
		for j < len(line) && word(line[j]) {
			digits = digits || line[j] >= '0' && line[j] <= '9'
			j++
		}
		switch {
		case j == i:
			b.WriteByte(line[i])
			i++
			continue
		case digits:
			b.WriteByte('0')
		default:
			b.WriteString(line[i:j])
		}
		i = j
	}
	return strings.ToValidUTF8(b.String(), "")
}

func word(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80
}
