package buffer

// SetMost changes how large segments become.
func (l *Lane) SetMost(bytes int64) { l.most = bytes }

// End is the number of the next record.
func (l *Lane) End() uint64 { return l.next }

// IsDone tells whether a record is done.
func (l *Lane) IsDone(n uint64) bool { return l.done.has(n) }
