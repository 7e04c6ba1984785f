package protofields

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"google.golang.org/protobuf/encoding/protowire"
)

func TestEach(t *testing.T) {
	t.Parallel()
	var data []byte
	data = protowire.AppendVarint(protowire.AppendTag(data, 1, protowire.VarintType), 300)
	data = protowire.AppendFixed64(protowire.AppendTag(data, 2, protowire.Fixed64Type), 7)
	data = protowire.AppendFixed32(protowire.AppendTag(data, 3, protowire.Fixed32Type), 8)
	data = protowire.AppendBytes(protowire.AppendTag(data, 4, protowire.BytesType), []byte("in"))
	data = protowire.AppendGroup(protowire.AppendTag(data, 5, protowire.StartGroupType), 5, nil)
	var got []Field
	require.NoError(t, Each(data, func(f Field) error { got = append(got, f); return nil }))
	assert.Equal(t, []Field{{1, protowire.VarintType, 300, nil}, {2, protowire.Fixed64Type, 7, nil},
		{3, protowire.Fixed32Type, 8, nil}, {4, protowire.BytesType, 0, []byte("in")},
		{5, protowire.StartGroupType, 0, nil}}, got)
	whole := 0
	for n := range data { // whatever is cut off, nothing is made up
		if Each(data[:n], func(Field) error { return nil }) == nil {
			whole++
		}
	}
	assert.Equal(t, 5, whole, "only where a field ends, and at the beginning")
	stop := errors.New("enough")
	n := 0
	assert.ErrorIs(t, Each(data, func(Field) error { n++; return stop }), stop)
	assert.Equal(t, 1, n)
	var texts []string
	require.NoError(t, EachMessage(data, 4, func(p []byte) error { texts = append(texts, string(p)); return nil }))
	assert.Equal(t, []string{"in"}, texts)
	for _, bad := range [][]byte{{0xff}, {0x00, 0x00}, protowire.AppendVarint(protowire.AppendVarint(nil, (1<<29)<<3),
		1)} {
		assert.ErrorIs(t, Each(bad, func(Field) error { return nil }), ErrForm, "%x", bad)
	}
}
