package app

import (
	"fmt"
	"io"
	"os"
	"path"
	"sync"
	"sync/atomic"
	"time"

	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"
	"golang.org/x/term"

	"morvant/internal/cli/view"
)

const (
	// meterDelay is how long work may take before it is worth a progress bar.
	meterDelay = time.Second
	// lineEvery is how often a plain line is written when there is no terminal.
	lineEvery = 5 * time.Second
)

// meter shows how far long work is: a bar on a terminal, elsewhere a line now and
// then. It implements progress.Meter.
type meter struct {
	file  *os.File
	quiet bool
	bar   bool // stderr is a terminal

	done  atomic.Int64
	name  atomic.Pointer[string]
	shown atomic.Pointer[mpb.Bar]

	mu      sync.Mutex // guards the rest; never held while the bar is called
	task    string
	total   int64
	started time.Time
	active  bool
	timer   *time.Timer // fires when the bar or the next line is due
	show    *mpb.Progress
}

// NewMeter returns a meter that writes to file; a quiet one shows nothing but warnings.
func NewMeter(file *os.File, quiet bool) *meter {
	return &meter{file: file, quiet: quiet, bar: term.IsTerminal(int(file.Fd()))}
}

// Begin starts a task.
func (m *meter) Begin(task string, total int64) {
	m.End()
	m.mu.Lock()
	defer m.mu.Unlock()
	m.task, m.total, m.started, m.active = task, total, time.Now(), true
	m.done.Store(0)
	m.name.Store(nil)
	if !m.quiet {
		m.timer = time.AfterFunc(meterDelay, m.due)
	}
}

// Advance adds bytes done.
func (m *meter) Advance(bytes int64, file string) {
	done := m.done.Add(bytes)
	if file != "" {
		m.name.Store(&file)
	}
	if bar := m.shown.Load(); bar != nil {
		bar.SetCurrent(done)
	}
}

// due shows the bar, or the next line.
func (m *meter) due() {
	m.mu.Lock()
	defer m.mu.Unlock()
	if !m.active {
		return
	}
	if m.bar && m.total > 0 {
		m.open()
		return
	}
	fmt.Fprintln(view.Visibly(m.file), m.line())
	m.timer.Reset(lineEvery)
}

// line is the state of the work in words; m.mu is held.
func (m *meter) line() string {
	done := m.done.Load()
	if m.total <= 0 {
		return fmt.Sprintf("%s: %s", m.task, pace(done, m.total, time.Since(m.started)))
	}
	return fmt.Sprintf("%s: %d%%, %s", m.task, 100*done/m.total, pace(done, m.total, time.Since(m.started)))
}

// pace says how much is done, how fast, and how long the rest will take.
func pace(done, total int64, took time.Duration) string {
	speed := float64(done) / took.Seconds()
	if total <= 0 {
		return fmt.Sprintf("%s, %s/s", view.Size(done), view.Size(int64(speed)))
	}
	left := "unknown"
	if speed > 0 {
		left = time.Duration(float64(total-done) / speed * float64(time.Second)).Round(time.Second).String()
	}
	return fmt.Sprintf("%s of %s, %s/s, %s left", view.Size(done), view.Size(total), view.Size(int64(speed)), left)
}

// open draws the bar; m.mu is held.
func (m *meter) open() {
	bar, name := barRoom(m.file, m.task)
	m.show = mpb.New(mpb.WithOutput(m.file), mpb.WithWidth(bar), mpb.WithRefreshRate(120*time.Millisecond))
	started, total := m.started, m.total
	shown := m.show.New(total, mpb.BarStyle().Lbound(" ").Filler("━").Tip("━").Padding("─").Rbound(" "),
		mpb.PrependDecorators(decor.Name(m.task), decor.Percentage(decor.WCSyncSpace)),
		mpb.AppendDecorators(decor.Any(func(s decor.Statistics) string {
			text := pace(s.Current, total, time.Since(started))
			if file := m.name.Load(); file != nil && name >= least {
				text += "  " + view.Shorten(string(view.MadeVisible([]byte(path.Base(*file)))), name, view.CutMiddle)
			}
			return text
		})),
		mpb.BarRemoveOnComplete(),
	)
	shown.SetCurrent(m.done.Load())
	m.shown.Store(shown)
}

// least is the fewest cells in which the name of a file says something.
const least = 10

// barRoom says how many cells the window has for the bar itself and for the name of a file.
func barRoom(file *os.File, task string) (bar, name int) {
	width, _, err := term.GetSize(int(file.Fd()))
	if err != nil {
		width = 80
	}
	const words = len(" 100% 999.9 MB of 999.9 MB, 999.9 MB/s, 59m59s left  ")
	left := width - len(task) - words
	bar = min(max(left, 8), 30)
	return bar, min(left-bar, 32)
}

// End takes the bar away.
func (m *meter) End() {
	m.mu.Lock()
	m.active = false
	if m.timer != nil {
		m.timer.Stop()
	}
	show, bar := m.show, m.shown.Swap(nil)
	m.show = nil
	m.mu.Unlock()
	if bar != nil {
		bar.Abort(true)
		show.Wait()
	}
}

// pause clears the way for a line of text.
func (m *meter) pause() { m.End() }

// Warn writes a line above the bar.
func (m *meter) Warn(message string) {
	m.mu.Lock()
	show := m.show
	m.mu.Unlock()
	var w io.Writer = m.file
	if show != nil {
		w = show
	}
	fmt.Fprintln(view.Visibly(w), "Note: "+Commands(view.Plain(message)))
}
