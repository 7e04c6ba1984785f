package mask

import "slices"

// Hit is private data in a text: its place in bytes, and the detector or the mask that found it.
type Hit struct {
	Start, End int
	Detector   string
}

// detectors find what their names say. They are made for precision: what has a checksum must keep it, and what stands
// inside a longer word or number is none.
var detectors = map[string]func(text []byte, add func(start, end int)){
	"payment-card": findCards, "iban": findIBANs, "email": findEmails, "ipv4": findIPv4, "ipv6": findIPv6,
	"phone": findPhones, "jwt": findJWTs,
	"private-key": findPrivateKeys, "token": findTokens, "password": findPasswords, "mac": findMACs,
}

// Detect finds what one detector of Detectors finds in a text, in order; nothing for a name that is not known.
func Detect(detector string, text []byte) []Hit {
	var out []Hit
	if find := detectors[detector]; find != nil && passes(gates[detector], text) {
		find(text, func(start, end int) { out = append(out, Hit{start, end, detector}) })
	}
	return out
}

// passes asks a gate, if there is one.
func passes(gate func([]byte) bool, text []byte) bool { return gate == nil || gate(text) }

// Scan finds what all detectors find, in order. Where two take the same bytes the one that comes first, or is longer,
// stays.
func Scan(text []byte) []Hit {
	var all []Hit
	for _, d := range Detectors {
		all = append(all, Detect(d, text)...)
	}
	rank := func(d string) int { return slices.Index(Detectors, d) }
	slices.SortStableFunc(all, func(a, b Hit) int {
		if a.Start != b.Start {
			return a.Start - b.Start
		}
		if a.End != b.End {
			return b.End - a.End
		}
		return rank(a.Detector) - rank(b.Detector)
	})
	out := all[:0]
	for _, h := range all {
		if n := len(out); n > 0 && h.Start < out[n-1].End {
			continue
		}
		out = append(out, h)
	}
	return out
}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }
func isLetter(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
}
func isHex(c byte) bool   { return isDigit(c) || c|0x20 >= 'a' && c|0x20 <= 'f' }
func isAlnum(c byte) bool { return isDigit(c) || isLetter(c) }

// inWord tells whether the byte before a place belongs to the same word.
func inWord(text []byte, at int) bool {
	return at >= 0 && at < len(text) && (isAlnum(text[at]) || text[at] == '_' || text[at] >= 0x80)
}

func hasDigit(p []byte) bool { return slices.ContainsFunc(p, isDigit) }
