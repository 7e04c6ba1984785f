package buffer_test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/agent/buffer"
	"synaxis/internal/agent/buffer/lossy"
	"synaxis/internal/core/record"
)

var origins = []*record.Origin{
	record.NewOrigin("h", "me", "s", "/a.log", []record.Label{{Key: "site", Value: "northpier"}}),
	record.NewOrigin("h", "me", "s", "/b.log", nil),
}

// frame makes one of records that say their numbers.
func frame(from, records int) buffer.Frame {
	f := buffer.Frame{Encoding: record.NDJSON, Origin: origins[from%2], At: time.Unix(int64(from), 0),
		Stream: uint64(from % 2)}
	for i := range records {
		f.Bytes = fmt.Appendf(f.Bytes, "record %d %s\n", from+i, bytes.Repeat([]byte("x"), (from+i)%50))
		f.Ends = append(f.Ends, uint32(len(f.Bytes)))
	}
	return f
}

func open(t testing.TB, disk buffer.Files, marks map[buffer.Key]buffer.Mark) *buffer.Store {
	t.Helper()
	s, err := buffer.Open("/buffers", buffer.Options{Host: "me", Files: disk, Marks: marks})
	require.NoError(t, err)
	return s
}

var key = buffer.Key{"archive", "s"}

// numbers are the records of frames, as they say.
func numbers(t testing.TB, frames []buffer.Frame) (out []uint64) {
	t.Helper()
	for _, f := range frames {
		begin := uint32(0)
		for i, end := range f.Ends {
			var n uint64
			_, err := fmt.Sscanf(string(f.Bytes[begin:end]), "record %d", &n)
			require.NoError(t, err)
			require.Equal(t, f.First+uint64(i), n, "a record stands at its number")
			out = append(out, n)
			begin = end
		}
	}
	return out
}

// rest reads everything that Next gives.
func rest(t testing.TB, l *buffer.Lane) []buffer.Frame {
	t.Helper()
	var all []buffer.Frame
	for {
		frames, err := l.Next(1000)
		require.NoError(t, err)
		if len(frames) == 0 {
			return all
		}
		all = append(all, frames...)
	}
}

// TestQueue lets random appends, reads, settlements, notes, drops and crashes happen, and holds the lane against a
// plain list.
func TestQueue(t *testing.T) {
	t.Parallel()
	for seed := range uint64(300) {
		rnd := rand.New(rand.NewPCG(seed, 1))
		disk := lossy.New()
		marks := map[buffer.Key]buffer.Mark{}
		s := open(t, disk, marks)
		l := s.Lane(key)
		l.SetMost(2000)
		var mu sync.Mutex
		next, safe := 0, 0
		settled := map[uint64]bool{}
		var given []buffer.Frame
		seen := map[uint64]bool{}
		life := 0
		take := func(frames []buffer.Frame) {
			for _, n := range numbers(t, frames) {
				require.False(t, settled[n], "seed %d: %d is settled and came again", seed, n)
				require.False(t, seen[n], "seed %d: %d came twice", seed, n)
				seen[n] = true
			}
			given = append(given, frames...)
		}
		for range 120 {
			switch rnd.IntN(8) {
			case 0, 1, 2:
				f := frame(next, 1+rnd.IntN(9))
				end := next + f.Records()
				keep := rnd.IntN(2) == 0
				now := life
				kept, err := l.Append(&f, keep, func() {
					mu.Lock()
					defer mu.Unlock()
					if now == life {
						safe = max(safe, end)
					}
				})
				require.NoError(t, err)
				require.Equal(t, uint64(next), f.First)
				next = end
				if kept {
					take([]buffer.Frame{f})
				}
			case 3:
				full := rnd.IntN(3) == 0 // what is not written stays in memory, and is written when there is room
				if disk.SetRoom(0); full {
					disk.SetRoom(-1)
				}
				err := l.Flush()
				mu.Lock()
				if !full {
					require.NoError(t, err)
					require.Equal(t, next, safe)
				}
				mu.Unlock()
			case 4:
				frames, err := l.Next(int64(rnd.IntN(500)))
				require.NoError(t, err)
				take(frames)
			case 5:
				if len(given) > 0 {
					i := rnd.IntN(len(given))
					f := given[i]
					l.Done(f.First, f.End())
					for n := f.First; n < f.End(); n++ {
						settled[n] = true
					}
					given = append(given[:i], given[i+1:]...)
				}
			case 6:
				m := s.Marks()
				marks = m
				s.Saved(m)
			case 7:
				if rnd.IntN(4) > 0 {
					break
				}
				mu.Lock()
				life++
				disk = disk.Crash(func(n int) int { return rnd.IntN(n + 1) })
				mu.Unlock()
				s.Close()
				s = open(t, disk, marks)
				l = s.Lane(key)
				l.SetMost(2000)
				given, seen, settled = nil, map[uint64]bool{}, map[uint64]bool{}
				for n := range marks[key].Done {
					settled[n] = true
				}
				require.Zero(t, s.Lane(key).Damaged(), "seed %d", seed)
				require.GreaterOrEqual(t, int(l.End()), safe, "seed %d: what was safe is there", seed)
				next, safe = int(l.End()), int(l.End())
			}
			require.EqualValues(t, next-count(settled), l.State().Records, "seed %d", seed)
		}
		disk.SetRoom(0)
		require.NoError(t, l.Flush())
		take(rest(t, l))
		for n := range uint64(next) {
			require.True(t, seen[n] || settled[n], "seed %d: %d of %d is lost", seed, n, next)
		}
		s.Close()
	}
}

