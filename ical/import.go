package ical

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"time"

	ics "github.com/arran4/golang-ical"

	"timegate/core/calendar"
	"timegate/core/phrase"
)

// Proposal is a gate made of an event, but for its program.
type Proposal struct {
	Name    string   `json:"name"`
	About   string   `json:"about"`
	Phrases []string `json:"phrases"`
	// Lost lists what phrases cannot say of the event.
	Lost []string `json:"lost"`
}

// Import reads a calendar. zone is that of times without one; findZone looks
// others up.
func Import(r io.Reader, zone *calendar.Zone, findZone func(string) (*calendar.Zone, error)) ([]Proposal, error) {
	cal, err := parse(r)
	if err != nil {
		return nil, fmt.Errorf("this is not a calendar file: %w", err)
	}
	out := []Proposal{}
	used := map[string]int{}
	for _, v := range cal.Events() {
		p := &importer{event: v, zone: zone, find: findZone}
		prop := p.proposal()
		if n := used[prop.Name]; n > 0 {
			used[prop.Name]++
			prop.Name = fmt.Sprintf("%s-%d", prop.Name, n+1)
		} else {
			used[prop.Name] = 1
		}
		out = append(out, prop)
	}
	return out, nil
}

// deepest is how far components of a calendar lie within each other at most: an alarm in an
// event in a calendar (RFC 5545, section 3.6), and one to spare.
const deepest = 4

// folds are the breaks within a line (RFC 5545, section 3.1).
var folds = regexp.MustCompile(`\r*\n[ \t]`)

// parse reads a calendar whose components do not lie within each other without end, which
// the parser would follow. Only the end of the innermost component ends one: any other end
// would hide how deep it is.
func parse(r io.Reader) (*ics.Calendar, error) {
	data, err := io.ReadAll(r)
	if err != nil {
		return nil, err
	}
	var within []string // the components that are not ended, the innermost one last
	for line := range strings.Lines(string(folds.ReplaceAll(data, nil))) {
		line = strings.TrimRight(line, "\r\n")
		word, name, _ := strings.Cut(line, ":")
		word, _, _ = strings.Cut(word, ";")
		if strings.EqualFold(strings.TrimSpace(word), "BEGIN") {
			within = append(within, name)
		} else if n := len(within) - 1; n >= 0 && line == "END:"+within[n] {
			within = within[:n]
		}
		if len(within) > deepest {
			return nil, errors.New("its components lie within each other too deep")
		}
	}
	return ics.ParseCalendar(bytes.NewReader(data))
}

// importer turns one event into phrases.
type importer struct {
	event *ics.VEvent
	zone  *calendar.Zone
	find  func(string) (*calendar.Zone, error)
	named string // the zone's name in the phrase, "" for the workstation's
	lost  []string
}

func (im *importer) lose(format string, args ...any) {
	im.lost = append(im.lost, fmt.Sprintf(format, args...))
}

func (im *importer) value(p ics.ComponentProperty) string {
	if prop := im.event.GetProperty(p); prop != nil {
		return prop.Value
	}
	return ""
}

func (im *importer) proposal() Proposal {
	out := Proposal{About: im.value(ics.ComponentPropertySummary), Phrases: []string{}}
	out.Name = slug(out.About)
	start, err := im.start()
	if err != nil {
		im.lose("%v", err)
	} else {
		for _, offset := range im.offsets() {
			out.Phrases = append(out.Phrases, im.phrases(start, offset)...)
		}
	}
	for _, p := range []ics.ComponentProperty{ics.ComponentPropertyRecurrenceId, "EXRULE"} {
		if im.event.HasProperty(p) {
			im.lose("%s is not taken over", p)
		}
	}
	if s := strings.ToUpper(im.value(ics.ComponentPropertyStatus)); s == "CANCELLED" {
		im.lose("the event is cancelled: nothing is proposed")
		out.Phrases = []string{}
	}
	out.Lost = append([]string{}, im.lost...)
	return out
}

// slug makes a gate's name of a summary.
func slug(s string) string {
	var b strings.Builder
	for _, r := range strings.ToLower(s) {
		switch {
		case r >= 'a' && r <= 'z' || r >= '0' && r <= '9':
			b.WriteRune(r)
		case b.Len() > 0 && !strings.HasSuffix(b.String(), "-"):
			b.WriteByte('-')
		}
	}
	name := strings.Trim(b.String(), "-")
	if name == "" {
		return "event"
	}
	return strings.TrimRight(name[:min(len(name), 50)], "-")
}

