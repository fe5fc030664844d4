package cli

import (
	"bufio"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"anagram/internal/core/yamldoc"
	"anagram/internal/flow/inspect"
	"anagram/internal/flow/session"
	"anagram/internal/ui/text"
)

func (a *app) envCommand() *cobra.Command {
	list := a.envListCommand()
	env := &cobra.Command{Use: "env", Short: "List environments, test that they can be reached, keep passwords", Example: "  anagram env\n  anagram env test", RunE: a.orList(list)}
	env.AddCommand(list, a.envTestCommand(), a.envLoginCommand())
	return env
}

// orList is for a command that has others below it: alone it lists, and a word that is none of
// them is an error that names them.
func (a *app) orList(list *cobra.Command) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, given []string) error {
		if len(given) == 0 {
			return list.RunE(cmd, given)
		}
		a.ran = true
		var names []string
		for _, c := range cmd.Commands() {
			names = append(names, c.Name())
		}
		return &session.UsageError{Message: fmt.Sprintf("%s has no command %q%s", cmd.CommandPath(), given[0], yamldoc.Nearest(given[0], names))}
	}
}

func (a *app) envListCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "list",
		Short:   "List the environments of the workspace",
		Example: "  anagram env list\n  anagram env list --json",
		RunE: a.step(0, 0, func(_ *cobra.Command, s *session.Session, _ []string) error {
			if a.json {
				list := []map[string]string{}
				for _, e := range s.Workspace.Environments {
					list = append(list, map[string]string{"name": e.Name, "connect": e.Connect})
				}
				return a.printJSON(map[string]any{"environments": list})
			}
			if len(s.Workspace.Environments) == 0 {
				fmt.Fprintln(a.Out, "anagram.yaml describes no environments yet.")
				return nil
			}
			t := text.Table{Columns: []string{"environment", "connect"}}
			for _, e := range s.Workspace.Environments {
				t.Add(e.Name, e.Connect)
			}
			a.printTable(t, "")
			a.next("anagram env test")
			return nil
		}),
	}
}

func (a *app) envLoginCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "login NAME",
		Short: "Keep an environment's password in the operating system's key store",
		Long: `Keeps the password of an environment in the operating system's key store, for
environments that say password: {keystore: true}. On a terminal it is typed, unseen;
otherwise it is the first line of standard input.`,
		Example: "  anagram env login production",
		RunE: a.step(1, 1, func(_ *cobra.Command, s *session.Session, given []string) error {
			password, err := a.readPassword(given[0])
			if err != nil {
				return err
			}
			if err := s.Login(given[0], password); err != nil {
				return err
			}
			if a.json {
				return a.printJSON(map[string]any{"environment": given[0], "kept": true})
			}
			printf(a.Out, "The password of %s is kept in the key store.\n", given[0])
			a.next("anagram env test", arg(given[0]))
			return nil
		}),
	}
}

func (a *app) readPassword(name string) (string, error) {
	if f, ok := a.In.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		printf(a.Err, "Password of %s: ", name)
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

func (a *app) envTestCommand() *cobra.Command {
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
			list := []map[string]any{}
			out := a.out()
			for _, r := range reports {
				entry := map[string]any{"name": r.Name, "reached": r.Err == nil}
				if r.Err != nil {
					failed++
					entry["error"] = r.Err.Error()
					if !a.json {
						fmt.Fprintln(out, a.wrap("not reached  "+r.Err.Error(), "  "))
					}
				} else {
					entry["product"], entry["address"], entry["account"] = r.About.Product, r.About.Address, r.About.Account
					entry["rights"], entry["places"], entry["clock_ahead_seconds"] = r.About.Rights, len(r.About.Places), r.About.Ahead.Round(time.Millisecond).Seconds()
					entry["may_not_read"], entry["may_not_insert"], entry["may_not_update"] = orEmpty(r.NoRead), orEmpty(r.NoInsert), orEmpty(r.NoUpdate)
					if !a.json {
						who := ""
						if r.About.Account != "" {
							who = " as " + r.About.Account
						}
						fmt.Fprintln(out, a.wrap(fmt.Sprintf("reached      %s: %s%s", r.Name, r.About.Product, who), "             "))
						printf(out, "             %s\n             %s, %s\n", r.About.Address, count(len(r.About.Places), "table"), r.About.Rights)
						for _, no := range []struct {
							what   string
							places []string
						}{{"may not read all of", r.NoRead}, {"may not add to", r.NoInsert}, {"may not change", r.NoUpdate}} {
							if len(no.places) > 0 {
								fmt.Fprintln(out, a.wrap("             "+no.what+": "+some(no.places, 12), "               "))
							}
						}
						if ahead := r.About.Ahead.Abs(); ahead > 2*time.Second {
							side := "ahead of"
							if r.About.Ahead < 0 {
								side = "behind"
							}
							printf(out, "             its clock is %s %s this machine's\n", ahead.Round(time.Second), side)
						}
					}
				}
				list = append(list, entry)
			}
			a.result = reports
			if a.json {
				return a.printJSON(map[string]any{"environments": list})
			}
			if failed == 0 {
				a.next("anagram catalog check")
			}
			return nil
		}),
	}
}
