// Package entry holds the nouns of Kambrel: entries (objects in a directory),
// resources (objects in the cloud), their attributes, distinguished names and
// ids in every form people meet. It decides nothing and does no I/O; all its
// values are safe to share between goroutines once built.
package entry
