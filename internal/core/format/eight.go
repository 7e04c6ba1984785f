package format

import (
	"encoding/binary"
	"math/bits"
)

// Eight bytes at a time, as one number: what is short is then found without a branch for each byte, which no processor
// can foresee. The tricks are those of H. S. Warren, Hacker's Delight, 2nd edition, section 6-1 (find the first byte),
// and the adding up of decimal digits in pairs.
const (
	ones = 0x0101010101010101
	tops = 0x8080808080808080
)

func eight(p []byte, at int) uint64 { return binary.LittleEndian.Uint64(p[at:]) }

// wordEnd is where the bytes above a space end that stand at a place of a line.
func wordEnd(line []byte, at int) int {
	for ; at+8 <= len(line); at += 8 {
		x := eight(line, at)
		if m := (x - ('!' * ones)) &^ x & tops; m != 0 {
			return at + bits.TrailingZeros64(m)/8
		}
	}
	for at < len(line) && line[at] > ' ' {
		at++
	}
	return at
}

// spacesEnd is where the spaces end that stand at a place of a line, or that place.
func spacesEnd(line []byte, at int) int {
	for ; at+8 <= len(line); at += 8 {
		if n := bits.TrailingZeros64(eight(line, at)^(' '*ones)) / 8; n < 8 {
			return at + n
		}
	}
	for at < len(line) && line[at] == ' ' {
		at++
	}
	return at
}

// decimal is the number that eight digits are, the first in the lowest byte.
func decimal(d uint64) uint64 {
	d = (d & (0x0f * ones)) * (10<<8 + 1) >> 8
	d = (d & 0x00ff00ff00ff00ff) * (100<<16 + 1) >> 16
	return (d & 0x0000ffff0000ffff) * (10000<<32 + 1) >> 32
}

// digitsAt reads the digits at a place of a line, at most 17 of them; more are not ok, nor are none.
func digitsAt(line []byte, at int) (v uint64, end int, ok bool) {
	if at+8 <= len(line) {
		x := eight(line, at)
		d := x ^ ('0' * ones)
		n := bits.TrailingZeros64(((d+0x76*ones)|x)&tops) / 8 // a byte above nine sets its top bit
		if n == 0 {
			return 0, at, false
		}
		if n < 8 {
			return decimal(d << (64 - 8*n)), at + n, true // what stands before the number are zeros
		}
	}
	end = at
	for end < len(line) && line[end]-'0' <= 9 && end < at+18 {
		v = v*10 + uint64(line[end]-'0')
		end++
	}
	return v, end, end > at && end < at+18
}
