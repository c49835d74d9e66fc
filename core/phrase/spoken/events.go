package spoken

import (
	"slices"
	"strings"
)

// said is how people name an event: alternatives of words, each of which may
// have several forms. The longest that fits counts.
type said struct {
	event string
	words []string
}

var events = []said{
	{"boot", []string{"boot", "boots", "booting", "startup", "start-up", "reboot", "reboots", "restart", "restarts", "power on", "powered on", "switched on", "turned on", "switch on", "turn on", "system start", "system starts", "computer starts", "computer starts up",
		"machine starts", "machine starts up", "pc starts", "pc starts up", "starts up", "start up", "computer boots", "machine boots", "pc boots"}},
	{"shutdown", []string{"shutdown", "shut down", "shuts down", "shutting down", "switched off", "turned off", "power off", "powered off", "switch off", "turn off"}},
	{"logon", []string{"logon", "log on", "logs on", "logging on", "login", "log in", "logs in", "logging in", "sign in", "signs in", "sign on", "signs on", "signing in", "logged on", "logged in"}},
	{"logoff", []string{"logoff", "log off", "logs off", "logging off", "logout", "log out", "logs out", "logging out", "sign out", "signs out", "signing out", "logged off", "logged out"}},
	{"lock", []string{"lock", "locks", "locked", "screen lock", "screen locks", "screen locked", "screen is locked", "computer is locked"}},
	{"unlock", []string{"unlock", "unlocks", "unlocked", "unlocking", "screen unlock", "screen unlocks", "screen is unlocked", "computer is unlocked"}},
	{"sleep", []string{"sleep", "sleeps", "goes to sleep", "go to sleep", "going to sleep", "falls asleep", "suspend", "suspends", "is suspended", "lid closes", "lid is closed", "hibernates"}},
	{"resume", []string{"resume", "resumes", "wake", "wakes", "wakes up", "wake up", "waking up", "waking", "wake-up", "wakeup", "back from sleep", "comes back from sleep", "returns from sleep", "lid opens", "lid is opened"}},
	{"mains", []string{"mains", "on mains", "mains power", "plugged in", "plug in", "power is connected", "power connected", "charger is connected", "charger is plugged in", "power is plugged in", "starts charging", "charging", "on ac", "ac power"}},
	{"battery", []string{"battery", "on battery", "battery power", "unplugged", "unplug", "power is disconnected", "power disconnected", "charger is disconnected", "power is lost", "stops charging", "not plugged in"}},
	{"online", []string{"online", "network is up", "network is there", "network comes up", "network connects", "internet is up", "internet is there", "connected to the network", "connected to the internet"}},
	{"offline", []string{"offline", "network is down", "network goes down", "network is gone", "internet is down", "connection is lost", "network is lost"}},
	{"active", []string{"active", "active again", "is back", "comes back", "touches the keyboard", "touches the mouse"}},
}

// subjects are who or what an event happens to, which it says by itself.
var subjects = []string{"the", "a", "an", "i", "we", "my", "our", "laptop", "computer", "machine", "pc", "workstation", "system", "someone", "somebody", "anyone", "anybody", "user", "person", "it", "is", "gets", "has", "been", "goes", "screen", "you"}

// takeEvent takes an event, with what leads to it.
func (r *reader) takeEvent() bool {
	begin := r.at
	r.maybe("when", "whenever", "once", "if", "as", "soon", "after", "at", "on", "upon", "every", "each", "time", "right", "immediately", "before", "the", "first")
	r.at = begin
	first := false
	for slices.Contains([]string{"when", "whenever", "once", "if", "as", "soon", "after", "at", "on", "upon", "every", "each", "time", "right", "immediately", "before", "the", "a", "first", "my"}, r.word(0)) {
		first = first || r.word(0) == "first"
		r.at++
	}
	if r.event != "" {
		r.at = begin
		return false
	}
	ok := r.takeFiles() || r.takeMount() || r.takeGate() || r.takeIdle() || r.takeDevice() || r.takeNamed()
	if !ok {
		r.at = begin
		return false
	}
	first = r.skip("for", "the", "first", "time") || first
	period := ""
	switch {
	case r.skip("of|in", "the|each|every|a", "day"), r.skip("of|each|every|a|per", "day"):
		period = "day"
	case r.skip("of|in", "the|each|every|a", "week"), r.skip("each|every|a|per", "week"):
		period = "week"
	}
	switch {
	case first && period == "":
		r.first = "guess"
	case first:
		r.first = period
	case period != "":
		r.stuck = true // which of them?
	}
	return true
}

