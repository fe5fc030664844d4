package cli

import (
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"anagram/internal/demo"
	"anagram/internal/flow"
)

func (a *app) demoCommand() *cobra.Command {
	var keep string
	var dataOnly bool
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Show the whole job on made-up data, step by step",
		Long: `Builds two small databases of a made-up medical laboratory in a temporary folder
and does the whole job on them: each step says who does what and why, shows the
command, and its real output.`,
		Example: "  anagram demo\n  anagram demo --keep fernhollow --data-only",
		RunE: a.run(func(cmd *cobra.Command, given []string) error {
			if err := arguments(cmd, given, 0, 0); err != nil {
				return err
			}
			if dataOnly && keep == "" {
				return &flow.UsageError{Message: "--data-only needs --keep, the folder to put the data in"}
			}
			return a.runDemo(cmd.Context(), keep, dataOnly)
		}),
	}
	cmd.Flags().BoolVar(&dataOnly, "data-only", false, "only make the workspace and its databases, to do the job by hand")
	cmd.Flags().StringVar(&keep, "keep", "", "work in this new folder and keep it, to go on by hand")
	return cmd
}

// step is one thing that a person does in the demo.
type step struct {
	who      string
	why      string
	commands []string
	code     int // expected exit code of the last command
}

func demoSteps() []step {
	return []step{
		{demo.Administrator, "Fernhollow Diagnostics builds its test catalogue in a sandbox; three hospitals order from production. The administrator, Mara, brings over what the build team finished. First: can both be reached, and does the catalog hold in both?",
			[]string{"env test", "catalog check"}, 0},
		{demo.Administrator, "She exports everything into a parcel. That only reads.",
			[]string{`export sandbox --name new-year --note "thyroid antibodies, prices 2027"`}, 0},
		{demo.Administrator, "She matches it with production, by key: every internal number differs between the two. Still nothing is written.",
			[]string{"match new-year --against production"}, 3},
		{demo.Administrator, "What needs a closer look? Records that production changed later, or took out of use, and a code that the sandbox has twice. And some records exist only in production.",
			[]string{"review --status conflict", "review --removals"}, 0},
		{demo.Administrator, "And what changed, field by field?",
			[]string{"review --type unit --type assay --type panel --type panel_item --status changed,target-only", "review --only 'assay_range/*' --status changed"}, 0},
		{demo.Approver, "The approver, Jonas, decides. A development record stays out; so do an assay that production retired, one that it removed on purpose, and a panel that the wards renamed. Of a range that both sides changed he takes production's limits: the night shift widened it for a reason.",
			[]string{
				`decline assay/ZZTEST 'assay_range/ZZTEST/*' --note "somebody tried something out"`,
				`decline assay/AMM --note "retired in production"`,
				`decline 'assay/SALI' 'assay_range/SALI/*' 'price_line/*/SALI/*' 'panel_item/TOX/SALI' --note "removed on purpose"`,
				`decline panel/RENAL --note "renamed by the wards"`,
				`approve assay_range/K/U/0 --take target --note "the night shift was right"`,
				`hold assay/FCAL 'assay_range/FCAL/*' --note "still under validation"`,
			}, 0},
		{demo.Approver, "Everything else that is new or changed is fine. One record is named that cannot be imported as things stand.",
			[]string{`approve --status new,changed --note "reviewed with the build team"`}, 0},
		{demo.Administrator, "Mara rehearses: the whole import, in production, taken back at the end. The rule that needs the assay under validation is left out, and says why.",
			[]string{"import --rehearse"}, 5},
		{demo.Approver, "Jonas holds that rule as well, so that nothing is left to chance.",
			[]string{`hold reflex_rule/CRP-FCAL --note "waits for FCAL"`}, 0},
		{demo.Administrator, "Now the import, in one transaction.",
			[]string{"import"}, 0},
		{demo.Administrator, "Is it there? She exports and matches again: only what was declined or held still differs.",
			[]string{"match sandbox --against production --name check", "review"}, 0},
		{demo.Administrator, "The dockets keep what was brought where, when and by whom.",
			[]string{"history", "history 1", "status"}, 0},
	}
}

func (a *app) runDemo(ctx context.Context, keep string, dataOnly bool) error {
	dir := ""
	if keep != "" {
		dir = a.path(keep)
		if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
			return &flow.UsageError{Message: fmt.Sprintf("%s is not empty; name a new folder with --keep", dir)}
		}
	} else {
		temporary, err := os.MkdirTemp("", "anagram-demo-")
		if err != nil {
			return err
		}
		defer os.RemoveAll(temporary)
		dir = temporary
	}
	if err := demo.Build(ctx, dir); err != nil {
		return err
	}
	out := a.out()
	if dataOnly {
		fmt.Fprintf(out, "Made a workspace of Fernhollow Diagnostics in %s, with its two databases.\n", keep)
		a.next("cd " + quoteArg(keep) + " && anagram env test")
		return nil
	}
	fmt.Fprintln(out, a.wrap("Anagram at work, on made-up data in "+dir+".", ""))
	for i, s := range demoSteps() {
		fmt.Fprintf(out, "\n%s\n", faint.Render(strings.Repeat("─", min(a.width(), 80))))
		fmt.Fprintln(out, a.wrap(fmt.Sprintf("%s %s", strong.Render(fmt.Sprintf("%d.", i+1)), s.why), ""))
		for j, command := range s.commands {
			if err := ctx.Err(); err != nil {
				return err
			}
			fmt.Fprintf(out, "\n%s\n", strong.Render(s.who+"> anagram "+command))
			code := a.runAs(ctx, s.who, dir, command)
			if j == len(s.commands)-1 && code != s.code {
				return fmt.Errorf("the demo expected exit code %d of: anagram %s; it was %d", s.code, command, code)
			}
		}
	}
	fmt.Fprintf(out, "\n%s\n", faint.Render(strings.Repeat("─", min(a.width(), 80))))
	if keep != "" {
		fmt.Fprintf(out, "Everything is kept in %s. Go on by hand there:\n  cd %s\n  anagram status\n", dir, quoteArg(keep))
	} else {
		fmt.Fprintln(out, a.wrap("That was the whole job. To go on by hand with these data: anagram demo --keep DIR", ""))
	}
	return nil
}

// runAs runs a command of the demo as one of its people, with both streams on standard
// output, so that they stay in order.
func (a *app) runAs(ctx context.Context, who, dir, command string) int {
	inner := a.Streams
	inner.Dir, inner.Err = dir, a.Out
	inner.Environ = append([]string{"ANAGRAM_USER=" + who}, a.Environ...)
	given := splitWords(command)
	if a.noColor {
		given = append(given, "--no-color")
	}
	return Run(ctx, inner, given)
}

// splitWords splits a command line at blanks outside quotes.
func splitWords(line string) []string {
	var out []string
	var word strings.Builder
	quote, inside := rune(0), false
	for _, r := range line {
		switch {
		case quote != 0 && r == quote:
			quote = 0
		case quote != 0:
			word.WriteRune(r)
		case r == '"' || r == '\'':
			quote, inside = r, true
		case r == ' ':
			if inside {
				out = append(out, word.String())
				word.Reset()
			}
			inside = false
		default:
			word.WriteRune(r)
			inside = true
		}
	}
	if inside {
		out = append(out, word.String())
	}
	return out
}
