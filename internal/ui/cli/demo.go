package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"anagram/internal/core/show"
	"anagram/internal/demo"
	"anagram/internal/flow/session"
	"anagram/internal/ui/present"
)

func demoCommand(a *app) *cobra.Command {
	var keep, over string
	var dataOnly, unequal bool
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
				return &session.UsageError{Message: "--data-only needs --keep, the folder to put the data in"}
			}
			roles := map[string][]string{"": nil, "both": demo.Roles()}
			for _, role := range demo.Roles() {
				roles[role] = []string{role}
			}
			if _, known := roles[over]; !known || over != "" && (keep != "" || dataOnly) {
				return session.Usage("--over-web takes sandbox, production or both, and goes without --keep: what is kept has no service any more. Start one with: anagram demo service")
			}
			return runDemo(cmd.Context(), a, keep, dataOnly, unequal, roles[over])
		}),
	}
	cmd.Flags().BoolVar(&unequal, "unequal", false, "show what happens where a setting that has to be equal is not")
	cmd.Flags().StringVar(&over, "over-web", "", "reach sandbox, production or both as services on the web")
	cmd.Flags().BoolVar(&dataOnly, "data-only", false, "only make the workspace and its databases, to do the job by hand")
	cmd.Flags().StringVar(&keep, "keep", "", "work in this new folder and keep it, to go on by hand")
	cmd.AddCommand(demoServiceCommand(a))
	return cmd
}

// step is one thing that a person does in the demo.
type step struct {
	who      string
	why      string
	commands []string
	code     int // expected exit code of the last command
	// before happens in the databases before it; nil is nothing.
	before func(ctx context.Context, dir string) error
}

// marchSteps bring production up to date once, so that it is known later what both sides
// had in common.
func marchSteps() []step {
	return []step{
		{demo.Administrator,
			"Fernhollow Diagnostics builds its test catalogue in a sandbox; three hospitals order from production. In March the administrator, Mara, brings production up to date. First: can both be reached, and does the catalog hold in both?",
			[]string{"env test", "catalog check"}, 0, nil},
		{demo.Administrator,
			"What production still lacks are the staff prices and the holidays of the year. The approver, Jonas, agrees, and Mara imports them. From now on Anagram knows what both sides had in common.",
			[]string{`match sandbox --against production --name march`, `approve * --note "staff prices and holidays"`, "import"}, 0, nil},
	}
}

