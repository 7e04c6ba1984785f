package trial

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"synaxis/internal/core/wire"
)

func side(read int64, fields map[string]map[wire.Type]int64) *wire.TrialSide {
	s := NewSide()
	s.Read, s.Drops["drop"], s.Levels["WARN"] = read, 1, read
	s.Destinations["out"] = wire.TrialSent{Records: read, Bytes: 10 * read}
	s.Fields = fields
	return s
}

func TestAddAndFields(t *testing.T) {
	t.Parallel()
	a := side(2, map[string]map[wire.Type]int64{"lane": {"int": 2}, "gone": {"text": 1}})
	b := side(3, map[string]map[wire.Type]int64{"lane": {"int": 3}})
	assert.Nil(t, Add(nil, nil))
	sum := Add(Add(Add(nil, a), nil), b)
	assert.Equal(t, map[string]map[wire.Type]int64{"lane": {"int": 5}, "gone": {"text": 1}}, sum.Fields)
	assert.Equal(t, wire.TrialSent{Records: 5, Bytes: 50}, sum.Destinations["out"])
	assert.Equal(t, map[string]int64{"drop": 2}, sum.Drops)
	assert.Equal(t, map[string]int64{"WARN": 5}, sum.Levels)
	assert.EqualValues(t, 2, a.Read, "what was added stays as it was")
	then := side(5, map[string]map[wire.Type]int64{"lane": {"int": 2, "text": 3}, "new": {"bool": 5}})
	assert.Equal(t, []Field{
		{"gone", Vanishes, map[wire.Type]int64{"text": 1}, nil},
		{"lane", Retyped, map[wire.Type]int64{"int": 5}, map[wire.Type]int64{"int": 2, "text": 3}},
		{"new", Appears, nil, map[wire.Type]int64{"bool": 5}},
	}, Fields(sum, then))
	assert.Empty(t, Fields(sum, sum))
}

func TestDifferences(t *testing.T) {
	t.Parallel()
	const now = `{"time":"t","level":"WARN","body":"lane=4","fields":{"lane":4,"who":"ada","list":[1]},` +
		`"notes":{"masked":["x"]}}`
	for then, want := range map[string][]Difference{
		now: nil,
		`{"time":"t","level":"ERROR","body":"lane=4","fields":{"lane":"4","who":"ada","list":[1,2],"new":true}}`: {
			{"fields.lane", "4", `"4"`}, {"fields.list", "[1]", "[1,2]"}, {"fields.new", "", "true"},
			{"level", "WARN", "ERROR"}, {"notes.masked", `["x"]`, ""}},
	} {
		body, got, ok := Differences(now, then)
		assert.True(t, ok)
		assert.Equal(t, "lane=4", body)
		assert.Equal(t, want, got, then)
	}
	for _, text := range []string{"", "no record", `{"cut":"o`} {
		_, _, ok := Differences(now, text)
		assert.False(t, ok)
		_, _, ok = Differences(text, now)
		assert.False(t, ok)
	}
}

func FuzzDifferences(f *testing.F) {
	f.Add(`{"a":1}`, `{"a":{"b":2}}`)
	f.Fuzz(func(t *testing.T, now, then string) {
		_, there, ok := Differences(now, then)
		_, back, okBack := Differences(then, now)
		assert.Equal(t, ok, okBack)
		assert.Len(t, back, len(there), "both ways the same parts")
		if _, same, ok := Differences(now, now); ok {
			assert.Empty(t, same)
		}
	})
}
