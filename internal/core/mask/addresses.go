package mask

import (
	"bytes"
	"net/netip"
	"slices"
)

func findEmails(text []byte, add func(start, end int)) {
	last := 0
	for from := 0; ; {
		k := bytes.IndexByte(text[from:], '@')
		if k < 0 {
			return
		}
		at := from + k
		from = at + 1
		start := at
		for start > last && (isAlnum(text[start-1]) || bytes.IndexByte([]byte("._%+-"), text[start-1]) >= 0) {
			start--
		}
		if k := bytes.LastIndex(text[start:at], []byte("..")); k >= 0 { // no address has two dots in a row
			start += k + 2
		}
		for start < at && (text[start] == '.' || text[start] == '-' || text[start] == '%') {
			start++
		}
		end := at + 1
		for end < len(text) && (isAlnum(text[end]) || text[end] == '-' || text[end] == '.') {
			end++
		}
		for end > at+1 && !isAlnum(text[end-1]) {
			end--
		}
		domain := text[at+1 : end]
		dot := bytes.LastIndexByte(domain, '.')
		if start == at || at-start > 64 || text[at-1] == '.' || dot <= 0 || len(domain)-dot-1 < 2 ||
			!allLetters(domain[dot+1:]) ||
			domain[0] == '-' ||
			domain[0] == '.' ||
			bytes.Contains(domain, []byte("..")) {
			continue
		}
		if start > 0 && (text[start-1] == ':' || text[start-1] == '/') &&
			bytes.Contains(text[max(0, start-40):start], []byte("://")) { // the user of an address
			continue
		}
		if string(text[start:at]) == "git" && end+1 < len(text) && text[end] == ':' &&
			isAlnum(text[end+1]) { // where a repository is
			continue
		}
		if notDomains[string(bytes.ToLower(domain[dot+1:]))] {
			continue
		}
		add(start, end)
		from, last = end, end
	}
}

// notDomains end names of units and files that have an @ in them; no domain ends so.
var notDomains = map[string]bool{
	"service": true,
	"socket":  true,
	"timer":   true,
	"mount":   true,
	"slice":   true,
	"scope":   true,
	"device":  true,
	"target":  true,
	"path":    true,
	"png":     true,
	"jpg":     true,
	"svg":     true,
	"css":     true,
	"js":      true,
}

func allLetters(p []byte) bool {
	return !slices.ContainsFunc(p, func(c byte) bool { return !isLetter(c) })
}

func findIPv4(text []byte, add func(start, end int)) {
	for i := 0; i < len(text); i++ {
		if !isDigit(text[i]) {
			continue
		}
		start := i
		for i < len(text) && (isDigit(text[i]) || text[i] == '.') {
			i++
		}
		end := i
		for end > start && text[end-1] == '.' {
			end--
		}
		if end-start < 7 || end-start > 15 || inWord(text, start-1) || inWord(text, end) ||
			start > 0 && (text[start-1] == '.' || text[start-1] == ':' && start > 1 && isHex(text[start-2])) {
			continue
		}
		if dotted(text[start:end]) && !version(text, start) {
			add(start, end)
		}
	}
}

// dotted tells whether a text is an IPv4 address: four numbers up to 255, without zeros in front.
func dotted(p []byte) bool {
	part, n, value := 1, 0, 0
	for i, c := range p {
		switch {
		case c == '.':
			if n == 0 || part == 4 {
				return false
			}
			part, n, value = part+1, 0, 0
		case n > 0 && p[i-n] == '0':
			return false
		default:
			if value, n = value*10+int(c-'0'), n+1; value > 255 {
				return false
			}
		}
	}
	return part == 4 && n > 0
}

var versionWords = [][]byte{
	[]byte("version"),
	[]byte("release"),
	[]byte("build"),
	[]byte("firmware"),
	[]byte("revision"),
	[]byte("ver"),
	[]byte("rev"),
}

// version tells whether a dotted number is a version: of a program (Name/126.0.0.0, name-1.2.3.4), or behind a word
// that says so.
func version(text []byte, start int) bool {
	if start == 0 {
		return false
	}
	if c := text[start-1]; c == '-' || c == '/' && start > 1 && isLetter(text[start-2]) {
		at := start - 1
		for at > 0 && (isAlnum(text[at-1]) || text[at-1] == '.' || text[at-1] == '-' || text[at-1] == '_') {
			at--
		}
		return c == '-' || text[at] >= 'A' && text[at] <= 'Z' // a host's name before its address is written small
	}
	word := bytes.TrimRight(text[max(0, start-12):start], " :=.\"")
	return slices.ContainsFunc(versionWords, func(v []byte) bool {
		return len(word) >= len(v) && bytes.EqualFold(word[len(word)-len(v):], v) &&
			(len(word) == len(v) || !isLetter(word[len(word)-len(v)-1]))
	})
}

func findIPv6(text []byte, add func(start, end int)) {
	for i := 0; i < len(text); i++ {
		if !isHex(text[i]) && text[i] != ':' {
			continue
		}
		start, colons := i, 0
		for i < len(text) && (isHex(text[i]) || text[i] == ':' || text[i] == '.') {
			if text[i] == ':' {
				colons++
			}
			i++
		}
		end := i
		for end > start && (text[end-1] == '.' || text[end-1] == ':' && !(end-2 >= start && text[end-2] == ':')) {
			end--
		}
		if colons < 2 || end-start < 3 || inWord(text, start-1) || inWord(text, end) {
			continue
		}
		if a, err := netip.ParseAddr(string(text[start:end])); err == nil && a.Is6() &&
			(colons > 2 || hasDigit(text[start:end])) &&
			!yearAndClock(text[start:end]) { // two words with :: between them are none
			add(start, end)
		}
	}
}

// yearAndClock tells whether this is the end of a date that has a clock behind it, as 2-Apr-2031::06:15:09.
func yearAndClock(p []byte) bool {
	return len(p) == len("2031::06:15:09") && (p[0] == '1' || p[0] == '2') && p[4] == ':' && p[5] == ':' &&
		p[8] == ':' &&
		p[11] == ':' &&
		!bytes.ContainsAny(p, "abcdefABCDEF")
}

func findMACs(text []byte, add func(start, end int)) {
	for i := 0; i+14 <= len(text); i++ {
		if !isHex(text[i]) || inWord(text, i-1) ||
			i > 0 && (text[i-1] == ':' || text[i-1] == '-' || text[i-1] == '.') {
			continue
		}
		end := 0
		if i+17 <= len(text) && isHex(text[i+1]) && (text[i+2] == ':' || text[i+2] == '-') {
			end = grouped(text, i, 6, 2, text[i+2])
		} else if text[i+4] == '.' {
			end = grouped(text, i, 3, 4, '.')
		}
		if end == 0 || inWord(text, end) ||
			end < len(text) &&
				(text[end] == ':' || text[end] == '-' || text[end] == '.' && end+1 < len(text) && isHex(text[end+1])) {
			continue
		}
		add(i, end)
		i = end - 1
	}
}

// grouped reads groups of hexadecimal digits with a separator between them; 0 when they are not there.
func grouped(text []byte, at, groups, size int, sep byte) int {
	for g := range groups {
		if g > 0 {
			if at >= len(text) || text[at] != sep {
				return 0
			}
			at++
		}
		for range size {
			if at >= len(text) || !isHex(text[at]) {
				return 0
			}
			at++
		}
	}
	return at
}
