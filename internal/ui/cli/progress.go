package cli

import (
	"log/slog"
	"os"
	"time"

	"github.com/schollz/progressbar/v3"
	"golang.org/x/term"

	"anagram/internal/flow/session"
	"anagram/internal/ui/text"
)

// bar shows progress on a terminal, once a stretch takes longer than a second, and
// logs the stretches for --verbose.
type bar struct {
	shown   bool // whether bars may be shown at all
	out     *os.File
	log     *slog.Logger
	what    string
	total   int
	done    int
	started time.Time
	bar     *progressbar.ProgressBar
}

func (a *app) progress() session.Progress {
	b := &bar{log: a.logger()}
	if f, ok := a.rawErr.(*os.File); ok && !a.quiet && !a.json && term.IsTerminal(int(f.Fd())) {
		b.shown, b.out = true, f
	}
	return b
}

// Start begins a stretch.
func (b *bar) Start(what string, total int) {
	b.what, b.total, b.done, b.started, b.bar = what, total, 0, time.Now(), nil
	b.log.Debug("start", "step", what)
}

// Add counts records.
func (b *bar) Add(n int) {
	b.done += n
	if !b.shown || time.Since(b.started) < time.Second {
		return
	}
	if b.bar == nil {
		total := int64(b.total)
		if total == 0 {
			total = -1
		}
		b.bar = progressbar.NewOptions64(total, progressbar.OptionSetWriter(b.out), progressbar.OptionSetDescription(text.Line(b.what)),
			progressbar.OptionShowCount(), progressbar.OptionSetItsString("records"), progressbar.OptionThrottle(100*time.Millisecond),
			progressbar.OptionClearOnFinish(), progressbar.OptionFullWidth())
	}
	_ = b.bar.Set(b.done)
}

// Done ends the stretch and clears the bar.
func (b *bar) Done() {
	if b.bar != nil {
		_ = b.bar.Finish()
		b.bar = nil
	}
	b.log.Debug("done", "step", b.what, "records", b.done, "seconds", time.Since(b.started).Seconds())
}
