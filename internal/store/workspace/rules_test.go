package workspace

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func opened(t *testing.T, text string) (*Workspace, error) {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, ConfigName), []byte(text), 0o600))
	return Open(dir)
}

func TestDecisionsByRule(t *testing.T) {
	w, err := opened(t, "standing:\n  - {decide: decline, only: 'a/*', note: n}\n  - {decide: approve, type: [x, y], status: conflict, take: target}\n")
	require.NoError(t, err)
	assert.Equal(t, []Rule{{Decide: "decline", Only: []string{"a/*"}, Note: "n"}, {Decide: "approve", Type: []string{"x", "y"}, Status: []string{"conflict"}, Take: "target"}}, w.Standing)
	assert.Equal(t, "decline by rule only a/*", w.Standing[0].String())
	assert.Equal(t, "approve by rule status conflict type x type y take target", w.Standing[1].String())
	for rule, says := range map[string]string{
		"{decide: agree, type: x}": "not \"agree\"", "{decide: hold}": "which findings", "{decide: hold, only: 'a%zz'}": "only:", "{decide: hold, status: nw}": "nw",
		"{decide: hold, type: x, take: source}": "take:", "{decide: approve, type: x, take: all}": "take:", "{decide: hold, type: {a: b}}": "",
	} {
		_, err := opened(t, "standing:\n  - "+rule+"\n")
		assert.ErrorContains(t, err, says, rule)
	}
}

func TestWhatATargetDemands(t *testing.T) {
	w, err := opened(t, "environments:\n  p:\n    connect: sqlite:x.db\n    imports: refused\n    guard: {approvals: 2, approver_differs_from_exporter: true, signed: true, signers: s}\n    approvers: {\"*\": [jonas]}\n")
	require.NoError(t, err)
	e := w.Environments[0]
	assert.Equal(t, Guard{Approvals: 2, Differs: true, Signed: true, Signers: "s"}, e.Guard)
	assert.True(t, e.NoImports)
	assert.Equal(t, map[string][]string{"*": {"jonas"}}, e.Approvers)
	for lines, any := range map[string]bool{
		"": false, "guard: {approvals: 1}": false, "guard: {approvals: 2}": true, "guard: {approver_differs_from_exporter: true}": true,
		"guard: {approvals: 2, signed: true, signers: s}": false, "guard: {approvals: 2}\n    imports: refused": false,
		"guard: {approvals: 2}\n    approvers: {unit: [jonas]}": true, "guard: {approvals: 2}\n    approvers: {\"*\": [jonas]}": false,
	} {
		w, err := opened(t, "environments:\n  p:\n    connect: sqlite:x.db\n    "+lines+"\n")
		require.NoError(t, err, lines)
		assert.Equal(t, any, w.AnyName(w.Environments[0]), lines)
		w.People = []string{"jonas", "ida"}
		assert.False(t, w.AnyName(w.Environments[0]), "people are listed: %s", lines)
	}
	for lines, says := range map[string]string{
		"guard: {approvals: 10}": "0 to 9", "guard: {signed: true}": "needs signers", "guard: {signers: s}": "goes with signed", "imports: no": "imports:", "approvers: {x: ['']}": "empty name",
	} {
		_, err := opened(t, "environments:\n  p:\n    connect: sqlite:x.db\n    "+lines+"\n")
		assert.ErrorContains(t, err, says, lines)
	}
}
