package cli

import (
	"fmt"
	"strings"
	"sync"
	"time"
)

// progress is a line at the bottom of a terminal that shows how far a span of
// time has been played. Elsewhere it prints nothing.
type progress struct {
	screen   *screen
	from, to time.Time

	mu    sync.Mutex // guards what is on the screen
	shown bool
}

func newProgress(s *screen, from, to time.Time) *progress {
	return &progress{screen: s, from: from, to: to}
}

func (p *progress) show(now time.Time) {
	if !p.screen.terminal {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	const cells = 30
	full := int(float64(cells) * float64(now.Sub(p.from)) / float64(p.to.Sub(p.from)))
	full = max(0, min(full, cells))
	done, rest := "━", "─"
	if p.screen.ascii {
		done, rest = "#", "."
	}
	p.screen.clearLine()
	fmt.Fprintf(p.screen, "%s  %s%s", now.Format("Mon 15:04"), strings.Repeat(done, full), p.screen.faint(strings.Repeat(rest, cells-full)))
	p.shown = true
}

// clear takes the line away before something else is printed.
func (p *progress) clear() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.shown {
		p.screen.clearLine()
		p.shown = false
	}
}
