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
	c = blocker(Release, fmt.Sprintf("%s has release %s, %s has release %s.", source, orUnknown(sourceRelease), target,
		orUnknown(targetRelease)),
		say("bring both to the same release"), say("change guard: {release: …} of %s in anagram.yaml", target))
	switch {
	case sourceRelease == "" || targetRelease == "":
		if policy != "exact" { // what is not known is not the same
			c.Level = Caution
		}
		c = c.mended(do(StateReleases))
	case policy == "minor" && minor(sourceRelease) == minor(targetRelease):
		c.Level = Caution
		c = c.mended(say("nothing needs to be done where the difference does not matter to the records"))
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
	stands := func(environment string, value *string) string {
		if value == nil {
			return fmt.Sprintf("is not known in %s", environment)
		}
		return fmt.Sprintf("is %q in %s", *value, environment)
	}
	return blocker(MustAgree, fmt.Sprintf("%s has to be equal on both sides, but %s and %s.", address, stands(source, sourceValue),
		stands(target, targetValue)),
		do(EqualSettings), say("take it out of must_agree: in anagram.yaml if it does not matter")), true
}
