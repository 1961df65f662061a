// Package servers starts real servers on loopback for the demo, the tests and the
// benchmarks: PostgreSQL, a domain controller, OpenLDAP and the cloud
// stand-in. Each lab has a folder of its own; several run side by side. A
// server's process ends with the lab's, and what a crash has left behind is
// found by its pid file and ended at the next start.
package servers
