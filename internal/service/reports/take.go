package reports

import (
	"time"

	"synaxis/internal/core/wire"
)

// countsNew is how long ago an agent that was never heard of may have begun to count, so that what it counted until
// now is of now.
const countsNew = 10 * time.Minute

// TakeNumbers takes the numbers of an agent.
func (r *Reports) TakeNumbers(host string, x wire.Report) { r.report(host, x, false) }

// TakeReport takes a message that an agent sent over a WebSocket and that has no more in it than numbers.
func (r *Reports) TakeReport(host string, x wire.Report) { r.report(host, x, true) }

// WebSocket is the transport of agents that are connected.
const WebSocket = "websocket"

func (r *Reports) report(host string, x wire.Report, heard bool) {
	numbers := cleanNumbers(x.Sources)
	destinations := bounded(x.Destinations, maxNames)
	for _, d := range destinations {
		bounded(d.Answers, maxAnswers)
	}
	site := r.numbers.Site(host)
	r.change(host, func(e *entry, s *Said) {
		now := r.now()
		if heard {
			e.dirty = e.dirty || s.Transport != WebSocket
			s.LastSeen, s.Transport = now, WebSocket
		}
		if !x.ProcessAt.IsZero() {
			s.used = s.used.take(x.Process, x.ProcessAt)
		}
		if numbers != nil {
			grew := e.take(s, numbers, x.Start, x.At, now)
			s.Destinations = destinations
			// here, so that nobody ever writes one without the other
			r.numbers.Take(now, host, site, grew, numbers)
		}
	})
	if numbers != nil {
		r.note("numbers")
	}
}

// take takes numbers whose sums count since start, as of at by the clock of the host, and brings them up to what was
// told before. It answers what sums grew by.
func (e *entry) take(
	s *Said, numbers map[string]wire.Numbers, start, at, now time.Time,
) (grew map[string]wire.Numbers) {
	if bucket := now.Unix() / 300 * 300; bucket != e.bucket {
		if e.bucket != 0 {
			counted := deltas(e.base, s.Numbers)
			e.learn(counted)
			e.passed(e.bucket, s.total(counted, e.used), reads(counted))
		} else {
			e.began = now.Unix()
		}
		e.bucket, e.base, e.since, e.used = bucket, s.Numbers, s.Counting, s.used
	}
	if start.IsZero() { // it runs no source now, and has not begun to count anew
		start = s.Counting
	}
	same := s.Counting.Equal(start)
	before := s.Numbers
	e.counted, e.dirty = true, e.dirty || !same
	s.book(numbers, at)
	if s.told = now; !at.IsZero() {
		s.skew = at.Sub(now)
	}
	all, recent := make(map[string]wire.Numbers, len(numbers)), make(map[string]*window, len(numbers))
	for name, n := range s.Numbers { // a source that the host runs no more keeps what it had
		if len(numbers)+len(all) < maxSources {
			all[name] = n
		}
	}
	late, left := now.Sub(at).Nanoseconds(), room(s.Numbers)
	for name, n := range numbers {
		for of := range n.SenderOldest { // by our own clock, before those stay that are not told
			n.SenderOldest[of] += late
		}
		was, ok := all[name]
		if left = within(n, was, left); ok && same {
			n = n.NotBelow(was)
		} else {
			n = n.Clone()
		}
		if n.Oldest > 0 {
			n.Oldest += late
		}
		for to, d := range n.Deliveries {
			if d.Oldest > 0 {
				d.Oldest += late
				n.Deliveries[to] = d
			}
		}
		all[name], numbers[name] = n, n
		recent[name] = s.recent[name].add(n, now)
	}
	s.Numbers, s.recent, s.Counting = all, recent, start
	switch {
	case same:
		grew = deltas(before, all)
	case len(before) > 0, at.Sub(start) < countsNew: // it counts from nothing
		grew = deltas(nil, numbers)
	default:
		e.base, e.since, e.strange = all, start, true
	}
	return grew
}

// book keeps what became of records at destinations, as it was told, and how fast they took them.
func (s *Said) book(numbers map[string]wire.Numbers, at time.Time) {
	before, since := s.Books, at.Sub(s.booked).Seconds()
	s.Books, s.booked, s.Rates = make(map[string]map[string]wire.DeliveryCounts, len(numbers)), at, nil
	for source, n := range numbers {
		s.Books[source] = n.Deliveries
		for to, d := range n.Deliveries {
			if was, ok := before[source][to]; ok && since > 0 && d.Acknowledged > was.Acknowledged {
				if s.Rates == nil {
					s.Rates = map[string]float64{}
				}
				s.Rates[to] += float64(d.Acknowledged-was.Acknowledged) / since
			}
		}
	}
}

// maxAnswers bounds the kinds of answers of a destination.
const maxAnswers = 32
