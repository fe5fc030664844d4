package test

import (
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

// keyOf makes an SSH key for somebody and gives its public line.
func (p *place) keyOf(who string) string {
	p.t.Helper()
	if _, err := exec.LookPath("ssh-keygen"); err != nil {
		if os.Getenv("ANAGRAM_TEST_REQUIRE_SERVERS") != "" {
			p.t.Fatal("ssh-keygen is not there")
		}
		p.t.Skip("ssh-keygen is not there")
	}
	out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", who, "-f", p.path(who)).CombinedOutput()
	require.NoError(p.t, err, "%s", out)
	return string(p.read(who + ".pub"))
}

// Where the target wants signatures, only what the right people signed counts; and it says why
// something does not.
func TestOnlySignedApprovalsCount(t *testing.T) {
	t.Parallel()
	p := lab(t)
	jonas, ida, mallory := p.keyOf("jonas"), p.keyOf("ida"), p.keyOf("mallory")
	p.write("signers", "jonas "+jonas+"ida namespaces=\"anagram\" "+ida)
	p.write("anagram.yaml", guardedBy("guard: {approvals: 2, signed: true, signers: signers}"))
	says := func(want string) {
		t.Helper()
		assert.Contains(t, words(p.must(4, "import", "--rehearse").out), want)
	}
	p.as("jonas", 0, "approve", "range/GLU/F", "--note", "looked at")
	p.as("ida", 0, "approve", "range/GLU/F")
	says("range/GLU/F is approved by nobody who counts; target demands the approvals of 2 people. jonas approved it without a signature. ida approved it without a signature.")
	r := p.as("jonas", 0, "sign", "--key", "jonas")
	assert.Contains(t, words(r.out), "1 decision of jonas in docket 1 signed with the key SHA256:")
	assert.Contains(t, p.as("jonas", 0, "sign", "--key", "jonas").out, "Nothing that jonas decided in docket 1 waits for a signature.")
	says("range/GLU/F is approved by jonas; target demands the approvals of 2 people. ida approved it without a signature.")

	// Somebody else's key is not hers, whatever name is given.
	r = p.as("ida", 0, "sign", "--key", "mallory")
	assert.Contains(t, words(r.err), "target does not take it: the key SHA256:")
	says("A signature of ida does not count: the key SHA256:")
	says("is not in signers")
	p.write("signers", "jonas "+jonas+"ida "+ida+"mallory "+mallory)
	says("is not that of ida in signers")

	// What was signed by mistake is signed again, and one key is one person under two names.
	assert.Contains(t, p.as("ida", 0, "sign", "--key", "ida").out, "1 decision of ida in docket 1 signed")
	p.must(0, "import", "--rehearse")
	p.write("signers", "* "+jonas)
	p.as("ida", 0, "approve", "range/GLU/F", "--note", "with his key", "--again")
	p.as("ida", 0, "sign", "--key", "jonas")
	says("range/GLU/F is approved by jonas; target demands the approvals of 2 people. ida signed with the same key as jonas and does not count beside them.")
	p.write("signers", "jonas "+jonas+"ida "+ida+"mallory "+mallory)

	// What was signed is one decision at one time: a new one needs a signature of its own.
	p.as("ida", 0, "approve", "range/GLU/F", "--note", "again")
	p.as("ida", 0, "sign", "--key", "ida")
	p.must(0, "import", "--rehearse")
	p.as("jonas", 0, "hold", "range/GLU/F")
	p.as("jonas", 0, "approve", "range/GLU/F", "--note", "after all")
	says("range/GLU/F is approved by ida; target demands the approvals of 2 people. jonas approved it without a signature.")
	p.as("jonas", 0, "sign", "--key", "jonas")
	p.must(0, "import")
	assert.Equal(t, []string{"F 5", "M 2"}, p.rows("target", "SELECT sex, low FROM ranges WHERE assay = 8 ORDER BY 1"))

	// Signatures of one docket are none of another.
	p.must(3, "match", "p", "--against", "target")
	p.as("jonas", 0, "approve", "2", "range/GLU/M")
	p.as("ida", 0, "approve", "2", "range/GLU/M")
	assert.Contains(t, words(p.must(4, "import", "2").out), "jonas approved it without a signature.")
	p.must(0, "hold", "2", "rule/R1")
	p.refused("holds neither a private nor a public SSH key", "sign", "2", "--key", "anagram.yaml")
	p.refused("no such file", "sign", "2", "--key", "nokey")
	p.refused("no SSH agent", "sign", "2", "--key", "jonas.pub")
	p.docket(1, "UPDATE signatures SET who = 'ida' WHERE seq = 1")
	p.refused("its signatures are not as its log says", "review", "1")
}

// Whoever has the docket alone signs there, and what they signed counts once it is read in.
func TestSignaturesComeWithACopy(t *testing.T) {
	t.Parallel()
	p := lab(t)
	p.write("signers", "jonas "+p.keyOf("jonas"))
	p.write("anagram.yaml", guardedBy("guard: {signed: true, signers: signers}"))
	elsewhere := &place{t: t, dir: t.TempDir(), user: "jonas"}
	elsewhere.write("mailed.docket", string(p.read("dockets/0001.docket")))
	elsewhere.write("key", string(p.read("jonas")))
	elsewhere.must(0, "approve", "mailed.docket", "--group", "unit/mg")
	assert.Contains(t, elsewhere.must(0, "sign", "mailed.docket", "--key", "key").out, "6 decisions of jonas")
	p.write("back.docket", string(elsewhere.read("mailed.docket")))
	r := p.must(0, "decide", "1", "--from", "back.docket")
	assert.Contains(t, r.out, "6 decisions by jonas read into docket 1 from back.docket.")
	assert.Contains(t, r.out, "1 signature read into docket 1.")
	assert.NotContains(t, p.must(0, "decide", "1", "--from", "back.docket").out, "signature")
	p.as("mara", 0, "approve", "range/GLU/F")
	r = p.must(5, "import")
	assert.Contains(t, r.out, "6 new records were written")
	assert.Contains(t, words(r.out), "range/GLU/F is approved by nobody who counts; target demands the approval of one person. mara approved it without a signature.")
}

func TestAGuardWithoutItsSigners(t *testing.T) {
	t.Parallel()
	p := lab(t)
	for line, why := range map[string]string{
		"guard: {signed: true}":                   "needs signers:",
		"guard: {signers: signers}":               "goes with signed: true",
		"guard: {signed: true, signers: nowhere}": "The list of signers of target, nowhere, is not there",
		"guard: {signed: true, signers: broken}":  "The list of signers of target cannot be used: broken line 1: its key cannot be read",
	} {
		p.write("broken", "jonas ssh-ed25519 xx\n")
		p.write("anagram.yaml", guardedBy(line))
		r := p.run("review")
		assert.Equal(t, 2, r.code, line)
		assert.Contains(t, words(r.err), why, line)
		assert.False(t, strings.Contains(r.err, "goroutine"))
	}
}

// sshSign signs a file as OpenSSH does it.
func (p *place) sshSign(who, name string) {
	p.t.Helper()
	out, err := exec.Command("ssh-keygen", "-Y", "sign", "-n", "anagram", "-f", p.path(who), p.path(name)).CombinedOutput()
	require.NoError(p.t, err, "%s", out)
}

// digest gives that of docket 1.
func (p *place) digest() string {
	p.t.Helper()
	p.must(0, "review", "--out", "digest.xlsx")
	book, err := excelize.OpenFile(p.path("digest.xlsx"))
	require.NoError(p.t, err)
	defer book.Close()
	rows, err := book.GetRows("Summary")
	require.NoError(p.t, err)
	for _, row := range rows {
		if len(row) > 1 && row[0] == "digest" {
			return row[1]
		}
	}
	p.t.Fatal("the workbook does not say the digest")
	return ""
}

// digestOnce is digest, worked out once.
func (p *place) digestOnce() string {
	p.t.Helper()
	if p.sum == "" {
		p.sum = p.digest()
	}
	return p.sum
}
