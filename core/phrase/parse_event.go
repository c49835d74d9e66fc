package phrase

import (
	"path"
	"regexp"
	"strconv"
	"strings"
)

// eventWords are the first words of the events.
var eventWords = []string{"boot", "shutdown", "logon", "logoff", "lock", "unlock", "sleep", "resume", "mains",
	"battery", "online", "offline", "idle", "active", "mount", "unmount", "device", "change", "line", "low",
	"end", "failure", "start", "signal"}

func (p *parser) event() {
	e := &p.out.Event
	e.First = p.accept("first")
	t := p.peek()
	what := p.expect("an event", eventWords...).lower()
	e.Kind = EventKind(what)
	p.eventArguments(what)
	p.mark("event", token{word, p.text[t.pos:p.pos], t.pos, p.pos})
	if t := p.peek(); t.kind == word && t.lower() == "of" && !e.First {
		end := lex(p.text, lex(p.text, t.end).end).end
		p.failWith(token{pos: t.pos, end: end}, `write "first" before the event`, `%q goes with "first"`, p.text[t.pos:end])
	} else if p.accept("of") {
		p.expect(`"the"`, "the")
		e.Period = p.expect(`"day" or "week"`, "day", "week").lower()
	} else if e.First {
		p.wanted(p.peek(), `"of the day" or "of the week"`, "of")
	}
	p.days(daysOnIn | daysWindow)
	if p.peek().kind == plus {
		p.take()
		p.out.Delay = p.span("a duration such as 45s")
	}
}

func (p *parser) eventArguments(what string) {
	e := &p.out.Event
	switch what {
	case "logon", "logoff":
		if of := p.peek(); of.lower() == "of" && lex(p.text, of.end).lower() != "the" {
			p.take()
			e.Account = p.bare(AccountName, "the name of an account")
		}
	case "idle":
		e.Idle = p.span("a duration such as 10m")
	case "mount", "unmount":
		e.Paths = []string{p.path()}
	case "device":
		e.Glob = p.glob("the name of a device or a pattern such as usb*")
	case "change":
		p.expect(`"in"`, "in")
		e.Kind = Change
		p.change()
	case "line":
		p.line()
	case "low":
		e.Kind = LowMemory
		if p.expect(`"memory" or "disk"`, "memory", "disk").lower() == "disk" {
			e.Kind = LowDisk
			e.Paths = []string{p.path()}
		}
		e.Amount = p.amount()
	case "end", "failure", "start":
		p.expect(`"of"`, "of")
		e.Kind += " of"
		e.Name = p.bare(GateName, "the name of a gate")
	case "signal":
		e.Name = p.bare(SignalName, "the name of a signal")
	}
}

func (p *parser) change() {
	e := &p.out.Event
	for {
		e.Paths = append(e.Paths, p.path())
		if t := p.peek(); t.kind != comma || !beginsPath(p.text[t.end:]) {
			break
		}
		p.take()
	}
	if p.accept("matching") {
		e.Glob = p.glob(`a pattern such as "*.pdf"`)
	}
	if p.accept("quiet") {
		e.Quiet = p.span("a duration such as 5s")
	}
}

// glob reads a pattern as [path.Match] has it.
func (p *parser) glob(what string) string {
	t := p.peek()
	pattern := p.bare(PatternName, what)
	if _, err := path.Match(pattern, ""); err != nil {
		p.failWith(token{pos: t.pos, end: p.pos}, `close the "[", or write \\[`, "%q is no pattern", pattern)
	}
	return pattern
}

func beginsPath(rest string) bool {
	rest = strings.TrimLeft(rest, blanks)
	return rest != "" && strings.IndexByte(`/~"`, rest[0]) >= 0
}

func (p *parser) line() {
	t := p.peek()
	if t.kind != quoted {
		p.wanted(t, "a quoted regular expression")
	}
	if _, err := regexp.Compile(t.text); err != nil {
		p.failAt(t, "%v", err)
	}
	p.out.Event.Regexp = p.take().text
	p.expect(`"in"`, "in")
	p.out.Event.Paths = []string{p.path()}
}

var amounts = []struct {
	unit  string
	bytes int64
}{
	{"KiB", 1 << 10}, {"MiB", 1 << 20}, {"GiB", 1 << 30}, {"TiB", 1 << 40},
	{"kB", 1e3}, {"MB", 1e6}, {"GB", 1e9}, {"TB", 1e12}, {"B", 1},
}

// amount reads 500MiB, 2GB or 10%.
func (p *parser) amount() Amount {
	t := p.peek()
	a, ok := ParseAmount(p.bare(NoName, "an amount such as 500MiB or 10%"))
	if !ok {
		p.failWith(token{pos: t.pos, end: p.pos}, "write 500MiB, 2GB or 10%", "%q is not an amount", p.text[t.pos:p.pos])
	}
	return a
}

// ParseAmount reads a size such as 500MiB, 2GB or 10%.
func ParseAmount(s string) (Amount, bool) {
	digits := len(s) - len(strings.TrimLeft(s, "0123456789"))
	n, err := strconv.ParseInt(s[:digits], 10, 64)
	if err != nil || n < 1 {
		return Amount{}, false
	}
	if s[digits:] == "%" {
		return Amount{Percent: int(n), text: s}, n < 100
	}
	for _, a := range amounts {
		if strings.EqualFold(a.unit, s[digits:]) && n <= 1<<60/a.bytes {
			return Amount{Bytes: n * a.bytes, text: s[:digits] + a.unit}, true
		}
	}
	return Amount{}, false
}

// FormatAmount writes a size in bytes with the largest unit that divides it.
func FormatAmount(bytes int64) string {
	best := amounts[0]
	for _, a := range amounts {
		if bytes%a.bytes == 0 && a.bytes > best.bytes || best.bytes > 1 && bytes%best.bytes != 0 {
			best = a
		}
	}
	return strconv.FormatInt(bytes/best.bytes, 10) + best.unit
}

// String returns the amount as it is written.
func (a Amount) String() string { return a.text }
