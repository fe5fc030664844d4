package cli

import (
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"anagram/internal/ui/present"
	"anagram/internal/ui/text"
)

// ManualPage is a manual page.
type ManualPage struct {
	Name string // of its file, such as anagram-review.1
	Text string // in the man macros that every system reads
}

// Manual gives a manual page for every command, dated by the day that is given.
func Manual(day time.Time) []ManualPage {
	a := &app{Page: present.NewPage(present.Streams{Out: text.NewScreen(io.Discard), Err: text.NewScreen(io.Discard)})}
	root := a.root()
	var out []ManualPage
	for _, c := range allCommands(root) {
		if !c.Hidden && c.Name() != "help" {
			out = append(out, ManualPage{strings.ReplaceAll(c.CommandPath(), " ", "-") + ".1", page(c, day)})
		}
	}
	return out
}

// roff writes a text as it is: no line of it is a macro, and no character a command.
func roff(s string) string {
	s = strings.NewReplacer(`\`, `\e`, "-", `\-`, "'", `\(aq`).Replace(s)
	lines := strings.Split(s, "\n")
	for i, line := range lines {
		if strings.HasPrefix(line, ".") {
			lines[i] = `\&` + line
		}
	}
	return strings.Join(lines, "\n")
}

func page(c *cobra.Command, day time.Time) string {
	var out strings.Builder
	put := func(lines ...string) {
		for _, line := range lines {
			out.WriteString(line + "\n")
		}
	}
	name := strings.ReplaceAll(c.CommandPath(), " ", "-")
	put(`.TH "`+strings.ToUpper(roff(name))+`" "1" "`+day.Format(time.DateOnly)+`" "Anagram" "Anagram"`,
		".SH NAME", roff(name)+` \- `+roff(c.Short), ".SH SYNOPSIS", ".B "+roff(c.UseLine()), ".SH DESCRIPTION")
	long := c.Long
	if long == "" {
		long = c.Short + "."
	}
	put(strings.ReplaceAll(roff(long), "\n\n", "\n.PP\n"))
	options := func(title string, flags *pflag.FlagSet) {
		if !flags.HasAvailableFlags() {
			return
		}
		put(".SH " + title)
		flags.VisitAll(func(f *pflag.Flag) {
			if f.Hidden {
				return
			}
			kind, usage := pflag.UnquoteUsage(f)
			put(".TP", strings.TrimRight(`.B \-\-`+roff(f.Name)+" "+kind, " "), roff(usage))
		})
	}
	options("OPTIONS", c.NonInheritedFlags())
	options("OPTIONS OF EVERY COMMAND", c.InheritedFlags())
	if c.Example != "" {
		put(".SH EXAMPLES", ".nf", roff(c.Example), ".fi")
	}
	var more []string
	for _, sub := range c.Commands() {
		if sub.IsAvailableCommand() && sub.Name() != "help" {
			more = append(more, ".BR "+roff(strings.ReplaceAll(sub.CommandPath(), " ", "-"))+" (1)")
		}
	}
	if c.Parent() != nil {
		more = append(more, ".BR "+roff(strings.ReplaceAll(c.Parent().CommandPath(), " ", "-"))+" (1)")
	}
	if len(more) > 0 {
		put(".SH SEE ALSO", strings.Join(more, ",\n"))
	}
	return out.String()
}
