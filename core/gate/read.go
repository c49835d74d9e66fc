package gate

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"timegate/core/phrase"
)

// MaxSize is the largest gate file that is read, in bytes.
const MaxSize = 256 << 10

// Scope is whose gates they are.
type Scope string

// Scopes.
const (
	System Scope = "system" // root's gates, for all
	User   Scope = "user"   // one person's, with that person's rights
)

// Options say how a gate file is read.
type Options struct {
	Scope Scope
	Env   phrase.Env // for computing the openings' dues
	// From is what the content was before values were put in; nil where it is as the
	// file has it. Findings are told by their places there.
	From *Expanded
}

// Read reads a gate file's content. file is used in findings only. The gate
// is nil where a finding is an error.
func Read(name, file string, data []byte, opt Options) (*Gate, Findings) {
	r := &reader{name: name, file: file, data: data, env: opt.Env, from: opt.From}
	g := r.read(opt.Scope)
	slices.SortStableFunc(r.found, func(a, b Finding) int { return a.Line*10000 + a.Column - b.Line*10000 - b.Column })
	if len(r.found.Errors()) > 0 {
		return nil, r.found
	}
	return g, r.found
}

type reader struct {
	name, file string
	data       []byte
	env        phrase.Env
	from       *Expanded
	found      Findings
}

func (r *reader) failAt(start, end int, code, message, remedy string) {
	r.add(SevereError, start, end, code, message, remedy)
}

func (r *reader) fail(v value, code, message, remedy string) {
	r.failAt(v.start, v.end, code, message, remedy)
}

// add reports at a byte range; a range of nothing at 0 is the whole file.
func (r *reader) add(s Severity, start, end int, code, message, remedy string) {
	f := Finding{Gate: r.name, File: r.file, Severity: s, Code: code, Message: message, Remedy: remedy}
	switch {
	case end > 0 && r.from != nil:
		f.place(r.from.raw, r.from.original(start), r.from.original(end))
	case end > 0:
		f.place(r.data, start, end)
	}
	r.found = append(r.found, f)
}

func (r *reader) read(scope Scope) *Gate {
	g := Default(r.name)
	switch {
	case !ValidName(r.name):
		r.failAt(0, 0, "name", strconv.Quote(r.name)+" cannot be a gate's name", NameRule)
		return nil
	case len(r.data) > MaxSize:
		r.data = nil
		r.failAt(0, 0, "too-large", fmt.Sprintf("the file is larger than %d KiB", MaxSize>>10), "a gate file holds a few lines: is this another file?")
		return nil
	case !utf8.Valid(r.data):
		at := invalidAt(r.data)
		r.failAt(at, at+1, "syntax", "the text is not UTF-8 from here on", "save the file as UTF-8")
		return nil
	}
	doc, fault := parseDocument(r.data)
	if fault != nil {
		r.failAt(fault.start, max(fault.end, 1), "syntax", fault.message, "")
		return nil
	}
	seen := map[string]bool{}
	for _, f := range doc.fields {
		seen[f.key()] = true
		r.field(g, f)
	}
	for _, t := range doc.tables {
		r.table(t)
	}
	if !seen["run"] {
		r.failAt(0, 0, "run-empty", "the file does not say what to run", `add run = ["/opt/larkspur/bin/job-board"]`)
	}
	r.combinations(g, doc, scope)
	r.unwise(g, doc)
	g.spread(r.env.Host)
	return g
}

func invalidAt(data []byte) int {
	for i := 0; i < len(data); {
		c, n := utf8.DecodeRune(data[i:])
		if c == utf8.RuneError && n == 1 {
			return i
		}
		i += n
	}
	return len(data)
}

func (r *reader) field(g *Gate, f field) {
	name := f.key()
	k, known := FindKey(name)
	switch {
	case known:
		k.set(r, g, r.names(f.value))
	case strings.HasPrefix(name, "as.env.") && len(f.path) == 3:
		f.value = r.names(f.value)
		r.envField(g, f)
	case slices.Contains(tableNames, name) && f.value.kind == "table":
		// A table written inline: as = { user = "maren" }.
		for _, inner := range f.value.fields {
			inner.path = append(slices.Clone(f.path), inner.path...)
			r.field(g, inner)
		}
	default:
		r.unknown(f.keyStart, f.keyEnd, f.path)
	}
}

