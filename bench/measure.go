package main

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// used is what a process took, with all that it started.
type used struct {
	wall, processor time.Duration
	peak            int64 // bytes, of its largest process
}

// run runs a command and measures it; other exit codes than those wanted are errors.
func run(dir string, wanted []int, name string, args ...string) (used, string, error) {
	cmd := exec.Command(name, args...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "ANAGRAM_USER=mara", "XDG_CONFIG_HOME="+dir+"-config")
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	began := time.Now()
	err := cmd.Run()
	u := used{wall: time.Since(began)}
	if cmd.ProcessState == nil {
		return u, "", err
	}
	if !slices.Contains(wanted, cmd.ProcessState.ExitCode()) {
		return u, "", fmt.Errorf("%s %s: %w\n%s", name, strings.Join(args, " "), err, out.String())
	}
	u.processor = cmd.ProcessState.UserTime() + cmd.ProcessState.SystemTime()
	if usage, ok := cmd.ProcessState.SysUsage().(*syscall.Rusage); ok {
		u.peak = usage.Maxrss * 1024
	}
	return u, out.String(), nil
}

func median(all []time.Duration) time.Duration {
	all = slices.Clone(all)
	slices.Sort(all)
	if len(all) == 0 {
		return 0
	}
	return all[len(all)/2]
}

// machine describes where it was measured.
func machine() string {
	model, memory := "an unknown processor", ""
	if text, err := os.ReadFile("/proc/cpuinfo"); err == nil {
		if _, rest, ok := strings.Cut(string(text), "model name"); ok {
			line, _, _ := strings.Cut(rest, "\n")
			model = strings.Trim(line, "\t :")
		}
	}
	if text, err := os.ReadFile("/proc/meminfo"); err == nil {
		if fields := strings.Fields(string(text)); len(fields) > 1 {
			if kilobytes, err := strconv.ParseInt(fields[1], 10, 64); err == nil {
				memory = fmt.Sprintf(", %d GiB of memory", kilobytes>>20)
			}
		}
	}
	cores, _ := exec.Command("nproc").Output()
	return fmt.Sprintf("%s cores (%s)%s", strings.TrimSpace(string(cores)), model, memory)
}
