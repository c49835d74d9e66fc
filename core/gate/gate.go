// Package gate is the model of a gate: one program or script, the moments at
// which it may start, and the rules for it. It reads the TOML form of a gate
// ([Read]), writes it ([Format]) and changes single values in place ([Edit]),
// keeping every comment and every other byte.
//
// The package sees text, never files: reading and replacing them is the
// caller's part.
package gate

import (
	"hash/fnv"
	"io"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode"

	"timegate/core/phrase"
)

// A Gate is the content of one gate file.
type Gate struct {
	Name    string    `json:"name"`
	About   string    `json:"about"`
	Run     []string  `json:"run"`    // program and arguments
	Folder  string    `json:"folder"` // working directory; "" for the account's home
	Opens   []Opening `json:"openings"`
	Enabled bool      `json:"enabled"`
	// Was lists the names that the gate had before; what is known of them is this
	// gate's.
	Was []string `json:"was,omitempty"`
	// Over lets a gate that is given to workstations take the place of one of its name that was
	// made there.
	Over bool `json:"over,omitempty"`
	// InsteadOf is the item of the machine's startup that the gate was made of, and that
	// is switched off for it.
	InsteadOf string   `json:"instead_of,omitempty"`
	Measure   []string `json:"measure,omitempty"` // what is measured before and after each run
	As        As       `json:"as"`
	Needs     Needs    `json:"needs"`
	Limits    Limits   `json:"limits"`
	Again     Again    `json:"again"`
	Rules     Rules    `json:"rules"`
	Only      Only     `json:"only"`
	Tell      Tell     `json:"tell"`
}

// Tell says what people are told of.
type Tell struct {
	Of      []string `json:"of"`                // kinds of notices ([timegate/core/tell]); ["usual"] is what the settings say
	Command []string `json:"command,omitempty"` // is started for each notice, as the gate's account
}

// TellUsual stands for what the settings say.
const TellUsual = "usual"

// TellKinds are what people can be told of.
var TellKinds = []string{"failed", "overran", "missed", "refused", "lost", "broken"}

// UnknownTell returns the first of some kinds that there is not, and false where there are
// all.
func UnknownTell(kinds []string) (i int, unknown bool) {
	i = slices.IndexFunc(kinds, func(k string) bool { return !slices.Contains(TellKinds, k) })
	return i, i >= 0
}

// An Opening is one of the moments at which a gate opens.
type Opening struct {
	Name    string       `json:"name"` // as given, or its position from 1
	About   string       `json:"about,omitempty"`
	When    string       `json:"phrase"` // canonical form
	Enabled bool         `json:"enabled"`
	Plan    *phrase.Plan `json:"-"`
}

// As says with which rights and in which surroundings the program runs.
type As struct {
	User     string            `json:"user"`
	Elevated bool              `json:"elevated"`
	Desktop  bool              `json:"desktop"`
	Window   string            `json:"window"`
	Priority string            `json:"priority"`
	Env      map[string]string `json:"env,omitempty"`
	// Trust are paths that others than root and the account may change, and that
	// are to be used nevertheless.
	Trust []string `json:"trust,omitempty"`
}

// Needs must hold for a gate to open.
type Needs struct {
	Power  string        `json:"power"`
	People string        `json:"people"`
	Paths  []string      `json:"paths,omitempty"`
	Online bool          `json:"online"`
	Idle   time.Duration `json:"-"`
	Wait   time.Duration `json:"-"`
	IfLost string        `json:"if_lost"`
}

// Limits bound a run.
type Limits struct {
	Longest time.Duration `json:"-"` // 0 for no limit
	Grace   time.Duration `json:"-"`
	Output  int64         `json:"output"` // bytes kept
	Success []int         `json:"success"`
	// Leftovers says what becomes of processes that a program leaves behind when
	// it ends by itself: "keep" or "end".
	Leftovers string `json:"leftovers"`
}

// EndsLeftovers reports whether what a program leaves behind is ended with it.
func (l *Limits) EndsLeftovers() bool { return l.Leftovers == "end" }

// Again says how often a failed run is tried again.
type Again struct {
	Times int           `json:"times"`
	Pause time.Duration `json:"-"`
}

// Rules decide about moments that cannot simply be kept.
type Rules struct {
	Busy         string        `json:"busy"`
	Missed       string        `json:"missed"`
	MissedWithin time.Duration `json:"-"`
	Wake         time.Duration `json:"-"`
	Spread       time.Duration `json:"-"`
	OwnChanges   string        `json:"own_changes"`
}

// Only restricts a gate to some hosts.
type Only struct {
	Hosts []string `json:"hosts,omitempty"`
}

// Values of As.Window: how the program's windows appear.
const (
	WindowOrdinary  = "ordinary"
	WindowMinimised = "minimised"
	WindowNone      = "none"
	WindowTerminal  = "terminal" // a console program gets a terminal emulator
)

// Values of Needs.IfLost: what becomes of a running program when a need stops holding.
const (
	LostCarryOn = "carry on"
	LostStop    = "stop"
	LostAgain   = "again" // stop, and start once more when its needs hold again
)

