//go:build unix

package test

import (
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/charmbracelet/x/vt"
	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// screen is the interactive review on a terminal of its own.
type screen struct {
	t    *testing.T
	cmd  *exec.Cmd
	tty  *os.File
	lock sync.Mutex
	emu  *vt.Emulator
	done chan struct{}
	all  strings.Builder
}

// reviewed opens the interactive review on a terminal of a size.
func (p *place) reviewed(columns, rows int, args ...string) *screen {
	p.t.Helper()
	cmd := p.command(append([]string{"review"}, args...)...)
	cmd.Env = append(cmd.Env, "TERM=xterm-256color")
	tty, err := pty.StartWithSize(cmd, &pty.Winsize{Rows: uint16(rows), Cols: uint16(columns)})
	require.NoError(p.t, err)
	s := &screen{t: p.t, cmd: cmd, tty: tty, emu: vt.NewEmulator(columns, rows), done: make(chan struct{})}
	p.t.Cleanup(func() { _ = cmd.Process.Kill(); _ = tty.Close() })
	go func() { // what the terminal answers
		answers := make([]byte, 256)
		for {
			n, err := s.emu.Read(answers)
			if err != nil {
				return
			}
			_, _ = tty.Write(answers[:n])
		}
	}()
	go func() {
		defer close(s.done)
		part := make([]byte, 4096)
		for {
			n, err := tty.Read(part)
			s.lock.Lock()
			_, _ = s.emu.Write(part[:n])
			s.all.Write(part[:n])
			s.lock.Unlock()
			if err != nil {
				return
			}
		}
	}()
	return s
}

// resize makes the terminal another size: first itself, then what the program is told, so that
// nothing drawn for the new size meets the old one.
func (s *screen) resize(columns, lines int) {
	s.t.Helper()
	s.lock.Lock()
	defer s.lock.Unlock()
	s.emu.Resize(columns, lines)
	require.NoError(s.t, pty.Setsize(s.tty, &pty.Winsize{Rows: uint16(lines), Cols: uint16(columns)}))
}

// text is what the screen shows.
func (s *screen) text() string {
	s.lock.Lock()
	defer s.lock.Unlock()
	return s.emu.String()
}

// shows waits until the screen shows something.
func (s *screen) shows(words ...string) string {
	s.t.Helper()
	var text string
	for range 400 {
		text = s.text()
		missing := false
		for _, w := range words {
			missing = missing || !strings.Contains(text, w)
		}
		if !missing {
			return text
		}
		time.Sleep(25 * time.Millisecond)
	}
	s.t.Fatalf("the screen does not show %q:\n%s", words, text)
	return ""
}

var keyNames = map[string]string{"up": "\x1b[A", "down": "\x1b[B", "right": "\x1b[C", "left": "\x1b[D", "tab": "\t", "enter": "\r", "esc": "\x1b", "home": "\x1b[H", "end": "\x1b[F", "pgdown": "\x1b[6~"}

// press presses keys one after the other.
func (s *screen) press(keys ...string) {
	s.t.Helper()
	for _, key := range keys {
		code, ok := keyNames[key]
		if !ok {
			code = key
		}
		_, err := s.tty.WriteString(code)
		require.NoError(s.t, err)
		time.Sleep(40 * time.Millisecond)
		if key == "esc" { // else the next key is taken to belong to it
			time.Sleep(150 * time.Millisecond)
		}
	}
}

// leave leaves the review and waits for the program to end.
func (s *screen) leave() {
	s.t.Helper()
	s.press("q")
	select {
	case <-s.done:
	case <-time.After(10 * time.Second):
		s.t.Fatalf("the review does not end:\n%s", s.text())
	}
	assert.NoError(s.t, s.cmd.Wait())
}

// The job on the screen: look, decide, take back, note, search, filter, jump, leave; at the
// smallest size and at a large one. What is shown as decided is decided.
func TestReviewOnATerminal(t *testing.T) {
	t.Parallel()
	for _, size := range [][2]int{{80, 24}, {200, 60}} {
		t.Run(fmt.Sprintf("%dx%d", size[0], size[1]), func(t *testing.T) {
			t.Parallel()
			p := lab(t)
			s := p.reviewed(size[0], size[1])
			text := s.shows("Docket 1  source to target", "9 open of 12", "+ unit/mg  milligram", "6/6", "y approve")
			for line := range strings.Lines(text) {
				assert.LessOrEqual(t, ansi.StringWidth(strings.TrimRight(line, "\n")), size[0])
			}
			s.press("home", "right", "down")
			s.shows("- unit/mg", "new", "milligram", "waited for by assay/NEW")
			s.press("y")
			s.shows("1 finding approved.", "8 open of 12")
			assert.Equal(t, "approved", p.review()["unit/mg"].Decision, "durable before it is shown")
			s.press("u")
			s.shows("1 finding stands as before.", "9 open of 12")
			assert.Equal(t, "open", p.review()["unit/mg"].Decision)

			// A note for the next decision; a group at once.
			s.press("m")
			s.shows("note: _")
			s.press("l", "o", "o", "k", "e", "d", " ", "a", "t", "enter")
			s.shows("note for the next decision: looked at")
			s.press("left", "y")
			s.shows("6 findings approved.", "3 open of 12")
			assert.Equal(t, "approved looked at", p.review()["rule/R2"].Decision+" "+p.review()["rule/R2"].Note)

			// One field, reached with Tab.
			s.press("n")
			s.shows("Old one, renamed")
			s.press("n")
			s.shows("range/GLU/F")
			s.press("tab", "x")
			s.shows("field low declined.")
			assert.Equal(t, "declined", p.review()["range/GLU/F"].Fields[0].Decision)
			s.press("tab", "tab")

			// Search, and what is found though it is folded.
			s.press("/", "r", "u", "l", "e", "enter")
			s.shows("shown: text rule", "rule/R1", "rule/R2")
			s.press("c", "w", "h", "y", "?", "enter")
			s.shows("Kept with rule/R1.", "mara,")
			assert.Equal(t, "why?", p.review()["rule/R1"].Comments[0].Text)
			s.press("j")
			s.shows("assay/NEW", "refers to unit/mg")
			s.press("b")
			s.shows("refers to assay/NEW")

			// Filters, and all that is shown.
			s.press("esc")
			s.shows("parcel p, exported")
			s.press("s")
			s.shows("shown: status changed")
			s.press("W")
			s.shows("hold all 2 findings shown? y is yes")
			s.press("n")
			s.press("W", "y")
			s.shows("2 findings held.")
			s.press("esc") // and the next key once it is seen: both at once are another key
			s.shows("parcel p, exported")
			s.press("d")
			s.shows("shown: decision open")
			s.press("?")
			s.shows("Any key goes back.")
			s.press("esc", "esc")
			s.leave()
			f := p.review()
			assert.Equal(t, "held", f["range/GLU/M"].Decision)
			assert.Equal(t, "open", f["assay/OLD2"].Decision)
			p.must(0, "import")
		})
	}
}

// Undo brings back what was said, by whom and when; and nothing is decided on top of an import of
// which nobody knows how it ended.
func TestUndoBringsBackWhatWasSaid(t *testing.T) {
	t.Parallel()
	p := lab(t)
	p.as("jonas", 0, "hold", "assay/OLD2", "--note", "ask first")
	p.as("ida", 0, "decline", "assay/OLD2", "--field", "name")
	before := p.review()["assay/OLD2"]
	s := p.reviewed(100, 30)
	s.shows("8 open of 12")
	s.press("/", "o", "l", "d", "2", "enter", "y")
	s.shows("1 finding approved.")
	s.press("u")
	s.shows("1 finding stands as before.")
	s.press("u")
	s.shows("There is nothing to undo.")
	s.press("esc")
	s.leave()
	after := p.review()["assay/OLD2"]
	assert.Equal(t, before, after)
	assert.Equal(t, "held jonas ask first", after.Decision+" "+after.DecidedBy+" "+after.Note)
}

// What was decided is kept though the program is killed, and the next one goes on from there.
func TestARemovalIsSeenAndSaid(t *testing.T) {
	t.Parallel()
	const table = "CREATE TABLE items (id INTEGER PRIMARY KEY, code TEXT UNIQUE, name TEXT);"
	p := newPlace(t, "types:\n  item: {at: items, key: [code], id: id}\n", table+"INSERT INTO items VALUES (1,'B','b')", table)
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	p.must(0, "approve", "*")
	p.must(0, "import")
	p.must(3, "restore", "1")
	s := p.reviewed(120, 30, "2")
	s.shows("the import of docket 1 made it; approved, it is removed")
	s.press("y") // no plain approval removes anything
	s.shows("press 1 for what was there before")
	s.press("1")
	s.shows("target-only (created-here), removal approved by")
	s.leave()
	assert.Contains(t, p.must(0, "import").out, "1 removed record")
	assert.Empty(t, p.rows("target", "SELECT * FROM items"))
}

func TestAReviewThatIsKilledLosesNothing(t *testing.T) {
	t.Parallel()
	p := lab(t)
	s := p.reviewed(100, 30)
	s.shows("9 open of 12")
	s.press("home", "y")
	s.shows("3 open of 12")
	s.press("n", "w")
	s.shows("2 open of 12")
	require.NoError(t, s.cmd.Process.Signal(syscall.SIGKILL))
	<-s.done
	f := p.review()
	assert.Equal(t, "approved", f["unit/mg"].Decision)
	assert.Equal(t, "approved", f["rule/R2"].Decision)
	again := p.reviewed(100, 30)
	again.shows("2 open of 12", "0/6")
	again.leave()
}

// The screen follows the size of its terminal, shows conflicts with the side that is chosen,
// and lines up whatever signs it shows.
func TestTheScreenFollows(t *testing.T) {
	t.Parallel()
	const table = "CREATE TABLE items (code TEXT PRIMARY KEY, name TEXT, long TEXT, changed_at TEXT);"
	p := newPlace(t, "types:\n  item: {at: items, key: [code], title: name, stamp: {at: changed_at}}\n",
		table+"INSERT INTO items VALUES ('A','検査項目の名前','"+strings.Repeat("same words ", 40)+"one','2026-01-01'),('B','שלום עולם','x','2026-01-01'),('C','e\u0301tude 👩‍🔬 x','y','2026-01-01'),('D','"+strings.ReplaceAll(hostile, "'", "''")+"','z','2026-01-01');",
		table+"INSERT INTO items VALUES ('A','検査','"+strings.Repeat("same words ", 40)+"other','2026-02-01');")
	p.must(3, "match", "source", "--against", "target", "--name", "p")
	s := p.reviewed(80, 24)
	text := s.shows("Docket 1", "conflict", "item/A", ">>one<<", ">>other<<", "target-newer")
	for _, line := range strings.Split(strings.TrimRight(text, "\n"), "\n") {
		if strings.Contains(line, "item/") && strings.Contains(line, "│") {
			assert.Regexp(t, "(open|to see) *$", line, "the right edge stays put")
		}
	}
	for _, sign := range []string{"\u202e", "\u2028", "\u200b", "owned"} {
		s.lock.Lock()
		if sign != "owned" {
			assert.NotContains(t, s.all.String(), sign)
		} else {
			assert.NotContains(t, s.all.String(), "\x1b]0;owned")
		}
		s.lock.Unlock()
	}
	s.press("y")
	s.shows("1 finding passed over: press 1 or 2")
	s.press("2")
	s.shows("target keeps its values", "kept")
	s.press("1")
	s.shows("1 finding approved.")
	s.resize(160, 50)
	s.shows("q leave", "item/A")
	s.resize(50, 10)
	s.shows("The review needs at least 60 columns")
	s.leave()
	assert.Equal(t, "approved", p.review()["item/A"].Decision)
}

// A long text goes through the person's own pager; one that is left early, or is none, loses
// nothing.
func TestThePersonsOwnPager(t *testing.T) {
	t.Parallel()
	p := lab(t)
	shown := func(pager string) string {
		cmd := p.command("review", "--full")
		cmd.Env = append(cmd.Env, "TERM=xterm-256color", "PAGER="+pager)
		tty, err := pty.StartWithSize(cmd, &pty.Winsize{Rows: 30, Cols: 90})
		require.NoError(t, err)
		defer tty.Close()
		out, _ := io.ReadAll(tty)
		require.NoError(t, cmd.Wait(), pager)
		return strings.ReplaceAll(string(out), "\r\n", "\n")
	}
	text := shown("sed s/^/paged:/")
	assert.Contains(t, text, "paged:  assay/OLD2")
	assert.Contains(t, text, "\nNext: anagram approve 1 PATTERN", "what is told beside comes after")
	text = shown("head -1")
	assert.Contains(t, text, "Docket 1\n")
	assert.NotContains(t, text, "12 findings")
	text = shown("no-such-pager-at-all")
	assert.Contains(t, text, "12 findings in 4 groups.")
}

// What was decided before the screen was opened, by command or on an earlier screen, is undone as
// well: the last decision of who sits there, and nobody else's.
func TestUndoAfterTheScreenWasLeft(t *testing.T) {
	t.Parallel()
	p := lab(t)
	p.must(0, "hold", "unit/mg", "--note", "first")
	nextSecond()
	p.must(0, "approve", "unit/mg", "assay/NEW")
	p.as("ida", 0, "decline", "rule/R1")
	s := p.reviewed(100, 30)
	s.shows("6 open of 12")
	s.press("u")
	s.shows("2 findings stand as before.")
	s.press("u")
	s.shows("There is nothing to undo.")
	s.leave()
	f := p.review()
	assert.Equal(t, "held mara first", f["unit/mg"].Stands+" "+f["unit/mg"].DecidedBy+" "+f["unit/mg"].Note)
	assert.Equal(t, "open", f["assay/NEW"].Stands)
	assert.Equal(t, "declined", f["rule/R1"].Stands)
}

// What people say on the screen comes to the same as what they say by command.
func TestTheScreenComesToTheSameAsCommands(t *testing.T) {
	t.Parallel()
	keys := map[string]string{"approve": "y", "decline": "x", "hold": "w", "target": "2"}
	random := rand.New(rand.NewPCG(5, 5))
	byCommand, onScreen := lab(t), lab(t)
	for _, who := range []string{"ida", "jonas", "mara"} {
		byCommand.user, onScreen.user = who, who
		for _, record := range []string{"unit/mg", "assay/NEW", "range/NEW/F", "range/GLU/F", "range/GLU/M", "rule/R1"} {
			word := []string{"", "approve", "decline", "hold", "target"}[random.IntN(5)]
			switch word {
			case "":
				continue
			case "target":
				byCommand.must(0, "approve", "1", record, "--take", "target")
			default:
				byCommand.must(0, word, "1", record)
			}
			s := onScreen.reviewed(120, 30, "1")
			s.shows("y approve")
			s.press("/", record, "enter", "end")
			s.shows("shown: text "+strings.ToLower(record), "\n"+record)
			s.press(keys[word])
			s.leave()
			have, want := onScreen.review()[record], byCommand.review()[record]
			assert.Equal(t, want.Stands, have.Stands, "%s says %s of %s", who, word, record)
			if assert.Len(t, have.Decisions, len(want.Decisions), "%s says %s of %s", who, word, record) {
				for i, d := range want.Decisions {
					assert.Equal(t, [3]string{d.By, d.Decision, d.Field}, [3]string{have.Decisions[i].By, have.Decisions[i].Decision, have.Decisions[i].Field})
				}
			}
		}
	}
}

// Two screens and a command at work on one docket: whatever is decided is in the name of who said
// it, and is there at the end.
func TestTwoScreensAndACommandAtOnce(t *testing.T) {
	t.Parallel()
	p := lab(t)
	each, byCommand := 12, 12
	if thorough {
		each, byCommand = 60, 380
	}
	said := map[string][]string{"ida": {"y", "w"}, "jonas": {"x", "o", "u"}} // so that a word tells whose it is
	screens := map[string]*screen{}
	for who := range said {
		other := *p
		other.user = who
		screens[who] = other.reviewed(120, 30, "1")
		screens[who].shows("y approve")
		screens[who].press("right")
	}
	var all sync.WaitGroup
	for who, keys := range said {
		random := rand.New(rand.NewPCG(11, uint64(len(keys))))
		all.Go(func() {
			for range each {
				screens[who].press([]string{"up", "down", "home", "end"}[random.IntN(4)], keys[random.IntN(len(keys))])
			}
		})
	}
	all.Go(func() {
		otto := *p
		otto.user = "otto"
		for i := range byCommand {
			otto.must(0, "approve", "1", []string{"unit/mg", "assay/NEW", "rule/R1"}[i%3], "--note", strconv.Itoa(i))
		}
	})
	all.Wait()
	for who, last := range map[string][2]string{"ida": {"y", "approved"}, "jonas": {"x", "declined"}} {
		s := screens[who]
		s.press("/", "range/glu/f", "enter", "end")
		s.shows("shown: text range/glu/f", "\nrange/GLU/F")
		stands := func() string {
			for _, d := range p.review()["range/GLU/F"].Decisions {
				if d.By == who && d.Field == "" {
					return d.Decision
				}
			}
			return ""
		}
		for range 3 { // where somebody else decided since, the screen shows it and asks again
			if stands() != last[1] {
				s.press(last[0])
				for tries := 0; tries < 40 && stands() != last[1]; tries++ {
					time.Sleep(50 * time.Millisecond)
				}
			}
		}
		assert.Equal(t, last[1], stands(), "%s\n%s", who, s.text())
		s.leave()
	}
	rows := p.rowsOf("file:"+p.path("dockets/0001.docket"), "SELECT DISTINCT who || ' ' || decision FROM decisions ORDER BY 1")
	assert.Subset(t, []string{"ida approved", "ida held", "jonas declined", "jonas open", "otto approved"}, rows)
	assert.Contains(t, rows, "ida approved")
	assert.Contains(t, rows, "jonas declined")
	count := p.rowsOf("file:"+p.path("dockets/0001.docket"), "SELECT count(*) || ' ' || count(DISTINCT note) FROM decisions WHERE who = 'otto'")
	assert.Equal(t, []string{fmt.Sprintf("%d %d", byCommand, byCommand)}, count)
	p.must(0, "review") // its chain holds
}
