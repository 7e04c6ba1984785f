package mask

import (
	"bytes"
	"slices"
)

// cardPrefixes are the issuers' ranges (ISO/IEC 7812) with the lengths that they use.
var cardPrefixes = []struct {
	from, to, digits int // of the first digits
	lengths          []int
}{{4, 4, 1, []int{13, 16, 19}}, {51, 55, 2, []int{16}}, {2221, 2720, 4, []int{16}}, {34, 34, 2, []int{15}}, {37, 37, 2,
	[]int{15}}, {6011, 6011, 4, []int{16, 19}}, {644, 649, 3, []int{16, 19}}, {65, 65, 2, []int{16, 19}},
	{
		3528,
		3589,
		4,
		[]int{16, 17, 18, 19},
	}, {36, 36, 2, []int{14}}, {38, 39, 2, []int{14, 16}}, {300, 305, 3, []int{14}}, {62, 62, 2, []int{16, 17, 18,
		19}},
	{
		2200,
		2204,
		4,
		[]int{16},
	}, {5018, 5018, 4, []int{16, 18, 19}}, {5020, 5020, 4, []int{16, 18, 19}}, {5038, 5038, 4, []int{16, 18, 19}}, {
		5893, 5893, 4, []int{16, 18, 19}}, {6304, 6304, 4, []int{16, 18, 19}}, {6759, 6763, 4, []int{16, 18, 19}}}

func findCards(text []byte, add func(start, end int)) {
	for i := 0; i < len(text); i++ {
		if !isDigit(text[i]) {
			continue
		}
		start := i
		var d [24]byte
		n, end, sep := 0, i, byte(0)
		for i < len(text) && n < len(d) {
			c := text[i]
			if isDigit(c) {
				d[n], n, end = c-'0', n+1, i+1
				i++
				continue
			}
			if (c != ' ' && c != '-') || sep != 0 && c != sep || i+1 == len(text) || !isDigit(text[i+1]) || n < 4 ||
				n == 4 && i-start != 4 {
				break
			}
			sep = c
			i++
		}
		for i < len(text) && isDigit(text[i]) { // longer than any
			n, i = len(d), i+1
		}
		if n < 13 || n > 19 || inWord(text, start-1) || inWord(text, end) ||
			start > 0 && (text[start-1] == '.' || text[start-1] == '-' || text[start-1] == '+') ||
			end+1 < len(text) && (text[end] == '.' || text[end] == '-') && isDigit(text[end+1]) {
			continue
		}
		if issued(d[:n]) && luhn(d[:n]) {
			add(start, end)
		}
	}
}

func issued(d []byte) bool {
	for _, p := range cardPrefixes {
		v := 0
		for _, x := range d[:p.digits] {
			v = v*10 + int(x)
		}
		if v >= p.from && v <= p.to && slices.Contains(p.lengths, len(d)) {
			return true
		}
	}
	return false
}

// luhn is the check of ISO/IEC 7812-1, annex B.
func luhn(d []byte) bool {
	sum, same := 0, true
	for i, x := range d {
		v := int(x)
		if (len(d)-i)%2 == 0 {
			if v *= 2; v > 9 {
				v -= 9
			}
		}
		sum += v
		same = same && x == d[0]
	}
	return sum%10 == 0 && !same
}

// ibanLengths are those of the IBAN registry (ISO 13616).
var ibanLengths = map[string]int{
	"AD": 24,
	"AE": 23,
	"AL": 28,
	"AT": 20,
	"AZ": 28,
	"BA": 20,
	"BE": 16,
	"BG": 22,
	"BH": 22,
	"BR": 29,
	"BY": 28,
	"CH": 21,
	"CR": 22,
	"CY": 28,
	"CZ": 24,
	"DE": 22,
	"DK": 18,
	"DO": 28,
	"EE": 20,
	"EG": 29,
	"ES": 24,
	"FI": 18,
	"FO": 18,
	"FR": 27,
	"GB": 22,
	"GE": 22,
	"GI": 23,
	"GL": 18,
	"GR": 27,
	"GT": 28,
	"HR": 21,
	"HU": 28,
	"IE": 22,
	"IL": 23,
	"IQ": 23,
	"IS": 26,
	"IT": 27,
	"JO": 30,
	"KW": 30,
	"KZ": 20,
	"LB": 28,
	"LC": 32,
	"LI": 21,
	"LT": 20,
	"LU": 20,
	"LV": 21,
	"MC": 27,
	"MD": 24,
	"ME": 22,
	"MK": 19,
	"MR": 27,
	"MT": 31,
	"MU": 30,
	"NL": 18,
	"NO": 15,
	"PK": 24,
	"PL": 28,
	"PS": 29,
	"PT": 25,
	"QA": 29,
	"RO": 24,
	"RS": 22,
	"SA": 24,
	"SE": 24,
	"SI": 19,
	"SK": 24,
	"SM": 27,
	"TN": 24,
	"TR": 26,
	"UA": 29,
	"VG": 24,
	"XK": 20,
}

