package cli

import (
	"io"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"github.com/stretchr/testify/assert"

	"anagram/internal/flow/session"
	"anagram/internal/ui/present"
)

// Every option of every command that takes a text refuses an empty one, and every command refuses
// empty arguments, before it does anything.
func TestEmptyTextsAreRefusedEverywhere(t *testing.T) {
	commands, options := 0, 0
	var walk func(path []string, c *cobra.Command)
	try := func(path []string, args ...string) {
		a := &app{Page: present.NewPage(present.Streams{In: strings.NewReader(""), Out: io.Discard, Err: io.Discard})}
		root := a.root()
		root.SetArgs(append(append([]string{}, path...), args...))
		err := root.ExecuteContext(t.Context())
		var usage *session.UsageError
		if assert.ErrorAs(t, err, &usage, "%v %v", path, args) {
			assert.Contains(t, err.Error(), "empty text", "%v %v", path, args)
		}
		assert.False(t, a.ran, "%v %v", path, args)
	}
	walk = func(path []string, c *cobra.Command) {
		for _, sub := range c.Commands() {
			if sub.Name() != "help" && sub.Name() != "completion" {
				walk(append(append([]string{}, path...), sub.Name()), sub)
			}
		}
		if c.RunE == nil {
			return
		}
		commands++
		if !c.HasSubCommands() { // else the first argument is the name of a command
			try(path, "")
			try(path, "x", " ")
		}
		each := func(flag *pflag.Flag) {
			if mayBeEmpty[flag.Name] || flag.Hidden {
				return
			}
			switch flag.Value.Type() {
			case "string":
				options++
				try(path, "--"+flag.Name+"=")
				try(path, "--"+flag.Name, "")
				try(path, "--"+flag.Name, "  ")
			case "stringArray", "stringSlice":
				options++
				try(path, "--"+flag.Name+"=")
				try(path, "--"+flag.Name, "a", "--"+flag.Name, "")
				if flag.Value.Type() == "stringSlice" {
					try(path, "--"+flag.Name, "a,")
					try(path, "--"+flag.Name, ",a")
					try(path, "--"+flag.Name, "a,,b")
				}
			case "bool", "int":
			default:
				assert.Fail(t, "nobody said what an empty text is to a "+flag.Value.Type(), flag.Name)
			}
		}
		c.LocalFlags().VisitAll(each)
		c.InheritedFlags().VisitAll(each)
	}
	a := &app{Page: present.NewPage(present.Streams{In: strings.NewReader(""), Out: io.Discard, Err: io.Discard})}
	walk(nil, a.root())
	assert.Greater(t, commands, 40)
	assert.Greater(t, options, 100, "with --workspace on each of them")
}
