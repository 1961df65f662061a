// Package runs executes runs: it reads directories (through agents) and the
// cloud into the mirrors, lets core plan, and writes what was planned. It also
// answers what is asked about objects, with the same decisions that runs make.
// It knows nothing of HTTP or terminals.
//
// One run is executed at a time on a database, whichever service does it: the
// executing service holds an advisory lock that ends with its connection. A
// run that was interrupted, even by a kill, is begun again by the next service
// that gets the lock: its open changes are planned anew after the cloud was
// read again, so that what the cloud had done already is recognised by its
// link key and never done twice.
package runs
