package guess

import (
	"fmt"
	"slices"
	"strings"

	"synaxis/internal/core/format"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/record"
)

// Field is what a field looks like over all records.
type Field struct {
	Name, Type string
	Examples   []string
	Share      float64 // of the records that have it
}

// infer finds the fields that hold time, level and body, where they have other names than usual; it tells whether it
// found any.
func infer(spec *format.Spec, records []pipeline.Tried) bool {
	type seen struct{ n, times, levels, texts int }
	at := map[string]*seen{}
	var order []string
	read, timed, leveled, bodied := 0, 0, 0, 0
	for _, r := range records {
		if !r.Read {
			continue
		}
		read++
		if r.TimeNote != record.TimeUnreadable && timedBy(r) {
			timed++
		}
		if r.Level != "" {
			leveled++
		}
		if r.Body != r.Original {
			bodied++
		}
		for _, f := range r.Fields {
			x := at[f.Name]
			if x == nil {
				x = &seen{}
				at[f.Name] = x
				order = append(order, f.Name)
			}
			x.n++
			text := fmt.Sprint(f.Value)
			if n, ok := format.Recognise([]byte(text)); ok && n == len(text) && n >= 10 {
				x.times++
			}
			if levelWord(text) || len(text) == 1 && strings.Contains("TVDIWEF", text) && f.Type == "text" {
				x.levels++
			}
			if f.Type == "text" {
				x.texts++
			}
		}
	}
	found := false
	pick := func(into *string, ok func(name string, x *seen) bool) {
		for _, name := range order {
			if x := at[name]; x.n*10 >= read*9 && ok(name, x) {
				*into, found = name, true
				return
			}
		}
	}
	if read == 0 {
		return false
	}
	if timed == 0 {
		pick(&spec.Time.Field, func(_ string, x *seen) bool { return x.times == x.n })
	}
	if leveled == 0 {
		pick(&spec.Level.Field, func(_ string, x *seen) bool { return x.levels == x.n })
	}
	if bodied == 0 && spec.Kind == "json" {
		pick(&spec.Body, func(name string, x *seen) bool {
			return x.texts == x.n &&
				slices.Contains(
					[]string{
						"log",
						"text",
						"event",
						"short_message",
						"MESSAGE",
						"Message",
						"@message",
						"log.message",
						"msg_text",
						"RenderedMessage",
						"@m",
						"MessageTemplate",
						"@mt",
						"textPayload",
						"jsonPayload.message",
						"record.message",
						"attributes.message",
					},
					name,
				)
		})
	}
	return found
}
