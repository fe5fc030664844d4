// Package audit tells what happened and whether it still holds: the life of a docket and of a
// record, whether what was imported is as it was approved, and in which environments the records
// of a parcel are.
//
// The contract: what is remembered is read from dockets that the register holds, whose chains
// prove that they are as they were written. Where an environment is to be asked, it is only read.
// To prove an import, what its docket compared is exported and matched again, as by anybody who
// looks, and compared record by record; of a docket that takes an import back the target alone is
// read.
package audit