// takeNamed takes an event of the machine or its people.
func (r *reader) takeNamed() bool {
	begin := r.at
	account := ""
	for range 6 {
		if event := r.longest(); event != "" {
			if (event == "logon" || event == "logoff" || event == "lock" || event == "unlock") && r.skip("of|by|for") {
				if r.skip("the", "day") || r.skip("the", "week") {
					r.at -= 3
				} else if r.word(0) != "" && !r.ahead("the", "a", "anyone", "anybody", "someone", "somebody") {
					account = r.tokens[r.at].text
					r.at++
				} else {
					r.maybe("the", "a", "anyone", "anybody", "someone", "somebody")
				}
			}
			if account != "" {
				event += " of " + account
			}
			r.event = event
			r.skip("the|my|a", "screen|computer|laptop|machine|pc|workstation|desktop|system")
			return true
		}
		w := r.word(0)
		switch {
		case slices.Contains(subjects, w):
		case w != "" && account == "" && r.at == begin && isName(w) && (r.eventFollows()):
			account = r.tokens[r.at].text
		default:
			r.at = begin
			return false
		}
		r.at++
	}
	r.at = begin
	return false
}

// eventFollows reports whether the next word begins a logon or the like.
func (r *reader) eventFollows() bool {
	at := r.at
	defer func() { r.at = at }()
	r.at++
	r.maybe("has", "is", "gets")
	e := r.longest()
	return e == "logon" || e == "logoff" || e == "lock" || e == "unlock"
}

func isName(w string) bool {
	return w != "" && !slices.Contains(fillers, w) && dayOf(w) == "" && monthOf(w) == "" && strings.Trim(w, "abcdefghijklmnopqrstuvwxyz0123456789_-") == ""
}

// longest takes the longest name of an event that stands here.
func (r *reader) longest() string {
	best, length := "", 0
	for _, e := range events {
		for _, phrase := range e.words {
			words := strings.Fields(phrase)
			if len(words) <= length {
				continue
			}
			fits := true
			for i, w := range words {
				fits = fits && r.word(i) == w
			}
			if fits {
				best, length = e.event, len(words)
			}
		}
	}
	r.at += length
	return best
}

// path takes a path that stands here.
func (r *reader) path() (string, bool) {
	if w := r.word(0); strings.HasPrefix(w, "/") || strings.HasPrefix(w, "~") || strings.HasPrefix(w, "\"") {
		r.at++
		return r.tokens[r.at-1].text, true
	}
	return "", false
}

// takeFiles takes changes of files: a file appears in, files in … change.
func (r *reader) takeFiles() bool {
	begin := r.at
	about := false
	for range 10 {
		if p, ok := r.path(); ok {
			if !about && !r.ahead("changes", "change", "changed", "is", "gets", "has") {
				break
			}
			if !about && !(r.skip("changes|change|changed") || r.skip("is|gets|has", "changed|modified|written|updated|edited") || r.skip("has", "been", "changed|modified|written|updated|edited")) {
				break
			}
			r.maybe("changes", "change", "changed")
			r.event = "change in " + p
			for r.skip("matching") || r.skip("quiet") {
				word := r.tokens[r.at-1].lower
				if r.at < len(r.tokens) {
					if n, unit, ok := r.span(); ok && word == "quiet" {
						r.event += " quiet " + itoa(n) + unit
					} else {
						r.event += " " + word + " " + r.tokens[r.at].text
						r.at++
					}
				}
			}
			if r.skip(",", "quiet") {
				if n, unit, ok := r.span(); ok {
					r.event += " quiet " + itoa(n) + unit
				}
			}
			return true
		}
		w := r.word(0)
		if !slices.Contains([]string{"a", "an", "new", "file", "files", "folder", "something", "anything", "appears", "appear", "arrives", "arrive", "is", "are", "changes", "change", "changed", "saved", "written", "put", "dropped", "added", "created", "lands",
			"comes", "in", "into", "to", "the", "under", "any", "gets", "there", "modified", "of"}, w) {
			break
		}
		about = about || slices.Contains([]string{"file", "files", "changes", "change", "changed", "something", "anything", "appears", "arrives"}, w)
		r.at++
	}
	r.at = begin
	return false
}

