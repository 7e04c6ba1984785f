package workbench

import (
	"bytes"
	"slices"
	"strings"

	"synaxis/internal/core/lines"
	"synaxis/internal/core/mask"
)

// Found is private data of a log with its surroundings, for the eyes of who brought the log. JSON has the Hit only.
type Found struct {
	Hit
	Before string `json:"-"` // the line's text before it, shortened
	Text   string `json:"-"`
}

// Scannable is a log in which masks can look: utf-16 is made characters; all else stays as it is, so that places are
// those of the file.
func Scannable(data []byte) []byte {
	if encoding := lines.Detect(data); strings.HasPrefix(encoding, "utf-16") {
		return lines.Text(data, encoding)
	}
	return data
}

// Scan finds private data by the detectors, and by masks what these alone find.
func Scan(data []byte, finders []*mask.Finder) []Found {
	type place struct {
		mask.Hit
		masks []string
	}
	var detected, own []place
	for _, h := range mask.Scan(data) {
		detected = append(detected, place{h, []string{h.Detector}})
	}
	for _, f := range finders {
		for _, h := range f.FindLines(data) {
			at, _ := slices.BinarySearchFunc(detected, h.Start+1, func(p place, from int) int { return p.End - from })
			taken := false
			for ; at < len(detected) && detected[at].Start < h.End; at++ {
				if h.Start <= detected[at].Start && detected[at].End <= h.End { // a part is not enough
					detected[at].masks, taken = append(detected[at].masks, h.Detector), true
				}
			}
			if !taken {
				own = append(own, place{mask.Hit{Start: h.Start, End: h.End}, []string{h.Detector}})
			}
		}
	}
	all := append(detected, own...)
	slices.SortStableFunc(all, func(a, b place) int { return a.Start - b.Start })
	hits := []Found{}
	line, lineStart := 1, 0
	for _, p := range all {
		line += bytes.Count(data[lineStart:p.Start], []byte("\n"))
		lineStart += bytes.LastIndexByte(data[lineStart:p.Start], '\n') + 1
		slices.Sort(p.masks)
		hits = append(
			hits,
			Found{
				Hit{
					Line:     line,
					Start:    p.Start - lineStart,
					End:      p.End - lineStart,
					Lines:    1 + bytes.Count(data[p.Start:p.End], []byte("\n")),
					Detector: p.Detector,
					Masks:    slices.Compact(p.masks),
				},
				string(data[lineStart+max(0, p.Start-lineStart-shownBefore) : p.Start]),
				string(data[p.Start:p.End]),
			},
		)
	}
	return hits
}

// shownBefore is how many bytes of a line are shown before private data, so that the place is known.
const shownBefore = 40
