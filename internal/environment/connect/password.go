package connect

import (
	"context"
	"errors"
	"fmt"
	"os/exec"
	"strings"
	"time"

	"github.com/zalando/go-keyring"

	"anagram/internal/core/show"
	"anagram/internal/environment"
	"anagram/internal/files/safe"
)

// PasswordSource says where a password is to be had. At most one way is set; none is
// no password.
type PasswordSource struct {
	Variable string
	File     string // absolute path
	Command  []string
	Keystore string // the name under which the key store has it
	Around   environment.Surroundings
}

// keystoreService is the name under which passwords stand in the key store.
const keystoreService = "anagram"

// mostPassword bounds what a file gives as a password.
const mostPassword = 64 << 10

// commandTime is how long a command may take to give a password.
const commandTime = 30 * time.Second

// Find gets the password. Errors name the way, never what was found on it.
func (s PasswordSource) Find(ctx context.Context, environmentName string) (string, error) {
	fail := func(message, mend string, cause error) (string, error) {
		return "", &environment.Error{Environment: environmentName, Message: message, Mend: mend, Cause: cause}
	}
	switch {
	case s.Variable != "":
		value, ok := s.Around.Lookup(s.Variable)
		if !ok {
			return fail(fmt.Sprintf("the environment variable %s, which should hold the password, is not set.", s.Variable),
				"Set it and try again.", nil)
		}
		return value, nil
	case s.File != "":
		text, err := safe.ReadSmall(s.File, mostPassword)
		if err != nil {
			return fail(fmt.Sprintf("the file %s, which should hold the password, cannot be read.", s.File),
				"Check password: in anagram.yaml and the rights of the file.", err)
		}
		return strings.TrimRight(string(text), "\r\n"), nil
	case len(s.Command) > 0:
		ctx, cancel := context.WithTimeout(ctx, commandTime)
		defer cancel()
		command := exec.CommandContext(ctx, s.Command[0], s.Command[1:]...)
		command.Dir, command.Env = s.Around.Dir, s.Around.Environ
		text, err := command.Output()
		if err != nil {
			return fail(fmt.Sprintf("the command %s, which should print the password, failed: %v.", s.Command[0], err),
				"Try it by hand.", err)
		}
		return strings.TrimRight(string(text), "\r\n"), nil
	case s.Keystore != "":
		value, err := keyring.Get(keystoreService, s.Keystore)
		if errors.Is(err, keyring.ErrNotFound) {
			return fail("the key store has no password for it.", "Keep one there with: anagram env login "+show.Arg(environmentName), err)
		}
		if err != nil {
			return fail("the operating system's key store cannot be reached.", "Use another way in password:, such as {file: PATH}.", err)
		}
		return value, nil
	}
	return "", nil
}

// Keep puts a password into the operating system's key store.
func Keep(environmentName, name, password string) error {
	if err := keyring.Set(keystoreService, name, password); err != nil {
		return &environment.Error{Environment: environmentName, Message: "the operating system's key store cannot be reached.",
			Mend: "Use another way in password:, such as {file: PATH}.", Cause: err}
	}
	return nil
}
