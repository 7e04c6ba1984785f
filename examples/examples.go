// Package examples holds catalogues that work as they stand.
package examples

import "embed"

// FerryLine is the catalogue of the Whimbrel Line, a made-up ferry line: terminals, vessels, and what they write.
//
//go:embed ferry-line
var FerryLine embed.FS
