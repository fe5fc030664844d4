package main

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

type bench struct {
	e                    engine
	size                 int
	dir, program         string
	source, target, many string // databases; many is a target of which much differs
	addresses            []string
	names                int
	results              string
}

func main() {
	size := flag.Int("size", 10_000, "records")
	runs := flag.Int("runs", 3, "how often each task is done")
	seed := flag.Int("seed", 1, "of the data")
	on := flag.String("engine", "postgres", "postgres, mysql or sqlite")
	only := flag.String("tasks", "", "the tasks to do, else all: tenth,type,export,chosen,match,parcels,import")
	program := flag.String("anagram", "", "the program, else it is built")
	keep := flag.Bool("keep", false, "build the data and leave them, to look at a task alone")
	server := flag.String("server", "postgres://postgres@127.0.0.1:5432", "the PostgreSQL server")
	results := flag.String("results", "", "a file to which results are added")
	picture := flag.String("plot", "", "draw what is in -results into this SVG file, and measure nothing")
	flag.Parse()
	if *picture != "" {
		if err := plot(*results, *picture); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	var wanted []string
	if *only != "" {
		wanted = strings.Split(*only, ",")
	}
	if err := measure(*size, *runs, *seed, *on, wanted, *program, *server, *results, *keep); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func measure(size, runs, seed int, on string, wanted []string, program, server, results string, keep bool) (err error) {
	dir, err := os.MkdirTemp("", "bench-")
	if err != nil {
		return err
	}
	if !keep {
		defer os.RemoveAll(dir)
	}
	b := &bench{size: size, dir: dir, program: program, results: results}
	var ok bool
	if b.e, ok = engines(dir, server)[on]; !ok {
		return fmt.Errorf("-engine: %q is none of postgres, mysql and sqlite", on)
	}
	suffix := fmt.Sprintf("_%d", os.Getpid())
	b.source, b.target, b.many = "bench_source"+suffix, "bench_target"+suffix, "bench_many"+suffix
	defer func() {
		if keep {
			return
		}
		for _, database := range []string{b.source, b.target, b.many, b.many + "_first"} {
			if dropped := b.shell(b.e.drop(database)); err == nil {
				err = dropped
			}
		}
	}()
	if err := b.build(seed); err != nil {
		return err
	}
	if keep {
		fmt.Println(b.path("workspace"))
		return nil
	}
	fmt.Printf("%s, %d records, %s, seed %d, medians of %d\n\n", b.e.name, size, machine(), seed, runs)
	fmt.Printf("%-26s %9s %9s %7s %9s %9s %9s\n", "", "Anagram", "by hand", "ratio", "processor", "by hand", "memory")
	for _, t := range b.tasks() {
		if len(wanted) > 0 && !slices.Contains(wanted, t.id) {
			continue
		}
		if err := b.do(t, runs); err != nil {
			return fmt.Errorf("%s: %w", t.name, err)
		}
	}
	return nil
}

// do does a task several times, by Anagram and by hand in turn.
func (b *bench) do(t task, runs int) error {
	if t.id == "import" && b.e.name == "MariaDB" {
		return nil // its statement for this has another form
	}
	var ours, theirs, busy, theirBusy []time.Duration
	peak := int64(0)
	for range runs {
		if t.prepare != nil {
			if err := t.prepare(); err != nil {
				return err
			}
		}
		u, err := b.anagram(t.wanted, t.anagram...)
		if err != nil {
			return err
		}
		ours, busy, peak = append(ours, u.wall), append(busy, u.processor), max(peak, u.peak)
		if t.hand == "" {
			continue
		}
		if t.reset != nil {
			if err := t.reset(); err != nil {
				return err
			}
		}
		if u, _, err = run(b.dir, []int{0}, "bash", "-c", t.hand); err != nil {
			return err
		}
		theirs, theirBusy = append(theirs, u.wall), append(theirBusy, u.processor)
	}
	r := result{Engine: b.e.name, Size: b.size, Task: t.id, Anagram: median(ours).Seconds(), Processor: median(busy).Seconds(), Peak: peak}
	hand, ratio, handBusy := "-", "-", "-"
	if len(theirs) > 0 {
		r.Hand = median(theirs).Seconds()
		hand, ratio, handBusy = fmt.Sprintf("%.2f s", r.Hand), fmt.Sprintf("%.2f", r.Anagram/r.Hand),
			fmt.Sprintf("%.2f s", median(theirBusy).Seconds())
	}
	fmt.Printf("%-26s %7.2f s %9s %7s %7.2f s %9s %5d MiB\n", t.name, r.Anagram, hand, ratio, r.Processor, handBusy, peak>>20)
	if b.results == "" {
		return nil
	}
	return r.keep(b.results)
}

// anagram runs the program in the workspace.
func (b *bench) anagram(wanted []int, args ...string) (used, error) {
	args = slices.Clone(args)
	for i, arg := range args {
		if arg == "+" {
			b.names++
			args[i] = fmt.Sprintf("p%d", b.names)
		}
	}
	u, _, err := run(filepath.Join(b.dir, "workspace"), append(wanted, 0), b.program, args...)
	return u, err
}

func (b *bench) shell(command string) error {
	_, _, err := run(b.dir, []int{0}, "bash", "-c", "set -eo pipefail\n"+command)
	return err
}

// build makes the databases, the workspace and the parcels.
func (b *bench) build(seed int) error {
	if b.program == "" {
		b.program = b.path("anagram")
		if err := b.shell("cd " + quoted(here()) + " && CGO_ENABLED=0 go build -ldflags '-s -w' -o " + b.program + " ./cmd/anagram"); err != nil {
			return err
		}
	}
	for _, of := range []struct {
		database string
		target   bool
		changed  int
	}{{b.source, false, 0}, {b.target, true, 1}, {b.many + "_first", true, b.percent()}} {
		if err := b.shell(b.e.make(of.database)); err != nil {
			return err
		}
		command, err := b.e.script(b.dir, of.database, of.database, b.e.build(b.size, seed, of.target, of.changed)+b.e.analyze+";\n")
		if err != nil {
			return err
		}
		if err := b.shell(command); err != nil {
			return err
		}
	}
	workspace := b.path("workspace")
	if err := os.MkdirAll(workspace, 0o700); err != nil {
		return err
	}
	for name, text := range map[string]string{
		"catalog.yaml": catalog,
		"anagram.yaml": fmt.Sprintf("environments:\n  source: {connect: %q, imports: refused}\n  target: {connect: %q}\n  many: {connect: %q}\n", b.e.connect(b.source), b.e.connect(b.target), b.e.connect(b.many)),
	} {
		if err := os.WriteFile(filepath.Join(workspace, name), []byte(text), 0o600); err != nil {
			return err
		}
	}
	for _, args := range [][]string{{"export", "source", "--name", "whole"}, {"export", "target", "--name", "other"}} {
		if _, err := b.anagram(nil, args...); err != nil {
			return err
		}
	}
	if err := b.shell(b.e.query(b.source, "SELECT code FROM assays WHERE id < 14 ORDER BY id") + " > " + b.path("codes")); err != nil {
		return err
	}
	codes, err := os.ReadFile(b.path("codes"))
	for _, code := range strings.Fields(string(codes))[:10] {
		b.addresses = append(b.addresses, "assay/"+code)
	}
	if err != nil {
		return err
	}
	if err := b.shell(b.exportByHand([]int{0, 1, 2, 3, 4, 5}, "")); err != nil {
		return err
	}
	return b.sortedFiles()
}

// reset makes the target of which much differs anew.
func (b *bench) reset() error {
	return b.shell(b.e.drop(b.many) + "\n" + b.e.copy(b.many+"_first", b.many))
}

// approved makes a docket toward it, in which all that is new or changed is approved. Nothing is
// remembered of an import before.
func (b *bench) approved() error {
	if err := b.reset(); err != nil {
		return err
	}
	if err := b.shell("rm -rf workspace/dockets workspace/.anagram"); err != nil {
		return err
	}
	if _, err := b.anagram([]int{3}, "match", "whole", "--against", "many"); err != nil {
		return err
	}
	_, err := b.anagram(nil, "approve", "assay/*", "--status", "changed,new")
	return err
}

// here is the folder of the project.
func here() string {
	dir, err := os.Getwd()
	for err == nil && dir != "/" {
		if _, missing := os.Stat(filepath.Join(dir, "go.mod")); missing == nil {
			return dir
		}
		dir = filepath.Dir(dir)
	}
	return "."
}
