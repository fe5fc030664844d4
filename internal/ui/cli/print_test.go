package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"anagram/internal/core/catalog"
	"anagram/internal/core/check"
	"anagram/internal/core/match"
	"anagram/internal/core/yamldoc"
	"anagram/internal/environment"
	"anagram/internal/flow/fit"
	"anagram/internal/flow/importing"
	"anagram/internal/flow/importing/prepare"
	"anagram/internal/flow/inspect"
	"anagram/internal/flow/matching"
	"anagram/internal/flow/session"
	"anagram/internal/store/docket"
	"anagram/internal/store/docket/run"
	"anagram/internal/store/parcel"
	"anagram/internal/store/workspace"
	"anagram/internal/ui/present"
)

func testApp() (*app, *bytes.Buffer) {
	var out bytes.Buffer
	a := &app{Page: present.NewPage(present.Streams{Out: &out, Err: &out}), ran: true}
	return a, &out
}

func TestWordsOfACommandLine(t *testing.T) {
	assert.Equal(t, []string{"approve", "a b", "c'd", "x"}, splitWords(`approve "a b" "c'd"  x`))
}

func TestExitCodesFollowFromTheTypeOfAnError(t *testing.T) {
	for want, errs := range map[int][]error{
		exitFailed:      {errors.New("x"), &environment.Error{}, &environment.RecordError{}, &parcel.Error{}},
		exitUsage:       {&session.UsageError{}, &session.CatalogError{}, &yamldoc.Error{}, &workspace.Error{}, &parcel.ExistsError{}},
		exitBlocked:     {&session.BlockedError{}},
		exitInterrupted: {context.Canceled, fmt.Errorf("reading: %w", context.Canceled)},
	} {
		for _, err := range errs {
			assert.Equal(t, want, codeOf(nil, err, true), "%T", err)
			assert.Equal(t, want, codeOf(nil, fmt.Errorf("wrapped: %w", err), true), "%T", err)
		}
	}
	assert.Equal(t, exitUsage, codeOf(nil, errors.New("x"), false), "what comes before the command is wrong usage")
	open := []docket.Type{{Counts: map[match.Status]int{match.TargetOnly: 3, match.New: 1}}}
	left := []prepare.LeftOut{{Address: "a/1"}}
	blocked, caution := []check.Check{{Level: check.Blocker}}, []check.Check{{Level: check.Caution}}
	for _, c := range []struct {
		result any
		want   int
	}{
		{nil, exitDone}, {matching.Result{}, exitDone}, {matching.Result{Types: open, Open: 1}, exitOpen},
		{matching.Result{Types: open}, exitDone},
		{matching.Result{Types: []docket.Type{{Counts: map[match.Status]int{match.TargetOnly: 3, match.Same: 1,
			match.TargetEdit: 1}}}}, exitDone},
		{importing.Result{Outcome: run.Imported, New: 1}, exitDone}, {importing.Result{Outcome: run.Imported, New: 1, Open: 2}, exitDone},
		{importing.Result{Outcome: run.Imported, Open: 2}, exitOpen}, {importing.Result{Outcome: run.Imported, New: 1,
			LeftOut: left}, exitLeftOut},
		{importing.Result{Outcome: run.Failed, Failures: left}, exitFailed}, {importing.Result{Outcome: run.Unknown,
			LeftOut: left}, exitFailed},
		{importing.Result{Outcome: run.Blocked, LeftOut: left}, exitBlocked}, {importing.Result{Outcome: run.Rehearsed,
			Changed: 1}, exitDone},
		{[]inspect.EnvironmentReport{{}}, exitDone}, {[]inspect.EnvironmentReport{{}, {Err: errors.New("x")}}, exitFailed},
		{fit.CatalogReports{Environments: []fit.CatalogReport{{Problems: []catalog.Problem{{Caution: true}}}}, Checks: caution}, exitDone},
		{fit.CatalogReports{Environments: []fit.CatalogReport{{Problems: []catalog.Problem{{}}}}}, exitUsage},
		{fit.CatalogReports{Checks: blocked}, exitBlocked},
	} {
		assert.Equal(t, c.want, codeOf(c.result, nil, true), "%#v", c.result)
	}
	a, out := testApp()
	assert.Equal(t, 0, a.exit(nil))
	assert.Empty(t, out.String())
}
