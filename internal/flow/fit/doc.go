// Package fit says whether the catalog holds in environments and whether two of them fit
// each other: releases, settings that must agree, fields that not both have.
package fit
