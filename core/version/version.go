// Package version is the version of the program.
package version

// Number is the version, as packages and agents tell it. The build of a release sets it.
var Number = "0.1.0"
