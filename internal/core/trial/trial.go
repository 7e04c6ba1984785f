// Package trial sums up what hosts found when they treated records by another config too, and tells what differs.
package trial

import (
	"encoding/json"
	"maps"
	"slices"

	"synaxis/internal/core/wire"
)

// NewSide makes the sums of one treatment.
func NewSide() *wire.TrialSide {
	return &wire.TrialSide{Drops: map[string]int64{}, Destinations: map[string]wire.TrialSent{},
		Fields: map[string]map[wire.Type]int64{}, Levels: map[string]int64{}}
}

// Add adds what another host found. It answers sum, or a new one where there is none; o may be nil.
func Add(sum, o *wire.TrialSide) *wire.TrialSide {
	if o == nil {
		return sum
	}
	if sum == nil {
		sum = NewSide()
	}
	sum.Read += o.Read
	sum.Unparsed += o.Unparsed
	sum.Dropped += o.Dropped
	sum.Masked += o.Masked
	sum.NoZone += o.NoZone
	sum.Failed += o.Failed
	sum.Nanoseconds += o.Nanoseconds
	add(sum.Drops, o.Drops)
	add(sum.Levels, o.Levels)
	for to, d := range o.Destinations {
		have := sum.Destinations[to]
		sum.Destinations[to] = wire.TrialSent{Records: have.Records + d.Records, Bytes: have.Bytes + d.Bytes}
	}
	for name, types := range o.Fields {
		if sum.Fields[name] == nil {
			sum.Fields[name] = map[wire.Type]int64{}
		}
		add(sum.Fields[name], types)
	}
	return sum
}

func add(sum, o map[string]int64) {
	for k, n := range o {
		sum[k] += n
	}
}

// Change is how a field differs.
type Change string

// The changes.
const (
	Appears  Change = "appears"
	Vanishes Change = "vanishes"
	Retyped  Change = "type"
)

// Field is a field that differs, with how many values of each type it has now and then.
type Field struct {
	Name      string
	Change    Change
	Now, Then map[wire.Type]int64
}

// Fields are the fields that appear, vanish, or have values of other types, by name.
func Fields(now, then *wire.TrialSide) (out []Field) {
	all := maps.Clone(now.Fields)
	maps.Copy(all, then.Fields)
	for _, name := range slices.Sorted(maps.Keys(all)) {
		f := Field{Name: name, Now: now.Fields[name], Then: then.Fields[name]}
		switch {
		case len(f.Now) == 0:
			f.Change = Appears
		case len(f.Then) == 0:
			f.Change = Vanishes
		case !slices.Equal(slices.Sorted(maps.Keys(f.Now)), slices.Sorted(maps.Keys(f.Then))):
			f.Change = Retyped
		default:
			continue
		}
		out = append(out, f)
	}
	return out
}

// Difference is one part of a record, such as level or fields.result, that is not the same; "" where it is not there.
type Difference struct{ Part, Now, Then string }

// Differences tells in what a record differs, given both ways as it is written to files, and its body as it is now. ok
// is false where one of them is no record.
func Differences(now, then string) (body string, out []Difference, ok bool) {
	a, b := map[string]string{}, map[string]string{}
	if !parts(now, a) || !parts(then, b) {
		return "", nil, false
	}
	all := maps.Clone(a)
	maps.Copy(all, b)
	for _, part := range slices.Sorted(maps.Keys(all)) {
		if a[part] != b[part] {
			out = append(out, Difference{part, a[part], b[part]})
		}
	}
	return a["body"], out, true
}

// parts reads a record into its parts.
func parts(text string, into map[string]string) bool {
	var record map[string]json.RawMessage
	if json.Unmarshal([]byte(text), &record) != nil {
		return false
	}
	for name, value := range record {
		var inner map[string]json.RawMessage
		if json.Unmarshal(value, &inner) == nil {
			for key, v := range inner {
				into[name+"."+key] = string(v) // with its quotes, since 4 and "4" are not the same
			}
			continue
		}
		into[name] = string(value)
		var text string
		if json.Unmarshal(value, &text) == nil { // time, level, body: always texts
			into[name] = text
		}
	}
	return true
}
