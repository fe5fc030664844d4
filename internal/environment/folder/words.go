package folder

import "strings"

// words are how the cells of a column say yes and no: true and false, in the letters that the
// first of them has. Others than these make it a column of texts.
type words struct {
	as    string // true or false as the first one was written, "" before
	other bool
}

// with adds a cell.
func (w words) with(text string) words {
	switch {
	case w.other:
	case !strings.EqualFold(text, "true") && !strings.EqualFold(text, "false"):
		w.other = true
	case w.as == "":
		w.as = text
	}
	return w
}

// say writes 1 and 0, as a boolean comes, in the words of the column; everything else as it is.
func (w words) say(text string) string {
	word, ok := map[string]string{"1": "true", "0": "false"}[text]
	switch {
	case !ok || w.other || w.as == "":
		return text
	case w.as == strings.ToUpper(w.as):
		return strings.ToUpper(word)
	case w.as[:1] == strings.ToUpper(w.as[:1]):
		return strings.ToUpper(word[:1]) + word[1:]
	}
	return word
}
