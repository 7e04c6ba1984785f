package journal

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/record"
)

// export writes fields as the journal's program does: what holds a newline goes with its length.
func export(fields ...string) string {
	var b bytes.Buffer
	for i := 0; i < len(fields); i += 2 {
		if bytes.ContainsAny([]byte(fields[i+1]), "\n\x00") {
			b.WriteString(fields[i] + "\n")
			b.Write(binary.LittleEndian.AppendUint64(nil, uint64(len(fields[i+1]))))
			b.WriteString(fields[i+1] + "\n")
			continue
		}
		fmt.Fprintf(&b, "%s=%s\n", fields[i], fields[i+1])
	}
	return b.String() + "\n"
}

func TestNext(t *testing.T) {
	t.Parallel()
	text := export("__CURSOR", "s=1;i=2", "__REALTIME_TIMESTAMP", "1932883509000007", "__MONOTONIC_TIMESTAMP", "5", "PRIORITY", "4",
		"_BOOT_ID", "x", "_SYSTEMD_UNIT", "gate.service", "_PID", "12", "MESSAGE", "two\nlines = here")
	e, used, ok, err := Next([]byte(text))
	require.NoError(t, err)
	require.True(t, ok)
	assert.Equal(t, len(text), used)
	assert.Equal(t, "s=1;i=2", e.Cursor)
	assert.Equal(t, "two\nlines = here", string(e.Message))
	assert.Equal(t, int64(1932883509000007000), e.Given.Time)
	assert.Equal(t, record.Warn, e.Given.Level)
	assert.Equal(t, []record.GivenField{{Name: []byte("journal.systemd_unit"), Kind: record.Text, Text: []byte("gate.service")},
		{Name: []byte("journal.pid"), Kind: record.Int, Num: 12}}, e.Given.Fields)
	for _, bad := range []string{"no name\n", "lower=x\n", "A\n\xff\xff\xff\xff\xff\xff\xff\xff", "A\n\x01\x00\x00\x00\x00\x00\x00\x00xy"} {
		_, _, ok, err := Next([]byte(bad))
		assert.ErrorIs(t, err, ErrForm, bad)
		assert.False(t, ok)
	}
}

// TestEveryChunking: the same entries in whatever pieces they come.
func TestEveryChunking(t *testing.T) {
	t.Parallel()
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 4))
		var all bytes.Buffer
		var want []string
		for i := range 1 + r.IntN(6) {
			m := make([]byte, r.IntN(30))
			for k := range m {
				m[k] = "a=\n\x00 B"[r.IntN(6)]
			}
			want = append(want, fmt.Sprint(i, string(m)))
			all.WriteString(export("__CURSOR", fmt.Sprint(i), "MESSAGE", string(m)))
		}
		var have []byte
		var got []string
		for data := all.Bytes(); len(data) > 0; {
			n := 1 + r.IntN(min(len(data), 12))
			have, data = append(have, data[:n]...), data[n:]
			for {
				e, used, ok, err := Next(have)
				require.NoError(t, err)
				if !ok {
					break
				}
				got = append(got, e.Cursor+string(e.Message))
				have = have[used:]
			}
		}
		require.Equal(t, want, got, seed)
	}
}

func FuzzNext(f *testing.F) {
	f.Add([]byte(export("__CURSOR", "c", "MESSAGE", "a\nb")))
	f.Add([]byte("\n\nMESSAGE=x\n\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		e, used, ok, err := Next(data)
		assert.LessOrEqual(t, used, len(data))
		assert.False(t, ok && (err != nil || used == 0))
		assert.LessOrEqual(t, len(e.Message), len(data))
	})
}
