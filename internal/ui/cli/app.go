// Package cli is the command line: one file a command, which reads flags, calls a
// step of flow and prints its result.
//
// The contract: results go to standard output; progress, notes and "Next:" lines to
// standard error. Nothing ever asks a question. Exit codes are settled in exit.go, text
// for people in print.go.
package cli

import (
	"cmp"
	"context"
	"log/slog"
	"os"
	"os/user"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"anagram/internal/core/decision"
	"anagram/internal/core/limit"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/workspace"
	"anagram/internal/ui/present"
)

// app is one run of the program.
type app struct {
	*present.Page
	workspaceDir string
	verbose      bool
	ran          bool // a command was reached; errors before that are wrong usage
}

// Run runs the program and gives its exit code.
func Run(ctx context.Context, s present.Streams, args []string) int {
	a := &app{Page: present.NewPage(s)}
	a.IsWeb = a.onTheWeb
	ctx = limit.Hurried(ctx, s.Hurry)
	root := a.root()
	root.SetArgs(args)
	root.SetIn(s.In)
	root.SetOut(s.Out)
	root.SetErr(s.Err)
	err := root.ExecuteContext(ctx)
	return a.exit(err)
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "anagram",
		Short: "Bring setup records from one environment to another, reviewed",
		Long: `Anagram brings setup and configuration records from a source environment to a
target: it exports them into a parcel, matches them by key with the target, shows
what is new, changed or conflicting, and imports only what was approved.

See the whole job on made-up data with: anagram demo`,
		Example:       "  anagram demo\n  anagram init lab --source sandbox=sqlite:sandbox.db --target production=sqlite:production.db\n  anagram status",
		SilenceErrors: true, SilenceUsage: true,
	}
	root.SetOut(a.RawOut) // before completion takes it
	flags := root.PersistentFlags()
	flags.StringVar(&a.workspaceDir, "workspace", "", "folder of the workspace (else the nearest anagram.yaml upwards)")
	flags.BoolVar(&a.JSON, "json", false, "print results as JSON")
	flags.BoolVar(&a.Quiet, "quiet", false, "print results and errors only")
	flags.BoolVar(&a.verbose, "verbose", false, "log each step to standard error")
	flags.BoolVar(&a.NoColor, "no-color", false, "no colours (NO_COLOR does the same)")
	for _, group := range []struct{ id, title string }{
		{"prepare", "Prepare:"}, {"export", "Export and keep:"}, {"review", "Match, review, decide:"}, {"import", "Import and look back:"},
	} {
		root.AddGroup(&cobra.Group{ID: group.id, Title: group.title})
	}
	in := func(group string, commands ...*cobra.Command) {
		for _, c := range commands {
			c.GroupID = group
			root.AddCommand(c)
		}
	}
	in("prepare", demoCommand(a), initCommand(a), envCommand(a), trustCommand(a), catalogCommand(a))
	in("export", exportCommand(a), selectionCommand(a), parcelCommand(a))
	in("review", matchCommand(a), pairCommand(a), reviewCommand(a), approveCommand(a), declineCommand(a), holdCommand(a),
		reopenCommand(a), commentCommand(a), signCommand(a), joinCommand(a))
	in("import", importCommand(a), proveCommand(a), restoreCommand(a), historyCommand(a), statusCommand(a))
	root.AddCommand(versionCommand(a))
	info, _ := debug.ReadBuildInfo()
	root.Version = buildText(thisBuild(info))
	root.SetVersionTemplate("{{.Version}}\n")
	root.Flags().Bool("version", false, "print the program's version")
	root.InitDefaultCompletionCmd()
	complete(a, root)
	refuseEmpty(root)
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return &session.UsageError{Message: err.Error()} })
	return root
}

// run wraps a command's work, so that errors of usage are told from those of work.
func (a *app) run(do func(cmd *cobra.Command, args []string) error) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, args []string) error {
		a.ran = true
		return do(cmd, args)
	}
}

// step is run for commands that work in a workspace, with this many arguments; most is
// -1 for any.
func (a *app) step(least, most int, do func(*cobra.Command, *session.Session, []string) error) func(*cobra.Command, []string) error {
	return a.run(func(cmd *cobra.Command, given []string) error {
		if err := arguments(cmd, given, least, most); err != nil {
			return err
		}
		s, err := a.session()
		if err != nil {
			return err
		}
		return do(cmd, s, given)
	})
}

// session opens the workspace for a step.
func (a *app) session() (*session.Session, error) {
	dir := a.workspaceDir
	if dir == "" {
		found, err := workspace.Find(a.Dir)
		if err != nil {
			return nil, err
		}
		dir = found
	} else {
		dir = a.path(dir)
	}
	w, err := workspace.Open(dir)
	if err != nil {
		return nil, err
	}
	if err := a.named(); err != nil {
		return nil, err
	}
	return &session.Session{Workspace: w, Who: a.who(), Origin: a.origin(), Program: "anagram " + version(), Now: a.Now,
		Progress: a.progress(), Log: a.logger(), Dir: a.Dir, Environ: a.Environ, Config: a.config()}, nil
}

// who is the person at work: ANAGRAM_USER, else the account.
func (a *app) who() string {
	for _, name := range []string{"ANAGRAM_USER", "USER", "LOGNAME", "USERNAME"} {
		if value := a.Env(name); value != "" {
			return strings.TrimSpace(value)
		}
	}
	if u, err := user.Current(); err == nil && u.Username != "" {
		return u.Username
	}
	return "unknown"
}

// named refuses a name that could be taken for another person's.
func (a *app) named() error {
	if why := decision.Unfit(a.who()); why != "" {
		return session.Usage("The name of who is at work cannot be used: %s. Say who you are in the variable ANAGRAM_USER", why)
	}
	return nil
}

// origin says where the person at work is: the account of the operating system, the host,
// and whether the name is another one than the account's.
func (a *app) origin() docket.Origin {
	out := docket.Origin{}
	if u, err := user.Current(); err == nil {
		out.Account = u.Username
	}
	out.Host, _ = os.Hostname()
	out.Named = a.who() != out.Account
	return out
}

// config is the person's own configuration folder, where the operating system has it; ""
// where that is not known.
func (a *app) config() string {
	under := func(variable string, parts ...string) string {
		if dir := a.Env(variable); dir != "" {
			return filepath.Join(append([]string{dir}, parts...)...)
		}
		return ""
	}
	switch runtime.GOOS {
	case "windows":
		return under("AppData")
	case "darwin", "ios":
		return under("HOME", "Library", "Application Support")
	default:
		return cmp.Or(under("XDG_CONFIG_HOME"), under("HOME", ".config"))
	}
}

func (a *app) logger() *slog.Logger {
	if !a.verbose {
		return slog.New(slog.DiscardHandler)
	}
	return slog.New(slog.NewTextHandler(a.Err, &slog.HandlerOptions{Level: slog.LevelDebug}))
}

// Main runs the program as the operating system started it.
func Main(ctx context.Context) int {
	ownFilesOnly()
	dir, err := os.Getwd()
	if err != nil {
		dir = "."
	}
	return Run(ctx, present.Streams{In: os.Stdin, Out: os.Stdout, Err: os.Stderr, Dir: dir, Environ: os.Environ(),
		Now: time.Now}, os.Args[1:])
}
