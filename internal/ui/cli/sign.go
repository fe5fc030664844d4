package cli

import (
	"fmt"
	"os"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"anagram/internal/files/safe"
	"anagram/internal/files/sshsig"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/session"
	"anagram/internal/ui/present"
	"anagram/internal/ui/wire"
)

// mostKey is how large a key file may be, in bytes.
const mostKey = 64 << 10

func signCommand(a *app) *cobra.Command {
	var key string
	cmd := &cobra.Command{
		Use:   "sign [DOCKET]",
		Short: "Sign what you decided, with an SSH key",
		Long: `Signs what you decided in a docket and did not sign before, with an SSH key: that of the
file, or the only one that your SSH agent has. A target may demand that approvals are signed
by keys that its list of signers knows. The signature is in the open format of OpenSSH, made
for "anagram"; it covers the docket's digest, each record, field, decision, note and time.`,
		Example: "  anagram sign\n  anagram sign 7 --key ~/.ssh/id_ed25519",
		RunE: a.run(func(cmd *cobra.Command, given []string) error {
			if err := arguments(cmd, given, 0, 1); err != nil {
				return err
			}
			from := sshsig.Source{Agent: a.Env("SSH_AUTH_SOCK"), Passphrase: a.passphrase}
			if key != "" {
				text, err := safe.ReadSmall(a.path(key), mostKey)
				if err != nil {
					return &session.UsageError{Message: err.Error()}
				}
				from.Key = text
			}
			s, d, err := a.openDocket(cmd.Context(), given)
			if err != nil {
				return err
			}
			defer d.Close()
			result, err := decide.Sign(cmd.Context(), s, d, from)
			if err != nil {
				return err
			}
			if a.JSON {
				return a.PrintJSON(wire.Signed{Docket: d.Header.Number, By: s.Who, Signed: result.Decisions, Key: result.Key,
					Refused: result.Refused})
			}
			if result.Decisions == 0 {
				present.Printf(a.Out, "Nothing that %s decided in docket %d waits for a signature.\n", s.Who, d.Header.Number)
				return nil
			}
			fmt.Fprintln(a.Out, a.Wrap(fmt.Sprintf("%s of %s in docket %d signed with the key %s.",
				present.Count(result.Decisions, "decision"), s.Who, d.Header.Number, result.Key), ""))
			if result.Refused != "" {
				fmt.Fprintln(a.Err,
					a.Wrap(fmt.Sprintf("%s does not take it: %s. Sign again with a key that its list has; what was signed now stays without effect until then.", d.Header.Target, result.Refused), ""))
			}
			return nil
		}),
	}
	cmd.Flags().StringVar(&key, "key", "", "file of a private key, or of the public key of one that the SSH agent has")
	return cmd
}

// passphrase asks for that of a private key, on a terminal.
func (a *app) passphrase() ([]byte, error) {
	f, ok := a.In.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return nil, &session.UsageError{Message: "the key has a passphrase; add it to the SSH agent with ssh-add, or sign on a terminal"}
	}
	present.Printf(a.Err, "Passphrase of the key: ")
	text, err := term.ReadPassword(int(f.Fd()))
	fmt.Fprintln(a.Err)
	return text, err
}
