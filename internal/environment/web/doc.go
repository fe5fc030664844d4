// Package web talks to services over HTTP for every connector that does: signing in, TLS,
// pace, repeating, limits.
//
// The contract: what signs in goes to the service's own origin (scheme, host and port) and
// to no other, whatever an answer says. An answer is read up to a limit. A request is
// repeated here only where that does no harm; what came of any other one whose answer was
// lost is for the connector to find out by reading. Nothing that was sent or that signs in
// stands in an error.
package web
