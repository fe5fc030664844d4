// Package session is what every step of the job needs: the workspace, who is at work, the
// clock and the progress. It opens environments and dockets, and has the typed errors from
// which exit codes follow.
//
// The contract of all rooms of flow: a step takes a request and gives a result, both without
// any form for people. It reports progress through an interface, stops cleanly when its
// context is cancelled, and leaves nothing half-written.
package session
