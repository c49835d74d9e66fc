package spoken

import (
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// path takes a path that stands here.
func (r *reader) path() (string, bool) {
	w := r.word(0)
	if strings.HasPrefix(w, "/") || strings.HasPrefix(w, "~") || strings.HasPrefix(w, "\"/") || strings.HasPrefix(w, "\"~") {
		r.at++
		return r.tokens[r.at-1].text, true
	}
	return "", false
}

// about are words that say that files change, and beside are those that may stand
// with them.
var (
	about  = []string{"file", "files", "document", "documents", "changes", "change", "changed", "something", "anything", "appears", "appear", "arrives", "arrive", "saved", "written", "dropped", "added", "created", "modified", "updated", "edited", "copied", "land", "lands"}
	beside = []string{"a", "an", "new", "folder", "folders", "is", "are", "put", "comes", "shows", "up", "in", "into", "to", "the", "under", "any", "gets", "get", "there", "of", "has", "have", "been", "inside", "within", "someone", "somebody", "and", "or", ",", "directory", "contents"}
	kinds  = []string{"pdf", "csv", "txt", "png", "jpg", "jpeg", "xml", "json", "zip", "doc", "docx", "xls", "xlsx", "odt", "ods", "log", "svg", "tif", "tiff", "eps", "html"}
)

// fileName is a name with an ending, and no number.
var fileName = regexp.MustCompile(`^[a-z_][a-z0-9_-]*\.[a-z][a-z0-9]{1,4}$`)

// takeFiles takes changes of files: a file appears in, files in … change.
func (r *reader) takeFiles() bool {
	begin := r.at
	changes, glob := false, ""
	var paths []string
	for r.at < len(r.tokens) {
		w := r.word(0)
		if p, ok := r.path(); ok {
			paths = append(paths, p)
			continue
		}
		kind := strings.TrimSuffix(strings.TrimPrefix(strings.TrimPrefix(w, "*"), "."), "s")
		switch {
		case slices.Contains(about, w):
			changes = true
		case len(paths) == 0 && glob == "" && (w == "named" || w == "called") && r.word(1) != "":
			r.at++
			if glob, changes = strings.Trim(r.tokens[r.at].text, `"'`), true; strings.ContainsAny(glob, " ,") {
				glob = strconv.Quote(glob)
			}
		case len(paths) == 0 && glob == "" && fileName.MatchString(w):
			glob, changes = r.tokens[r.at].text, true
		case (len(paths) == 0 || strings.HasPrefix(r.word(1), "file")) && glob == "" && (slices.Contains(kinds, kind) || strings.HasPrefix(w, "*.")):
			if glob = "*." + kind; strings.HasPrefix(w, "*.") {
				glob = r.tokens[r.at].text
			}
			changes = true
		case slices.Contains(beside, w) && !(w == "," && len(paths) > 0 && !r.pathAhead()) && !(w == "and" && len(paths) > 0 && !r.pathAhead()):
		default:
			return r.filesOf(begin, changes, paths, glob)
		}
		r.at++
	}
	return r.filesOf(begin, changes, paths, glob)
}

// pathAhead reports whether a path follows the next word.
func (r *reader) pathAhead() bool {
	w := r.word(1)
	return strings.HasPrefix(w, "/") || strings.HasPrefix(w, "~") || strings.HasPrefix(w, "\"/")
}

func (r *reader) filesOf(begin int, changes bool, paths []string, glob string) bool {
	if !changes || len(paths) == 0 {
		r.at = begin
		return false
	}
	quiet := ""
	for {
		before := r.at
		r.maybe(",", "and", "then", "once", "it", "they", "are", "is", "has", "have", "been")
		r.maybe("after", "for")
		if n, unit, ok := r.span(); ok && r.skip("of", "quiet|silence") && quiet == "" {
			quiet = itoa(n) + unit
			continue
		}
		r.at = before
		r.maybe(",", "and", "then", "once", "it", "they", "are", "is", "has", "have", "been")
		if r.skip("matching") && glob == "" && r.at < len(r.tokens) {
			glob = r.tokens[r.at].text
			r.at++
			continue
		}
		if r.skip("quiet") {
			r.maybe("for", "since")
			if n, unit, ok := r.span(); ok && quiet == "" {
				quiet = itoa(n) + unit
				continue
			}
		}
		r.at = before
		break
	}
	r.event = "change in " + strings.Join(paths, ", ")
	if glob != "" {
		r.event += " matching " + glob
	}
	if quiet != "" {
		r.event += " quiet " + quiet
	}
	return true
}

// takeLine takes a line that is written to a log: "error" appears in /var/log/x.
func (r *reader) takeLine() bool {
	begin := r.at
	r.maybe("the", "log", "file")
	if p, ok := r.path(); ok && r.skip("contains|has|shows|says|mentions") { // the log /var/log/x contains "jam"
		r.maybe("the", "a", "word", "text", "line", "message")
		w := r.word(0)
		switch {
		case strings.HasPrefix(w, "\""):
			r.event = "line " + r.tokens[r.at].text + " in " + p
		case strings.HasPrefix(w, "'"), r.at == len(r.tokens)-1 && isName(w):
			r.event = "line " + strconv.Quote(strings.Trim(r.tokens[r.at].text, "'")) + " in " + p
		default:
			r.at = begin
			return false
		}
		r.at++
		return true
	}
	r.at = begin
	r.maybe("a", "the", "someone", "somebody", "something", "writes", "write", "line", "lines", "message", "with", "containing", "like", "matching", "that", "says", "contains", "word", "text")
	what := ""
	if w := r.word(0); len(w) > 2 && w[0] == '\'' && w[len(w)-1] == '\'' {
		what = strconv.Quote(strings.Trim(r.tokens[r.at].text, "'"))
		r.at++
	} else if strings.HasPrefix(w, "\"") && !strings.HasPrefix(w, "\"/") && !strings.HasPrefix(w, "\"~") {
		what = r.tokens[r.at].text
		r.at++
	}
	r.maybe("appears", "shows", "up", "is", "gets", "written", "logged", "turns", "comes", "found", "line")
	if !r.skip("in|to|into") {
		r.at = begin
		return false
	}
	r.maybe("the", "log", "file")
	p, ok := r.path()
	if !ok || what == "" {
		r.at = begin
		return false
	}
	r.event = "line " + what + " in " + p
	return true
}

// amount reads 500MB, 2 GiB, 10%.
func (r *reader) amount() (string, bool) {
	begin := r.at
	number := r.word(0)
	if number == "" || strings.Trim(number, "0123456789.") != "" {
		return "", false
	}
	r.at++
	unit, known := map[string]string{"%": "%", "percent": "%", "kb": "kB", "mb": "MB", "gb": "GB", "tb": "TB", "kib": "KiB", "mib": "MiB", "gib": "GiB", "tib": "TiB", "megabytes": "MB", "gigabytes": "GB"}[r.word(0)]
	if !known {
		r.at = begin
		return "", false
	}
	r.at++
	return number + unit, true
}

// takeLevel takes memory or a disk that runs low.
func (r *reader) takeLevel() bool {
	begin := r.at
	memory, disk, low, full, path, amount := false, false, false, false, "", ""
	for r.at < len(r.tokens) {
		w := r.word(0)
		if p, ok := r.path(); ok {
			path = p
			continue
		}
		if n, ok := r.amount(); ok {
			amount = n
			continue
		}
		switch {
		case slices.Contains([]string{"memory", "ram"}, w):
			memory = true
		case slices.Contains([]string{"disk", "disc", "storage", "space", "partition", "volume"}, w):
			disk = true
		case slices.Contains([]string{"low", "full", "less", "below", "under"}, w):
			low, full = true, full || w == "full" && amount != ""
		case w == "usage" || w == "exceeds" || w == "over" || w == "above":
			low, full = true, true
		case !slices.Contains([]string{"is", "runs", "gets", "running", "than", "of", "free", "left", "available", "on", "in", "has", "the", "falls", "drops", "there", "are", "nearly", "almost", "only", "remaining", "system", "a", "computer", "machine", "short", "becomes", "goes"}, w):
			return r.levelOf(begin, low, full, memory, disk || path != "", path, amount)
		}
		r.at++
	}
	return r.levelOf(begin, low, full, memory, disk || path != "", path, amount)
}

func (r *reader) levelOf(begin int, low, full, memory, disk bool, path, amount string) bool {
	if !low || memory == disk {
		r.at = begin
		return false
	}
	what := "memory"
	if disk {
		if what = "disk " + path; path == "" {
			what, r.guessed = "disk /", "/"
		}
	}
	if n, err := strconv.Atoi(strings.TrimSuffix(amount, "%")); full && err == nil && n < 100 { // 90% full
		amount = itoa(100-n) + "%"
	}
	if amount == "" {
		amount = "10%"
		r.guessed = strings.TrimPrefix(r.guessed+" 10%", " ")
	}
	r.event = "low " + what + " " + amount
	return true
}

// takeSignal takes a signal of Time Gate's own.
func (r *reader) takeSignal() bool {
	begin := r.at
	r.maybe("the", "a", "i", "receive", "receiving", "get")
	if r.skip("signal") && isName(r.word(0)) {
		r.event = "signal " + r.tokens[r.at].text
		r.at++
		r.maybe("is", "sent", "comes", "arrives", "given", "received")
		return true
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
		case r.skip("mounted|mounts|there|available|connected|appears|plugged"), r.skip("becomes", "available"), r.skip("comes", "online|up|back"):
			r.event = "mount " + p
			return true
		case r.skip("unmounted|gone|removed|unmounts|disappears|unplugged|disconnected|ejected"):
			r.event = "unmount " + p
			return true
		}
	}
	r.at = begin
	return false
}

