package phrase

import (
	"path"
	"strings"
)

// What is told of a machine is compared here with what phrases wait for: a rehearsal,
// a staged machine and a real one ask the same.

// MountedAt reports whether a mount point is the one that a mount or unmount waits for.
func (o *EventSpec) MountedAt(point string) bool {
	return len(o.Paths) > 0 && path.Clean(o.Paths[0]) == path.Clean(point)
}

// Attaches reports whether a device that came is one that is waited for, by one of its
// names.
func (o *EventSpec) Attaches(names ...string) bool {
	for _, name := range names {
		if ok, err := path.Match(o.Glob, name); ok && err == nil {
			return true
		}
	}
	return false
}

// ChangedBelow reports whether a change of a file is one that is waited for, where the
// file is, or lies below, one of the paths that are watched. A pattern with a slash is
// for the path below what is watched, another for the last part of the path.
func (o *EventSpec) ChangedBelow(file string, watched ...string) bool {
	for _, root := range watched {
		if !Within(file, root) {
			continue
		}
		name := path.Base(file)
		if strings.Contains(o.Glob, "/") {
			name = strings.TrimPrefix(strings.TrimPrefix(path.Clean(file), path.Clean(root)), "/")
		}
		if ok, err := path.Match(o.Glob, name); o.Glob == "" || ok && err == nil {
			return true
		}
	}
	return false
}

// Within reports whether a path is a folder or lies in it. Both are whole paths.
func Within(p, folder string) bool {
	p, folder = path.Clean(p), path.Clean(folder)
	return p == folder || strings.HasPrefix(p, strings.TrimSuffix(folder, "/")+"/")
}

// Of returns an amount in bytes, where it is a share of total too.
func (a Amount) Of(total int64) int64 {
	if a.Percent > 0 {
		return total / 100 * int64(a.Percent)
	}
	return a.Bytes
}

// Level tells when an amount that is free falls below a limit: once, and
// again only after it has recovered by a tenth of the limit.
type Level struct{ low bool }

// Fell reports whether the limit is crossed by what is free now, of total.
func (l *Level) Fell(limit Amount, free, total int64) bool {
	below := limit.Of(total)
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
func (l *Level) Room(limit Amount, free, total int64) float64 {
	return float64(free) / float64(max(limit.Of(total), 1))
}
