// Package version says which version of the software this is.
package version

// Version is the version of this program, recorded with every outcome.
const Version = "0.1.0"
