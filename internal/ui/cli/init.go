package cli

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"anagram/internal/core/pattern"
	"anagram/internal/core/show"
	"anagram/internal/flow/fit"
	"anagram/internal/flow/inspect"
	"anagram/internal/flow/session"
	"anagram/internal/store/workspace"
	"anagram/internal/ui/present"
	"anagram/internal/ui/wire"
)

// starting is what init is told of the environments.
type starting struct {
	source, target                 string
	sourcePassword, targetPassword string
}

func initCommand(a *app) *cobra.Command {
	var of starting
	c := &cobra.Command{
		Use:   "init [DIR]",
		Short: "Start a workspace: from two addresses a drafted and checked one, else commented examples",
		Long: `Starts a workspace in a folder. With the addresses of a source and a target it tests
them, drafts the catalog from both and checks that it holds; on a terminal it asks for
them. An address is as under connect: in anagram.yaml, and may be given a name before
it, as in sandbox=sqlite:data/sandbox.db. Passwords are never given here: name the
variable that holds one, or leave it to the database's own conventions.`,
		Example: `  anagram init lab --source sandbox=sqlite:sandbox.db --target production=sqlite:production.db
  anagram init lab --source postgres://lab@db1/lab --target postgres://lab@db2/lab`,
		RunE: a.run(func(cmd *cobra.Command, given []string) error {
			if err := arguments(cmd, given, 0, 1); err != nil {
				return err
			}
			dir := a.Dir
			if len(given) > 0 {
				dir = a.path(given[0])
			}
			if of == (starting{}) {
				if err := askStarting(a, dir, &of); err != nil {
					return err
				}
			}
			if of.source == "" && of != (starting{}) {
				return &session.UsageError{Message: "A workspace is started from a source, with or without a target: add --source ADDRESS"}
			}
			if of.source == "" {
				return initExample(a, dir)
			}
			return initFrom(cmd.Context(), a, dir, of)
		}),
	}
	c.Flags().StringVar(&of.source, "source", "", "address of the source, [NAME=]ADDRESS")
	c.Flags().StringVar(&of.target, "target", "", "address of the target, [NAME=]ADDRESS")
	c.Flags().StringVar(&of.sourcePassword, "source-password-env", "", "variable that holds the source's password")
	c.Flags().StringVar(&of.targetPassword, "target-password-env", "", "variable that holds the target's password")
	return c
}

func initExample(a *app, dir string) error {
	made, err := workspace.Init(dir)
	if err != nil {
		return err
	}
	if a.JSON {
		return a.PrintJSON(wire.Begun{Workspace: dir, Files: made})
	}
	present.Printf(a.Out, "Started a workspace in %s:\n", dir)
	for _, name := range made {
		fmt.Fprintln(a.Out, "  "+name)
	}
	a.Next("describe your environments in anagram.yaml, then: anagram env test")
	return nil
}

// askStarting asks for the addresses where there is a terminal; elsewhere nothing is asked.
func askStarting(a *app, dir string, of *starting) error {
	f, ok := a.In.(*os.File)
	out, shown := a.RawErr.(*os.File)
	if !ok || !shown || a.JSON || a.Quiet || !term.IsTerminal(int(f.Fd())) || !term.IsTerminal(int(out.Fd())) {
		return nil
	}
	if _, err := os.Lstat(filepath.Join(dir, workspace.ConfigName)); err == nil {
		return nil // what follows says that there is one
	}
	lines := bufio.NewReader(a.In)
	for _, question := range []struct {
		text string
		into *string
	}{
		{"Address of the source, such as postgres://me@host/db or sqlite:file.db\n(Enter for examples instead): ", &of.source},
		{"Address of the target (Enter for none yet): ", &of.target},
	} {
		fmt.Fprint(a.Err, question.text)
		line, err := lines.ReadString('\n')
		if *question.into = strings.TrimSpace(line); *question.into == "" && question.into == &of.source {
			return nil
		}
		if err != nil {
			return nil //nolint:nilerr // no more to read is no answer
		}
	}
	return nil
}

var startName = pattern.Of(`^([\pL\pN][\pL\pN_.-]*)=(.*)$`)

// start reads what is said of one environment. A file's path is meant from where the person
// is, and the workspace has it from where its own file is.
func start(a *app, dir, given, name, password string) (workspace.Starting, error) {
	s := workspace.Starting{Name: name, Connect: given, PasswordEnv: password}
	if m := startName.FindStringSubmatch(given); m != nil && !strings.Contains(m[1], ":") {
		s.Name, s.Connect = m[1], m[2]
	}
	scheme, path, ok := strings.Cut(s.Connect, ":")
	if !ok {
		return s,
			&session.UsageError{Message: fmt.Sprintf("The address of %s has to begin with a way to connect, such as postgres:, mysql:, sqlite:, folder:, odata+https: or scim+https:", s.Name)}
	}
	if (scheme == "sqlite" || scheme == "folder") && path != "" && !filepath.IsAbs(path) {
		absolute, err := filepath.Abs(filepath.Join(a.Dir, path))
		if err != nil {
			return s, err
		}
		folder, err := filepath.Abs(dir)
		if err != nil {
			return s, err
		}
		relative, err := filepath.Rel(folder, absolute)
		if err != nil {
			relative = absolute
		}
		s.Connect = scheme + ":" + filepath.ToSlash(relative)
	}
	return s, nil
}