// unknown reports a key that does not exist, with the likely one.
func (r *reader) unknown(start, end int, path []string) {
	name := strings.Join(path, ".")
	last := path[len(path)-1]
	message := fmt.Sprintf("there is no key %q", name)
	remedy := "see \"timegate help\" and docs/gate-files.md for the keys"
	if near, ok := phrase.Nearest(name, keyNames()); ok {
		remedy = fmt.Sprintf("did you mean %q?", near)
	} else {
		for _, k := range keyNames() {
			if before, after, ok := strings.Cut(k, "."); ok && after == last {
				remedy = fmt.Sprintf("%q stands in the table [%s]", last, before)
			}
		}
	}
	r.failAt(start, end, "unknown-key", message, remedy)
}

func (r *reader) table(t table) {
	name := strings.Join(t.path, ".")
	if slices.Contains(tableNames, name) && r.data[t.start] == '[' && !strings.HasPrefix(string(r.data[t.start:]), "[[") {
		return
	}
	remedy := "the tables are " + strings.Join(tableNames, ", ")
	if near, ok := phrase.Nearest(name, tableNames); ok {
		remedy = fmt.Sprintf("did you mean [%s]?", near)
	}
	r.failAt(t.start, t.end, "unknown-key", fmt.Sprintf("there is no table %q", name), remedy)
}

// is checks a value's type.
func (r *reader) is(v value, kind string) bool {
	if v.kind == kind {
		return true
	}
	r.fail(v, "wrong-type", fmt.Sprintf("expected %s, not a %s", kindWanted[kind], v.kind), kindRemedy(v, kind))
	return false
}

var kindWanted = map[string]string{
	"text": "text in quotes", "number": "a whole number", "true or false": "true or false",
	"list": "a list in brackets", "table": "a table in braces",
}

func kindRemedy(v value, kind string) string {
	switch {
	case kind == "list" && v.kind == "text":
		return "write [" + quoteText(v.text) + "]"
	case kind == "true or false" && v.kind == "text" && (v.text == "true" || v.text == "false"):
		return "write " + v.text + " without quotes"
	case kind == "text" && (v.kind == "number" || v.kind == "true or false"):
		return "write " + quoteText(v.text)
	}
	return ""
}

func (r *reader) number(v value, most int) (int, bool) {
	if !r.is(v, "number") {
		return 0, false
	}
	n, err := strconv.ParseInt(strings.ReplaceAll(v.text, "_", ""), 0, 64)
	if err != nil || n < 0 || n > int64(most) {
		r.fail(v, "value", v.text+" is out of range", fmt.Sprintf("write 0 to %d", most))
		return 0, false
	}
	return int(n), true
}

func (r *reader) texts(v value) ([]string, bool) {
	if !r.is(v, "list") {
		return nil, false
	}
	list := []string{}
	for _, item := range v.items {
		if !r.is(item, "text") {
			return nil, false
		}
		if strings.ContainsRune(item.text, 0) {
			r.fail(item, "value", "the text has a zero byte in it", "take it out")
			return nil, false
		}
		list = append(list, item.text)
	}
	return list, true
}

func (r *reader) openings(g *Gate, v value) {
	if !r.is(v, "list") {
		return
	}
	named := map[string]bool{}
	for i, item := range v.items {
		o := Opening{Name: strconv.Itoa(i + 1), Enabled: true}
		when := item
		if item.kind == "table" {
			var ok bool
			if when, ok = r.openingTable(&o, item); !ok {
				continue
			}
		} else if !r.is(item, "text") {
			continue
		}
		if named[o.Name] {
			r.fail(item, "duplicate-name", fmt.Sprintf("two openings are named %q", o.Name), "give each a name of its own")
		}
		named[o.Name] = true
		if o.Plan = r.plan(when); o.Plan != nil {
			o.When = o.Plan.Phrase.String()
			g.Opens = append(g.Opens, o)
		}
	}
}

