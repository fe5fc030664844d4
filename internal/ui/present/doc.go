// Package present turns results into what is printed: text for people, one JSON document for
// programs (the structs of package wire).
//
// The contract: a function gets a Page and a result, prints it, and decides nothing. Text is as wide
// as the screen; what comes from outside is cleaned before it is shown; colours are never the only
// sign of anything. What an exit code depends on is left in Page.Result.
//
// Where to look: page.go is where is printed to, pager.go puts a person's own pager before it; the
// other files are named for the command whose results they show.
package present
