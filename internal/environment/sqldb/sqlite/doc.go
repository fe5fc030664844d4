// Package sqlite is the dialect of SQLite files, whose columns may hold anything.
package sqlite
