package cli

import (
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"anagram/internal/flow/session"
)

// mayBeEmpty are options whose empty text says something: notes.
var mayBeEmpty = map[string]bool{"note": true}

// refuseEmpty makes an empty text a usage error on every command: an empty option or argument is a
// variable that was not set, never "all", "the newest" or "not given".
func refuseEmpty(c *cobra.Command) {
	for _, sub := range c.Commands() {
		refuseEmpty(sub)
	}
	if c.RunE == nil {
		return
	}
	c.LocalFlags().VisitAll(func(flag *pflag.Flag) {
		if list, ok := flag.Value.(pflag.SliceValue); ok {
			flag.Value, flag.DefValue = &givenList{Value: flag.Value, SliceValue: list}, ""
		}
	})
	do := c.RunE
	c.RunE = func(cmd *cobra.Command, args []string) error {
		if err := allSay(cmd.Flags(), args); err != nil {
			return err
		}
		return do(cmd, args)
	}
}

// givenList is a list that knows what it was given: an empty text adds nothing to it.
type givenList struct {
	pflag.Value
	pflag.SliceValue
	empty bool
}

// Set adds what one option says.
func (l *givenList) Set(text string) error {
	l.empty = l.empty || strings.TrimSpace(text) == ""
	return l.Value.Set(text)
}

// allSay reports the first option or argument that was given and is empty.
func allSay(flags *pflag.FlagSet, args []string) (err error) {
	flags.Visit(func(flag *pflag.Flag) {
		values := []string{flag.Value.String()}
		if list, ok := flag.Value.(*givenList); ok {
			if values = list.GetSlice(); list.empty {
				values = nil
			}
		}
		if err != nil || mayBeEmpty[flag.Name] {
			return
		}
		if len(values) == 0 {
			values = []string{""}
		}
		for i, value := range values {
			if strings.TrimSpace(value) != "" {
				continue
			}
			what := "--" + flag.Name + " is given as an empty text"
			if len(values) > 1 {
				what = "Value " + strconv.Itoa(i+1) + " of --" + flag.Name + " is an empty text"
			}
			err = session.Usage("%s, which is never taken for all or for none. Leave it out, or check that the variable behind it is set", what)
			return
		}
	})
	for i, arg := range args {
		if err == nil && strings.TrimSpace(arg) == "" {
			err = session.Usage("Argument %d is an empty text, which is never taken for all or for none. Leave it out, or check that the variable behind it is set", i+1)
		}
	}
	return err
}
