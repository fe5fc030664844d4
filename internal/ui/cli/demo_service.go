package cli

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"anagram/internal/demo"
	"anagram/internal/demo/service"
	"anagram/internal/flow/session"
	"anagram/internal/store/workspace"
)

// serving says how the stand-in service is started.
type serving struct {
	listen, data, account, passwordEnv, fail string
	ignore                                   []string
}

func demoServiceCommand(a *app) *cobra.Command {
	of := serving{}
	cmd := &cobra.Command{
		Use:   "service",
		Short: "Stand in for an application in the cloud, over the demo data",
		Long: `Answers as a small OData v4 service over the two databases of the demo, each under
its name, /sandbox/ and /production/, and as a small SCIM 2.0 directory of its people
beside each, /sandbox-people/ and /production-people/. It goes on until Ctrl-C. It can
be told to fail now and then, to see what becomes of an import then.

--fail takes KIND=SHARE, with a share of the requests from 0 to 1: slow, before and
after (the connection ends before or after it was done), busy (429), error (500),
late (503 though it was done), token (401), touch (somebody else saves a record); and
seed=NUMBER to repeat it. --ignore names what the service takes no notice of: filter,
select, count, expand, 'expanded rows', bind, representation, batch, versions, and
writes, of which it says that they were done.`,
		Example: "  anagram demo service --listen 127.0.0.1:8086\n  anagram demo service --listen 127.0.0.1:8086 --data fernhollow/data --fail after=0.1,busy=0.1",
		RunE: a.run(func(cmd *cobra.Command, given []string) error {
			if err := arguments(cmd, given, 0, 0); err != nil {
				return err
			}
			return serve(cmd.Context(), a, of)
		}),
	}
	cmd.Flags().StringVar(&of.listen, "listen", "127.0.0.1:8086", "address to answer at; port 0 takes a free one")
	cmd.Flags().StringVar(&of.data, "data", "", "folder with sandbox.db and production.db (default: new ones, gone afterwards)")
	cmd.Flags().StringVar(&of.account, "account", "", "who may sign in (default: everybody on this machine)")
	cmd.Flags().StringVar(&of.passwordEnv, "password-env", "", "environment variable with the account's password")
	cmd.Flags().StringVar(&of.fail, "fail", "", "how often to fail, and how (see above)")
	cmd.Flags().StringSliceVar(&of.ignore, "ignore", nil, "what to take no notice of (see above)")
	return cmd
}

// serve answers until it is stopped.
func serve(ctx context.Context, a *app, of serving) error {
	fail, err := service.ParseFail(of.fail)
	if err != nil {
		return session.Usage("--fail: %v", err)
	}
	for _, what := range of.ignore {
		if !slices.Contains(service.Ignorable(), what) {
			return session.Usage("--ignore: %q is none of %s", what, strings.Join(service.Ignorable(), ", "))
		}
	}
	options := service.Options{Account: of.account, Fail: fail, Ignores: of.ignore}
	if of.account != "" {
		if options.Password = a.Env(of.passwordEnv); options.Password == "" {
			return session.Usage("--account needs --password-env, the environment variable with the password")
		}
	}
	host, _, err := net.SplitHostPort(of.listen)
	if err != nil {
		return session.Usage("--listen: %q is no address with a port, such as 127.0.0.1:8086", of.listen)
	}
	if ip := net.ParseIP(host); of.account == "" && host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return session.Usage("--listen: other machines could reach %s; say who may sign in with --account and --password-env, or listen at 127.0.0.1", of.listen)
	}
	data, gone, err := servedData(ctx, a, of.data)
	if err != nil {
		return err
	}
	defer gone()
	mux := http.NewServeMux()
	for _, role := range demo.Roles() {
		options.File = filepath.Join(data, role+".db")
		if _, err := os.Stat(options.File); err != nil {
			return session.Usage("--data: there is no %s; make one with: anagram demo --keep FOLDER --data-only", options.File)
		}
		one, err := service.Follow(ctx, options)
		if err != nil {
			return err
		}
		defer func() { _ = one.Close() }()
		mux.Handle("/"+role+"/", http.StripPrefix("/"+role, one))
		directory := service.NewDirectory(service.DirectoryOptions{Account: of.account, Password: options.Password, Fail: fail,
			Prefix: role[:1]})
		service.FillDirectory(directory, role)
		mux.Handle("/"+role+"-people/", http.StripPrefix("/"+role+"-people", directory))
	}
	listener, err := net.Listen("tcp", of.listen)
	if err != nil {
		return &session.UsageError{Message: fmt.Sprintf("Nothing can be answered at %s: %v.", of.listen, err)}
	}
	for _, role := range demo.Roles() {
		fmt.Fprintf(a.Out, "%-10s  odata+http://%s/%s\n", role, listener.Addr(), role)
		fmt.Fprintf(a.Out, "%-10s  scim+http://%s/%s-people\n", "", listener.Addr(), role)
	}
	fmt.Fprintln(a.Err, "It answers until Ctrl-C.")
	return answerUntil(ctx, listener, mux)
}

// overWeb makes services of sides of the demo in a folder, and gives what ends them.
func overWeb(ctx context.Context, dir string, roles []string) (end func(), err error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	within, cancel := context.WithCancel(ctx)
	mux := http.NewServeMux()
	stopped := make(chan struct{})
	var open []*service.Following
	end = func() {
		cancel()
		<-stopped
		for _, one := range open {
			_ = one.Close()
		}
	}
	config := filepath.Join(dir, workspace.ConfigName)
	text, err := os.ReadFile(config)
	for _, role := range roles {
		var one *service.Following
		if err == nil {
			one, err = service.Follow(ctx, service.Options{File: filepath.Join(dir, "data", role+".db")})
		}
		if err != nil {
			break
		}
		open = append(open, one)
		mux.Handle("/"+role+"/", http.StripPrefix("/"+role, one))
		text = []byte(strings.Replace(string(text), "sqlite:data/"+role+".db", fmt.Sprintf("odata+http://%s/%s", listener.Addr(), role), 1))
	}
	if err == nil {
		err = os.WriteFile(config, text, 0o600)
	}
	go func() {
		defer close(stopped)
		_ = answerUntil(within, listener, mux)
	}()
	if err != nil {
		end()
	}
	return end, err
}

// answerUntil answers until it is stopped.
func answerUntil(ctx context.Context, listener net.Listener, handler http.Handler) error {
	server := &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: time.Minute}
	stopped := make(chan error, 1)
	go func() { stopped <- server.Serve(listener) }()
	select {
	case err := <-stopped:
		return err
	case <-ctx.Done():
		within, cancel := context.WithTimeout(context.WithoutCancel(ctx), 3*time.Second)
		defer cancel()
		_ = server.Shutdown(within)
		return nil
	}
}

// servedData gives the folder with the databases, which is made where none is named, and what
// takes it away again.
func servedData(ctx context.Context, a *app, named string) (dir string, gone func(), err error) {
	switch {
	case filepath.IsAbs(named):
		return named, func() {}, nil
	case named != "":
		return filepath.Join(a.Dir, named), func() {}, nil
	}
	made, err := os.MkdirTemp("", "anagram-demo-service-")
	if err != nil {
		return "", nil, err
	}
	gone = func() { _ = os.RemoveAll(made) }
	if err = demo.Build(ctx, made); err == nil {
		err = demo.Change(ctx, made, false)
	}
	if err != nil {
		gone()
	}
	return filepath.Join(made, "data"), gone, err
}
