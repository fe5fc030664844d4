package cli

import (
	"bufio"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"anagram/internal/core/yamldoc"
	"anagram/internal/flow/inspect"
	"anagram/internal/flow/session"
	"anagram/internal/ui/present"
	"anagram/internal/ui/text"
	"anagram/internal/ui/wire"
)

func envCommand(a *app) *cobra.Command {
	list := envListCommand(a)
	env := &cobra.Command{Use: "env", Short: "List environments, test that they can be reached, keep passwords, say that one was made anew",
		Example: "  anagram env\n  anagram env test", RunE: orList(a, list)}
	env.AddCommand(list, envTestCommand(a), envLoginCommand(a), envRenewedCommand(a))
	return env
}

// orList is for a command that has others below it: alone it lists, and a word that is none of
// them is an error that names them.
func orList(a *app, list *cobra.Command) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, given []string) error {
		if len(given) == 0 {
			return list.RunE(cmd, given)
		}
		a.ran = true
		var names []string
		for _, c := range cmd.Commands() {
			names = append(names, c.Name())
		}
		return &session.UsageError{Message: fmt.Sprintf("%s has no command %q%s", cmd.CommandPath(), given[0],
			yamldoc.Nearest(given[0], names))}
	}
}

func envListCommand(a *app) *cobra.Command {
	return &cobra.Command{
		Use:     "list",
		Short:   "List the environments of the workspace",
		Example: "  anagram env list\n  anagram env list --json",
		RunE: a.step(0, 0, func(_ *cobra.Command, s *session.Session, _ []string) error {
			if a.JSON {
				list := wire.Environments{Environments: []wire.Environment{}}
				for _, e := range s.Workspace.Environments {
					list.Environments = append(list.Environments, wire.Environment{Name: e.Name, Connect: e.Connect})
				}
				return a.PrintJSON(list)
			}
			if len(s.Workspace.Environments) == 0 {
				fmt.Fprintln(a.Out, "anagram.yaml describes no environments yet.")
				return nil
			}
			t := text.Table{Columns: []string{"environment", "connect"}}
			for _, e := range s.Workspace.Environments {
				t.Add(e.Name, e.Connect)
			}
			a.PrintTable(t, "")
			a.Next("anagram env test")
			return nil
		}),
	}
}

func envLoginCommand(a *app) *cobra.Command {
	return &cobra.Command{
		Use:   "login NAME",
		Short: "Keep an environment's password in the operating system's key store",
		Long: `Keeps the password of an environment in the operating system's key store, for
environments that say password: {keystore: true}. On a terminal it is typed, unseen;
otherwise it is the first line of standard input.`,
		Example: "  anagram env login production",
		RunE: a.step(1, 1, func(_ *cobra.Command, s *session.Session, given []string) error {
			password, err := readPassword(a, given[0])
			if err != nil {
				return err
			}
			if err := s.Login(given[0], password); err != nil {
				return err
			}
			if a.JSON {
				return a.PrintJSON(wire.Password{Environment: given[0], Kept: true})
			}
			present.Printf(a.Out, "The password of %s is kept in the key store.\n", given[0])
			a.Next("anagram env test", present.Arg(given[0]))
			return nil
		}),
	}
}

func readPassword(a *app, name string) (string, error) {
	if f, ok := a.In.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		present.Printf(a.Err, "Password of %s: ", name)
		text, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(a.Err)
		return string(text), err
	}
	line, err := bufio.NewReader(a.In).ReadString('\n')
	if err != nil && line == "" {
		return "", &session.UsageError{Message: "standard input holds no password"}
	}
	return strings.TrimRight(line, "\r\n"), nil
}

func envTestCommand(a *app) *cobra.Command {
	return &cobra.Command{
		Use:     "test [NAME...]",
		Short:   "Test that environments can be reached, and say what they are",
		Example: "  anagram env test\n  anagram env test production",
		RunE: a.step(0, -1, func(cmd *cobra.Command, s *session.Session, given []string) error {
			reports, err := inspect.TestEnvironments(cmd.Context(), s, given)
			if err != nil {
				return err
			}
			failed := 0
			list := wire.Tested{Environments: []wire.Reached{}}
			for _, r := range reports {
				list.Environments = append(list.Environments, wire.ReachedOf(r))
				if r.Err != nil {
					failed++
				}
				if !a.JSON {
					present.Reached(a.Page, r)
				}
			}
			a.Result = reports
			if a.JSON {
				return a.PrintJSON(list)
			}
			if failed == 0 {
				a.Next("anagram catalog check")
			}
			return nil
		}),
	}
}
