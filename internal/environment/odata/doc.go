// Package odata makes an environment of a service that speaks OData v4 (OASIS; ISO/IEC
// 20802), 4.0 or 4.01.
//
// The contract: sets, types and references are as the service's metadata says. What the
// service can do is taken from there, tried once where it says nothing, and compared with what
// was asked: filters, pages, expansions, bindings. What it cannot do is done another way. Each
// record is written by itself, also within a batch, with the version that was read.
//
// Where to look: csdl.go holds metadata, csdlxml.go and csdljson.go read it; places.go makes
// places of it; values.go brings values from JSON and back; fetch.go and filter.go read,
// links.go reads what is linked, batch.go puts requests together, send.go writes, able.go finds
// out what the service can do.
package odata
