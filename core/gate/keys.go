package gate

import (
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"timegate/core/phrase"
)

// A Key is one that a gate file may have. The table of them gives reading,
// writing, defaults, "change", "show", the documentation and the schema.
type Key struct {
	Name    string   // whole, such as needs.power
	Type    Type     // what its value is
	Choices []string // of a text with few values, the default first
	About   string   // what it is for, in a line
	Example string   // a value as the file would have it

	set func(r *reader, g *Gate, v value)
	get func(g *Gate) string // the value as the file would have it
}

// Type is what a value is.
type Type string

// The types of values.
const (
	TypeText     Type = "text"
	TypeTruth    Type = "true or false"
	TypeSpan     Type = "span"
	TypeNumber   Type = "number"
	TypeSize     Type = "size"
	TypeTexts    Type = "list of texts"
	TypeNumbers  Type = "list of numbers"
	TypeTable    Type = "table of texts"
	TypeOpenings Type = "list of phrases"
)

// Default returns the value that holds where a file does not give the key, as
// a file would have it.
func (k *Key) Default() string { return k.get(Default("")) }

// Keys are all keys of a gate file, in the order in which it is written.
var Keys = []Key{
	textKey("about", "what it is for", `"Reset the label printer's spool"`, func(g *Gate) *string { return &g.About }),
	{Name: "run", Type: TypeTexts, About: "the program and its arguments; no shell is involved; a leading ~/ is the home folder", Example: `["/opt/larkspur/bin/spool-reset", "--quiet"]`,
		set: (*reader).run, get: func(g *Gate) string { return listText(g.Run) }},
	{Name: "folder", Type: TypeText, About: "working folder; by default the account's home folder, or / if there is none", Example: `"/var/lib/larkspur"`,
		set: (*reader).folder, get: func(g *Gate) string { return quoteText(g.Folder) }},
	{Name: "opens", Type: TypeOpenings, About: "phrases, or tables with name, about, when and enabled; an opening without a name is known by its position", Example: `["boot + 45s", { name = "saturdays", when = "at 08:15 on sat", enabled = false }]`,
		set: (*reader).openings, get: func(g *Gate) string { return openingsText(g.Opens) }},
	truthKey("enabled", "false switches the gate off", func(g *Gate) *bool { return &g.Enabled }),
	{Name: "measure", Type: TypeTexts, About: "measured before and after each run, and shown with it: " + ReadingForms + "", Example: `["memory", "disk:/home"]`,
		set: (*reader).readings, get: func(g *Gate) string { return listText(g.Measure) }},
	{Name: "was", Type: TypeTexts, About: "former names of the gate: their history and state belong to this gate, unless another gate has the name now", Example: `["spool-clean"]`,
		set: (*reader).was, get: func(g *Gate) string { return listText(g.Was) }},
	truthKey("over", "in a folder that is given to workstations: true takes the place of a gate of this name that somebody has made there, which comes back when this one goes; else the folder is refused", func(g *Gate) *bool { return &g.Over }),
	textKey("instead_of", "the item of the machine's startup that the gate takes the place of; \"startup release\" gives it back", `"autostart:job-board"`, func(g *Gate) *string { return &g.InsteadOf }),

	{Name: "as.user", Type: TypeText, About: "the account to run as; the system scope requires user or elevated", Example: `"maren"`,
		set: (*reader).user, get: func(g *Gate) string { return quoteText(g.As.User) }},
	truthKey("as.elevated", "with root's rights; system scope only", func(g *Gate) *bool { return &g.As.Elevated }),
	truthKey("as.desktop", "inside the desktop session of the account, with its display, message bus and runtime folder; with elevated, on the display of the person whose logon opened the gate, whom needs.people names, who alone is on a desktop, or whose desktop is in front", func(g *Gate) *bool { return &g.As.Desktop }),
	choiceKey("as.window", "how windows appear on the desktop", func(g *Gate) *string { return &g.As.Window }, WindowOrdinary, WindowMinimised, WindowNone, WindowTerminal),
	choiceKey("as.priority", "low: use processor and disk only when nothing else needs them", func(g *Gate) *string { return &g.As.Priority }, "normal", "low"),
	{Name: "as.env", Type: TypeTable, About: "variables for the program", Example: `{ LANG = "en_GB.UTF-8" }`,
		set: (*reader).variables, get: func(g *Gate) string { return tableText(g.As.Env) }},
	{Name: "as.trust", Type: TypeTexts, About: "in the system scope, what would be refused otherwise and you accept: a path that others can change, with everything below it; the path of a shell or other interpreter whose arguments cannot be judged; \"$NAME\", or \"$NAME_*\", for a variable in env that nobody can judge", Example: `["/srv/larkspur/bin", "$PRESS_*"]`,
		set: trusted, get: func(g *Gate) string { return listText(g.As.Trust) }},

	{Name: "needs.power", Type: TypeText, About: "mains, or \"mains or 40%\": mains power, or a battery with at least this charge", Example: `"mains or 40%"`,
		set: (*reader).power, get: func(g *Gate) string { return quoteText(g.Needs.Power) }},
	{Name: "needs.people", Type: TypeText, About: "someone, nobody, or an account: who must be logged on", Example: `"nobody"`,
		set: (*reader).people, get: func(g *Gate) string { return quoteText(g.Needs.People) }},
	{Name: "needs.paths", Type: TypeTexts, About: "paths that must all exist, such as the mount point of a drive", Example: `["/media/vault"]`,
		set: paths(func(g *Gate) *[]string { return &g.Needs.Paths }), get: func(g *Gate) string { return listText(g.Needs.Paths) }},
	truthKey("needs.online", "true: a default route is needed; no other machine is contacted", func(g *Gate) *bool { return &g.Needs.Online }),
	spanKey("needs.idle", "nobody has touched keyboard or mouse for this long", "10m", func(g *Gate) *time.Duration { return &g.Needs.Idle }),
	spanKey("needs.wait", "how long a due start waits for what it needs before it is skipped", "30m", func(g *Gate) *time.Duration { return &g.Needs.Wait }),
	choiceKey("needs.if_lost", "when a need stops holding: let the running program go on, end it, or end it and start it once more when all holds again (it waits for that as wait says, or else for a day)", func(g *Gate) *string { return &g.Needs.IfLost }, LostCarryOn, LostStop, LostAgain),

	spanKey("limits.longest", "ask the program and its children to end (SIGTERM) after this long; 0s for never", "2h", func(g *Gate) *time.Duration { return &g.Limits.Longest }),
	spanKey("limits.grace", "killed if it has not ended this long after that", "10s", func(g *Gate) *time.Duration { return &g.Limits.Grace }),
	choiceKey("limits.leftovers", "what becomes of processes that the program leaves behind when it ends by itself: they go on, or are ended, too (SIGTERM, and SIGKILL after limits.grace), and the run is over when none is left", func(g *Gate) *string { return &g.Limits.Leftovers }, "keep", "end"),
	{Name: "limits.output", Type: TypeSize, About: "how much of its output is kept: the first half and the last half of this", Example: `"1MiB"`,
		set: (*reader).output, get: func(g *Gate) string { return quoteText(phrase.FormatAmount(g.Limits.Output)) }},
	{Name: "limits.success", Type: TypeNumbers, About: "exit statuses that count as success", Example: `[0, 3]`,
		set: (*reader).success, get: func(g *Gate) string { return numbersText(g.Limits.Success) }},

	{Name: "again.times", Type: TypeNumber, About: "how often a failed run is tried again; a new moment replaces further tries", Example: `3`,
		set: whole(func(g *Gate) *int { return &g.Again.Times }, 1000), get: func(g *Gate) string { return strconv.Itoa(g.Again.Times) }},
	spanKey("again.pause", "the pause before a try, also after the machine has slept through one; also for \"after success\" phrases", "5m", func(g *Gate) *time.Duration { return &g.Again.Pause }),

	choiceKey("rules.busy", "when a moment comes while it is still running: skip it, queue one, replace the run, or start beside it", func(g *Gate) *string { return &g.Rules.Busy }, BusySkip, BusyQueue, BusyReplace, BusyBeside),
	choiceKey("rules.missed", "when the machine slept or was off at its moments: skip them, or start once for all of them", func(g *Gate) *string { return &g.Rules.Missed }, MissedSkip, MissedOnce),
	spanKey("rules.missed_within", "older moments are not made up for", "12h", func(g *Gate) *time.Duration { return &g.Rules.MissedWithin }),
	spanKey("rules.wake", "wake the machine this long before a due; as root, on a machine with a real-time clock", "5m", func(g *Gate) *time.Duration { return &g.Rules.Wake }),
	choiceKey("rules.own_changes", "when only files that changed while the program ran open it again and again: let it come later and later, or at once", func(g *Gate) *string { return &g.Rules.OwnChanges }, OwnSlow, OwnOpen),
	spanKey("rules.spread", "each moment comes later by a part of this, always the same for one host and gate", "10m", func(g *Gate) *time.Duration { return &g.Rules.Spread }),

	{Name: "only.hosts", Type: TypeTexts, About: "patterns of host names; on other hosts the gate is dormant", Example: `["front-*"]`,
		set: (*reader).hosts, get: func(g *Gate) string { return listText(g.Only.Hosts) }},

	{Name: "tell.of", Type: TypeTexts, About: "what people are told of: failed, overran, missed, refused, lost, broken; usual is what the settings say; an empty list is nothing", Example: `["failed", "missed"]`,
		set: (*reader).tellOf, get: func(g *Gate) string { return listText(g.Tell.Of) }},
	{Name: "tell.command", Type: TypeTexts, About: "a program that is started for each notice about the gate, as the gate's account; its environment says what is told (TIMEGATE_TOLD, TIMEGATE_TOLD_JSON)", Example: `["/opt/larkspur/bin/ring-bell"]`,
		set: func(r *reader, g *Gate, v value) {
			if list, ok := r.texts(v); ok {
				g.Tell.Command = list
			}
		}, get: func(g *Gate) string { return listText(g.Tell.Command) }},
}

