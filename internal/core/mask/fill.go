package mask

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"net/netip"
	"unicode/utf8"
)

// fixed is how many characters stand for private data, however long it was.
const fixed = 8

// hashed is how many bytes of a keyed hash are kept: enough that no two values of a fleet meet by chance.
const hashed = 12

// Replace answers a text with other things in the places of hits, which are in order and apart. key is that of a hash:
// HMAC with SHA-256 (RFC 2104) over the value in one spelling, so that records join whichever way it was written.
func (f *Finder) Replace(text []byte, hits []Hit, key []byte) []byte {
	var out []byte
	at := 0
	for _, h := range hits {
		out = append(out, text[at:h.Start]...)
		out = f.Fill(out, text[h.Start:h.End], key)
		at = h.End
	}
	return append(out, text[at:]...)
}

// Fill appends what takes the place of private data.
func (f *Finder) Fill(out, private, key []byte) []byte {
	switch {
	case f.fill.Hash != "":
		m := hmac.New(sha256.New, key)
		m.Write(f.oneSpelling(private))
		return hex.AppendEncode(append(out, '#'), m.Sum(nil)[:hashed])
	case f.fill.Text != "":
		return append(out, f.fill.Text...)
	case f.fill.KeepLast > 0:
		keep := min(
			f.fill.KeepLast,
			utf8.RuneCount(private)/2,
		) // of what is short, the last characters would be all of it
		at := len(private)
		for range keep {
			_, size := utf8.DecodeLastRune(private[:at])
			at -= size
		}
		return append(AppendBlank(out), private[at:]...)
	}
	for range fixed {
		out = append(out, f.fill.Character...)
	}
	return out
}

// AppendBlank appends stars in the place of private data of which nothing may stay.
func AppendBlank(out []byte) []byte { return append(out, "********"...) }

// oneSpelling writes what a detector found in one of its spellings.
func (f *Finder) oneSpelling(private []byte) []byte {
	keep := func(ok func(byte) bool) []byte {
		var out []byte
		for _, c := range private {
			if ok(c) {
				out = append(out, c)
			}
		}
		return out
	}
	switch f.detector {
	case "payment-card":
		return keep(isDigit)
	case "iban":
		return bytes.ToUpper(keep(isAlnum))
	case "email":
		return bytes.ToLower(private)
	case "mac":
		return bytes.ToLower(keep(isHex))
	case "ipv6":
		if a, err := netip.ParseAddr(string(private)); err == nil {
			return []byte(a.String())
		}
	case "phone":
		digits := keep(isDigit)
		if private[0] == '+' {
			return append([]byte("+"), digits...)
		}
		if bytes.HasPrefix(digits, []byte("00")) {
			return append([]byte("+"), digits[2:]...)
		}
		return digits
	}
	return private
}
