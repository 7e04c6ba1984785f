package files

import (
	"encoding/binary"

	"synaxis/internal/agent/settle"
)

// A cursor of a file is the offset up to which it was read: eight bytes, the largest first.

func cursorAt(offset int64) settle.Cursor { return binary.BigEndian.AppendUint64(nil, uint64(offset)) }

func offsetOf(c settle.Cursor) int64 { return int64(binary.BigEndian.Uint64(c)) }
