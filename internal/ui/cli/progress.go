package cli

import (
	"fmt"
	"log/slog"
	"os"
	"sync"
	"time"

	"charm.land/bubbles/v2/progress"
	"github.com/charmbracelet/x/ansi"
	"golang.org/x/term"

	"anagram/internal/flow/session"
	"anagram/internal/ui/text"
)

// bar shows progress on a terminal, once a stretch takes longer than a second, and logs the
// stretches for --verbose. It is drawn by the clock, so that a stretch in which nothing is
// counted is seen to go on.
type bar struct {
	shown bool // whether bars may be shown at all
	out   *os.File
	log   *slog.Logger

	mu      sync.Mutex
	what    string
	total   int
	done    int
	started time.Time
	drawn   bool
	stop    chan struct{}
}

const (
	showAfter = time.Second
	drawEvery = 200 * time.Millisecond
)

func (a *app) progress() session.Progress {
	b := &bar{log: a.logger()}
	if f, ok := a.RawErr.(*os.File); ok && !a.Quiet && !a.JSON && term.IsTerminal(int(f.Fd())) {
		b.shown, b.out = true, f
	}
	return b
}

// Shown reports whether anybody sees the progress, so that a total is worth counting.
func (b *bar) Shown() bool { return b.shown }

// Start begins a stretch.
func (b *bar) Start(what string, total int) {
	b.end()
	b.mu.Lock()
	defer b.mu.Unlock()
	b.what, b.total, b.done, b.started = what, total, 0, time.Now()
	b.log.Debug("start", "step", what)
	if !b.shown {
		return
	}
	b.stop = make(chan struct{})
	go b.draw(b.stop)
}

// draw shows the stretch until it ends.
func (b *bar) draw(stop chan struct{}) {
	wait := time.NewTimer(showAfter)
	defer wait.Stop()
	select {
	case <-stop:
		return
	case <-wait.C:
	}
	tick := time.NewTicker(drawEvery)
	defer tick.Stop()
	for {
		b.mu.Lock()
		select {
		case <-stop:
			b.mu.Unlock()
			return
		default:
		}
		b.render()
		b.mu.Unlock()
		select {
		case <-stop:
			return
		case <-tick.C:
		}
	}
}

// render draws the line anew, over the one before.
func (b *bar) render() {
	width := 80
	if w, _, err := term.GetSize(int(b.out.Fd())); err == nil && w > 0 {
		width = w
	}
	if b.total > 0 && b.done > b.total { // more came than were counted
		b.total = b.done
	}
	b.drawn = true
	fmt.Fprint(b.out, "\r"+ansi.EraseLineRight+progressLine(text.Line(b.what), b.done, b.total, time.Since(b.started), width))
}

// progressLine is what a stretch of work has come to, on a line that is not longer than the
// screen: what is done, a bar where the total is known, counts, pace and how long it will take.
func progressLine(what string, done, total int, since time.Duration, width int) string {
	pace, left := "", ""
	if each := float64(done) / since.Seconds(); done > 0 && since > 0 {
		pace = fmt.Sprintf(", %.0f a second", each)
		if more := total - done; more > 0 {
			left = fmt.Sprintf(", %s left", time.Duration(float64(more)/each*float64(time.Second)).Round(time.Second))
		}
	}
	if total <= 0 {
		return ansi.Truncate(what+"  "+text.Count(done, "record")+pace, width-1, "…")
	}
	share := float64(done) / float64(total)
	counts := fmt.Sprintf("%3.0f %%  %d of %s", share*100, done, text.Count(total, "record"))
	const least = 10
	room := func(more string) int {
		return width - 1 - ansi.StringWidth(what) - ansi.StringWidth(counts+more) - 4
	}
	more := pace + left
	if room(more) < least { // a bar says more than the pace
		more = left
	}
	counts += more
	if room("") < least {
		return ansi.Truncate(what+"  "+counts, width-1, "…")
	}
	drawn := progress.New(progress.WithWidth(min(room(""), 40)), progress.WithoutPercentage(), progress.WithFillCharacters('█', '░'))
	return what + "  " + ansi.Strip(drawn.ViewAs(share)) + "  " + counts
}

// Add counts records.
func (b *bar) Add(n int) {
	b.mu.Lock()
	b.done += n
	b.mu.Unlock()
}

// Done ends the stretch and clears the bar.
func (b *bar) Done() {
	b.end()
	b.log.Debug("done", "step", b.what, "records", b.done, "seconds", time.Since(b.started).Seconds())
}

func (b *bar) end() {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.stop != nil {
		close(b.stop)
		b.stop = nil
	}
	if b.drawn {
		fmt.Fprint(b.out, "\r"+ansi.EraseLineRight)
		b.drawn = false
	}
}
