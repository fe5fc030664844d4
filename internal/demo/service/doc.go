// Package service is a small OData v4 service over an SQLite file: the stand-in for an
// application in the cloud, for the demo and for tests.
//
// The contract: every table with a key is a set of entities, its foreign keys are navigation
// properties, a table of nothing but two foreign keys is a navigation between many and many,
// columns of bytes are streams. Versions are sums over the row. It is correct as long as it is
// not told to fail; then it does so at random, repeatably by a seed. It checks what it is
// asked and no more: it is for made-up data on this machine.
package service
