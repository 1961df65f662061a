// Package health gathers the state of everything, with what to do next.
package health
