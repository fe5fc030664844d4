package browser

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/browser"
	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// browse opens a page of a place in a headless browser, of the size of a screen. What the page
// says it cannot do, errors of its script among it, fails the test.
func (p *place) browse(name string, width, height int64) context.Context {
	p.t.Helper()
	chromium := tool(p.t, "chromium", "chromium-browser", "google-chrome")
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(chromium), chromedp.NoSandbox, chromedp.UserDataDir(p.path("browser")), chromedp.Flag("disable-dev-shm-usage", true))
	ctx, stop := chromedp.NewExecAllocator(p.t.Context(), options...)
	p.t.Cleanup(stop)
	ctx, stop = chromedp.NewContext(ctx)
	p.t.Cleanup(stop)
	require.NoError(p.t, os.MkdirAll(p.path("downloads"), 0o700))
	p.in(ctx, chromedp.EmulateViewport(width, height), func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		_, err := cdp.Call(ctx, t, browser.SetDownloadBehavior, browser.SetDownloadBehaviorParams{Behavior: browser.SetDownloadBehaviorBehaviorAllow, DownloadPath: p.path("downloads")})
		return chromedp.Void{}, err
	}, chromedp.Navigate("file://"+p.path(name)), chromedp.WaitReady(chromedp.CSS("#state")))
	return ctx
}

func (p *place) in(ctx context.Context, actions ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	require.NoError(p.t, chromedp.Do(ctx, actions...))
}

// evaluated gives what an expression is worth in a page.
func (p *place) evaluated(ctx context.Context, expression string) string {
	p.t.Helper()
	out, err := chromedp.Run(ctx, chromedp.Evaluate[string]("String("+expression+")"))
	require.NoError(p.t, err)
	return out
}

// downloaded waits for the file that a page saved.
func (p *place) downloaded(name string) string {
	p.t.Helper()
	path := filepath.Join("downloads", name)
	for range 200 {
		if _, err := os.Stat(p.path(path)); err == nil {
			return path
		}
		time.Sleep(50 * time.Millisecond)
	}
	p.t.Fatalf("%s was not saved", name)
	return ""
}

// picture keeps what a page shows, where somebody wants to look at it.
func (p *place) picture(ctx context.Context, name string) {
	p.t.Helper()
	dir := os.Getenv("ANAGRAM_TEST_PICTURES")
	if dir == "" {
		return
	}
	shot, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
	require.NoError(p.t, err)
	require.NoError(p.t, os.WriteFile(filepath.Join(dir, name), shot, 0o600))
}

// of is the part of a page that shows a record.
func of(address, inside string) chromedp.CSS {
	return chromedp.CSS(`article[data-address="` + address + `"] ` + inside)
}

// An approver answers in the page, closes it, goes on, and saves a file that is read in.
func TestAPageIsAnswered(t *testing.T) {
	t.Parallel()
	p := lab(t)
	r := p.must(0, "review", "--out", "review.html")
	assert.Contains(t, r.said, "Next: anagram decide 1 --from ANSWERS.json")
	ctx := p.browse("review.html", 1280, 800)
	assert.Equal(t, "12", p.evaluated(ctx, `document.querySelectorAll("article:not([hidden])").length`))
	p.in(ctx, chromedp.SetValue(chromedp.CSS("#person"), "Ida Fern"), chromedp.Click(of("unit/mg", `input[value="approve"]`)), chromedp.Click(of("assay/NEW", `input[value="decline"]`)),
		chromedp.SendKeys(of("assay/NEW", "input.note"), `not "yet" </script>`+"\n"), chromedp.SendKeys(of("rule/R1", "input.comment"), "Which kit?\n"),
		chromedp.Click(of("range/GLU/F", `input[value="approve"]`)), chromedp.Click(of("range/GLU/F", `input[value=""]`)))
	// The person's name is kept, as the answers are, when the page is opened again.
	p.in(ctx, chromedp.Evaluate[chromedp.Void](`document.getElementById("person").dispatchEvent(new Event("input"))`), chromedp.Reload(), chromedp.WaitReady(chromedp.CSS("#state")))
	assert.Equal(t, "Ida Fern", p.evaluated(ctx, `document.getElementById("person").value`))
	assert.Equal(t, "3 answers, not saved yet", p.evaluated(ctx, `document.getElementById("state").textContent`))
	assert.Equal(t, "true", p.evaluated(ctx, `document.querySelector('`+string(of("assay/NEW", `input[value="decline"]`))+`').checked`))
	p.in(ctx, chromedp.ScrollIntoView(of("assay/NEW", "fieldset")))
	p.picture(ctx, "answered.png")
	// A group is answered at once.
	p.in(ctx, chromedp.Evaluate[chromedp.Void](`Array.prototype.find.call(document.querySelectorAll("section.group"), function (s) { return s.querySelector("h3").textContent.indexOf("assay/GONE") >= 0; }).querySelector("[data-all=hold]").click()`))
	assert.Equal(t, "6 answers, not saved yet", p.evaluated(ctx, `document.getElementById("state").textContent`))
	// Filters.
	p.in(ctx, chromedp.Evaluate[chromedp.Void](`var s = document.getElementById("by-status"); s.value = "changed"; s.dispatchEvent(new Event("input"))`), chromedp.Sleep(100*time.Millisecond))
	assert.Equal(t, "2 of 12 findings shown", p.evaluated(ctx, `document.getElementById("count").textContent`))
	p.in(ctx, chromedp.Evaluate[chromedp.Void](`s.value = ""; s.dispatchEvent(new Event("input")); var x = document.getElementById("by-text"); x.value = "milligram"; x.dispatchEvent(new Event("input"))`), chromedp.Sleep(400*time.Millisecond))
	assert.Equal(t, "1 of 12 findings shown", p.evaluated(ctx, `document.getElementById("count").textContent`))
	// What waits for whoever gave their name: all that asks for a decision and has none of theirs.
	p.in(ctx, chromedp.Evaluate[chromedp.Void](`x.value = ""; x.dispatchEvent(new Event("input")); var m = document.getElementById("by-stands"); m.value = "mine"; m.dispatchEvent(new Event("input"))`), chromedp.Sleep(400*time.Millisecond))
	assert.Equal(t, "7 of 12 findings shown", p.evaluated(ctx, `document.getElementById("count").textContent`))

	p.in(ctx, chromedp.Click(chromedp.CSS("#save")))
	saved := p.downloaded("answers-1-ida-fern.json")
	out := p.must(0, "decide", "1", "--from", saved).out
	assert.Contains(t, words(out), "5 decisions by Ida Fern read into docket 1 from "+saved)
	assert.Contains(t, out, "1 comment read into docket 1")
	f := p.review()
	assert.Equal(t, "approved Ida Fern", f["unit/mg"].Decision+" "+f["unit/mg"].DecidedBy)
	assert.Equal(t, `declined not "yet" </script>`, f["assay/NEW"].Decision+" "+f["assay/NEW"].Note)
	assert.Equal(t, "Which kit?", f["rule/R1"].Comments[0].Text)
	assert.Equal(t, "held", f["range/GONE/M"].Decision)
	assert.Equal(t, "open", f["range/GLU/F"].Decision)
	assert.Contains(t, p.must(0, "decide", "1", "--from", saved).out, "has no decision")
}

