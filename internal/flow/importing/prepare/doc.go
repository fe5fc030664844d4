// Package prepare says what of a docket can be written: what is approved, what stands in the way
// by the docket itself, and after the target was read again, what moved since, in which order
// the rest is written.
//
// The contract: nothing is written here. What cannot be written is in a Rest, with why; a Rest
// only grows. Before-images are handed on before an order is given.
//
// Where to look: ready.go and fits.go meet the guards, read.go brings approvals together with
// their records in the target, again.go compares them, turned.go asks again what the target takes,
// needs.go what is referred to, order.go puts the rest in order; rest.go is what is left out,
// back.go what makes an import be taken back.
package prepare
