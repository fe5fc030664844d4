package sshsig

import (
	"bytes"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
)

// Allowed says whose keys are whose: a file of allowed signers, as ssh-keygen has it. Each
// line names principals, separated by commas, options where wanted, and a key.
type Allowed struct {
	name  string
	lines []allowed
}

type allowed struct {
	principals    []string
	namespaces    []string // nil is any
	after, before time.Time
	key           ssh.PublicKey
}

// ParseAllowed reads a file of allowed signers; name is how errors call it.
func ParseAllowed(name string, text []byte) (Allowed, error) {
	out := Allowed{name: name}
	n := 0
	for line := range bytes.Lines(text) {
		n++
		line = bytes.TrimSpace(line)
		if len(line) == 0 || line[0] == '#' {
			continue
		}
		one, err := parseLine(line)
		if err != nil {
			return out, fmt.Errorf("%s line %d: %w", name, n, err)
		}
		out.lines = append(out.lines, one)
	}
	return out, nil
}

func parseLine(line []byte) (allowed, error) {
	var out allowed
	principals, rest, ok := bytes.Cut(line, []byte(" "))
	if bytes.HasPrefix(line, []byte(`"`)) {
		principals, rest, ok = bytes.Cut(line[1:], []byte(`" `))
	}
	if !ok {
		return out, fmt.Errorf("it does not hold principals and a key")
	}
	for p := range strings.SplitSeq(string(principals), ",") {
		if p == "" || strings.HasPrefix(p, "!") {
			return out, fmt.Errorf("the principal %.60q cannot be used", p)
		}
		out.principals = append(out.principals, p)
	}
	key, _, options, _, err := ssh.ParseAuthorizedKey(rest)
	if err != nil {
		return out, fmt.Errorf("its key cannot be read")
	}
	out.key = key
	for _, option := range options {
		name, value, _ := strings.Cut(option, "=")
		value = strings.Trim(value, `"`)
		switch strings.ToLower(name) {
		case "namespaces":
			out.namespaces = strings.Split(value, ",")
		case "valid-after":
			if out.after, err = moment(value); err != nil {
				return out, err
			}
		case "valid-before":
			if out.before, err = moment(value); err != nil {
				return out, err
			}
		default:
			return out, fmt.Errorf("the option %.60q is not supported", name)
		}
	}
	return out, nil
}

// moment reads a time as ssh-keygen writes it: local, or with Z in UTC.
func moment(text string) (time.Time, error) {
	for _, form := range []string{"20060102", "200601021504", "20060102150405"} {
		if utc, ok := strings.CutSuffix(text, "Z"); ok {
			if t, err := time.Parse(form, utc); err == nil {
				return t, nil
			}
		} else if t, err := time.ParseInLocation(form, text, time.Local); err == nil {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf("the time %.30q is none", text)
}

// Refuses says why a key is not a person's in a namespace at a time; "" where it is.
func (a Allowed) Refuses(person, namespace string, key ssh.PublicKey, at time.Time) string {
	known := false
	for _, line := range a.lines {
		if !bytes.Equal(line.key.Marshal(), key.Marshal()) {
			continue
		}
		known = true
		switch {
		case !slices.ContainsFunc(line.principals, func(p string) bool {
			fits, err := path.Match(p, person)
			return p == person || err == nil && fits && !strings.Contains(person, "/")
		}):
		case line.namespaces != nil && !slices.Contains(line.namespaces, namespace):
			return fmt.Sprintf("%s does not let the key %s sign decisions", a.name, Fingerprint(key))
		case !line.after.IsZero() && at.Before(line.after), !line.before.IsZero() && at.After(line.before):
			return fmt.Sprintf("the key %s is not valid now by %s", Fingerprint(key), a.name)
		default:
			return ""
		}
	}
	if known {
		return fmt.Sprintf("the key %s is not that of %s in %s", Fingerprint(key), person, a.name)
	}
	return fmt.Sprintf("the key %s is not in %s", Fingerprint(key), a.name)
}
