// Package version tells which build this is.
package version

// text is set by the linker in a release build.
var text = "0.1.0"

// String returns the version.
func String() string { return text }
