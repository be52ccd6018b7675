package cli

import (
	"fmt"
	"io"
	"os"
	"path"
	"sync"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"
	"golang.org/x/term"
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

	mu      sync.Mutex
	task    string
	total   int64
	done    int64
	name    string
	started time.Time
	active  bool
	timer   *time.Timer // fires when the bar or the next line is due
	show    *mpb.Progress
	shown   *mpb.Bar
}

func newMeter(file *os.File, quiet bool) *meter {
	return &meter{file: file, quiet: quiet, bar: term.IsTerminal(int(file.Fd()))}
}

// Begin starts a task.
func (m *meter) Begin(task string, total int64) {
	m.End()
	m.mu.Lock()
	defer m.mu.Unlock()
	m.task, m.total, m.done, m.name, m.started, m.active = task, total, 0, "", time.Now(), true
	if !m.quiet {
		m.timer = time.AfterFunc(meterDelay, m.due)
	}
}

// Advance adds bytes done.
func (m *meter) Advance(bytes int64, file string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.done += bytes
	if file != "" {
		m.name = file
	}
	if m.shown != nil {
		m.shown.SetCurrent(min(m.done, m.total))
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
	fmt.Fprintln(m.file, m.line())
	m.timer.Reset(lineEvery)
}

// line is the state of the work in words; m.mu is held.
func (m *meter) line() string {
	elapsed := time.Since(m.started)
	speed := float64(m.done) / elapsed.Seconds()
	if m.total <= 0 {
		return fmt.Sprintf("%s: %s, %s/s", m.task, size(m.done), size(int64(speed)))
	}
	left := "unknown"
	if speed > 0 {
		left = time.Duration(float64(m.total-m.done) / speed * float64(time.Second)).Round(time.Second).String()
	}
	return fmt.Sprintf("%s: %d%%, %s of %s, %s/s, %s left", m.task, 100*m.done/m.total, size(m.done), size(m.total), size(int64(speed)), left)
}

// open draws the bar; m.mu is held.
func (m *meter) open() {
	m.show = mpb.New(mpb.WithOutput(m.file), mpb.WithWidth(30), mpb.WithRefreshRate(120*time.Millisecond))
	started, total := m.started, m.total
	m.shown = m.show.New(total, mpb.BarStyle().Lbound(" ").Filler("━").Tip("━").Padding("─").Rbound(" "),
		mpb.PrependDecorators(decor.Name(m.task), decor.Percentage(decor.WCSyncSpace)),
		mpb.AppendDecorators(decor.Any(func(s decor.Statistics) string {
			elapsed := time.Since(started).Seconds()
			speed := float64(s.Current) / elapsed
			left := "…"
			if speed > 0 {
				left = time.Duration(float64(total-s.Current) / speed * float64(time.Second)).Round(time.Second).String()
			}
			m.mu.Lock()
			name := m.name
			m.mu.Unlock()
			return fmt.Sprintf("%s of %s  %s/s  %s left  %s", size(s.Current), size(total), size(int64(speed)), left, clip(path.Base(name), 32))
		})),
		mpb.BarRemoveOnComplete(),
	)
	m.shown.SetCurrent(min(m.done, m.total))
}

// End takes the bar away.
func (m *meter) End() {
	m.mu.Lock()
	m.active = false
	if m.timer != nil {
		m.timer.Stop()
	}
	show, shown := m.show, m.shown
	m.show, m.shown = nil, nil
	m.mu.Unlock()
	if shown != nil {
		shown.Abort(true)
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
	fmt.Fprintln(w, "Note: "+message)
}

// size writes bytes for people.
func size(n int64) string { return humanize.Bytes(uint64(max(n, 0))) }

func clip(s string, n int) string {
	r := []rune(s)
	if len(r) <= n {
		return s
	}
	return string(r[:n-1]) + "…"
}
