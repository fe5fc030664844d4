package check

import (
	"fmt"
	"strings"
)

// Releases compares the releases of two environments under a policy: exact, minor (the
// first two numbers must agree; what follows may differ) or off. ok is false where there
// is nothing to say. A release that is not known on one side is a caution.
func Releases(source, target, sourceRelease, targetRelease, policy string) (c Check, ok bool) {
	if policy == "" || policy == "off" || sourceRelease == targetRelease && sourceRelease != "" {
		return Check{}, false
	}
	c = Check{Code: Release, Level: Blocker,
		Message: fmt.Sprintf("%s has release %s, %s has release %s.", source, orUnknown(sourceRelease), target, orUnknown(targetRelease)),
		Mend:    fmt.Sprintf("Bring both to the same release, or change guard: {release: …} of %s in anagram.yaml.", target)}
	switch {
	case sourceRelease == "" || targetRelease == "":
		if policy != "exact" { // what is not known is not the same
			c.Level = Caution
		}
		c.Mend = "Say where the release of both environments is to be had with release: in anagram.yaml, then export and match again."
	case policy == "minor" && minor(sourceRelease) == minor(targetRelease):
		c.Level = Caution
		c.Mend = "Nothing needs to be done where the difference does not matter to the records."
	}
	return c, true
}

func minor(release string) string {
	parts := strings.SplitN(release, ".", 3)
	return strings.Join(parts[:min(2, len(parts))], ".")
}

func orUnknown(release string) string {
	if release == "" {
		return "unknown"
	}
	return release
}

// Agreement compares a setting that has to be equal on both sides; a nil value is not
// known. ok is false where both are known and equal.
func Agreement(address, source, target string, sourceValue, targetValue *string) (c Check, ok bool) {
	if sourceValue != nil && targetValue != nil && *sourceValue == *targetValue {
		return Check{}, false
	}
	say := func(environment string, value *string) string {
		if value == nil {
			return fmt.Sprintf("is not known in %s", environment)
		}
		return fmt.Sprintf("is %q in %s", *value, environment)
	}
	return Check{Code: MustAgree, Level: Blocker,
		Message: fmt.Sprintf("%s has to be equal on both sides, but %s and %s.", address, say(source, sourceValue), say(target, targetValue)),
		Mend:    "Make it equal on both sides, then export and match again; or take it out of must_agree: in anagram.yaml if it does not matter."}, true
}
