// Package cloud is a SCIM 2.0 client (RFC 7644): discovery, reading everything
// or what changed, and writing singly or in bulk, within the cloud's limits. It
// knows nothing of settings or storage. A Client serves many goroutines.
package cloud