// FindKey returns the key of a whole name.
func FindKey(name string) (*Key, bool) {
	i := slices.IndexFunc(Keys, func(k Key) bool { return k.Name == name })
	if i < 0 {
		return nil, false
	}
	return &Keys[i], true
}

// keyNames returns the names of all keys, for messages.
func keyNames() []string {
	var out []string
	for i := range Keys {
		out = append(out, Keys[i].Name)
	}
	return out
}

// tableNames are the tables that a gate file may have.
var tableNames = []string{"as", "as.env", "needs", "limits", "again", "rules", "only", "tell"}

// Setting returns the value of a key as the gate's file would have it, or ""
// where there is no such key.
func (g *Gate) Setting(key string) string {
	if k, ok := FindKey(key); ok {
		return k.get(g)
	}
	return ""
}

// Differing returns the keys whose values are not the default, in order.
func (g *Gate) Differing() []*Key {
	var out []*Key
	d := Default(g.Name)
	for i := range Keys {
		if k := &Keys[i]; k.get(g) != k.get(d) {
			out = append(out, k)
		}
	}
	return out
}

func textKey(name, about, example string, at func(*Gate) *string) Key {
	return Key{Name: name, Type: TypeText, About: about, Example: example, get: func(g *Gate) string { return quoteText(*at(g)) },
		set: func(r *reader, g *Gate, v value) {
			if r.is(v, "text") {
				*at(g) = v.text
			}
		}}
}

