// Package version is the version of the program.
package version

// Number is the version, as packages and agents tell it.
const Number = "0.1.0"