func presentSteps() []step {
	return []step{
		{demo.Administrator,
			"Months later. The build team has a new family of assays and the prices of the new year; the night shift, the wards and the lab lead have changed production meanwhile. Mara exports everything into a parcel. That only reads.",
			[]string{`export sandbox --name new-year --note "thyroid antibodies, prices 2027"`}, 0, nil},
		{demo.Administrator,
			"She matches it with production, by key: every internal number differs between the two. Still nothing is written.",
			[]string{"match new-year --against production"}, 3, nil},
		{demo.Administrator,
			"A comment code looks as if it only got another code. It did, so she says so, and matches again. Meanwhile the build team went on; the match says so.",
			[]string{"review --only 'comment_code/H*'", `pair comment_code/HAEM comment_code/HEMOLYSIS --note "the same comment"`,
				"match new-year --against production"}, 3, demo.GoOn},
		{demo.Administrator,
			"What is there to decide? Each line is a group of records that are decided together: a record with its parts and with what waits for it. Conflicts come first: what both sides changed, or production took out of use, removed, or has already. And some records exist only in production.",
			[]string{"review", "review --status conflict --full", "review --removals"}, 0, nil},
		{demo.Administrator, "And what changed, field by field? With what both last agreed on it is known which side moved.",
			[]string{"review --type unit --type assay --type panel --type panel_item --type comment_code --status changed,target-edit,target-only --full", "review --only 'assay_range/*' --status changed"}, 0, nil},
		{demo.Approver,
			"Jonas decides. A development record stays out; so do an assay that production retired and one that it removed on purpose. Of a range that both sides changed he takes production's limits: the night shift widened it for a reason.",
			[]string{
				`decline --group assay/ZZTEST --note "somebody tried something out"`,
				`decline assay/AMM price_line/STD/AMM/2027-01-01 --note "retired in production"`,
				`decline setting/app_version --note "each environment has its own"`,
				`decline --group assay/SALI --note "removed on purpose"`,
				`approve assay_range/K/U/0 comment_code/HOOK --take target --note "the night shift was right"`,
				`decline container/GELXL --note "production has this tube as GEL8"`,
				`hold assay/FCAL --with-parts --note "still under validation"`,
			}, 0, nil},
		{demo.Approver,
			"Everything else that is new or changed is fine. Records are named that cannot be imported as things stand: one refers to the assay under validation, and the name of a panel is longer than production takes.",
			[]string{`approve --status new,changed --note "reviewed with the build team"`}, 0, nil},
		{demo.Administrator,
			"Mara rehearses: the whole import, in production, taken back at the end. What cannot be imported is left out, and it says why.",
			[]string{"import --rehearse"}, 5, nil},
		{demo.Approver,
			"What is still open, and what holds approved records up? Jonas holds those as well, so that nothing is left to chance.",
			[]string{"review --decision approved --check reference-not-approved", `hold reflex_rule/CRP-FCAL --note "waits for FCAL"`,
				`hold panel/CARDED --with-parts --again --note "the build team shortens the name"`}, 0, nil},
		{demo.Administrator, "Now the import, in one transaction.",
			[]string{"import"}, 0, nil},
		{demo.Administrator,
			"Is it there? She exports and matches again: only what was declined or held still differs, and those decisions are filled in; and what the build team changed meanwhile.",
			[]string{"match sandbox --against production --name check",
				"review --type panel --type comment_code --status conflict,changed,new"}, 0, nil},
		{demo.Administrator, "The dockets keep what was brought where, when and by whom.",
			[]string{"history", "history 3", "status"}, 0, nil},
		{demo.Administrator,
			"Two things that Anagram warns of. Somebody exports a new price line without what it refers to; and somebody takes the parcel of March again.",
			[]string{"export sandbox --record price_line/STD/AMM/2027-01-01 --related none --name one-price",
				"match one-price --against production", "review",
				`approve price_line/STD/AMM/2027-01-01 --overrule --note "the ward still orders it until spring"`,
				"match march --against production"}, 3, nil},
	}
}

// unequalSteps end at a setting that has to be equal on both sides and is not.
func unequalSteps() []step {
	return []step{
		{demo.Administrator,
			"Months later. Somebody has set production to another base currency, while the sandbox builds prices in euros. Do the two still fit?",
			[]string{"catalog check sandbox production"}, 4, nil},
		{demo.Administrator, "They do not. She could see what differs all the same,",
			[]string{"match sandbox --against production --name new-year"}, 3, nil},
		{demo.Administrator, "but nothing can be imported, whatever is approved, until the setting is equal on both sides.",
			[]string{`approve 'price_line/*'`, "import"}, 4, nil},
	}
}