// sides reads what is said of the source and the target.
func sides(a *app, dir string, of starting) (environments []workspace.Starting, names []string, err error) {
	for _, side := range [][3]string{{of.source, "source", of.sourcePassword}, {of.target, "target", of.targetPassword}} {
		if side[0] == "" {
			continue
		}
		s, err := start(a, dir, side[0], side[1], side[2])
		if err != nil {
			return nil, nil, err
		}
		if len(names) > 0 && names[0] == s.Name {
			return nil, nil,
				&session.UsageError{Message: fmt.Sprintf("Both environments would be called %s; give each its own name, as in --target production=ADDRESS", s.Name)}
		}
		environments, names = append(environments, s), append(names, s.Name)
	}
	return environments, names, nil
}

// initFrom starts a workspace from addresses: tested, drafted and checked. Where an
// environment cannot be reached nothing is left behind.
func initFrom(ctx context.Context, a *app, dir string, of starting) (err error) {
	environments, names, err := sides(a, dir, of)
	if err != nil {
		return err
	}
	_, before := os.Lstat(filepath.Join(dir, ".anagram"))
	made, err := workspace.Start(dir, environments)
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			for _, name := range append(made, "catalog.yaml") {
				_ = os.Remove(filepath.Join(dir, name))
			}
			if before != nil { // one that was there holds what an earlier workspace remembers
				_ = os.RemoveAll(filepath.Join(dir, ".anagram"))
			}
			_ = os.Remove(dir) // where it is empty
		}
	}()
	a.workspaceDir = dir
	s, err := a.session()
	if err != nil {
		return err
	}
	// Whoever says an address says that it may be reached.
	stakes, err := s.Stakes()
	if err != nil {
		return err
	}
	if stakes.Any {
		if err := s.Trust(stakes); err != nil {
			return err
		}
	}
	reached, err := a.reached(ctx, s, names)
	if err != nil {
		return err
	}
	d, text, err := inspect.Draft(ctx, s, inspect.Drafting{Environments: names}, filepath.Join(dir, "catalog.yaml"))
	if err != nil {
		return err
	}
	if len(d.Types) == 0 {
		return &session.UsageError{Message: fmt.Sprintf("Nothing in %s looks like setup, so there is nothing to draft a catalog from; no workspace was started", strings.Join(names, " and "))}
	}
	guesses := strings.Count(string(text), "# guess: ")
	if !a.JSON {
		present.Printf(a.Out, "Started a workspace in %s.\n", dir)
		for _, line := range reached {
			fmt.Fprintln(a.Out, a.Wrap(line, "  "))
		}
		fmt.Fprintln(a.Out, a.Wrap(drafted(d, "catalog.yaml", guesses), ""))
	}
	// From here on the workspace stands; what does not hold yet is told.
	reports, checkErr := fit.CheckCatalog(ctx, s, names)
	if checkErr != nil {
		return afterInit(a, dir, checkErr)
	}
	a.Result = reports
	if a.JSON {
		of := wire.DraftOf(d, names, guesses, text)
		return a.PrintJSON(wire.Drafted{Workspace: dir, Files: append(made, "catalog.yaml"),
			Check:        wire.CatalogCheckOf(reports).Environments,
			Environments: of.Environments, Types: of.Types, LeftOut: of.LeftOut, Doubtful: of.Doubtful, Guesses: of.Guesses})
	}
	for _, r := range reports.Environments {
		present.CatalogCheck(a.Page, s, r)
	}
	nextIn(a, dir, names, reports)
	return nil
}

// reached tests that the environments can be reached, and says what they are.
func (a *app) reached(ctx context.Context, s *session.Session, names []string) ([]string, error) {
	reports, err := inspect.TestEnvironments(ctx, s, names)
	if err != nil {
		return nil, err
	}
	var out []string
	for i, r := range reports {
		if i > 0 && r.Err == nil && r.About.Address == reports[0].About.Address {
			return nil,
				&session.UsageError{Message: fmt.Sprintf("%s and %s are the same place (%s); a source and a target are two. No workspace was started", reports[0].Name, r.Name, r.About.Address)}
		}
		if r.Err != nil {
			return nil, inspect.NotReached(r.Err)
		}
		text := fmt.Sprintf("%s: %s, %s", r.Name, r.About.Product, present.Count(len(r.About.Places), "table"))
		if r.About.Rights != "" {
			text += ", " + r.About.Rights
		}
		out = append(out, text+".")
	}
	return out, nil
}

// path makes a path absolute; it is relative to the working folder.
func (a *app) path(p string) string {
	if filepath.IsAbs(p) {
		return p
	}
	return filepath.Join(a.Dir, p)
}

// afterInit says that a workspace stands though its catalog could not be checked.
func afterInit(a *app, dir string, cause error) error {
	for _, line := range linesOf(cause, cause.Error()) {
		fmt.Fprintln(a.Err, a.Wrap(line, ""))
	}
	a.Next("cd " + show.Arg(dir) + ", correct catalog.yaml, then: anagram catalog check")
	return nil
}

func nextIn(a *app, dir string, names []string, reports fit.CatalogReports) {
	change := ""
	if dir != a.Dir {
		change = "cd " + show.Arg(dir) + ", "
	}
	switch {
	case codeOfResult(reports) != exitDone:
		a.Next(change + "correct catalog.yaml, then: anagram catalog check")
	case len(names) == 2:
		a.Next(change + "read the end of catalog.yaml, then: anagram match " + show.Arg(names[0]) + " --against " + show.Arg(names[1]))
	default:
		a.Next(change + "read the end of catalog.yaml, then: anagram export " + show.Arg(names[0]))
	}
}
