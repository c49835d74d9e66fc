package accounts

import (
	"bufio"
	"errors"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// The machine's own lists, and where it is said which others there are.
const (
	passwdFile = "/etc/passwd"
	groupFile  = "/etc/group"
	switchFile = "/etc/nsswitch.conf"
)

func byName(name string) (Account, error) { return find(question{accountNamed, name}) }
func byID(uid int) (Account, error)       { return find(question{accountNumbered, strconv.Itoa(uid)}) }

func find(q question) (Account, error) {
	key := q.key
	for f := range list(passwdFile, passwdFields) {
		if a, ok := accountIn(f, q); ok {
			a.local = true
			return a, nil
		}
	}
	if !asksOthers("passwd") || !plain(key) {
		return Account{}, &UnknownError{Key: key}
	}
	t, age, err := remembered.ask(q)
	switch {
	case err != nil:
		return Account{}, &SilentError{key, err}
	case t.account == nil:
		return Account{}, &UnknownError{Key: key}
	}
	a := *t.account
	a.Age = age
	return a, nil
}

// plain reports whether a text can be an account's name: it is a word of a command
// line and of a list, and nothing else.
func plain(name string) bool {
	return name != "" && name[0] != '-' && !strings.ContainsFunc(name, func(r rune) bool { return r < ' ' || r == ':' || r == 0x7f })
}

func groupName(gid int) (string, error) {
	key := strconv.Itoa(gid)
	for f := range list(groupFile, groupFields) {
		if f[2] == key {
			return f[0], nil
		}
	}
	if !asksOthers("group") {
		return "", &UnknownError{Group: true, Key: key}
	}
	t, _, err := remembered.ask(question{groupOf, key})
	switch {
	case err != nil:
		return "", &SilentError{key, err}
	case t.group == "":
		return "", &UnknownError{Group: true, Key: key}
	}
	return t.group, nil
}

func groupsOf(a Account) ([]uint32, error) {
	out := []uint32{uint32(a.GID)}
	for f := range list(groupFile, groupFields) {
		if slices.Contains(strings.Split(f[3], ","), a.Name) {
			out = appendNumber(out, f[2])
		}
	}
	if a.UID == 0 || !asksOthers("group", "initgroups") {
		return out, nil
	}
	t, _, err := remembered.ask(question{groupsOfName, a.Name})
	if err != nil && !a.local {
		return nil, &SilentError{a.Name, err}
	}
	// An account of the machine's own lists does its work also where the directory
	// is away: with the groups that the machine gives it.
	for _, gid := range t.groups {
		if !slices.Contains(out, gid) {
			out = append(out, gid)
		}
	}
	return out, nil
}

func appendNumber(out []uint32, text string) []uint32 {
	n, err := strconv.ParseUint(text, 10, 32)
	if err != nil || slices.Contains(out, uint32(n)) {
		return out
	}
	return append(out, uint32(n))
}

// How many fields a line has (passwd(5), group(5)).
const (
	passwdFields = 7
	groupFields  = 4
)

// accountIn reads the fields of a line of passwd(5), where it is the account that is
// asked for.
func accountIn(f []string, q question) (Account, bool) {
	if len(f) != passwdFields || q.what == accountNamed && f[0] != q.key || q.what == accountNumbered && f[2] != q.key {
		return Account{}, false
	}
	const bits = 32
	uid, err := strconv.ParseUint(f[2], 10, bits)
	gid, gidErr := strconv.ParseUint(f[3], 10, bits)
	return Account{Name: f[0], UID: int(uid), GID: int(gid), Folder: f[5], Shell: f[6]}, errors.Join(err, gidErr) == nil
}

// list returns the lines of a list that have a number of fields. Lines that begin
// with + or - stand for other lists (nsswitch.conf(5), "compat").
func list(path string, fields int) func(yield func([]string) bool) {
	return func(yield func([]string) bool) {
		f, err := os.Open(path)
		if err != nil {
			return
		}
		defer f.Close()
		for lines := bufio.NewScanner(f); lines.Scan(); {
			parts := strings.Split(lines.Text(), ":")
			if len(parts) != fields || parts[0] == "" || strings.ContainsAny(parts[0][:1], "+-#") {
				continue
			}
			if !yield(parts) {
				return
			}
		}
	}
}

// ownSources are those of the machine's own lists, which are read here.
var ownSources = []string{"files", "compat", "db"}

// asksOthers reports whether the machine is told to look for accounts or groups
// elsewhere than in its own lists (nsswitch.conf(5)).
func asksOthers(databases ...string) bool {
	f, err := os.Open(switchFile)
	if err != nil {
		return false
	}
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		line, _, _ := strings.Cut(lines.Text(), "#")
		name, sources, _ := strings.Cut(line, ":")
		if !slices.Contains(databases, strings.TrimSpace(name)) {
			continue
		}
		for _, s := range strings.Fields(sources) {
			if !strings.HasPrefix(s, "[") && !strings.HasSuffix(s, "]") && !slices.Contains(ownSources, s) {
				return true
			}
		}
	}
	return false
}

