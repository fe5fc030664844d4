package show

import (
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestNothingActsThatIsShown(t *testing.T) {
	for text, want := range map[string]string{
		"plain é 日本 😀": "plain é 日本 😀", "a\nb\r\tc": `a\nb\r\tc`, "\x1b[2J": `\x1b[2J`, "\u009b31m": `\u009b31m`, "\x7f": `\x7f`, "\x00": `\x00`,
		"a\u202eb\u2066c": `a\u202eb\u2066c`, "a\u200bb\u200dc\ufeffd\u00ade": `a\u200bb\u200dc\ufeffd\u00ade`, "a\u2028b\u2029c": `a\u2028b\u2029c`, "a\u061cb": `a\u061cb`,
		"\u3164x\u034f": `\u3164x\u034f`, "\U000e0041": `\U000e0041`, "bad \xff\xfe": `bad \xff\xfe`, "\ufffd": "\ufffd", "\u0605 ١": "\u0605 ١", "": "",
	} {
		assert.Equal(t, want, Harmless(text), "%q", text)
	}
}

// A suggested command is taken by a shell as it is meant.
func TestArgumentsForAShell(t *testing.T) {
	for _, text := range []string{"plain", "", "a b", "it's", "$(touch x)", "`x`", "a;b", "é", "a\nb", "\x1b[2J", "back\\slash", "a\\nb\n'", "!x", "#x", "~", "a=b", "*?[]{}"} {
		out, err := exec.Command("bash", "-c", "printf %s "+Arg(text)).Output()
		require.NoError(t, err)
		assert.Equal(t, text, string(out), Arg(text))
		assert.Equal(t, Harmless(Arg(text)), Arg(text))
	}
	assert.Equal(t, "plain/x-1.0_a@b", Arg("plain/x-1.0_a@b"))
	assert.Equal(t, "'assay/*'", Arg("assay/*"))
}
