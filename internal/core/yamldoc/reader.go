package yamldoc

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Reader takes values out of nodes and collects what is wrong with them.
type Reader struct {
	File     string
	Problems []Problem
}

// Fail records a problem at a node.
func (r *Reader) Fail(n *Node, code, reason, fix string) {
	r.FailAt(n.Line, n.Column, code, reason, fix)
}

// FailAt records a problem at a line and column.
func (r *Reader) FailAt(line, column int, code, reason, fix string) {
	r.Problems = append(
		r.Problems,
		Problem{Code: code, File: r.File, Line: line, Column: column, Reason: reason, Fix: fix},
	)
}

// Mismatch records that the value of a key is not what it should be.
func (r *Reader) Mismatch(n *Node, key, want string) {
	if n.Kind == Null {
		r.Fail(
			n,
			"schema",
			fmt.Sprintf("%s has no value; expected %s", key, want),
			"quote it if it begins with ! or #, or leave the key out",
		)
		return
	}
	got := n.Kind.String()
	if n.Value != "" {
		got = fmt.Sprintf("%q", n.Value)
	}
	r.Fail(n, "schema", fmt.Sprintf("%s: expected %s, found %s", key, want, got), "")
}

// The methods below take a value that a schema has found good, or a default when the node is not there or is something
// else. They work on a nil node.

// Text returns a scalar as text, or "".
func (n *Node) Text() string {
	if n == nil || n.Kind == Map || n.Kind == List {
		return ""
	}
	return n.Value
}

// Texts returns the scalars of a list; a scalar is a list of one.
func (n *Node) Texts() []string {
	if n == nil {
		return nil
	}
	if n.Kind != List {
		if t := n.Text(); t != "" {
			return []string{t}
		}
		return nil
	}
	out := make([]string, 0, len(n.Items))
	for _, item := range n.Items {
		out = append(out, item.Text())
	}
	return out
}

// TextMap returns a map of scalars, or nil.
func (n *Node) TextMap() map[string]string {
	if n == nil || n.Kind != Map {
		return nil
	}
	out := make(map[string]string, len(n.Entries))
	for _, e := range n.Entries {
		out[e.Key] = e.Value.Text()
	}
	return out
}

// Bool returns true or false.
func (n *Node) Bool(def bool) bool {
	if n == nil || n.Kind != Bool {
		return def
	}
	return strings.EqualFold(n.Value, "true")
}

// Int returns a whole number.
func (n *Node) Int(def int64) int64 {
	if n == nil {
		return def
	}
	v, err := strconv.ParseInt(n.Value, 10, 64)
	if err != nil {
		return def
	}
	return v
}

// Size returns bytes.
func (n *Node) Size(def int64) int64 {
	if n == nil {
		return def
	}
	v, err := ParseSize(n.Value)
	if err != nil {
		return def
	}
	return v
}

// Duration returns a duration.
func (n *Node) Duration(def time.Duration) time.Duration {
	if n == nil {
		return def
	}
	v, err := ParseDuration(n.Value)
	if err != nil {
		return def
	}
	return v
}

var sizeUnits = []struct {
	name string
	n    int64
}{{"KiB", 1 << 10}, {"MiB", 1 << 20}, {"GiB", 1 << 30}, {"TiB", 1 << 40}, {"B", 1}}

// ParseSize reads 64MiB, 20GiB, 512B as bytes; a number without a unit is an error.
func ParseSize(s string) (int64, error) {
	for _, u := range sizeUnits {
		if num, ok := strings.CutSuffix(s, u.name); ok {
			v, err := strconv.ParseFloat(strings.TrimSpace(num), 64)
			if err != nil || v < 0 || v*float64(u.n) > 1<<60 {
				break
			}
			return int64(v * float64(u.n)), nil
		}
	}
	return 0, fmt.Errorf("%q is not a size such as 64MiB", s)
}

// ParseDuration reads what time.ParseDuration reads, and whole days as 14d; a number without a unit is an error.
func ParseDuration(s string) (time.Duration, error) {
	if days, ok := strings.CutSuffix(s, "d"); ok {
		n, err := strconv.Atoi(days)
		if err != nil || n < 0 || n > 36500 {
			return 0, fmt.Errorf("%q is not a number of days", s)
		}
		return time.Duration(n) * 24 * time.Hour, nil
	}
	d, err := time.ParseDuration(s)
	if err != nil || s == "0" || d < 0 {
		return 0, fmt.Errorf("%q is not a duration such as 30s", s)
	}
	return d, nil
}

// ParseShare reads 95% as 0.95.
func ParseShare(s string) (float64, error) {
	num, ok := strings.CutSuffix(s, "%")
	v, err := strconv.ParseFloat(num, 64)
	if !ok || err != nil || !(v >= 0 && v <= 100) {
		return 0, fmt.Errorf("%q is not a share such as 95%%", s)
	}
	return v / 100, nil
}

// ParseRate reads 5MiB/s, 20GiB/day, 500/s or 10/m: how much (bytes when a size is written) in how long.
func ParseRate(s string) (amount float64, bytes bool, per time.Duration, err error) {
	num, unit, ok := strings.Cut(s, "/")
	per = map[string]time.Duration{"s": time.Second, "m": time.Minute, "h": time.Hour, "day": 24 * time.Hour}[unit]
	if size, e := ParseSize(num); e == nil {
		amount, bytes = float64(size), true
	} else if amount, e = strconv.ParseFloat(num, 64); e != nil || !(amount >= 0 && amount < 1e15) {
		ok = false
	}
	if !ok || per == 0 {
		return 0, false, 0, fmt.Errorf("%q is not a rate such as 5MiB/s, 500/s or 20GiB/day", s)
	}
	return amount, bytes, per, nil
}

// FormatDuration writes a duration as ParseDuration reads it.
func FormatDuration(d time.Duration) string {
	if d >= 24*time.Hour && d%(24*time.Hour) == 0 {
		return strconv.Itoa(int(d/(24*time.Hour))) + "d"
	}
	s := d.String()
	s = strings.TrimSuffix(s, "m0s")
	if strings.HasSuffix(d.String(), "m0s") {
		s += "m"
	}
	if h, ok := strings.CutSuffix(s, "h0m"); ok {
		s = h + "h"
	}
	return s
}

// FormatSize writes a size as ParseSize reads it.
func FormatSize(n int64) string {
	for _, u := range []int{3, 2, 1, 0} {
		if n >= sizeUnits[u].n && n%sizeUnits[u].n == 0 {
			return strconv.FormatInt(n/sizeUnits[u].n, 10) + sizeUnits[u].name
		}
	}
	return strconv.FormatInt(n, 10) + "B"
}
