package mask

import "bytes"

// A gate tells quickly that a text holds nothing for a detector: what it lets through may still be nothing. What a
// gate stops in a text it stops in every part of it.
var gates = map[string]func(text []byte) bool{
	"payment-card": func(text []byte) bool { return run(text, &cardBytes, 13, 13) },
	"iban":         func(text []byte) bool { return ibanHead.next(text, 0) >= 0 },
	"email":        func(text []byte) bool { return bytes.IndexByte(text, '@') >= 0 },
	"ipv4":         func(text []byte) bool { return run(text, &dottedBytes, 7, 4) },
	"ipv6": func(text []byte) bool {
		return bytes.Contains(text, []byte("::")) || bytes.Count(text, []byte{':'}) >= 6
	},
	"phone":       func(text []byte) bool { return run(text, &phoneBytes, 8, 8) },
	"jwt":         func(text []byte) bool { return bytes.Contains(text, []byte("eyJ")) },
	"private-key": func(text []byte) bool { return bytes.Contains(text, []byte("-----BEGIN ")) },
	"mac": func(text []byte) bool {
		return bytes.Count(text, []byte{':'}) >= 5 || bytes.Count(text, []byte{'-'}) >= 5 ||
			bytes.Count(text, []byte{'.'}) >= 2
	},
}

// ibanHead is a country and its two check digits.
var ibanHead = required(`[A-Za-z][A-Za-z][0-9][0-9]`)

// byteSet is a set of bytes.
type byteSet [256]bool

func setOf(bytes string) (s byteSet) {
	for i := range len(bytes) {
		s[bytes[i]] = true
	}
	return s
}

var (
	cardBytes   = setOf("0123456789 -")
	dottedBytes = setOf("0123456789.")
	phoneBytes  = setOf("0123456789 -./()+")
)

// run tells whether a text has a run of bytes of a set that is at least so long and holds so many digits. It looks at
// one byte of each length only: a run cannot lie between two of them.
func run(text []byte, set *byteSet, length, digits int) bool {
	for i := length - 1; i < len(text); i += length {
		if !set[text[i]] {
			continue
		}
		from, n := i, 0
		for from > 0 && set[text[from-1]] {
			from--
		}
		for i = from; i < len(text) && set[text[i]]; i++ {
			if text[i]-'0' <= 9 {
				n++
			}
		}
		if n >= digits && i-from >= length {
			return true
		}
	}
	return false
}

// hasFold tells whether a text begins with a key of small letters, in whatever case it is written.
func hasFold(text, key []byte) bool {
	if len(text) < len(key) {
		return false
	}
	for i, k := range key {
		c := text[i]
		if c != k && (k < 'a' || k > 'z' || c|0x20 != k) {
			return false
		}
	}
	return true
}