func count(m map[uint64]bool) int { return len(m) }

// TestDamage changes, cuts and doubles segments: nothing wrong is delivered, nothing comes twice, and every record
// is either there or counted as lost.
func TestDamage(t *testing.T) {
	t.Parallel()
	const records = 60
	build := func() (*lossy.Disk, map[buffer.Key]buffer.Mark, []string) {
		disk := lossy.New()
		s := open(t, disk, nil)
		l := s.Lane(key)
		l.SetMost(1200)
		for n := 0; n < records; n += 3 {
			f := frame(n, 3)
			_, err := l.Append(&f, false, nil)
			require.NoError(t, err)
		}
		s.Sync()
		marks := s.Marks()
		s.Close()
		names, err := disk.Names("/buffers/archive/s")
		require.NoError(t, err)
		require.Greater(t, len(names), 2)
		return disk, marks, names
	}
	check := func(what string, disk *lossy.Disk, marks map[buffer.Key]buffer.Mark) int64 {
		s := open(t, disk, marks)
		defer s.Close()
		l := s.Lane(key)
		got := numbers(t, rest(t, l))
		seen := map[uint64]bool{}
		for _, n := range got {
			require.False(t, seen[n], "%s: %d came twice", what, n)
			seen[n] = true
		}
		for n := range uint64(records) {
			require.True(t, seen[n] || l.IsDone(n), "%s: %d is neither there nor counted", what, n)
		}
		require.EqualValues(t, records, int64(len(got))+s.Lane(key).Damaged(), what)
		return s.Lane(key).Damaged()
	}
	disk, marks, names := build()
	assert.Zero(t, check("as it is", disk, marks))
	path := func(i int) string { return filepath.Join("/buffers/archive/s", names[i]) }
	for i := range names { // any byte of any segment
		whole := disk.Data(path(i))
		for at := range whole {
			after := disk.Crash(func(int) int { return 0 })
			changed := bytes.Clone(whole)
			changed[at] ^= 0x41
			after.Set(path(i), changed)
			check(fmt.Sprintf("byte %d of segment %d", at, i), after, marks)
		}
		for at := range whole {
			after := disk.Crash(func(int) int { return 0 })
			after.Set(path(i), whole[:at])
			check(fmt.Sprintf("segment %d cut at %d", i, at), after, marks)
		}
	}
	doubled := disk.Crash(func(int) int { return 0 })
	doubled.Set(fmt.Sprintf("/buffers/archive/s/%020d.seg", 4711), doubled.Data(path(0)))
	assert.Zero(t, check("doubled", doubled, marks))
	gone := disk.Crash(func(int) int { return 0 })
	require.NoError(t, gone.Remove(path(1)))
	assert.Positive(t, check("one gone", gone, marks))
}