func runDemo(ctx context.Context, a *app, keep string, dataOnly, unequal bool, over []string) error {
	dir := ""
	if keep != "" {
		dir = a.path(keep)
		if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
			return &session.UsageError{Message: fmt.Sprintf("%s is not empty; name a new folder with --keep", dir)}
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
	if len(over) > 0 {
		end, err := overWeb(ctx, dir, over)
		if err != nil {
			return err
		}
		defer end()
	}
	out := a.Coloured()
	if dataOnly {
		if err := demoData(ctx, a, dir, unequal); err != nil {
			return err
		}
		fmt.Fprintln(out,
			a.Wrap(fmt.Sprintf("Made a workspace of Fernhollow Diagnostics in %s, with its two databases. They were last brought to the same state in March; Anagram knows what they had in common then.", keep), ""))
		a.Next("cd", present.Arg(keep), "&& anagram env test")
		return nil
	}
	fmt.Fprintln(out, a.Wrap("Anagram at work, on made-up data in "+dir+".", ""))
	n, err := runSteps(ctx, inMarch(a), dir, marchSteps(), 0)
	if err != nil {
		return err
	}
	if err := demo.Change(ctx, dir, unequal); err != nil {
		return err
	}
	rest := presentSteps()
	if unequal {
		rest = unequalSteps()
	}
	if slices.Contains(over, demo.Roles()[1]) { // a service takes nothing back
		rest = slices.DeleteFunc(rest, func(s step) bool { return slices.Contains(s.commands, "import --rehearse") })
	}
	if _, err := runSteps(ctx, a, dir, rest, n); err != nil {
		return err
	}
	present.Printf(out, "\n%s\n", present.Faint.Render(strings.Repeat("─", min(a.Width(), 80))))
	switch {
	case keep != "":
		present.Printf(out, "Everything is kept in %s. Go on by hand there:\n  cd %s\n  anagram status\n", dir, show.Arg(keep))
	case unequal:
		fmt.Fprintln(out, a.Wrap("The whole job: anagram demo", ""))
	default:
		fmt.Fprintln(out, a.Wrap("That was the whole job. To go on by hand with these data: anagram demo --keep DIR", ""))
	}
	return nil
}

// runSteps goes on counting after n.
func runSteps(ctx context.Context, a *app, dir string, steps []step, n int) (int, error) {
	out := a.Coloured()
	for _, s := range steps {
		n++
		if s.before != nil {
			if err := s.before(ctx, dir); err != nil {
				return n, err
			}
		}
		present.Printf(out, "\n%s\n", present.Faint.Render(strings.Repeat("─", min(a.Width(), 80))))
		fmt.Fprintln(out, a.Wrap(fmt.Sprintf("%s %s", present.Strong.Render(fmt.Sprintf("%d.", n)), s.why), ""))
		for j, command := range s.commands {
			if err := ctx.Err(); err != nil {
				return n, err
			}
			present.Printf(out, "\n%s\n", present.Strong.Render(s.who+"> anagram "+command))
			code := runAs(ctx, a, s.who, dir, command)
			if j == len(s.commands)-1 && code != s.code {
				return n, fmt.Errorf("the demo expected exit code %d of: anagram %s; it was %d", s.code, command, code)
			}
		}
	}
	return n, nil
}

// inMarch is the program some months ago.
func inMarch(a *app) *app {
	then, page := *a, *a.Page
	then.Page = &page
	then.Now = func() time.Time { return a.Now().AddDate(0, -8, 0) }
	return &then
}

// demoData does what the demo's people did in March, without showing it and without
// leaving more of it than what both sides agreed on, and lets the months since pass.
func demoData(ctx context.Context, a *app, dir string, unequal bool) error {
	quiet := inMarch(a)
	quiet.RawOut = io.Discard
	for _, command := range []string{"match sandbox --against production --name march", "approve *", "import"} {
		if code := runAs(ctx, quiet, demo.Administrator, dir, command); code != 0 && code != exitOpen {
			return fmt.Errorf("making the data failed at: anagram %s", command)
		}
	}
	for _, name := range []string{"parcels", "dockets"} {
		if err := os.RemoveAll(filepath.Join(dir, name)); err != nil {
			return err
		}
	}
	return demo.Change(ctx, dir, unequal)
}

// runAs runs a command of the demo as one of its people, with both streams on standard
// output, so that they stay in order.
func runAs(ctx context.Context, a *app, who, dir, command string) int {
	inner := a.Streams
	inner.Dir, inner.Out, inner.Err = dir, a.RawOut, a.RawOut
	inner.Environ = append(slices.Clone(a.Environ), "ANAGRAM_USER="+who)
	given := splitWords(command)
	if a.NoColor {
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
