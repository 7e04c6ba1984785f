package files

import (
	"encoding/binary"
	"slices"
	"strings"

	"synaxis/internal/agent/position"
	"synaxis/internal/agent/settle"
)

// A cursor of a file is the offset up to which it was read: eight bytes, the largest first.

func cursorAt(offset int64) settle.Cursor { return binary.BigEndian.AppendUint64(nil, uint64(offset)) }

func offsetOf(c settle.Cursor) int64 { return int64(binary.BigEndian.Uint64(c)) }

// aheadOf are cursors of destinations as they are kept.
func aheadOf(cursors map[string]settle.Cursor) (out []position.Ahead) {
	for name, c := range cursors {
		out = append(out, position.Ahead{Destination: name, Offset: offsetOf(c)})
	}
	slices.SortFunc(out, func(a, b position.Ahead) int { return strings.Compare(a.Destination, b.Destination) })
	return out
}

func cursorsOf(ahead []position.Ahead) map[string]settle.Cursor {
	out := map[string]settle.Cursor{}
	for _, a := range ahead {
		out[a.Destination] = cursorAt(a.Offset)
	}
	return out
}