// takeMount takes drives that come and go at a path.
func (r *reader) takeMount() bool {
	begin := r.at
	r.maybe("the", "drive", "disk", "share", "volume")
	if r.skip("mount|mounting") || r.skip("unmount|unmounting") {
		event := "mount"
		if strings.HasPrefix(r.tokens[r.at-1].lower, "un") {
			event = "unmount"
		}
		r.maybe("of", "the", "drive")
		if p, ok := r.path(); ok {
			r.event = event + " " + p
			return true
		}
	} else if p, ok := r.path(); ok {
		r.maybe("is", "gets", "has", "been")
		switch {
		case r.skip("mounted|mounts|there|available|connected"), r.skip("appears|comes"):
			r.event = "mount " + p
			return true
		case r.skip("unmounted|gone|removed|unmounts|disappears"):
			r.event = "unmount " + p
			return true
		}
	}
	r.at = begin
	return false
}

// takeGate takes the end, failure or start of another gate.
func (r *reader) takeGate() bool {
	begin := r.at
	for _, way := range []struct{ word, event string }{{"end", "end of"}, {"finish", "end of"}, {"failure", "failure of"}, {"start", "start of"}} {
		if r.skip(way.word, "of") && isName(r.word(0)) {
			r.event = way.event + " " + r.tokens[r.at].text
			r.at++
			return true
		}
		r.at = begin
	}
	if name := r.word(0); isName(name) && !slices.Contains(subjects, name) {
		text := r.tokens[r.at].text
		r.at++
		r.maybe("has", "is", "was")
		switch {
		case r.skip("ends|ended|finishes|finished|completes|completed|done"):
			r.event = "end of " + text
			return true
		case r.skip("fails|failed"):
			r.event = "failure of " + text
			return true
		}
	}
	r.at = begin
	return false
}

// takeIdle takes a machine that nobody has touched for a while.
func (r *reader) takeIdle() bool {
	begin := r.at
	for range 5 {
		if r.skip("idle|inactive|untouched|unused") {
			r.maybe("for", "since", "at", "least")
			n, unit, ok := r.span()
			if !ok {
				n, unit = 10, "m"
			}
			r.event = "idle " + itoa(n) + unit
			return true
		}
		if n, unit, ok := r.span(); ok {
			if r.skip("of", "idleness|inactivity") || r.skip("idle") {
				r.event = "idle " + itoa(n) + unit
				return true
			}
			break
		}
		if !slices.Contains(subjects, r.word(0)) {
			break
		}
		r.at++
	}
	r.at = begin
	return false
}

// takeDevice takes a device that is plugged in.
func (r *reader) takeDevice() bool {
	begin := r.at
	r.maybe("a", "an", "the", "my")
	glob := ""
	switch {
	case r.skip("usb", "stick|drive|disk|key") || r.skip("memory", "stick") || r.skip("external|removable", "drive|disk"):
		glob = "sd?"
	case r.skip("usb", "device"):
		glob = "usb*"
	case r.skip("device") && r.word(0) != "":
		glob = r.tokens[r.at].text
		r.at++
		r.event = "device " + glob
		return true
	}
	if glob != "" {
		r.maybe("is", "gets")
		if r.skip("plugged", "in") || r.skip("connected|attached|inserted") {
			r.event = "device " + glob
			return true
		}
	}
	r.at = begin
	return false
}
