package gate

import (
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"timegate/core/phrase"
)

// A key is one that a gate file may have: how its value is taken over.
type key struct {
	set    func(r *reader, g *Gate, v value)
	choice []string // the values of a text with few, the default first
}

// keys holds all keys of a gate file by their whole names, except "opens".
var keys = map[string]key{
	"about":   {set: text(func(g *Gate) *string { return &g.About })},
	"run":     {set: (*reader).run},
	"folder":  {set: (*reader).folder},
	"enabled": {set: truth(func(g *Gate) *bool { return &g.Enabled })},

	"as.user":     {set: (*reader).user},
	"as.elevated": {set: truth(func(g *Gate) *bool { return &g.As.Elevated })},
	"as.desktop":  {set: truth(func(g *Gate) *bool { return &g.As.Desktop })},
	"as.window":   choice(func(g *Gate) *string { return &g.As.Window }, WindowOrdinary, WindowMinimised, WindowNone, WindowTerminal),
	"as.priority": choice(func(g *Gate) *string { return &g.As.Priority }, "normal", "low"),
	"as.env":      {set: (*reader).variables},

	"needs.power":   {set: (*reader).power},
	"needs.people":  {set: (*reader).people},
	"needs.paths":   {set: paths(func(g *Gate) *[]string { return &g.Needs.Paths })},
	"needs.online":  {set: truth(func(g *Gate) *bool { return &g.Needs.Online })},
	"needs.idle":    {set: span(func(g *Gate) *time.Duration { return &g.Needs.Idle })},
	"needs.wait":    {set: span(func(g *Gate) *time.Duration { return &g.Needs.Wait })},
	"needs.if_lost": choice(func(g *Gate) *string { return &g.Needs.IfLost }, "carry on", "stop"),

	"limits.longest": {set: span(func(g *Gate) *time.Duration { return &g.Limits.Longest })},
	"limits.grace":   {set: span(func(g *Gate) *time.Duration { return &g.Limits.Grace })},
	"limits.output":  {set: (*reader).output},
	"limits.success": {set: (*reader).success},

	"again.times": {set: whole(func(g *Gate) *int { return &g.Again.Times }, 1000)},
	"again.pause": {set: span(func(g *Gate) *time.Duration { return &g.Again.Pause })},

	"rules.busy":          choice(func(g *Gate) *string { return &g.Rules.Busy }, BusySkip, BusyQueue, BusyReplace, BusyBeside),
	"rules.missed":        choice(func(g *Gate) *string { return &g.Rules.Missed }, "skip", MissedOnce),
	"rules.missed_within": {set: span(func(g *Gate) *time.Duration { return &g.Rules.MissedWithin })},
	"rules.wake":          {set: span(func(g *Gate) *time.Duration { return &g.Rules.Wake })},
	"rules.spread":        {set: span(func(g *Gate) *time.Duration { return &g.Rules.Spread })},

	"only.hosts":    {set: (*reader).hosts},
	"only.readings": {set: (*reader).readings},
}

// keyNames are all keys, for messages.
var keyNames = append(slices.Sorted(maps.Keys(keys)), "opens")

// tableNames are the tables that a gate file may have.
var tableNames = []string{"as", "as.env", "needs", "limits", "again", "rules", "only"}

func text(at func(*Gate) *string) func(*reader, *Gate, value) {
	return func(r *reader, g *Gate, v value) {
		if r.is(v, "text") {
			*at(g) = v.text
		}
	}
}

func truth(at func(*Gate) *bool) func(*reader, *Gate, value) {
	return func(r *reader, g *Gate, v value) {
		if r.is(v, "true or false") {
			*at(g) = v.text == "true"
		}
	}
}

func span(at func(*Gate) *time.Duration) func(*reader, *Gate, value) {
	return func(r *reader, g *Gate, v value) {
		if v.kind == "number" {
			r.fail(v, "wrong-type", `a span of time is text with a unit`, `write "`+v.text+`s" or "`+v.text+`m"`)
			return
		}
		if !r.is(v, "text") {
			return
		}
		d, err := phrase.ParseSpan(v.text)
		if err != nil {
			r.fail(v, "value", err.Error(), "")
			return
		}
		*at(g) = d
	}
}

func whole(at func(*Gate) *int, most int) func(*reader, *Gate, value) {
	return func(r *reader, g *Gate, v value) {
		if n, ok := r.number(v, most); ok {
			*at(g) = n
		}
	}
}

func paths(at func(*Gate) *[]string) func(*reader, *Gate, value) {
	return func(r *reader, g *Gate, v value) {
		list, ok := r.texts(v)
		if !ok {
			return
		}
		for i, p := range list {
			r.wholePath(v.items[i], p)
		}
		*at(g) = list
	}
}

