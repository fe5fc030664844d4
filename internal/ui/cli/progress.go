package cli

import (
	"log/slog"
	"os"
	"sync"
	"time"

	"github.com/schollz/progressbar/v3"
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
	bar     *progressbar.ProgressBar
	stop    chan struct{}
}

const (
	showAfter = time.Second
	drawEvery = 200 * time.Millisecond
)

func (a *app) progress() session.Progress {
	b := &bar{log: a.logger()}
	if f, ok := a.rawErr.(*os.File); ok && !a.quiet && !a.json && term.IsTerminal(int(f.Fd())) {
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

func (b *bar) render() {
	if b.bar == nil {
		total := int64(b.total)
		if total == 0 {
			total = -1
		}
		b.bar = progressbar.NewOptions64(total, progressbar.OptionSetWriter(b.out), progressbar.OptionSetDescription(text.Line(b.what)),
			progressbar.OptionShowCount(), progressbar.OptionShowIts(), progressbar.OptionSetItsString("records"), progressbar.OptionSetPredictTime(true),
			progressbar.OptionClearOnFinish(), progressbar.OptionFullWidth(),
			progressbar.OptionSetSpinnerChangeInterval(0)) // else it goes on drawing by itself once it was cleared
	}
	if b.total > 0 && b.done > b.total { // more came than were counted
		b.bar.ChangeMax(b.done)
		b.total = b.done
	}
	_ = b.bar.Set(b.done)
	_ = b.bar.RenderBlank()
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
	if b.bar != nil {
		_ = b.bar.Clear()
		b.bar = nil
	}
}