// Whatever a value holds, nothing of it runs, is fetched or changes the page around it.
func TestNothingBreaksOutOfAPage(t *testing.T) {
	t.Parallel()
	attack := `<script>document.title="owned"</script><img src=x onerror="document.title='owned'"><style>*{display:none}</style></textarea></style></script><svg onload="document.title='owned'">{{.}} javascript:alert(1) " ' ` + "`"
	quoted := strings.ReplaceAll(attack, "'", "''")
	const table = "CREATE TABLE items (code TEXT PRIMARY KEY, name TEXT, note TEXT);"
	p := newPlace(t, "types:\n  item: {at: items, key: [code], title: name}\n", table+"INSERT INTO items VALUES ('"+quoted+"','"+quoted+"','"+quoted+"'),('X','x','"+quoted+"a')", table+"INSERT INTO items VALUES ('X','x','"+quoted+"b')")
	p.as(attack[:90], 0, "export", "source", "--name", "p", "--note", attack)
	p.as(attack[:90], 3, "match", "p", "--against", "target")
	p.as(attack[:90], 0, "hold", "item/X", "--note", attack)
	p.as(attack[:90], 0, "comment", "item/X", attack)
	p.as(attack[:90], 0, "review", "--out", "review.html")
	ctx := p.browse("review.html", 1280, 800)
	time.Sleep(300 * time.Millisecond)
	assert.Equal(t, "Docket 1: source to target", p.evaluated(ctx, "document.title"))
	assert.Equal(t, "2", p.evaluated(ctx, `document.querySelectorAll("script").length`), "the page's own two")
	assert.Equal(t, "0", p.evaluated(ctx, `document.querySelectorAll("img, main svg[onload], iframe, object, link").length`))
	assert.Equal(t, "2", p.evaluated(ctx, `document.querySelectorAll("article").length`))
	assert.Contains(t, p.evaluated(ctx, `document.querySelector('`+string(of("item/X", "table"))+`').textContent`), `<script>document.title="owned"</script>`)
	// What was answered comes out as it went in.
	p.in(ctx, chromedp.SetValue(chromedp.CSS("#person"), "ida"), chromedp.Evaluate[chromedp.Void](`Array.prototype.forEach.call(document.querySelectorAll("article"), function (a) { a.querySelector("input[value=decline]").click(); })`), chromedp.Click(chromedp.CSS("#save")))
	p.must(0, "decide", "1", "--from", p.downloaded("answers-1-ida.json"))
	for address, f := range p.review() {
		assert.Equal(t, "declined", f.Decision, address)
	}
	// Even markup that gets in would not run: the page's policy names its own script only.
	p.in(ctx, chromedp.Evaluate[chromedp.Void](`var s = document.createElement("script"); s.textContent = "document.title = 'owned'"; document.body.appendChild(s)`))
	assert.NotEqual(t, "owned", p.evaluated(ctx, "document.title"))
}

// A page is made for a screen, a phone and paper.
func TestAPageFitsAPhoneAndPaper(t *testing.T) {
	t.Parallel()
	p := lab(t)
	p.must(0, "review", "--out", "review.html")
	ctx := p.browse("review.html", 360, 740)
	assert.Equal(t, "true", p.evaluated(ctx, "document.documentElement.scrollWidth <= 360"), "nothing scrolls sideways")
	p.picture(ctx, "phone.png")
	paper, err := chromedp.Run(ctx, chromedp.PrintToPDF())
	require.NoError(t, err)
	assert.Greater(t, len(paper), 10_000)
	if dir := os.Getenv("ANAGRAM_TEST_PICTURES"); dir != "" {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "page.pdf"), paper, 0o600))
	}
}