// What is asked.
const (
	accountNamed    = iota // the account of a name
	accountNumbered        // the account of a number
	groupOf                // the name of the group of a number
	groupsOfName           // the numbers of the groups of an account
)

type question struct {
	what int
	key  string
}

// told is an answer; it is empty where there is no such account or group.
type told struct {
	account *Account
	group   string
	groups  []uint32
}

func (t told) empty() bool { return t.account == nil && t.group == "" && t.groups == nil }

// How long an answer is good. That there is none is asked again sooner: an account
// may just have been made.
const (
	goodFor    = time.Minute
	unknownFor = 5 * time.Second
	silentFor  = 5 * time.Second
	mostKept   = 1000
)

// memory keeps what the directory service has answered.
type memory struct {
	mu    sync.Mutex
	kept  map[question]*kept
	asked func(question) (told, error)
	now   func() time.Time
}

// kept is one question's answers.
type kept struct {
	mu     sync.Mutex // held while it is asked: who asks the same waits for that
	told   told       // the last answer that there was one
	at     time.Time  // when it was given
	empty  time.Time  // when the answer was last that there is none
	silent time.Time  // when it was last without an answer
	err    error      // which was this
}

var remembered = memory{asked: askMachine, now: time.Now}

// ask returns an answer, and its age where it is an old one since there is no new one.
func (m *memory) ask(q question) (told, time.Duration, error) {
	m.mu.Lock()
	k := m.kept[q]
	if k == nil {
		if m.kept == nil || len(m.kept) >= mostKept {
			m.kept = map[question]*kept{}
		}
		k = &kept{}
		m.kept[q] = k
	}
	m.mu.Unlock()

	k.mu.Lock()
	defer k.mu.Unlock()
	now := m.now()
	within := func(at time.Time, span time.Duration) bool {
		return !at.IsZero() && now.Sub(at) < span && !now.Before(at)
	}
	switch {
	case within(k.at, goodFor):
		return k.told, 0, nil
	case within(k.empty, unknownFor):
		return told{}, 0, nil
	case within(k.silent, silentFor):
		return k.old(now)
	}
	t, err := m.asked(q)
	now = m.now()
	switch {
	case err != nil:
		k.silent, k.err = now, err
		return k.old(now)
	case t.empty():
		k.told, k.at, k.empty = told{}, time.Time{}, now
		return told{}, 0, nil
	}
	k.told, k.at, k.empty = t, now, time.Time{}
	return t, 0, nil
}

// old returns the last answer where there is no new one.
func (k *kept) old(now time.Time) (told, time.Duration, error) {
	if k.at.IsZero() {
		return told{}, 0, k.err
	}
	return k.told, max(now.Sub(k.at), 1), nil
}
