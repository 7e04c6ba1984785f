package files

import (
	"fmt"
	"time"

	"synaxis/internal/agent/position"
	"synaxis/internal/core/wire"
)

// Bounds of what deleted files may hold of the disk, since the watched program needs the room: in bytes of all files
// of a source, and how long.
const (
	deletedBytes = 64 << 20
	deletedTime  = time.Minute
	lostSaid     = time.Hour // how long it is said that something is lost
)

// abandon lets go of deleted files that cannot be read in time, those that were deleted first. What they held is lost,
// and counted.
func (r *Reader) abandon(now time.Time) {
	for {
		held := int64(0)
		var key position.Key
		var oldest *stream
		for k, st := range r.streams {
			if !st.deleted || st.size <= st.read {
				continue
			}
			held += st.size
			if oldest == nil || st.gone.Before(oldest.gone) {
				key, oldest = k, st
			}
		}
		if oldest == nil || held <= deletedBytes && now.Sub(oldest.gone) < deletedTime {
			return
		}
		lost := oldest.size - oldest.read
		r.Book.Note(wire.Numbers{Lost: lost})
		r.lostAt = now
		r.lost = fmt.Sprintf("%s was deleted and let go before it was read to its end; %d bytes of it are lost",
			oldest.info.Path, lost)
		r.Log.Error("a deleted file is let go before it was read to its end; what it still held is lost",
			"path", oldest.info.Path, "bytes", lost,
			"why", fmt.Sprintf("it was deleted %s ago, and deleted files hold %d bytes of the disk",
				now.Sub(oldest.gone).Round(time.Second), held))
		r.Save()
		r.shut(key, oldest)
		r.Store.Forget(key)
	}
}
