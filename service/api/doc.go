// Package api is the HTTP interface of a service: typed routes declared with
// Huma (which gives the OpenAPI document, validation and RFC 9457 problems),
// streams as plain Fiber handlers, and the console. It knows nothing of SQL or
// LDAP. Every route has a least role; nothing but sign-in, the health of the
// process and agent enrolment answers without one.
package api
