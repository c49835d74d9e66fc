package workstation

import (
	"path"
	"path/filepath"

	"timegate/core/engine"
	"timegate/core/phrase"
)

// Wants is what a keeper wants to be told of, with whole paths.
type Wants struct {
	engine.Wants
	Watches []Watch
	Places  []Place
}

// Watch is something to be watched.
type Watch struct {
	Key   string // by which notices name it
	Event phrase.EventSpec
}

// Place is a path whose being there matters.
type Place struct {
	Name string // as [engine.Facts] has it
	Path string
}

// WantsOf completes what the engine wants with the paths that expand yields.
func WantsOf(w engine.Wants, expand func(string) string) Wants {
	out := Wants{Wants: w}
	for _, o := range w.Watch {
		watch := Watch{Key: o.Watch(), Event: o}
		watch.Event.Paths = nil
		for _, p := range o.Paths {
			watch.Event.Paths = append(watch.Event.Paths, filepath.Clean(expand(p)))
		}
		out.Watches = append(out.Watches, watch)
	}
	for _, p := range w.Paths {
		out.Places = append(out.Places, Place{Name: p, Path: filepath.Clean(expand(p))})
	}
	return out
}

// Of returns the watches for one kind of event.
func (w *Wants) Of(what phrase.EventKind) []Watch {
	var out []Watch
	for _, x := range w.Watches {
		if x.Event.Kind == what {
			out = append(out, x)
		}
	}
	return out
}

// Mounted returns the watches that a mount, or the end of one, is for.
func (w *Wants) Mounted(what phrase.EventKind, point string) []Watch {
	var out []Watch
	for _, x := range w.Of(what) {
		if x.Event.Paths[0] == filepath.Clean(point) {
			out = append(out, x)
		}
	}
	return out
}

// Attached returns the watches that a new device is for: those whose pattern
// matches one of its names.
func (w *Wants) Attached(names ...string) []Watch {
	var out []Watch
	for _, x := range w.Of(phrase.Device) {
		for _, name := range names {
			if ok, err := path.Match(x.Event.Glob, name); ok && err == nil {
				out = append(out, x)
				break
			}
		}
	}
	return out
}

// Level tells when an amount that is free falls below a limit: once, and
// again only after it has recovered by a tenth of the limit.
type Level struct{ low bool }

// Fell reports whether the limit is crossed by what is free now, of total.
func (l *Level) Fell(limit phrase.Amount, free, total int64) bool {
	below := bytesOf(limit, total)
	was := l.low
	switch {
	case free < below:
		l.low = true
	case free >= below+below/10:
		l.low = false
	}
	return l.low && !was
}

// Room returns how far away the limit is: what is free, in limits.
func (l *Level) Room(limit phrase.Amount, free, total int64) float64 {
	return float64(free) / float64(max(bytesOf(limit, total), 1))
}

// bytesOf returns a limit in bytes, where it is a share of total too.
func bytesOf(limit phrase.Amount, total int64) int64 {
	if limit.Percent > 0 {
		return total / 100 * int64(limit.Percent)
	}
	return limit.Bytes
}
