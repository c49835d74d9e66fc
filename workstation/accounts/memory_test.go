//go:build linux

package accounts

import (
	"errors"
	"slices"
	"testing"
	"time"
)

// TestMemory: an answer is good for a minute; then it is asked anew, and where nothing
// answers the old one is given with its age. What was never answered is an error, and
// is not asked again at once.
func TestMemory(t *testing.T) {
	now := time.Unix(1e9, 0)
	var asked int
	var next told
	var err error
	m := memory{now: func() time.Time { return now }, asked: func(question) (told, error) { asked++; return next, err }}
	away := errors.New("away")
	ines := told{account: &Account{Name: "ines", UID: 7001}}
	q := question{accountNamed, "ines"}
	for i, step := range []struct {
		pass   time.Duration // since the step before
		answer told
		err    error
		asks   bool
		age    time.Duration
		want   told
		fails  bool
	}{
		{0, told{}, away, true, 0, told{}, true},
		{silentFor - 1, ines, nil, false, 0, told{}, true}, // it is there by now, and was asked just before
		{1, ines, nil, true, 0, ines, false},
		{goodFor - 1, told{}, away, false, 0, ines, false},
		{1, told{}, away, true, goodFor, ines, false},
		{silentFor - 1, told{}, nil, false, goodFor + silentFor - 1, ines, false},
		{time.Hour, told{}, away, true, time.Hour + goodFor + silentFor - 1, ines, false},
		{silentFor, told{}, nil, true, 0, told{}, false}, // it was taken away
		{unknownFor - 1, ines, nil, false, 0, told{}, false},
		{1, told{}, away, true, 0, told{}, true}, // nothing is remembered of it
		{silentFor, ines, nil, true, 0, ines, false},
		{-time.Hour, told{}, away, true, 1, ines, false}, // the clock was set back
	} {
		now, next, err = now.Add(step.pass), step.answer, step.err
		before := asked
		got, age, failed := m.ask(q)
		if got.account != step.want.account || age != step.age || (failed != nil) != step.fails || (asked > before) != step.asks {
			t.Errorf("step %d: %+v, age %v, %v, asked %v; want %+v", i+1, got, age, failed, asked > before, step)
		}
	}
}

// TestAnswers: what getent prints is read, and nothing else is taken for an answer.
func TestAnswers(t *testing.T) {
	for _, tt := range []struct {
		q      question
		line   string
		uid    int
		groups []uint32
		group  string
		fails  bool
	}{
		{question{accountNamed, "ines"}, "ines:*:7001:7001:Ines:/srv/ines:/bin/zsh", 7001, nil, "", false},
		{question{accountNumbered, "7001"}, "ines:*:7001:7001:Ines:/srv/ines:/bin/zsh", 7001, nil, "", false},
		{question{accountNamed, "7001"}, "ines:*:7001:7001:Ines:/srv/ines:/bin/zsh", 0, nil, "", false}, // by its number
		{question{accountNamed, "ines"}, "ines:*:-1:7001:Ines:/srv/ines:/bin/zsh", 0, nil, "", false},
		{question{accountNamed, "ines"}, "ines:*:4294967296:7001::/:/bin/zsh", 0, nil, "", false},
		{question{groupOf, "7010"}, "binders:*:7010:ines,maren", 0, nil, "binders", false},
		{question{groupOf, "7010"}, "binders:*:7011:", 0, nil, "", true},
		{question{groupOf, "7010"}, "", 0, nil, "", true},
		{question{groupsOfName, "ines"}, "ines                  7001 7010 7010 x", 0, []uint32{7001, 7010}, "", false},
		{question{groupsOfName, "ines"}, "ines", 0, []uint32{}, "", false},
	} {
		got, err := readSwitch(tt.q, tt.line)
		uid := 0
		if got.account != nil {
			uid = got.account.UID
		}
		if uid != tt.uid || got.group != tt.group || !slices.Equal(got.groups, tt.groups) || (err != nil) != tt.fails {
			t.Errorf("%q: %+v, %v", tt.line, got, err)
		}
	}
}