func choice(at func(*Gate) *string, options ...string) key {
	return key{choice: options, set: func(r *reader, g *Gate, v value) {
		if !r.is(v, "text") {
			return
		}
		if !slices.Contains(options, v.text) {
			remedy := "write one of " + quotedList(options)
			if near, ok := phrase.Nearest(v.text, options); ok {
				remedy = "did you mean " + strconv.Quote(near) + "?"
			}
			r.fail(v, "value", strconv.Quote(v.text)+" is none of the choices", remedy)
			return
		}
		*at(g) = v.text
	}}
}

func quotedList(list []string) string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = strconv.Quote(s)
	}
	return strings.Join(out, ", ")
}

func (r *reader) run(g *Gate, v value) {
	list, ok := r.texts(v)
	switch {
	case !ok:
	case len(list) == 0:
		r.fail(v, "run-empty", "there is nothing to run", `write the program and its arguments: run = ["/opt/larkspur/bin/job-board", "--quiet"]`)
	case list[0] == "":
		r.fail(v.items[0], "run-empty", "the program's name is empty", "write its whole path")
	default:
		g.Run = list
	}
}

func (r *reader) folder(g *Gate, v value) {
	if r.is(v, "text") && r.wholePath(v, v.text) {
		g.Folder = v.text
	}
}

func (r *reader) wholePath(v value, path string) bool {
	if path == "~" || strings.HasPrefix(path, "/") || strings.HasPrefix(path, "~/") {
		return true
	}
	r.fail(v, "value", strconv.Quote(path)+" is not a whole path", "begin it with / or ~/")
	return false
}

func (r *reader) user(g *Gate, v value) {
	if r.is(v, "text") && r.account(v, v.text) {
		g.As.User = v.text
	}
}

func (r *reader) account(v value, name string) bool {
	if personShape(name) {
		return true
	}
	r.fail(v, "value", strconv.Quote(name)+" is not the name of an account", "")
	return false
}

func (r *reader) people(g *Gate, v value) {
	if r.is(v, "text") && r.account(v, v.text) {
		g.Needs.People = v.text
	}
}

func (r *reader) power(g *Gate, v value) {
	if !r.is(v, "text") {
		return
	}
	if !powerShape(v.text) {
		r.fail(v, "value", strconv.Quote(v.text)+" is no power condition", `write "any", "mains" or "mains or 40%"`)
		return
	}
	g.Needs.Power = v.text
}

func (r *reader) variables(g *Gate, v value) {
	if !r.is(v, "table") {
		return
	}
	for _, f := range v.fields {
		r.envField(g, f)
	}
}

func (r *reader) envField(g *Gate, f field) {
	name := f.path[len(f.path)-1]
	switch {
	case !envShape(name):
		r.failAt(f.keyStart, f.keyEnd, "value", strconv.Quote(name)+" is not the name of a variable", "")
	case strings.HasPrefix(name, "TIMEGATE_"):
		r.failAt(f.keyStart, f.keyEnd, "value", "names that begin with TIMEGATE_ are set by the keeper", "choose another name")
	case r.is(f.value, "text"):
		if g.As.Env == nil {
			g.As.Env = map[string]string{}
		}
		g.As.Env[name] = f.value.text
	}
}

func (r *reader) output(g *Gate, v value) {
	if !r.is(v, "text") {
		return
	}
	a, ok := phrase.ParseAmount(v.text)
	switch {
	case !ok || a.Percent != 0:
		r.fail(v, "value", strconv.Quote(v.text)+" is not a size", `write for instance "1MiB"`)
	case a.Bytes < 1<<10 || a.Bytes > 1<<30:
		r.fail(v, "value", strconv.Quote(v.text)+" is out of range", `write "1KiB" to "1GiB"`)
	default:
		g.Limits.Output = a.Bytes
	}
}

func (r *reader) success(g *Gate, v value) {
	if !r.is(v, "list") {
		return
	}
	codes := []int{}
	for _, item := range v.items {
		if n, ok := r.number(item, 255); ok {
			codes = append(codes, n)
		}
	}
	if len(v.items) == 0 {
		r.fail(v, "value", "no exit status would count as success", "write at least one, as in [0]")
		return
	}
	g.Limits.Success = codes
}

func (r *reader) hosts(g *Gate, v value) {
	list, ok := r.texts(v)
	if !ok {
		return
	}
	for i, pattern := range list {
		if _, err := path.Match(pattern, ""); err != nil || pattern == "" {
			r.fail(v.items[i], "value", strconv.Quote(pattern)+" is no pattern for the names of hosts", `write for instance "front-*"`)
		}
	}
	g.Only.Hosts = list
}

func (r *reader) readings(g *Gate, v value) {
	list, ok := r.texts(v)
	if !ok {
		return
	}
	for i, s := range list {
		if s != "memory" && !strings.HasPrefix(s, "disk:/") {
			r.fail(v.items[i], "value", strconv.Quote(s)+" is no reading", `write "memory" or "disk:/home"`)
		}
	}
	g.Only.Readings = list
}
