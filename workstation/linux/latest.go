//go:build linux

package linux

import "sync"

// latest does one piece of work after the other on a goroutine of its own, of
// those that wait only the newest: what hangs in it hangs nobody else. Its
// zero value is ready.
type latest struct {
	mu      sync.Mutex // guards what follows
	busy    bool
	next    func()
	waiting []chan struct{} // of the work that is next
}

// do does some work, in place of what waits. The channel is closed when it, or
// what took its place, is done.
func (l *latest) do(work func()) <-chan struct{} {
	done := make(chan struct{})
	l.mu.Lock()
	defer l.mu.Unlock()
	l.next, l.waiting = work, append(l.waiting, done)
	if !l.busy {
		l.busy = true
		go l.run()
	}
	return done
}

// run works until nothing is left.
func (l *latest) run() {
	for {
		l.mu.Lock()
		work, waiting := l.next, l.waiting
		l.next, l.waiting = nil, nil
		if work == nil {
			l.busy = false
			l.mu.Unlock()
			return
		}
		l.mu.Unlock()
		work()
		for _, w := range waiting {
			close(w)
		}
	}
}

// idle reports whether nothing is being done.
func (l *latest) idle() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return !l.busy
}
