package present

import (
	"anagram/internal/flow/session"
	"anagram/internal/ui/text"
)

// Stakes shows what a workspace can do, before a person says that they trust it.
func Stakes(a *Page, stakes session.Stakes) {
	Printf(a.Out, "The workspace %s\n\n", stakes.Folder)
	t := text.Table{Columns: []string{"=environment", "what it does"}}
	for _, part := range stakes.Parts {
		for i, fact := range part.Facts {
			name := part.Environment
			if i > 0 {
				name = ""
			}
			t.Add(name, fact)
		}
	}
	a.PrintTable(t, "  ")
	Printf(a.Out, "\nFingerprint %s\n", stakes.Fingerprint)
}
