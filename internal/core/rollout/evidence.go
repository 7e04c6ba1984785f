package rollout

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"synaxis/internal/core/health"
)

// Sums are what the sources of a host have counted together.
type Sums struct {
	Read, Unparsed, NoZone, Rejected, Acknowledged int64
	CPU, Over                                      time.Duration // what its agent used, and in what time that was
}

// Add sums up.
func (s *Sums) Add(o Sums) {
	s.Read += o.Read
	s.Unparsed += o.Unparsed
	s.NoZone += o.NoZone
	s.Rejected += o.Rejected
	s.Acknowledged += o.Acknowledged
	s.CPU += o.CPU
	s.Over += o.Over
}

// Past is what a host counted in the hour before it changed, or in the part of it in which it was known.
type Past struct {
	Sums
	Span time.Duration
}

// Seen is what is known of a host that a rollout has told.
type Seen struct {
	Host      string
	State     HostState
	Connected bool
	Before    health.State // as it was before it was told; "" where that is not known
	Now       health.Verdict
	Past      Past
	Since     time.Duration // how long ago it had changed
	Got       Sums          // since then
	Reported  bool          // since then
	Sources   int           // how many it has
}

// cpuOver is how long the use of an agent must have been measured to be of use.
const cpuOver = 20 * time.Second

// cpuRise is by how much the share of a core that the agent uses is above what it was; false where one of both is not
// known.
func (s Seen) cpuRise() (rise float64, known bool) {
	if s.Got.Over < cpuOver || s.Past.Over < cpuOver {
		return 0, false
	}
	return s.Got.CPU.Seconds()/s.Got.Over.Seconds() - s.Past.CPU.Seconds()/s.Past.Over.Seconds(), true
}

// enoughPast is how long a host must have been known before its change for its rates to be of use.
const enoughPast = 5 * time.Minute

// overLastMinutes are the codes of what is judged over health.Window, which may reach back before the change.
var overLastMinutes = []health.Code{health.RecordsRefused, health.ReadsTooFew, health.StampsWithoutZone}

// degraded tells whether the host is degraded by what came since it changed, and was not before.
func (s Seen) degraded() bool {
	switch {
	case s.Now.State != health.Degraded || s.Before == health.Degraded:
		return false
	case !slices.Contains(overLastMinutes, s.Now.Code):
		return true
	case s.State != Confirmed:
		return false
	case s.Since >= health.Window:
		return true
	}
	return s.Got.Rejected > 0 || s.Got.Read >= health.Fewest && max(s.Got.Unparsed, s.Got.NoZone)*20 > s.Got.Read
}

// usual is how many records the host usually reads and has acknowledged in a time; false where that is not known.
func (s Seen) usual(in time.Duration) (read, acknowledged float64, known bool) {
	if s.Past.Span < enoughPast {
		return 0, 0, false
	}
	part := in.Seconds() / s.Past.Span.Seconds()
	return float64(s.Past.Read) * part, float64(s.Past.Acknowledged) * part, true
}

// lacks tells why nothing is proven by the host yet, or "".
func (s Seen) lacks() string {
	_, _, known := s.usual(0)
	switch {
	case !s.Connected:
		return s.Host + " is away"
	case !s.Reported:
		return s.Host + " has not reported since it changed"
	case s.Now.State == health.Waiting:
		return s.Host + " waits: " + s.Now.Reason
	case s.Got.Read == 0 && s.Sources > 0 && !known:
		return s.Host + " has read no record, and what it usually reads is not known"
	}
	return ""
}

// Measure tells what is known of the hosts of a wave that were told. What they read in the soak is held against what
// they usually read in such a time.
func Measure(wave int, hosts []Seen, soak time.Duration) Evidence {
	n := map[string]float64{"failing": 0, "degraded": 0, "silent": 0, "refused": 0, "timed_out": 0}
	var got, past Sums
	var due, dueAcknowledged, inSoak float64 // records that are usual since the change, and in a soak
	var missing, wrong []string
	confirmed, sources, quiet := 0, 0, true
	cpu, measured := 0.0, 0
	for _, s := range hosts {
		switch s.State {
		case Refused:
			n["refused"]++
		case TimedOut:
			n["timed_out"]++
		}
		failing := s.Connected && s.Now.State == health.Failing && s.Before != health.Failing
		if failing {
			n["failing"]++
		}
		if s.degraded() {
			n["degraded"]++
		}
		if failing || s.degraded() {
			wrong = append(wrong, s.Host+": "+s.Now.Reason)
		}
		if s.State != Confirmed {
			continue
		}
		if why := s.lacks(); why != "" {
			missing = append(missing, why)
		}
		if !s.Connected {
			continue
		}
		confirmed++
		if rise, known := s.cpuRise(); known {
			cpu += rise
			measured++
		}
		sources += s.Sources
		got.Add(s.Got)
		read, acknowledged, known := s.usual(s.Since)
		quiet = quiet && (known || s.Got.Read > 0 || s.Sources == 0)
		if known {
			past.Add(s.Past.Sums)
			due += read
			dueAcknowledged += acknowledged
			soaked, _, _ := s.usual(soak)
			inSoak += soaked
			if read >= health.Fewest && s.Got.Read == 0 {
				n["silent"]++
			}
		}
	}
	for _, name := range []string{"failing", "degraded", "silent", "refused", "timed_out"} {
		n[name+"_share"] = n[name] / float64(max(1, len(hosts)))
	}
	switch {
	case confirmed == 0:
		missing = append(missing, "no host has it yet")
	case sources == 0, got.Read == 0 && quiet && inSoak < 1: // there is nothing to be read
		n["unparsed_share"], n["rejected_share"] = 0, 0
	case got.Read == 0 && inSoak >= 1:
		missing = append(missing, fmt.Sprintf("no record was read yet; about %.0f usually are in %s", inSoak, soak))
	case got.Read >= health.Fewest || got.Read > 0 && inSoak < health.Fewest:
		n["unparsed_share"] = rise(got.Unparsed, got.Read, past.Unparsed, past.Read)
		n["rejected_share"] = rise(got.Rejected, got.Read, past.Rejected, past.Read)
	}
	if measured > 0 && measured == confirmed {
		n["cpu_share"] = max(0, cpu/float64(measured))
	}
	if due >= health.Fewest {
		n["read_ratio"] = float64(got.Read) / due
	}
	if dueAcknowledged >= health.Fewest {
		n["delivered_ratio"] = float64(got.Acknowledged) / dueAcknowledged
	}
	return Evidence{Wave: wave, Numbers: n, Enough: len(missing) == 0, Missing: some(missing), Wrong: some(wrong)}
}

// rise is by how much a share is above what it was.
func rise(part, whole, partBefore, wholeBefore int64) float64 {
	before := 0.0
	if wholeBefore > 0 {
		before = float64(partBefore) / float64(wholeBefore)
	}
	return max(0, float64(part)/float64(whole)-before)
}

// some are the first of many texts.
func some(all []string) string {
	const most = 3
	if slices.Sort(all); len(all) > most {
		all = append(all[:most:most], fmt.Sprintf("and %d more", len(all)-most))
	}
	return strings.Join(all, "; ")
}