// openingTable reads { name = …, about = …, when = …, enabled = … }.
func (r *reader) openingTable(o *Opening, item value) (when value, ok bool) {
	before := len(r.found)
	for _, f := range item.fields {
		switch f.key() {
		case "name":
			if !r.is(f.value, "text") {
				continue
			}
			if !ValidName(f.value.text) || Numbered(f.value.text) {
				r.fail(f.value, "name", strconv.Quote(f.value.text)+" cannot be an opening's name", NameRule+"; at least one is a letter")
				continue
			}
			o.Name = f.value.text
		case "about":
			if r.is(f.value, "text") {
				o.About = f.value.text
			}
		case "when":
			when, ok = f.value, r.is(f.value, "text")
		case "enabled":
			if r.is(f.value, "true or false") {
				o.Enabled = f.value.text == "true"
			}
		default:
			remedy := `an opening has name, about, when and enabled`
			if near, ok := phrase.Nearest(f.key(), []string{"name", "about", "when", "enabled"}); ok {
				remedy = fmt.Sprintf("did you mean %q?", near)
			}
			r.failAt(f.keyStart, f.keyEnd, "unknown-key", fmt.Sprintf("there is no key %q in an opening", f.key()), remedy)
		}
	}
	if when.kind == "" && len(r.found) == before {
		r.fail(item, "phrase", `the opening does not say when`, `add when = "at 08:15 on weekdays"`)
	}
	return when, ok
}

// plan reads a phrase and makes it ready.
func (r *reader) plan(v value) *phrase.Plan {
	p, err := phrase.Parse(v.text)
	if err != nil {
		r.phraseFault(v, err)
		return nil
	}
	plan, err := p.Compile(r.env)
	if err != nil {
		r.phraseFault(v, err)
		return nil
	}
	for _, entry := range plan.Dead() {
		r.add(Warning, v.start, v.end, "dead-entry", fmt.Sprintf("%q in the phrase can never come", entry), "take it out, or change what goes with it")
	}
	if w := p.Warning(); w != "" {
		r.add(Warning, v.start, v.end, "phrase", w, "")
	}
	return plan
}

// phraseFault reports an error in a phrase at its place in the file.
func (r *reader) phraseFault(v value, err error) {
	pe, ok := err.(*phrase.Error)
	if !ok {
		r.fail(v, "phrase", err.Error(), "")
		return
	}
	start, end := v.start, v.end
	if v.plain && strings.Contains(string(r.data[v.start:v.end]), pe.Text) {
		start += strings.Index(string(r.data[v.start:v.end]), pe.Text) + pe.Pos
		end = start + max(1, pe.Len)
	}
	r.failAt(start, end, "phrase", pe.Problem, pe.Advice())
}

// combinations checks what is right by itself but not together.
func (r *reader) combinations(g *Gate, doc *document, scope Scope) {
	at := func(name, message, remedy string) {
		for _, f := range doc.fields {
			if f.key() == name {
				r.failAt(f.start, f.end, "combination", message, remedy)
				return
			}
		}
		r.failAt(0, 0, "combination", message, remedy)
	}
	switch {
	case g.As.Elevated && g.As.User != "":
		at("as.elevated", "a gate runs either elevated or as an account, not both", `keep one of "elevated" and "user"`)
	case g.As.Elevated && scope == User:
		at("as.elevated", "a gate of the user scope cannot have root's rights", "put it in the system scope: timegate --scope system add …")
	case scope == System && !g.As.Elevated && g.As.User == "":
		at("as.user", "in the system scope a gate says with which rights it runs", `add [as] and user = "maren" or elevated = true`)
	}
	if scope == System {
		// The keeper watches for all, and its own home is nobody's.
		const message, remedy = "in the system scope ~ is no one person's home here", "write the whole path"
		if slices.ContainsFunc(g.Needs.Paths, fromHome) {
			at("needs.paths", message, remedy)
		}
		for i := range g.Opens {
			if slices.ContainsFunc(g.Opens[i].Plan.Phrase.Event.Paths, fromHome) {
				at("opens", message, remedy)
			}
		}
	}
	if g.Needs.People == "nobody" && g.As.Desktop {
		at("needs.people", "a program on a desktop needs somebody logged on", `drop people = "nobody" or desktop = true`)
	}
	if g.As.Window == WindowTerminal && !g.As.Desktop {
		at("as.window", "a terminal is on a desktop, and the program is on none", `add desktop = true to [as]`)
	}
}

func fromHome(path string) bool { return strings.HasPrefix(path, "~") }
