package test

import "anagram/internal/ui/present"

import (
	"bytes"
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"anagram/internal/environment/conformance"
	"anagram/internal/ui/cli"
)

var (
	program string                                  // path of a program that can be started
	scratch string                                  // a folder for what several tests share
	built   = os.Getenv("ANAGRAM_TEST_BUILT") != "" // every command is a run of the built program
)

// programName is under which this test binary does what the program does.
const programName = "anagram"

func TestMain(m *testing.M) {
	if filepath.Base(os.Args[0]) == programName {
		ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
		code := cli.Main(ctx)
		stop()
		os.Exit(code)
	}
	code, err := prepareAndRun(m)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		code = 1
	}
	os.Exit(code)
}

func prepareAndRun(m *testing.M) (int, error) {
	// Much of the time is spent waiting for servers and disks, so more tests than processors
	// are at work; and what they leave behind is small, so it is cleaned up seldom.
	flag.Parse()
	chosen := false
	flag.Visit(func(f *flag.Flag) { chosen = chosen || f.Name == "test.parallel" })
	if !chosen {
		if err := flag.Set("test.parallel", strconv.Itoa(4*runtime.GOMAXPROCS(0))); err != nil {
			return 1, err
		}
	}
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(-1)
		debug.SetMemoryLimit(1 << 30)
	}
	dir, err := os.MkdirTemp("", "anagram-test-")
	if err != nil {
		return 1, err
	}
	defer os.RemoveAll(dir)
	drop := conformance.Reuse()
	defer func() {
		if err := drop(); err != nil {
			fmt.Fprintln(os.Stderr, err)
		}
	}()
	scratch, program = dir, filepath.Join(dir, programName)
	if built {
		build := exec.Command("go", "build", "-o", program, "../cmd/anagram")
		build.Env = append(os.Environ(), "CGO_ENABLED=0")
		if out, err := build.CombinedOutput(); err != nil {
			return 1, fmt.Errorf("building the program: %w\n%s", err, out)
		}
		return m.Run(), nil
	}
	// The test binary does what the program does, so that nothing else has to be linked.
	self, err := os.Executable()
	if err != nil {
		return 1, err
	}
	if err := os.Symlink(self, program); err != nil {
		return 1, err
	}
	code := m.Run()
	if testing.Verbose() {
		fmt.Printf("the program was run %d times within the tests, and started %d times\n", begun.within.Load(), begun.alone.Load())
	}
	return code, nil
}

// begun counts how often the program was run within this process, and as one of its own.
var begun struct{ within, alone atomic.Int64 }

// result is what a run of the program gave.
type result struct {
	code     int
	out, err string
	peak     int64 // bytes of memory at most; of a process only
	seconds  float64
}

// environ gives the variables that a run of the program has.
func (p *place) environ() []string {
	out := append(os.Environ(), "ANAGRAM_USER="+p.user, "XDG_CONFIG_HOME="+p.config())
	return append(out, p.env...)
}

// command prepares a process of the program.
func (p *place) command(args ...string) *exec.Cmd {
	return p.started(program, args...)
}

// started prepares a process in which anagram is the program.
func (p *place) started(name string, args ...string) *exec.Cmd {
	begun.alone.Add(1)
	cmd := exec.Command(name, args...)
	cmd.Dir = p.dir
	cmd.Env = append(p.environ(), "PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"))
	return cmd
}

// run runs the program in the workspace.
func (p *place) run(args ...string) result {
	p.t.Helper()
	if built || p.alone {
		return p.process(args...)
	}
	begun.within.Add(1)
	var out, errs bytes.Buffer
	code := cli.Run(context.Background(), present.Streams{In: strings.NewReader(""), Out: &out, Err: &errs, Dir: p.dir, Environ: p.environ(), Now: time.Now, Hurry: p.hurry}, args)
	return result{code: code, out: out.String(), err: errs.String()}
}

// together runs the program and gives what it prints on both streams, in its order.
func (p *place) together(args ...string) (string, int) {
	p.t.Helper()
	if built || p.alone {
		cmd := p.command(args...)
		out, err := cmd.CombinedOutput()
		if exit := new(exec.ExitError); !errors.As(err, &exit) {
			require.NoError(p.t, err)
		}
		return string(out), cmd.ProcessState.ExitCode()
	}
	begun.within.Add(1)
	var both bytes.Buffer
	code := cli.Run(context.Background(), present.Streams{In: strings.NewReader(""), Out: &both, Err: &both, Dir: p.dir, Environ: p.environ(), Now: time.Now, Hurry: p.hurry}, args)
	return both.String(), code
}

// process is run in a process of its own.
func (p *place) process(args ...string) result {
	p.t.Helper()
	cmd := p.command(args...)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	require.NoError(p.t, cmd.Start())
	peak := watchPeak(cmd.Process.Pid)
	err := cmd.Wait()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		require.NoError(p.t, err)
	}
	r := result{code: cmd.ProcessState.ExitCode(), out: out.String(), err: errs.String()}
	r.peak, r.seconds = used(cmd.ProcessState)
	if most := peak(); most > 0 {
		r.peak = most
	}
	return r
}