func findIBANs(text []byte, add func(start, end int)) {
	for i := 0; i+15 <= len(text); i++ {
		if text[i]&^0x20 < 'A' || text[i]&^0x20 > 'Z' || !isLetter(text[i+1]) || !isDigit(text[i+2]) ||
			!isDigit(text[i+3]) ||
			inWord(text, i-1) {
			continue
		}
		want := ibanLengths[string(bytes.ToUpper(text[i:i+2]))]
		if want == 0 {
			continue
		}
		var iban [34]byte
		n, end := 0, i
		for j := i; j < len(text) && n < want; j++ {
			c := text[j]
			if isAlnum(c) {
				if iban[n] = c; isLetter(c) {
					iban[n] = c &^ 0x20
				}
				n, end = n+1, j+1
			} else if !(c == ' ' && n%4 == 0) {
				break
			}
		}
		if n == want && !inWord(text, end) && mod97(iban[:n]) {
			add(i, end)
			i = end - 1
		}
	}
}

// mod97 is the check of ISO 7064, MOD 97-10, over the number with its first four characters behind it.
func mod97(iban []byte) bool {
	m := 0
	for i := range iban {
		c := iban[(i+4)%len(iban)]
		if isDigit(c) {
			m = (m*10 + int(c-'0')) % 97
		} else {
			m = (m*100 + int(c-'A') + 10) % 97
		}
	}
	return m == 1
}

// findPhones finds numbers with a country code (ITU-T E.164) in common spellings, and national ones that are written
// as such.
func findPhones(text []byte, add func(start, end int)) {
	for i := 0; i < len(text); i++ {
		c := text[i]
		if c != '+' && !isDigit(c) && !(c == '(' && area(text[i:])) ||
			i > 0 &&
				(inWord(text, i-1) || bytes.IndexByte([]byte("+-./:=#,"), text[i-1]) >= 0 && (text[i-1] != ':' ||
					i > 1 && isDigit(text[i-2])) && text[i-1] != '=' && text[i-1] != ',') {
			for isDigit(c) && i+1 < len(text) && (isDigit(text[i+1]) || bytes.IndexByte([]byte("-./:"), text[i+
				1]) >= 0) {
				i++
			}
			continue
		}
		end, digits, groups, separators := phone(text, i)
		international := c == '+' || digits > 9 && end-i > 4 && text[i] == '0' && text[i+1] == '0'
		ok := false
		switch {
		case c == '+':
			ok = digits >= 8 && digits <= 15 && i+1 < len(text) && text[i+1] != '0' &&
				!(separators == 1 && bytes.IndexByte(text[i:end], '.') > 0) // a signed fraction
		case international:
			ok = digits >= 11 && digits <= 17 && separators > 0 && text[i+2] != '0'
		case c == '(':
			ok = digits >= 9 && digits <= 11 && groups >= 3
		case c == '0':
			ok = digits >= 9 && digits <= 12 && groups >= 2 && groups <= 6 && separators > 0 && national(text[i:end])
		case c >= '2':
			ok = digits == 10 && groups == 3 && end-i == 12 && text[i+3] == text[i+7] &&
				(text[i+3] == '-' || text[i+3] == '.')
		}
		if ok && !inWord(text, end) &&
			!(end < len(text) && (text[end] == ':' || text[end] == '.' || text[end] == '/') && end+1 < len(text) &&
				isDigit(text[end+1])) {
			add(i, end)
		}
		i = max(i, end-1)
	}
}

// national tells whether digits behind a 0 are a number with its area, and no date and no fraction.
func national(p []byte) bool {
	if len(p) < 3 || !isDigit(p[1]) || p[1] == '0' {
		return false
	}
	date := len(p) >= 10 && !isDigit(p[2]) && p[5] == p[2] && isDigit(p[6]) && isDigit(p[7]) && isDigit(p[8]) &&
		isDigit(p[9])
	return !date
}

// area tells whether a bracket holds an area's number and nothing else.
func area(p []byte) bool {
	n := 1
	for n < len(p) && isDigit(p[n]) {
		n++
	}
	return n > 1 && n < 7 && n < len(p) && p[n] == ')'
}

// phone reads digits in groups, with single separators and one pair of brackets.
func phone(text []byte, start int) (end, digits, groups, separators int) {
	i := start
	if text[i] == '+' {
		i++
	}
	open, inGroup := false, false
	for i < len(text) {
		switch c := text[i]; {
		case isDigit(c):
			if !inGroup {
				groups++
			}
			digits++
			inGroup = true
			end = i + 1
		case c == '(' && area(text[i:]):
			open, inGroup = true, false
		case c == ')' && open:
			open, inGroup = false, false
			if end = i + 1; i+1 < len(text) && text[i+1] == ' ' {
				i++
			}
		case (c == ' ' || c == '-' || c == '/' || c == '.') && inGroup && i+1 < len(text) && (isDigit(text[i+1]) ||
			text[i+1] == '('):
			separators++
			inGroup = false
		default:
			return end, digits, groups, separators
		}
		i++
	}
	return end, digits, groups, separators
}
