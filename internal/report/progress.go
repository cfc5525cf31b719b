package report

import (
	"fmt"
	"io"
	"strings"
	"sync"
	"time"
)

// A Progress tells how far long work has come: on a terminal in
// one line that is written over, elsewhere in a line every so often.
type Progress struct {
	w        io.Writer
	terminal bool
	every    time.Duration
	now      func() time.Time

	mu    sync.Mutex
	stage string
	begun time.Time
	told  time.Time
	shown bool
}

// NewProgress tells on w, which may be a terminal, how far work has come that begins now.
func NewProgress(w io.Writer, terminal bool, now func() time.Time) *Progress {
	p := &Progress{w: w, terminal: terminal, every: 10 * time.Second, now: now, begun: now()}
	if terminal {
		p.every = 100 * time.Millisecond
	}
	p.told = p.begun
	return p
}

// Stage tells a stage without a known end.
func (p *Progress) Stage(stage string, n int) {
	p.tell(func(time.Duration) string { return fmt.Sprintf("%s %s", stage, Number(n)) })
}

// Of tells how much of a known whole is done, with rate and time left.
func (p *Progress) Of(stage string, done, total int) {
	p.mu.Lock()
	if stage != p.stage && p.stage != "" {
		p.begun = p.now() // the rate is that of the stage
	}
	p.stage = stage
	p.mu.Unlock()
	p.tell(func(spent time.Duration) string {
		rate := float64(done) / max(spent.Seconds(), 0.001)
		line := fmt.Sprintf("posted %s of %s %s", Number(done), Number(total), stage)
		if done > 0 && spent > time.Second {
			line += fmt.Sprintf(" · %.0f/s", rate)
			if left := time.Duration(float64(total-done) / rate * float64(time.Second)); done < total {
				line += " · " + left.Round(time.Second).String() + " left"
			}
		}
		return line
	})
}

func (p *Progress) tell(line func(time.Duration) string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	now := p.now()
	if now.Sub(p.told) < p.every {
		return
	}
	p.told = now
	text := line(now.Sub(p.begun))
	if !p.terminal {
		fmt.Fprintln(p.w, text)
		return
	}
	p.shown = true
	fmt.Fprintf(p.w, "\r%s%s", text, strings.Repeat(" ", max(0, 60-len(text))))
}

// End clears the line.
func (p *Progress) End() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.shown {
		fmt.Fprintf(p.w, "\r%s\r", strings.Repeat(" ", 60))
		p.shown = false
	}
}
