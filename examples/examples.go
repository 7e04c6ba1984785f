// Package examples holds catalogues that work as they stand.
package examples

import "embed"

// FerryLine is the catalogue of the Whimbrel Line, a made-up ferry line: terminals, vessels, and what they write.
//
//go:embed ferry-line
var FerryLine embed.FS

// Mistakes is a file of definitions that are wrong on purpose, to be loaded over FerryLine: it shows what the desk
// finds.
//
//go:embed mistakes/winter.yaml
var Mistakes string
