package environment

// Mends that name a setting of the environment in the workspace's configuration. They are
// constants, so that a workspace which is not written down yet can say something else.
const (
	MendAddress  = "Correct connect: of this environment in anagram.yaml."
	MendUse      = "Ask for the right, or correct connect: of this environment in anagram.yaml."
	MendAccount  = "Check the account and the password: of this environment in anagram.yaml."
	MendPassword = "Check the password: of this environment in anagram.yaml, or PostgreSQL's own password file."
	MendSign     = "Check account, password: and web: of this environment in anagram.yaml."
)

// NamesSetting reports whether a mend is about a setting of the environment.
func NamesSetting(mend string) bool {
	switch mend {
	case MendAddress, MendUse, MendAccount, MendPassword, MendSign:
		return true
	default:
		return false
	}
}
