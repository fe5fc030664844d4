package cli

import (
	"bufio"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"anagram/internal/flow/session"
	"anagram/internal/ui/present"
	"anagram/internal/ui/wire"
)

func trustCommand(a *app) *cobra.Command {
	var fingerprint string
	c := &cobra.Command{
		Use:   "trust",
		Short: "Say that you trust what this workspace connects to and where its passwords come from",
		Long: `A workspace says which servers are reached, and from where the passwords come that are
sent there. In one that somebody else made, or changed, that is believed only once you
have looked at it. What you trust is kept in your own configuration folder; whatever
changes of it is asked for again. Workspaces of files and of this machine's servers
without passwords need no word.`,
		Example: "  anagram trust\n  anagram trust --fingerprint 9f2c41d07be8a6530c1e7d25a8b94f10",
		RunE: a.step(0, 0, func(_ *cobra.Command, s *session.Session, _ []string) error {
			stakes, err := s.Stakes()
			if err != nil {
				return err
			}
			switch {
			case fingerprint != "" && fingerprint != stakes.Fingerprint:
				return &session.UsageError{Message: "The fingerprint of this workspace is " + stakes.Fingerprint +
					", not the one that was given. Look at what changed with: anagram trust"}
			case fingerprint == "" && !stakes.Given && stakes.Any:
				if a.JSON {
					if err := a.PrintJSON(wire.StakesOf(stakes)); err != nil {
						return err
					}
				} else {
					present.Stakes(a.Page, stakes)
				}
				if said, err := a.said(stakes); err != nil || !said {
					return err
				}
			}
			if stakes.Any || fingerprint != "" {
				if err := s.Trust(stakes); err != nil {
					return err
				}
				stakes.Given = true
			}
			if a.JSON {
				return a.PrintJSON(wire.StakesOf(stakes))
			}
			if !stakes.Any {
				fmt.Fprintln(a.Out, "Nothing is at stake in this workspace: it needs no word.")
				return nil
			}
			present.Printf(a.Out, "You trust %s as it is. Fingerprint %s\n", stakes.Folder, stakes.Fingerprint)
			a.Next("anagram env test")
			return nil
		}),
	}
	c.Flags().StringVar(&fingerprint, "fingerprint", "", "trust it without being asked, if this is its fingerprint")
	return c
}

// said asks the person on a terminal; elsewhere it says what to do.
func (a *app) said(stakes session.Stakes) (bool, error) {
	f, ok := a.In.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) || a.JSON {
		return false,
			&session.UsageError{Message: "There is no terminal to ask on. Once you have looked at all of this, say: anagram trust --fingerprint " + stakes.Fingerprint}
	}
	fmt.Fprint(a.Err, "\nType yes to trust it: ")
	answer, err := bufio.NewReader(a.In).ReadString('\n')
	if strings.TrimSpace(answer) != "yes" {
		fmt.Fprintln(a.Out, "It is not trusted; nothing was reached.")
		return false, nil
	}
	return true, err
}
