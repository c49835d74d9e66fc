package rehearsal

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"

	"timegate/core/calendar"
	"timegate/core/gate"
	"timegate/core/phrase"
)

// Day is a day file that was read: a day, or several.
type Day struct {
	About    string
	From, To calendar.Instant
	Zone     *calendar.Zone
	Host     string
	Missing  []string // paths that gates need and that are not there, until they are mounted
	Events   []Event  // in order
	LeftOut  []string // events of the file that do not happen in a day that begins now
	Takes    map[string][]Outcome
	Expect   []Expectation
}

// Event is something that happens.
type Event struct {
	At   calendar.Instant
	Verb string
	Args []string
}

// Text is the event as a day file has it, without its time.
func (e *Event) Text() string { return strings.Join(append([]string{e.Verb}, e.Args...), " ") }

// Outcome is how a run of a program goes.
type Outcome struct {
	Takes time.Duration
	Exit  int
}

// text is a day file as TOML has it.
type dayText struct {
	About   string            `toml:"about"`
	From    string            `toml:"from"`
	To      string            `toml:"to"`
	Zone    string            `toml:"zone"`
	Host    string            `toml:"host"`
	Missing []string          `toml:"missing"`
	Events  []string          `toml:"events"`
	Expect  []string          `toml:"expect"`
	Takes   map[string]string `toml:"takes"`
}

var dayKeys = []string{"about", "from", "to", "zone", "host", "missing", "events", "expect", "takes"}

// Env is what a day file needs from outside.
type Env struct {
	Zone  *calendar.Zone // where the file names none
	Host  string
	Find  func(name string) (*calendar.Zone, error)
	Gates []string // the names of the gates, for near misses
	// Now begins the day at another time than the file says, and lets it last as long as the
	// file's: a day where the file does not say when it ends; 0 for as the file says.
	Now calendar.Instant
}

// longestDay is how long a rehearsal may be: ten years.
const longestDay = 3660 * 24 * time.Hour

// Read reads a day file. The day is nil where something is wrong.
func Read(file string, data []byte, env Env) (*Day, gate.Findings) {
	r := &reader{file: file, data: data, env: env, seen: map[string]int{}}
	var t dayText
	if err := toml.NewDecoder(bytes.NewReader(data)).DisallowUnknownFields().Decode(&t); err != nil {
		r.syntax(err)
		return nil, r.found
	}
	d := &Day{About: t.About, Host: t.Host, Zone: env.Zone, Missing: t.Missing, Takes: map[string][]Outcome{}}
	if d.Host == "" {
		d.Host = env.Host
	}
	if t.Zone != "" {
		zone, err := env.Find(t.Zone)
		if err != nil {
			r.fail(t.Zone, err.Error(), "write a name of the zone database, such as Europe/London")
			return nil, r.found
		}
		d.Zone = zone
	}
	r.span(d, &t)
	if len(r.found) == 0 {
		r.events(d, t.Events)
	}
	for _, name := range slices.Sorted(maps.Keys(t.Takes)) {
		if !slices.Contains(env.Gates, name) {
			r.noGate(name, name)
			continue
		}
		list, err := ParseTakes(t.Takes[name])
		if err != nil {
			r.fail(t.Takes[name], err.Error(), `write how long it takes and how it ends, such as "25m" or "40s exit 3, 20s"`)
		}
		d.Takes[name] = list
	}
	for _, text := range t.Expect {
		x, err := ParseExpectation(text, d, env.Gates)
		if err != nil {
			remedy := ""
			if wrong, is := errors.AsType[*ExpectError](err); is {
				err, remedy = errors.New(wrong.Problem), wrong.Remedy
			}
			r.fail(text, err.Error(), remedy)
			continue
		}
		d.Expect = append(d.Expect, x)
	}
	if len(r.found) > 0 {
		return nil, r.found
	}
	return d, nil
}

// reader gathers what is wrong.
type reader struct {
	file  string
	data  []byte
	env   Env
	found gate.Findings
	seen  map[string]int // how often a text was looked for
}

// fail reports at a text in quotes, each time at its next place.
func (r *reader) fail(text, problem, remedy string) {
	from, at := 0, -1
	for n := 0; n <= r.seen[text]; n++ {
		i := bytes.Index(r.data[from:], []byte(text))
		if i < 0 {
			break
		}
		at = from + i
		from = at + len(text)
	}
	r.found = append(r.found, gate.FindingAt(r.file, r.data, max(at, 0), max(at, 0)+len(text), "rehearsal", problem, remedy))
}

func (r *reader) noGate(text, name string) {
	remedy := "see: timegate list"
	if near, ok := phrase.Nearest(name, r.env.Gates); ok {
		remedy = fmt.Sprintf("did you mean %q?", near)
	}
	r.fail(text, fmt.Sprintf("there is no gate %q", name), remedy)
}

