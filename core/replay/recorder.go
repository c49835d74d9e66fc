package replay

import (
	"maps"

	"timegate/core/engine"
	"timegate/core/phrase"
)

// Recorded is an event as it is kept, with what was decided about it.
type Recorded struct {
	Event     engine.Event
	Decisions []engine.Decision
}

// Recorder chooses what is kept of the events that an engine has handled: so
// little that ten changes of files a second do not fill a journal, and so much
// that the same decisions follow from it once more.
type Recorder struct {
	// Changes of files from which nothing followed but that others came: of
	// each kind, one event stands for all.
	changes []engine.Event
}

// Take takes an event that an engine has just handled, and returns what is to
// be kept now. A change of files may be held back, until something else is
// kept or [Recorder.Flush] is called.
func (r *Recorder) Take(e *engine.Engine, ev engine.Event, decisions []engine.Decision) []Recorded {
	changed := e.Changed()
	ev.At = e.Time() // what was decided by; the clock may have told an earlier one
	if o, ok := ev.Body.(*engine.Occurred); ok && o.Event == phrase.Change && len(decisions) == 0 {
		if changed {
			r.hold(ev, o)
		}
		return nil
	}
	if len(decisions) == 0 && !changed && !always(ev.Kind()) {
		return nil
	}
	return append(r.Flush(), Recorded{ev, decisions})
}

// always reports whether an event is kept even where nothing followed from it:
// what somebody asked for, and when the machine and its keeper were there.
func always(kind engine.Kind) bool {
	switch kind {
	case engine.KindTick, engine.KindOccurred, engine.KindFactsChanged:
		return false
	}
	return true
}

// hold holds a change back, in one event with those of its kind before it.
func (r *Recorder) hold(ev engine.Event, now *engine.Occurred) {
	for i := range r.changes {
		before := r.changes[i].Body.(*engine.Occurred)
		if before.Name != now.Name {
			continue
		}
		sum := *now
		if sum.From = before.From; sum.From == 0 {
			sum.From = r.changes[i].At
		}
		sum.Count, sum.Files, sum.Distinct = max(now.Count, 1)+max(before.Count, 1), nil, maps.Clone(before.Distinct)
		if sum.Distinct == nil {
			sum.Distinct = map[string]int64{}
		}
		maps.Copy(sum.Distinct, now.Distinct)
		r.changes = append(append(r.changes[:i:i], r.changes[i+1:]...), engine.Event{At: ev.At, Body: &sum})
		return
	}
	r.changes = append(r.changes, ev)
}

// Holding reports whether something is held back.
func (r *Recorder) Holding() bool { return len(r.changes) > 0 }

// Flush returns what was held back.
func (r *Recorder) Flush() []Recorded {
	var out []Recorded
	for _, ev := range r.changes {
		out = append(out, Recorded{Event: ev})
	}
	r.changes = nil
	return out
}
