package test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/core/check"
)

// Between match and import the target's tables and rights may become others. What they take is
// asked again, by the functions that the match asked, and the records that they stop are left
// out by the same code and with the same mend.
func TestWhatThePlaceTakesIsAskedAgain(t *testing.T) {
	t.Parallel()
	for _, engine := range tries(t.Name(), serverEngines...) {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			p, address, db := serverPlace(t, engine)
			all := map[string][]string{
				"postgres": {"GRANT SELECT, INSERT, UPDATE ON ALL TABLES IN SCHEMA public TO {who}", "GRANT USAGE, SELECT, UPDATE ON ALL SEQUENCES IN SCHEMA public TO {who}"},
				"mysql":    {"GRANT SELECT ON *.* TO {who}", "GRANT INSERT, UPDATE ON units TO {who}", "GRANT INSERT, UPDATE ON assays TO {who}"},
			}[engine]
			mine := account(t, engine, address, db, all...)
			p.write("password.txt", secretWord+"\n")
			p.target(mine, "{file: password.txt}")
			p.must(3, "match", "source", "--against", "target", "--name", "p")
			p.must(0, "approve", "*")

			// A column takes less than it did.
			run(t, db, map[string]string{"postgres": "ALTER TABLE assays ALTER COLUMN low TYPE numeric(1,0)", "mysql": "ALTER TABLE assays MODIFY low decimal(1,0)"}[engine])
			left := p.json(5, "import", "--rehearse")["left_out"].([]any)
			require.Len(t, left, 1)
			first := left[0].(map[string]any)
			assert.Equal(t, []any{"assay/GLU", "value-does-not-fit"}, []any{first["address"], first["why"]})
			assert.Equal(t, "assay/GLU: field low is 1.5, and would be rounded to 0 digits after the point in target. Correct the value in the source, then export and match again; or decline field low, and approve the others of the record.", first["message"])

			// A column is there by now that a new record has to be given, and a rule that refuses its value.
			run(t, db, map[string]string{"postgres": "ALTER TABLE assays ALTER COLUMN low TYPE numeric(8,2), ADD COLUMN bench text NOT NULL DEFAULT 'A'", "mysql": "ALTER TABLE assays MODIFY low decimal(8,2), ADD COLUMN bench varchar(9) NOT NULL"}[engine])
			if engine == "postgres" {
				run(t, db, "ALTER TABLE assays ALTER COLUMN bench DROP DEFAULT")
			}
			stopped := func(addresses []string, message string) {
				t.Helper()
				var got []string
				for _, one := range p.json(5, "import", "--rehearse")["left_out"].([]any) {
					left := one.(map[string]any)
					got = append(got, left["address"].(string))
					assert.Equal(t, "value-does-not-fit", left["why"])
					assert.Contains(t, left["message"], message)
				}
				assert.Equal(t, addresses, got)
			}
			stopped([]string{"assay/GLU", "assay/NA"}, "is new, and target requires a value in field bench, which the parcel does not carry. Give field bench a default in target")
			run(t, db, "ALTER TABLE assays ALTER COLUMN bench SET DEFAULT 'B'")
			run(t, db, "ALTER TABLE assays ADD CONSTRAINT low_is_small CHECK (low < 2)")
			stopped([]string{"assay/NA"}, "assay/NA: field low has a value that a rule of target refuses:")
			run(t, db, map[string]string{"postgres": "ALTER TABLE assays DROP CONSTRAINT low_is_small, DROP COLUMN bench, ALTER COLUMN low TYPE numeric(1,0)", "mysql": "ALTER TABLE assays DROP CONSTRAINT low_is_small, DROP COLUMN bench, MODIFY low decimal(1,0)"}[engine])

			// The right to change records is gone.
			run(t, db, map[string]string{"postgres": "REVOKE UPDATE ON units FROM " + accountOf(t, address), "mysql": "REVOKE UPDATE ON units FROM '" + accountOf(t, address) + "'@'%', '" + accountOf(t, address) + "'@'localhost'"}[engine])
			codes := map[any]any{}
			for _, one := range p.json(5, "import")["left_out"].([]any) {
				codes[one.(map[string]any)["address"]] = one.(map[string]any)["why"]
			}
			assert.Equal(t, map[any]any{"assay/GLU": "value-does-not-fit", "unit/mg": "no-right"}, codes)
			assert.Equal(t, []string{"NA"}, lines(t, db, "SELECT code FROM assays"))
			assert.Equal(t, []string{"g", "mg"}, lines(t, db, "SELECT code FROM units ORDER BY 1"))

			// The mends.
			run(t, db, map[string]string{"postgres": "ALTER TABLE assays ALTER COLUMN low TYPE numeric(8,2)", "mysql": "ALTER TABLE assays MODIFY low decimal(8,2)"}[engine])
			grant(t, engine, address, db, all...)
			p.must(3, "match", "p", "--against", "target")
			p.must(0, "approve", "*")
			p.must(0, "import")
		})
	}
}