// syntax words an error of the TOML package.
func (r *reader) syntax(err error) {
	f := gate.Finding{File: r.file, Severity: gate.SevereError, Code: "rehearsal", Message: err.Error()}
	var strict *toml.StrictMissingError
	var decode *toml.DecodeError
	switch {
	case errors.As(err, &strict) && len(strict.Errors) > 0:
		f.Line, f.Column = strict.Errors[0].Position()
		name := strings.Join(strict.Errors[0].Key(), ".")
		f.Message, f.Remedy = fmt.Sprintf("there is no key %q", name), "there are "+strings.Join(dayKeys, ", ")
		if near, ok := phrase.Nearest(name, dayKeys); ok {
			f.Remedy = fmt.Sprintf("did you mean %q?", near)
		}
	case errors.As(err, &decode):
		f.Line, f.Column = decode.Position()
		f.Message = strings.TrimPrefix(decode.Error(), "toml: ")
		if key := decode.Key(); len(key) > 0 {
			f.Message, f.Remedy = fmt.Sprintf("the value of %q is of the wrong kind", strings.Join(key, ".")), "times, events and expectations are texts in quotes, in lists where there are several"
		}
	}
	r.found = append(r.found, f)
}

// span reads from and to.
func (r *reader) span(d *Day, t *dayText) {
	if t.From == "" && r.env.Now == 0 {
		r.found = append(r.found, gate.Finding{File: r.file, Severity: gate.SevereError, Code: "rehearsal", Message: "the file does not say when it begins", Remedy: `add from = "2026-11-30 06:00"`})
		return
	}
	if t.From != "" {
		from, _, ok := instant(t.From, d.Zone)
		if !ok {
			r.fail(t.From, fmt.Sprintf("%q is no date and time", t.From), `write for instance "2026-11-30" or "2026-11-30 06:00"`)
			return
		}
		d.From = from
		day, _ := d.Zone.Local(from)
		d.To, _ = d.Zone.Resolve(day+1, 0)
	}
	if t.To != "" {
		to, whole, ok := instant(t.To, d.Zone)
		if !ok {
			r.fail(t.To, fmt.Sprintf("%q is no date and time", t.To), `write for instance "2026-12-04" or "2026-11-30 20:00"`)
			return
		}
		if d.To = to; whole { // that day too
			last, _ := d.Zone.Local(to)
			d.To, _ = d.Zone.Resolve(last+1, 0)
		}
	}
	if now := r.env.Now; now != 0 {
		switch {
		case t.To == "":
			d.To = now.Add(24 * time.Hour)
		case t.From != "":
			d.To = now.Add(d.To.Sub(d.From))
		}
		d.From = now
	}
	switch {
	case d.To <= d.From:
		r.fail(t.To, "it ends before it begins", "write a later end")
	case d.To.Sub(d.From) > longestDay:
		r.fail(t.To, "it is longer than ten years", "write an earlier end")
	}
}

// instant reads a date with or without a time of day.
func instant(text string, zone *calendar.Zone) (at calendar.Instant, whole, ok bool) {
	date, clock, has := strings.Cut(strings.TrimSpace(text), " ")
	day, err := calendar.ParseDay(date)
	if err != nil {
		return 0, false, false
	}
	ms := int64(0)
	if has {
		if ms, ok = clockOf(strings.TrimSpace(clock)); !ok {
			return 0, false, false
		}
	}
	at, _ = zone.Resolve(day, ms)
	return at, !has, true
}

// clockOf reads HH:MM or HH:MM:SS as milliseconds since midnight.
func clockOf(text string) (ms int64, ok bool) {
	for _, layout := range []string{"15:04", time.TimeOnly} {
		if t, err := time.Parse(layout, text); err == nil {
			return t.Sub(time.Date(0, 1, 1, 0, 0, 0, 0, time.UTC)).Milliseconds(), true
		}
	}
	return 0, false
}

// ParseTakes reads how runs of a program go, one after the other; the last holds for all
// further ones.
func ParseTakes(text string) ([]Outcome, error) {
	var out []Outcome
	for part := range strings.SplitSeq(text, ",") {
		f := strings.Fields(part)
		if len(f) != 1 && (len(f) != 3 || f[1] != "exit") {
			return nil, fmt.Errorf("%q does not say how a run goes", strings.TrimSpace(part))
		}
		span, err := phrase.ParseSpan(f[0])
		if err != nil {
			return nil, err
		}
		o := Outcome{Takes: span}
		if len(f) == 3 {
			if o.Exit, err = strconv.Atoi(f[2]); err != nil || o.Exit < 0 || o.Exit > 255 {
				return nil, fmt.Errorf("%q is no exit status from 0 to 255", f[2])
			}
		}
		out = append(out, o)
	}
	return out, nil
}
