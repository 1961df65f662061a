//go:build race

package service

// The race detector makes each world five times as slow, and races show in a few.
func init() { worldsByDefault = 25 }
