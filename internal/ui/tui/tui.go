package tui

import (
	"context"
	"errors"
	"io"

	tea "charm.land/bubbletea/v2"

	"anagram/internal/core/check"
	"anagram/internal/core/decision"
	"anagram/internal/core/match"
	"anagram/internal/flow/decide"
	"anagram/internal/flow/session"
	"anagram/internal/flow/shown"
	"anagram/internal/store/docket"
)

// Options are the terminal and what of the docket is shown first.
type Options struct {
	In      io.Reader
	Out     io.Writer
	Environ []string
	NoColor bool
}

// Run reviews a docket on a terminal until the person leaves, and gives how many findings were
// decided.
func Run(ctx context.Context, s *session.Session, d *docket.Docket, o Options) (int, error) {
	m, err := newModel(ctx, s, d)
	if err != nil {
		return 0, err
	}
	environ := o.Environ
	if o.NoColor {
		environ = append(append([]string{}, environ...), "NO_COLOR=1")
	}
	last, err := tea.NewProgram(m, tea.WithContext(ctx), tea.WithInput(o.In), tea.WithOutput(o.Out), tea.WithEnvironment(environ)).Run()
	if ctx.Err() != nil {
		return m.decided, ctx.Err()
	}
	if end, ok := last.(*model); ok {
		if err == nil {
			err = end.failed
		}
		return end.decided, err
	}
	return m.decided, err
}

// region is where the arrow keys work.
type region int

const (
	inTypes region = iota
	inList
	inDetail
)

// model is what is on the screen.
type model struct {
	ctx    context.Context
	s      *session.Session
	d      *docket.Docket
	lines  []docket.Line
	place  map[int64]int // finding -> line
	groups []docket.Group

	types  []typeCount // the first is all of them
	typeAt int
	rows   []row
	at     int // in rows
	top    int // first row in sight
	open   map[int]bool
	focus  region

	status   match.Status
	standing decision.Decision
	search   string

	looked    *looked
	fieldAt   int
	detailTop int

	width, height int
	asking        *question
	help          bool
	message       string
	pending       string // a note for the next decision
	undo          [][]decide.Before
	undone        bool    // something was decided or undone here: what came before the screen stays
	came          []int64 // where jumps came from
	decided       int
	waits         map[int64]bool          // approved findings that wait for this person's word
	held          map[int64][]check.Check // what stands in the way of approved findings
	failed        error
}

// typeCount is a record type with how much of it is open.
type typeCount struct {
	name        string
	open, total int
}

// row is a line of the list: a group, or one finding.
type row struct {
	group       int // number; with line < 0 the row is the group's
	line        int
	shown, open int    // of a group
	status      string // of all of a group that is shown, "mixed" where they differ
	inside      bool
}

// looked is the finding that is looked at, in full.
type looked struct {
	decide.Reviewed
	shown       shown.Finding
	to, from    []docket.Linked
	attachments map[string]string
}

func newModel(ctx context.Context, s *session.Session, d *docket.Docket) (*model, error) {
	m := &model{ctx: ctx, s: s, d: d, place: map[int64]int{}, open: map[int]bool{}, focus: inList, width: 80, height: 24}
	groups := make(chan error, 1)
	go func() {
		var err error
		m.groups, err = d.Found.Groups(ctx)
		groups <- err
	}()
	var err error
	m.lines, err = d.Found.Lines(ctx)
	if err = errors.Join(err, <-groups); err != nil {
		return nil, err
	}
	for i, l := range m.lines {
		m.place[l.ID] = i
	}
	if m.waits, err = decide.Waiting(ctx, s, d); err != nil {
		return nil, err
	}
	if m.held, err = readHeld(m); err != nil {
		return nil, err
	}
	m.count()
	m.fill()
	m.look()
	return m, m.failed
}

// mostHeld is for how many findings it is worked out with each decision what holds them up.
const mostHeld = 20_000

func readHeld(m *model) (map[int64][]check.Check, error) {
	if len(m.lines) > mostHeld {
		return nil, nil
	}
	return decide.Held(m.ctx, m.s, m.d)
}

// Init begins.
func (m *model) Init() tea.Cmd { return nil }

// Update takes what happens.
func (m *model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = msg.Width, msg.Height
		m.keepInSight()
	case tea.PasteMsg:
		if m.asking != nil && !m.asking.confirm {
			m.asking.text += msg.Content
		}
	case tea.KeyPressMsg:
		if m.press(msg) {
			return m, tea.Quit
		}
	}
	if m.failed != nil {
		return m, tea.Quit
	}
	return m, nil
}

// View draws the screen.
func (m *model) View() tea.View {
	v := tea.NewView(m.draw())
	v.AltScreen = true
	v.WindowTitle = "anagram"
	return v
}
