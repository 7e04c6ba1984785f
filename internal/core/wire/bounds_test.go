package wire

import (
	"bytes"
	"runtime"
	"strings"
	"testing"

	"github.com/open-telemetry/opamp-go/protobufs"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	colmetrics "go.opentelemetry.io/proto/otlp/collector/metrics/v1"
	metrics "go.opentelemetry.io/proto/otlp/metrics/v1"
	"google.golang.org/protobuf/proto"
)

// allocated tells how many bytes do allocates.
func allocated(do func()) uint64 {
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	do()
	runtime.ReadMemStats(&after)
	return after.TotalAlloc - before.TotalAlloc
}

// TestManySmallParts: a message at the bound of its bytes that is all tiny parts is refused before it takes memory,
// wherever the parts are.
func TestManySmallParts(t *testing.T) { // not parallel: it looks at the memory of the process
	nested := bytes.Repeat([]byte{0x12, 0x00}, 1<<19) // metrics of a scope
	scope := append([]byte{0x12}, length(nested)...)
	for name, c := range map[string]struct {
		body []byte
		into proto.Message
	}{
		"resources": {bytes.Repeat([]byte{0x0a, 0x00}, MaxMessage/2),
			&colmetrics.ExportMetricsServiceRequest{}},
		"metrics of a scope": {append([]byte{0x0a}, length(scope)...), &colmetrics.ExportMetricsServiceRequest{}},
		"components": {append([]byte{0x2a}, length(bytes.Repeat([]byte{0x32, 0x00}, MaxMessage/4))...),
			&protobufs.AgentToServer{}},
	} {
		var err error
		took := allocated(func() { err = Read(c.body, c.into) })
		assert.ErrorIs(t, err, ErrElements, name)
		assert.Less(t, took, uint64(1<<20), name)
	}
	var r Reply
	var err error
	text := []byte(`{"logs":{"logs":[` + strings.Repeat("{},", MaxMessage/4) + `{}]}}`)
	took := allocated(func() { err = Decode(text, &r) })
	assert.ErrorIs(t, err, ErrElements)
	assert.Less(t, took, uint64(1<<20))
}

// length puts the length of a field before it.
func length(b []byte) []byte {
	out := []byte{}
	for n := len(b); ; n >>= 7 {
		if n < 0x80 {
			return append(append(out, byte(n)), b...)
		}
		out = append(out, byte(n&0x7f|0x80))
	}
}

// TestElementsAtTheBound: as many parts as there may be are read, one more is not.
func TestElementsAtTheBound(t *testing.T) {
	t.Parallel()
	of := func(n int) []byte {
		req := &colmetrics.ExportMetricsServiceRequest{}
		for range n {
			req.ResourceMetrics = append(req.ResourceMetrics, &metrics.ResourceMetrics{})
		}
		out, err := proto.Marshal(req)
		require.NoError(t, err)
		return out
	}
	var into colmetrics.ExportMetricsServiceRequest
	require.NoError(t, Read(of(MaxElements), &into))
	assert.Len(t, into.ResourceMetrics, MaxElements)
	assert.ErrorIs(t, Read(of(MaxElements+1), &into), ErrElements)
	assert.NoError(
		t,
		Decode([]byte(`{"error":"`+strings.Repeat(",{[\\\"", MaxElements)+`"}`), &Reply{}),
		"what is text counts for nothing",
	)
}

// FuzzRead: whatever is read as protobuf is read alike with its parts counted.
func FuzzRead(f *testing.F) {
	f.Add([]byte{0x0a, 0x02, 0x12, 0x00})
	f.Add([]byte{0x0b, 0x0c})
	f.Fuzz(func(t *testing.T, data []byte) {
		var want, got protobufs.AgentToServer
		wrong := proto.UnmarshalOptions{DiscardUnknown: true}.Unmarshal(data, &want)
		err := Read(data, &got)
		if wrong == nil && len(data) < MaxElements {
			require.NoError(t, err)
			assert.True(t, proto.Equal(&want, &got))
		}
		if wrong != nil {
			assert.Error(t, err)
		}
	})
}