// TestAnotherAgents: what belongs to another agent is moved aside and never delivered.
func TestAnotherAgents(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s, err := buffer.Open(dir, buffer.Options{Host: "another"})
	require.NoError(t, err)
	f := frame(0, 3)
	_, err = s.Lane(key).Append(&f, false, nil)
	require.NoError(t, err)
	s.Close()
	for range 2 {
		s, err = buffer.Open(dir, buffer.Options{Host: "me"})
		require.NoError(t, err)
		assert.Empty(t, rest(t, s.Lane(key)))
		s.Close()
	}
	names, err := filepath.Glob(filepath.Join(dir, "archive/s/*.foreign"))
	require.NoError(t, err)
	assert.Len(t, names, 1)
	info, err := os.Stat(names[0])
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
}

// TestFullDisk: what cannot be written stays in memory and is written when there is room again.
func TestFullDisk(t *testing.T) {
	t.Parallel()
	disk := lossy.New()
	disk.SetRoom(2000)
	s := open(t, disk, nil)
	defer s.Close()
	l := s.Lane(key)
	n := 0
	for ; l.Failed() == nil; n += 5 {
		f := frame(n, 5)
		_, err := l.Append(&f, false, nil)
		require.NoError(t, err)
		_ = l.Flush()
	}
	before := numbers(t, rest(t, l))
	assert.Less(t, len(before), n)
	disk.SetRoom(0)
	require.NoError(t, l.Flush())
	assert.Len(t, append(before, numbers(t, rest(t, l))...), n)
}

// TestWaitingIsBounded: while the disk takes nothing, all lanes together hold little in memory.
func TestWaitingIsBounded(t *testing.T) {
	t.Parallel()
	disk := lossy.New()
	disk.SetRoom(1)
	s := open(t, disk, nil)
	defer s.Close()
	const lanes, size = 10, 256 << 10
	full := 0
	for range 40 {
		for i := range lanes {
			f := buffer.Frame{Encoding: record.NDJSON, Origin: origins[0], Bytes: make([]byte, size),
				Ends: []uint32{size}}
			if _, err := s.Lane(buffer.Key{"archive", fmt.Sprint(i)}).Append(&f, false, nil); err != nil {
				full++
			}
		}
	}
	assert.Positive(t, full)
	waiting := int64(0)
	for i := range lanes {
		waiting += s.Lane(buffer.Key{"archive", fmt.Sprint(i)}).Waiting()
	}
	assert.Positive(t, waiting)
	assert.Less(t, waiting, int64(8<<20+(lanes+1)*size))
	disk.SetRoom(0)
	s.Sync()
	f := frame(0, 1)
	_, err := s.Lane(key).Append(&f, false, nil)
	assert.NoError(t, err, "room that comes back is used")
}

// TestDropOldest gives up what is oldest and was not read yet, and counts it.
func TestDropOldest(t *testing.T) {
	t.Parallel()
	s := open(t, lossy.New(), nil)
	defer s.Close()
	l := s.Lane(key)
	l.SetMost(1500)
	for n := 0; n < 100; n += 4 {
		f := frame(n, 4)
		_, err := l.Append(&f, false, nil)
		require.NoError(t, err)
	}
	first, err := l.Next(1)
	require.Empty(t, first, "nothing is safe yet")
	require.NoError(t, err)
	s.Sync()
	first, err = l.Next(1)
	require.NoError(t, err)
	gone := l.DropOldest()
	assert.Positive(t, gone.Records)
	assert.Positive(t, gone.Bytes)
	assert.Empty(t, gone.Senders)
	assert.Equal(t, int64(0), gone.From.Unix())
	got := append(numbers(t, first), numbers(t, rest(t, l))...)
	assert.EqualValues(t, 100, int64(len(got))+gone.Records)
	assert.Equal(t, uint64(99), got[len(got)-1])
}

