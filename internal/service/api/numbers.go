package api

import (
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	"synaxis/internal/contract"
	"synaxis/internal/core/wire"
)

// fieldsOf are where the contract has each counter, by its key.
var fieldsOf = func() map[string]int {
	out := map[string]int{}
	for i, f := range reflect.VisibleFields(reflect.TypeFor[contract.Numbers]()) {
		key, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		out[key] = i
	}
	return out
}()

func numbers(n wire.Numbers) contract.Numbers {
	out := contract.Numbers{DropReasons: n.Drops, Destinations: []contract.DestinationNumbers{}}
	if out.DropReasons == nil {
		out.DropReasons = map[string]int64{}
	}
	for _, part := range []struct {
		of   map[string]int64
		into **map[string]int64
	}{{n.Masks, &out.Masks}, {n.TurnedAway, &out.TurnedAway}, {n.Filled, &out.Filled}} {
		if len(part.of) > 0 {
			*part.into = &part.of
		}
	}
	if all := senders(n); len(all) > 0 {
		out.Senders = &all
	}
	into := reflect.ValueOf(&out).Elem()
	for _, c := range wire.Counters {
		switch f, v := into.Field(fieldsOf[c.Key]), *c.Of(&n); {
		case c.Unit != "ns":
			f.SetInt(v)
		case v > 0: // a time
			t := time.Unix(0, v).UTC()
			f.Set(reflect.ValueOf(&t))
		}
	}
	for name, d := range n.Deliveries {
		out.Destinations = append(out.Destinations, deliveries(name, d))
		out.Refused += d.Refused
	}
	slices.SortFunc(
		out.Destinations,
		func(a, b contract.DestinationNumbers) int { return strings.Compare(a.Destination, b.Destination) },
	)
	return out
}

// senders are what is counted of senders that are known by their names.
func senders(n wire.Numbers) map[string]contract.SenderNumbers {
	all := make(map[string]contract.SenderNumbers, len(n.Senders))
	for name, read := range n.Senders {
		all[name] = contract.SenderNumbers{Read: read, Bytes: n.SenderBytes[name], Unparsed: n.SenderUnparsed[name],
			Dropped: n.SenderDropped[name], Masked: n.SenderMasked[name]}
	}
	each := func(of map[string]int64, do func(s *contract.SenderNumbers, with string, v int64)) {
		for name, v := range of {
			with, sender := wire.CutSenderOf(name)
			s := all[sender]
			do(&s, with, v)
			all[sender] = s
		}
	}
	each(n.SenderDrops, func(s *contract.SenderNumbers, why string, v int64) {
		s.DropReasons = named(s.DropReasons, why, v)
	})
	each(n.SenderMasks, func(s *contract.SenderNumbers, mask string, v int64) { s.Masks = named(s.Masks, mask, v) })
	each(n.SenderAcknowledged, func(s *contract.SenderNumbers, _ string, v int64) { s.Acknowledged += v })
	each(n.SenderSent, func(s *contract.SenderNumbers, _ string, v int64) { s.Sent += v })
	each(n.SenderRefused, func(s *contract.SenderNumbers, _ string, v int64) { s.Rejected += v })
	each(n.SenderWaiting, func(s *contract.SenderNumbers, _ string, v int64) { s.Waiting += v })
	each(n.SenderOldest, func(s *contract.SenderNumbers, _ string, v int64) {
		if t := time.Unix(0, v).UTC(); v > 0 && (s.Oldest == nil || t.Before(*s.Oldest)) {
			s.Oldest = &t
		}
	})
	return all
}

// named adds a number of a name.
func named(to *map[string]int64, name string, v int64) *map[string]int64 {
	if to == nil {
		to = &map[string]int64{}
	}
	(*to)[name] += v
	return to
}

// notes tell what is left out or late of a source, where that is no trouble.
func notes(n wire.Numbers) []string {
	out := []string{}
	if n.Packed > 0 {
		out = append(
			out,
			many(
				n.Packed,
				"packed file cannot be unpacked, and is not read",
				"packed files cannot be unpacked, and are not read",
			),
		)
	}
	if n.CertificateEnds > 0 {
		out = append(out, fmt.Sprintf("its certificate is good until %s, and is renewed by itself",
			time.Unix(0, n.CertificateEnds).UTC().Format(time.DateOnly)))
	}
	if n.Missed > 0 {
		out = append(out, many(n.Missed, "message was lost", "messages were lost")+", since more came than could be taken")
	}
	for _, why := range slices.Sorted(maps.Keys(n.TurnedAway)) {
		out = append(out, fmt.Sprintf("%d turned away: %s", n.TurnedAway[why], why))
	}
	if n.FirstRead > 0 {
		out = append(
			out,
			many(
				n.FirstRead,
				"byte is still to be read of files that are read for the first time",
				"bytes are still to be read of files that are read for the first time",
			),
		)
	}
	if n.Zeros > 0 {
		out = append(
			out,
			many(
				n.Zeros,
				"NUL byte was skipped at the begin of a line",
				"NUL bytes were skipped at the begin of lines",
			)+", as a program leaves them whose file was truncated while it wrote",
		)
	}
	if n.Truncated > 0 {
		out = append(
			out,
			many(
				n.Truncated,
				"truncation of a file while it was read",
				"truncations of files while they were read",
			)+"; what was written just before may be lost, unless a copy is collected too",
		)
	}
	return out
}

func many(n int64, one, more string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, more)
}
