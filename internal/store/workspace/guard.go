package workspace

import (
	"strings"

	"anagram/internal/core/yamldoc"
)

// Guard is what an environment demands before it may be written to.
type Guard struct {
	Release   string // exact, minor or off; "" is off
	Approvals int    // how many people have to approve a record; 0 asks for nobody beside who imports
	Differs   bool   // those who exported or matched do not count
	Signed    bool   // only signed approvals count
	Signers   string // file that lists the keys of those who may sign
	// Overrule lists who may approve what others declined or hold; where it is empty, whoever may
	// approve.
	Overrule []string
}

type guardForm struct {
	Release   string   `yaml:"release"`
	Approvals int      `yaml:"approvals"`
	Differs   bool     `yaml:"approver_differs_from_exporter"`
	Signed    bool     `yaml:"signed"`
	Signers   string   `yaml:"signers"`
	Overrule  []string `yaml:"overrule"`
}

// AnyName reports whether an environment counts people by their names and nothing says which names
// are people: whoever calls themselves by two names would be two.
func (w *Workspace) AnyName(e Environment) bool {
	counts := e.Guard.Approvals > 1 || e.Guard.Differs
	return counts && !e.NoImports && !e.Guard.Signed && len(w.People) == 0 && len(e.Approvers["*"]) == 0
}

// readGuard reads what an environment demands before it may be written to.
func readGuard(doc *yamldoc.Document, name string, described environmentForm, e *Environment) error {
	if described.Imports != "" && described.Imports != "refused" {
		return doc.Unknown([]string{"environments", name, "imports"}, "word for imports:", described.Imports, []string{"refused"})
	}
	e.NoImports = described.Imports == "refused"
	if described.Guard.Approvals < 0 || described.Guard.Approvals > mostApprovals {
		return doc.Errorf([]string{"environments", name, "guard", "approvals"}, "environment %s: approvals: is a number from 0 to %d",
			name, mostApprovals)
	}
	switch {
	case described.Guard.Signed && described.Guard.Signers == "":
		return doc.Errorf([]string{"environments", name, "guard"},
			"environment %s: signed: true needs signers:, the file that lists whose SSH keys are whose", name)
	case !described.Guard.Signed && described.Guard.Signers != "":
		return doc.Errorf([]string{"environments", name, "guard"}, "environment %s: signers: goes with signed: true", name)
	}
	e.Approvers = described.Approvers
	for _, of := range doc.Names("environments", name, "approvers") {
		for _, person := range e.Approvers[of] {
			if strings.TrimSpace(person) == "" {
				return doc.Errorf([]string{"environments", name, "approvers", of},
					"environment %s: approvers: of %s holds an empty name", name, of)
			}
		}
	}
	return nil
}

// mostApprovals is how many approvals a guard can demand.
const mostApprovals = 9