// asked says of every code what becomes of it at the import: it is asked again, as a test shows;
// or it cannot turn unseen, for a reason.
var asked = map[string]string{
	"no-right": "TestWhatThePlaceTakesIsAskedAgain", "value-does-not-fit": "TestWhatThePlaceTakesIsAskedAgain",
	"must-agree": "TestGuardsAreMetAtTheImport", "release": "TestGuardsAreMetAtTheImport", "other-target": "TestGuardsAreMetAtTheImport",
	"other-catalog": "TestWhatIsRunIsWhatWasShown", "broken-seal": "TestOneFlippedByteIsRefusedEverywhere", "unfinished-import": "TestCtrlCInAnImportWithoutTransactions",
	"direction": "TestTheDirectionIsLookedAt", "approvals": "TestTheTargetDemandsApprovals", "approval-used": "TestAnApprovalIsForOneImport", "decided-later": "TestWhatWasDeclinedLaterIsNotWritten", "reminders": "TestAnImportIsSurrounded",
	"still-referred": "TestARestoreAsksAgainWhatRefers", "not-as-written": "TestARestoreRespectsWhatCameSince", "value-taken": "TestTheOtherKeyIsTakenMeanwhile",
	"owner-not-approved": "TestAReferenceThatIsNotApprovedBlocksJustWhatDependsOnIt", "reference-not-approved": "TestAReferenceThatIsNotApprovedBlocksJustWhatDependsOnIt",
	// What is referred to and the record itself are read again: what is otherwise is moved-since-match.
	"missing-reference": "TestRecordsThatMovedAreLeftOutAndNamed", "cannot-be-read": "TestWhatCannotBeReadIsAFinding", "stamp-unfilled": "TestWhoseNameStandsThere", "ambiguous-key": "TestRecordsThatMovedAreLeftOutAndNamed", "held-outside": "TestWhatIsHeldOutsideSinceTheMatchIsNotMadeTwice", "both-moved": "TestRecordsThatMovedAreLeftOutAndNamed",
	"created-on-both": "TestRecordsThatMovedAreLeftOutAndNamed", "target-newer": "TestRecordsThatMovedAreLeftOutAndNamed", "retired-in-target": "TestRecordsThatMovedAreLeftOutAndNamed", "removed-in-target": "TestRecordsThatMovedAreLeftOutAndNamed", "looks-renamed": "TestRecordsThatMovedAreLeftOutAndNamed",
	// The docket and its catalog say it, which are held against the workspace's at the import.
	"local-needed": "TestARestoreNeedsTheCatalogOfItsDocket", "circle": "TestCirclesAreFoundAtTheMatch", "looks-like-id": "TestWhatLooksLikeAnInternalID",
	// The engine holds its own keys, in the transaction.
	"key-in-use": "TestAKeyThatOthersHold",
	// Cautions of the match about what was compared then.
	"not-on-both-sides": "", "removed-in-source": "", "cannot-be-explained": "", "old-parcel": "", "source-moved": "", "open-docket": "", "pair-not-used": "", "referred-differs": "", "beside": "", "not-restored": "",
}

func TestEveryRuleThatCanTurnIsAskedAgain(t *testing.T) {
	t.Parallel()
	tests := testNames(t)
	for _, code := range check.Codes() {
		name, known := asked[code]
		assert.True(t, known, "nobody says what becomes of %s at the import", code)
		assert.True(t, name == "" || tests[name], "%s: there is no test %s", code, name)
	}
	assert.Len(t, asked, len(check.Codes()))
}