// others are words for people of whom there is no one account.
var others = []string{"someone", "somebody", "anyone", "anybody", "everyone", "everybody", "nobody", "who", "whoever", "there", "something", "anything", "nothing", "not"}

// takeGate takes the end, failure or start of another gate.
func (r *reader) takeGate() bool {
	begin := r.at
	for _, way := range []struct{ word, event string }{{"end", "end of"}, {"finish", "end of"}, {"failure", "failure of"}, {"start", "start of"}} {
		if r.skip(way.word, "of") && isLikelyName(r.word(0)) {
			r.event = way.event + " " + r.tokens[r.at].text
			r.at++
			return true
		}
		r.at = begin
	}
	if name := r.word(0); isLikelyName(name) && !slices.Contains(subjects, name) && !slices.Contains(others, name) && r.at > 0 {
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
		case r.skip("starts|started|begins"):
			r.event = "start of " + text
			return true
		}
	}
	r.at = begin
	return false
}

// takeIdle takes a machine that nobody has touched for a while.
func (r *reader) takeIdle() bool {
	begin := r.at
	for range 8 {
		if r.skip("idle|inactive|untouched|unused|touched|touches|uses|used|using") || r.skip("away") {
			if by := r.tokens[begin].lower; (strings.HasPrefix(r.word(-1), "touche") || strings.HasPrefix(r.word(-1), "us")) && by != "nobody" && by != "no" {
				break // somebody is there
			}
			r.maybe("the", "a", "computer", "laptop", "machine", "keyboard", "mouse", "or", "and", "it", "from", "pc", "workstation")
			r.maybe("for", "since", "at", "least", "more", "than", "over")
			n, unit, ok := r.span()
			if !ok {
				n, unit, r.guessed = 10, "m", "10m"
			}
			r.event = "idle " + itoa(n) + unit
			return true
		}
		if n, unit, ok := r.span(); ok {
			if r.skip("of", "idleness|inactivity") || r.skip("idle") || r.skip("of|with", "no", "activity|input") || r.skip("without", "activity|input") {
				r.event = "idle " + itoa(n) + unit
				return true
			}
			break
		}
		if !slices.Contains(subjects, r.word(0)) && !r.ahead("nobody", "no", "one") {
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
	r.maybe("a", "an", "the", "my", "i", "plug", "in", "insert", "connect", "someone", "plugs")
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
		r.maybe("is", "gets", "plugged", "in", "connected", "attached", "appears")
		return true
	}
	if glob != "" {
		verb := slices.ContainsFunc(r.tokens[begin:r.at], func(t token) bool {
			return t.lower == "plug" || t.lower == "insert" || t.lower == "connect" || t.lower == "plugs"
		})
		r.maybe("is", "gets", "has", "been")
		if r.skip("plugged", "in") || r.skip("connected|attached|inserted|appears") || verb {
			r.event = "device " + glob
			return true
		}
	}
	r.at = begin
	return false
}