// civil is a date with a local time, as a calendar file writes it.
type civil struct {
	day    calendar.Day
	second int64
}

func (c civil) clock() string {
	if c.second%60 == 0 {
		return fmt.Sprintf("%02d:%02d", c.second/3600, c.second/60%60)
	}
	return fmt.Sprintf("%02d:%02d:%02d", c.second/3600, c.second/60%60, c.second%60)
}

// start reads DTSTART and settles the zone.
func (im *importer) start() (civil, error) {
	prop := im.event.GetProperty(ics.ComponentPropertyDtStart)
	if prop == nil {
		return civil{}, errors.New("the event has no DTSTART")
	}
	if ids := prop.ICalParameters["TZID"]; len(ids) > 0 {
		z, err := im.find(ids[0])
		if err != nil {
			return civil{}, fmt.Errorf("DTSTART: %w", err)
		}
		if z.Name() != im.zone.Name() {
			im.named = z.Name()
		}
	} else if strings.HasSuffix(prop.Value, "Z") && im.zone.Name() != "UTC" {
		im.named = "UTC"
	}
	c, err := parseCivil(prop.Value)
	if err == nil && len(prop.Value) == 8 {
		im.lose("the event lasts whole days: midnight is taken for its moment")
	}
	return c, err
}

// parseCivil reads a DATE or DATE-TIME (RFC 5545 sections 3.3.4 and 3.3.5).
func parseCivil(s string) (civil, error) {
	s = strings.TrimSuffix(s, "Z")
	for _, layout := range []string{"20060102T150405", "20060102"} {
		if t, err := time.Parse(layout, s); err == nil {
			h, m, sec := t.Clock()
			return civil{calendar.DayOf(t.Year(), int(t.Month()), t.Day()), int64(h*3600 + m*60 + sec)}, nil
		}
	}
	return civil{}, fmt.Errorf("%q is no date and time", s)
}

// offsets are the times before or after the start at which something is to
// happen: at the start itself, or at its alarms.
func (im *importer) offsets() []time.Duration {
	var out []time.Duration
	for _, alarm := range im.event.Alarms() {
		prop := alarm.GetProperty(ics.ComponentPropertyTrigger)
		if prop == nil {
			continue
		}
		d, err := parseDuration(prop.Value)
		if err != nil || slices.Contains(prop.ICalParameters["RELATED"], "END") {
			im.lose("an alarm's trigger %s cannot be taken over", prop.Value)
			continue
		}
		out = append(out, d)
	}
	if len(out) == 0 {
		return []time.Duration{0}
	}
	return out
}

// parseDuration reads a DURATION (RFC 5545 section 3.3.6).
func parseDuration(s string) (time.Duration, error) {
	sign := time.Duration(1)
	rest := strings.TrimPrefix(s, "+")
	if r, ok := strings.CutPrefix(rest, "-"); ok {
		sign, rest = -1, r
	}
	rest, ok := strings.CutPrefix(rest, "P")
	if !ok {
		return 0, fmt.Errorf("%q is no duration", s)
	}
	d, err := phrase.ParseSpan(strings.ToLower(strings.ReplaceAll(rest, "T", "")))
	return sign * d, err
}

// phrases says one moment of the event, and its further dates.
func (im *importer) phrases(start civil, offset time.Duration) []string {
	// The offset moves the time of day, and the day with it.
	at := start.second + int64(offset/time.Second)
	days := calendar.Day(floorDiv(at, 86400))
	start.day, start.second = start.day+days, at-int64(days)*86400
	tail := ""
	if im.named != "" {
		tail = ", zone " + im.named
		if im.named == "UTC" {
			tail = ", utc"
		}
	}
	var out []string
	add := func(text string) {
		p, err := phrase.Parse(text)
		if err != nil {
			im.lose("%q is not a phrase: %v", text, err)
			return
		}
		out = append(out, p.String())
	}
	// Single dates are said together, those at one time of day in one phrase.
	var clocks []string
	single := map[string][]string{}
	date := func(c civil) {
		k := c.clock()
		if single[k] == nil {
			clocks = append(clocks, k)
		}
		if d := c.day.String(); !slices.Contains(single[k], d) {
			single[k] = append(single[k], d)
		}
	}
	rule := im.value(ics.ComponentPropertyRrule)
	if rule == "" {
		date(start)
	} else if r, err := parseRule(rule); err != nil {
		im.lose("RRULE:%s: %v", rule, err)
	} else if text, err := im.recurring(r, start, int(days), tail); err != nil {
		im.lose("RRULE:%s: %v", rule, err)
	} else {
		add(text)
	}
	for _, c := range im.dates(ics.ComponentPropertyRdate) {
		at := c.second + int64(offset/time.Second)
		d := calendar.Day(floorDiv(at, 86400))
		date(civil{c.day + d, at - int64(d)*86400})
	}
	const most = 200 // dates in a phrase
	for _, k := range clocks {
		for list := range slices.Chunk(single[k], most) {
			add(fmt.Sprintf("at %s on %s%s", k, strings.Join(list, ", "), tail))
		}
	}
	return out
}