// TestOfSenders: whatever is appended, given, done and dropped, what waits of each sender is known, also after a
// start.
func TestOfSenders(t *testing.T) {
	t.Parallel()
	from := map[string]*record.Origin{"": origins[0]}
	for _, name := range []string{"bridge-a", "bridge-b"} {
		from[name] = record.NewSenderOrigin("h", "me", "s", "198.51.100.7",
			[]record.Label{{Key: record.SenderLabel, Value: name}})
	}
	names := []string{"", "bridge-a", "bridge-b"}
	for seed := range uint64(200) {
		rnd := rand.New(rand.NewPCG(seed, 4))
		disk := lossy.New()
		s := open(t, disk, nil)
		l := s.Lane(key)
		l.SetMost(900)
		want := map[string]int64{} // what waits, of senders
		var given []buffer.Frame
		done := func(f buffer.Frame) {
			l.Done(f.First, f.End())
			want[f.Origin.SenderName()] -= int64(f.Records())
		}
		for step := range 60 {
			switch rnd.IntN(6) {
			case 0, 1, 2:
				f := frame(step, 1+rnd.IntN(5))
				f.Origin = from[names[rnd.IntN(3)]]
				kept, err := l.Append(&f, rnd.IntN(3) == 0, func() {})
				require.NoError(t, err)
				if want[f.Origin.SenderName()] += int64(f.Records()); kept {
					given = append(given, f)
				}
			case 3:
				s.Sync()
				frames, err := l.Next(200)
				require.NoError(t, err)
				given = append(given, frames...)
			case 4:
				if len(given) > 0 {
					i := rnd.IntN(len(given))
					done(given[i])
					given = append(given[:i], given[i+1:]...)
				}
			case 5:
				gone := l.DropOldest()
				known := int64(0)
				for name, n := range gone.Senders {
					require.GreaterOrEqual(t, n, int64(0), "seed %d", seed)
					want[name] -= n
					known += n
				}
				require.LessOrEqual(t, known, gone.Records, "seed %d", seed)
				want[""] -= gone.Records - known
			}
			sum := int64(0)
			for name, n := range want {
				require.GreaterOrEqual(t, n, int64(0), "seed %d: %s", seed, name)
				sum += n
			}
			require.Equal(t, sum, l.State().Records, "seed %d", seed)
		}
		for _, f := range given { // in order, so that what is done is without a gap
			done(f)
		}
		s.Sync()
		prefix, synced := l.Mark()
		s.Close()
		found, oldest := map[string]int64{}, map[string]time.Time{}
		s, err := buffer.Open("/buffers", buffer.Options{Host: "me", Files: disk,
			Marks: map[buffer.Key]buffer.Mark{key: {Done: prefix, Synced: synced}},
			Waits: func(k buffer.Key, sender string, at time.Time, records int64) {
				assert.Equal(t, key, k)
				if found[sender] += records; oldest[sender].IsZero() {
					oldest[sender] = at
				}
			}})
		require.NoError(t, err)
		for _, name := range names[1:] {
			require.Equal(t, want[name], found[name], "seed %d: %s", seed, name)
		}
		for _, f := range rest(t, s.Lane(key)) {
			if name := f.Origin.SenderName(); name != "" {
				require.False(t, f.At.Before(oldest[name]), "seed %d: %s", seed, name)
				found[name] -= int64(f.Records())
			}
		}
		for name, n := range found {
			require.Zero(t, n, "seed %d: %s", seed, name)
		}
		s.Close()
	}
}

// TestRename keeps what is in a lane.
func TestRename(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s, err := buffer.Open(dir, buffer.Options{Host: "me"})
	require.NoError(t, err)
	f := frame(0, 7)
	_, err = s.Lane(key).Append(&f, false, nil)
	require.NoError(t, err)
	require.NoError(t, s.Rename(key, buffer.Key{"vault", "t"}))
	marks := s.Marks()
	s.Close()
	s, err = buffer.Open(dir, buffer.Options{Host: "me", Marks: marks})
	require.NoError(t, err)
	defer s.Close()
	assert.Len(t, numbers(t, rest(t, s.Lane(buffer.Key{"vault", "t"}))), 7)
	assert.Empty(t, rest(t, s.Lane(key)))
	assert.Equal(t, []string{"vault"}, s.Destinations())
}

// FuzzSegment reads any bytes as a segment: no panic, no frame that was not whole.
func FuzzSegment(f *testing.F) {
	disk := lossy.New()
	s := open(f, disk, nil)
	for n := range 3 {
		one := frame(n*2, 2)
		_, _ = s.Lane(key).Append(&one, false, nil)
	}
	s.Close()
	f.Add(disk.Data("/buffers/archive/s/00000000000000000000.seg"))
	f.Fuzz(func(t *testing.T, data []byte) {
		disk := lossy.New()
		disk.Set("/buffers/archive/s/00000000000000000000.seg", data)
		s := open(t, disk, nil)
		defer s.Close()
		l := s.Lane(key)
		last := uint64(0)
		for i, x := range rest(t, l) {
			if i > 0 && x.First < last {
				t.Fatal("frames come in order")
			}
			last = x.End()
		}
	})
}
