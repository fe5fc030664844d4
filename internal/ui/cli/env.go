package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"anagram/internal/flow"
)

func (a *app) envCommand() *cobra.Command {
	env := &cobra.Command{Use: "env", Short: "List environments and test that they can be reached", RunE: a.needsSub("env list|test")}
	env.AddCommand(a.envListCommand(), a.envTestCommand())
	return env
}

// needsSub is for commands that do nothing by themselves.
func (a *app) needsSub(use string) func(*cobra.Command, []string) error {
	return a.run(func(_ *cobra.Command, _ []string) error { return &flow.UsageError{Message: "usage: anagram " + use} })
}

func (a *app) envListCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "list",
		Short: "List the environments of the workspace",
		RunE: a.step(0, 0, func(_ *cobra.Command, s *flow.Session, _ []string) error {
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
			t := table{columns: []string{"environment", "connect"}}
			for _, e := range s.Workspace.Environments {
				t.add(e.Name, e.Connect)
			}
			a.printTable(t, "")
			a.next("anagram env test")
			return nil
		}),
	}
}

func (a *app) envTestCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "test [NAME...]",
		Short: "Test that environments can be reached, and say what they are",
		RunE: a.step(0, -1, func(cmd *cobra.Command, s *flow.Session, given []string) error {
			reports, err := s.TestEnvironments(cmd.Context(), given)
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
					entry["rights"], entry["places"] = r.About.Rights, len(r.About.Places)
					if !a.json {
						fmt.Fprintf(out, "reached      %s: %s, %s, %s\n", r.Name, r.About.Product, r.About.Rights, count(len(r.About.Places), "table"))
						fmt.Fprintf(out, "             %s\n", r.About.Address)
					}
				}
				list = append(list, entry)
			}
			if failed > 0 {
				a.code = exitFailed
			}
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