// Values of Rules.OwnChanges: what becomes of changes of files that come while the program
// runs, and which it may have made itself.
const (
	OwnSlow = "slow" // after some in a row they open the gate later and later
	OwnOpen = "open" // they open it as any other
)

// Values of Rules.Busy: what happens to a moment that comes while the program
// still runs.
const (
	BusySkip    = "skip"
	BusyQueue   = "queue"
	BusyReplace = "replace"
	BusyBeside  = "beside"
)

// MissedOnce is the value of Rules.Missed by which one start catches up for
// all moments that were missed.
const MissedOnce = "once"

// MissedSkip is the value by which they are skipped.
const MissedSkip = "skip"

// Account names the account that the program runs as, as the gate says it: ""
// is the keeper's own.
func (g *Gate) Account() string {
	if g.As.Elevated {
		return "root"
	}
	return g.As.User
}

// DaysFiles returns the files of days that the gate's openings read, as they are
// written.
func (g *Gate) DaysFiles() []string {
	var out []string
	for i := range g.Opens {
		if file := g.Opens[i].Plan.Phrase.ExceptFile; file != "" && !slices.Contains(out, file) {
			out = append(out, file)
		}
	}
	return out
}

// RunsOn reports whether the gate is for a host; elsewhere it is dormant.
func (g *Gate) RunsOn(host string) bool {
	for _, pattern := range g.Only.Hosts {
		if ok, err := path.Match(pattern, host); ok && err == nil {
			return true
		}
	}
	return len(g.Only.Hosts) == 0
}

// Active reports whether an opening is switched on, on a host.
func (g *Gate) Active(o *Opening, host string) bool { return g.Enabled && o.Enabled && g.RunsOn(host) }

// Origin is the gate's first name, which stays the same when it is renamed.
func (g *Gate) Origin() string {
	if len(g.Was) > 0 {
		return g.Was[0]
	}
	return g.Name
}

// spread moves the moments of the gate's openings by a share of its spread that
// is always the same for a host and a gate, whatever it is called, so that many machines with the
// same gate do not all begin at once.
func (g *Gate) spread(host string) {
	if g.Rules.Spread < time.Millisecond {
		return
	}
	h := fnv.New64a()
	io.WriteString(h, host+"/"+g.Origin())
	by := time.Duration(h.Sum64()%uint64(g.Rules.Spread.Milliseconds())) * time.Millisecond
	for i := range g.Opens {
		g.Opens[i].Plan = g.Opens[i].Plan.Spread(by.Truncate(time.Second))
	}
}

// Default returns a gate with the values that hold where a file says nothing.
func Default(name string) *Gate {
	return &Gate{
		Name:    name,
		Enabled: true,
		As:      As{Window: WindowOrdinary, Priority: "normal"},
		Needs:   Needs{Power: "any", People: "any", IfLost: LostCarryOn},
		Limits:  Limits{Grace: 10 * time.Second, Output: 1 << 20, Success: []int{0}, Leftovers: "keep"},
		Again:   Again{Pause: 90 * time.Second},
		Rules:   Rules{Busy: BusySkip, Missed: MissedSkip, MissedWithin: 12 * time.Hour, OwnChanges: OwnSlow},
		Tell:    Tell{Of: []string{TellUsual}},
	}
}

// The shapes of values; they are compiled when they are first needed.
var (
	envShape    = shape(`^[A-Za-z_][A-Za-z0-9_]*$`)
	powerShape  = shape(`^(any|mains|mains or ([1-9]|[1-9][0-9]|100)%)$`)
	personShape = shape(`^[A-Za-z_][A-Za-z0-9_.-]{0,31}$`)
)

func shape(pattern string) func(string) bool {
	re := sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(pattern) })
	return func(s string) bool { return re().MatchString(s) }
}

// ValidName reports whether a name can be a gate's.
func ValidName(name string) bool {
	return len(name) >= 1 && len(name) <= 63 && name[0] != '-' && strings.Trim(name, "abcdefghijklmnopqrstuvwxyz0123456789-") == ""
}

// Numbered reports whether a name is that of an opening without one: its position.
func Numbered(name string) bool { return strings.Trim(name, "0123456789") == "" }

// NameRule says which names [ValidName] accepts.
const NameRule = "a name has 1 to 63 of a-z, 0-9 and -, and begins with a letter or digit"

// NearName returns the valid name that is most like another: in small letters, with a dash
// for what cannot be; "" where nothing is left.
func NearName(name string) string {
	near := strings.Map(func(c rune) rune {
		if c = unicode.ToLower(c); c >= 'a' && c <= 'z' || c >= '0' && c <= '9' {
			return c
		}
		return '-'
	}, name)
	for strings.Contains(near, "--") {
		near = strings.ReplaceAll(near, "--", "-")
	}
	if near = strings.Trim(near, "-"); !ValidName(near) {
		return ""
	}
	return near
}

// Opening returns the opening of a name.
func (g *Gate) Opening(name string) (*Opening, bool) {
	for i := range g.Opens {
		if g.Opens[i].Name == name {
			return &g.Opens[i], true
		}
	}
	return nil, false
}

// Succeeds reports whether an exit status counts as success.
func (g *Gate) Succeeds(status int) bool {
	for _, s := range g.Limits.Success {
		if s == status {
			return true
		}
	}
	return false
}