func truthKey(name, about string, at func(*Gate) *bool) Key {
	k := Key{Name: name, Type: TypeTruth, About: about, get: func(g *Gate) string { return strconv.FormatBool(*at(g)) },
		set: func(r *reader, g *Gate, v value) {
			if r.is(v, "true or false") {
				*at(g) = v.text == "true"
			}
		}}
	k.Example = strconv.FormatBool(k.Default() != "true")
	return k
}

func spanKey(name, about, example string, at func(*Gate) *time.Duration) Key {
	return Key{Name: name, Type: TypeSpan, About: about, Example: quoteText(example), set: span(at),
		get: func(g *Gate) string { return quoteText(phrase.FormatSpan(*at(g))) }}
}

func choiceKey(name, about string, at func(*Gate) *string, options ...string) Key {
	return Key{Name: name, Type: TypeText, About: about, Choices: options, Example: quoteText(options[1]), set: choice(at, options),
		get: func(g *Gate) string { return quoteText(*at(g)) }}
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

// variable is how trust names a variable, or those that begin alike.
var variable = regexp.MustCompile(`^\$[A-Za-z_][A-Za-z0-9_]*\*?$`)

// trusted takes paths and variables.
func trusted(r *reader, g *Gate, v value) {
	list, ok := r.texts(v)
	if !ok {
		return
	}
	for i, text := range list {
		if !variable.MatchString(text) {
			r.wholePath(v.items[i], text)
		}
	}
	g.As.Trust = list
}

func choice(at func(*Gate) *string, options []string) func(*reader, *Gate, value) {
	return func(r *reader, g *Gate, v value) {
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
	}
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

func (r *reader) tellOf(g *Gate, v value) {
	list, ok := r.texts(v)
	if !ok {
		return
	}
	for i, kind := range list {
		if _, unknown := UnknownTell([]string{kind}); unknown && kind != TellUsual {
			r.fail(v.items[i], "value", strconv.Quote(kind)+" is nothing that people are told of", "write of: "+strings.Join(append([]string{TellUsual}, TellKinds...), ", "))
		}
	}
	g.Tell.Of = list
}

func (r *reader) readings(g *Gate, v value) {
	list, ok := r.texts(v)
	if !ok {
		return
	}
	for i, s := range list {
		if _, err := ParseReading(s); err != nil {
			problem, remedy, _ := strings.Cut(err.Error(), "; ")
			r.fail(v.items[i], "value", problem, remedy)
		}
	}
	g.Measure = list
}

func (r *reader) was(g *Gate, v value) {
	list, ok := r.texts(v)
	if !ok {
		return
	}
	for i, name := range list {
		switch {
		case !ValidName(name):
			r.fail(v.items[i], "value", strconv.Quote(name)+" cannot have been a gate's name", NameRule)
		case name == g.Name:
			r.fail(v.items[i], "value", "the gate is called "+name+" now", "take it out")
		}
	}
	g.Was = list
}
