// Bench builds two databases of made-up laboratory setup, runs each task of Anagram as a whole
// process and, in turn in the same run, what a database expert would do by hand, and prints
// medians, ratios and the most memory:
//
//	go run ./bench -size 1000000
//
// It knows Anagram from outside only: its commands, its files and the databases.
package main