// recurring says a rule with its end and its exceptions.
func (im *importer) recurring(r *rule, start civil, days int, tail string) (string, error) {
	text, err := r.phrase(start, days)
	if err != nil {
		return "", err
	}
	if until := r.parts["UNTIL"]; until != "" {
		c, err := parseCivil(until)
		if err != nil {
			return "", fmt.Errorf("UNTIL: %w", err)
		}
		if strings.HasSuffix(until, "Z") {
			c = im.convert(c, true)
		}
		text += fmt.Sprintf(", ending %s", c.day+calendar.Day(days))
		if len(until) > 8 && days == 0 {
			text += " " + c.clock()
		}
	}
	except := im.excepted(days)
	n := r.parts["COUNT"]
	switch {
	case n == "":
	case except == "":
		text += ", " + n + " times"
	default:
		// COUNT counts what EXDATE takes out as well; "times" does not. So the
		// end is computed and said instead.
		last, err := im.lastOf(text + ", " + n + " times" + tail)
		if err != nil {
			return "", err
		}
		text += ", ending " + last
	}
	return text + tail + except, nil
}

// lastOf returns the local time of a phrase's last due.
func (im *importer) lastOf(text string) (string, error) {
	p, err := phrase.Parse(text)
	if err != nil {
		return "", err
	}
	plan, err := p.Compile(phrase.Env{Zone: im.zone, FindZone: im.find})
	if err != nil {
		return "", err
	}
	last, ok := plan.Rule.Prev(calendar.MaxInstant)
	if !ok {
		return "", errors.New("it has no last date")
	}
	d, ms := plan.Zone.Local(last)
	return d.String() + " " + civil{second: ms / 1000}.clock(), nil
}

func floorDiv(a, b int64) int64 {
	q := a / b
	if a%b < 0 {
		q--
	}
	return q
}

// excepted says EXDATE as days.
func (im *importer) excepted(days int) string {
	var list []string
	for _, c := range im.dates(ics.ComponentPropertyExdate) {
		if d := (c.day + calendar.Day(days)).String(); !slices.Contains(list, d) {
			list = append(list, d)
		}
	}
	if len(list) == 0 {
		return ""
	}
	return ", except " + strings.Join(list, ", ")
}

// dates reads a property that lists dates.
func (im *importer) dates(p ics.ComponentProperty) []civil {
	var out []civil
	for i := range im.event.Properties {
		prop := &im.event.Properties[i]
		if prop.IANAToken != string(p) {
			continue
		}
		for _, s := range strings.Split(prop.Value, ",") {
			c, err := parseCivil(s)
			if err != nil {
				im.lose("%s: %v", p, err)
				continue
			}
			ids := prop.ICalParameters["TZID"]
			inUTC := strings.HasSuffix(s, "Z")
			if want := im.named; inUTC && want != "UTC" && im.zone.Name() != "UTC" || len(ids) > 0 && want != "" && ids[0] != want {
				c = im.convert(c, inUTC)
			}
			out = append(out, c)
		}
	}
	return out
}

// convert takes a time in UTC to the event's own zone.
func (im *importer) convert(c civil, inUTC bool) civil {
	if !inUTC {
		im.lose("a date is in another zone than the event")
		return c
	}
	z := im.zone
	if im.named != "" {
		if found, err := im.find(im.named); err == nil {
			z = found
		}
	}
	d, ms := z.Local(calendar.Instant(int64(c.day)*86400_000 + c.second*1000))
	return civil{d, ms / 1000}
}
