package cli

import (
	"runtime"
	"runtime/debug"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestTheProgramKnowsWhatItWasBuiltFrom(t *testing.T) {
	of := func(main string, pairs ...string) *debug.BuildInfo {
		info := &debug.BuildInfo{Main: debug.Module{Version: main}}
		for i := 0; i < len(pairs); i += 2 {
			info.Settings = append(info.Settings, debug.BuildSetting{Key: pairs[i], Value: pairs[i+1]})
		}
		return info
	}
	end := "\n" + runtime.Version() + ", " + runtime.GOOS + "/" + runtime.GOARCH
	for want, info := range map[string]*debug.BuildInfo{
		"anagram 0.2.0": nil,
		"anagram 1.2.3": of("v1.2.3"),
		"anagram 0.2.0, commit 0123456789ab of 2026-11-25 11:22 UTC": of("v0.0.0-20261125112200-0123456789ab",
			"vcs.revision", "0123456789abcdef", "vcs.time", "2026-11-25T11:22:33Z"),
		"anagram 0.2.0, commit abc of 2026-11-25 11:22 UTC with changes": of("(devel)", "vcs.revision", "abc", "vcs.time",
			"2026-11-25T12:22:33+01:00", "vcs.modified", "true"),
		"anagram 0.2.0, commit abc": of("", "vcs.revision", "abc", "vcs.time", "some day"),
	} {
		assert.Equal(t, want+end, buildText(thisBuild(info)))
	}
}
