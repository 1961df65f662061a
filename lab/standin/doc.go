// Package standin is a cloud to work against: a SCIM 2.0 service (RFC 7643,
// RFC 7644) with users and groups, kept in memory with a journal on disk. It is
// as strict as a careful cloud: logins must lie in verified domains, logins and
// addresses are unique, unknown attributes are refused. Throttling and faults
// can be switched on by a request. People sign in at /me and look after their passwords,
// which go to the directories as events; see docs/protocols.md. It shares only message types with the
// product, so that each checks the other.
//
// One lock guards all resources; requests are answered from any goroutine.
package standin
