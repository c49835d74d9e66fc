package home

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"

	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/core/tell"
)

// Settings returns the path of the keeper's settings.
func (h Home) Settings() string { return filepath.Join(filepath.Dir(h.Gates), "settings.toml") }

// Settings are what a keeper is told in a file.
type Settings struct {
	Pace engine.Pace
	// Outputs is how long what programs have printed is kept; 0 for ever.
	Outputs time.Duration
	// History is how long the history is kept, and HistorySize how large it
	// may be in bytes; 0 for ever and for any size.
	History     time.Duration
	HistorySize int64
	// OutputsSize is how much may be kept in all of what programs print, and of
	// one account's; 0 for no bound. In bytes.
	OutputsSize, OutputsEach int64
	// StartUnrecorded says that programs start also while the journal cannot be
	// written.
	StartUnrecorded bool
	// TellStartup says that the keeper tells when something new starts on the machine.
	TellStartup bool
	// Tell is what people are told of, and how.
	Tell Tell
	// Scope is that of the home, where it is not said with every command; "" is
	// not said.
	Scope gate.Scope
}

// Tell is what people are told of, and how.
type Tell struct {
	Of      []string // kinds of [gate.TellKinds]
	Desktop bool     // by notifications to those who are logged on to one
	Syslog  bool     // in the machine's log
	Mail    string   // to this address; "" for no mail
	Command []string // is started for each message, with the keeper's rights; nil for none
}

// DefaultSettings hold where the file says nothing: programs start four at a
// time when the machine has booted or somebody logs on.
var DefaultSettings = Settings{
	Pace:    engine.Pace{AtOnce: 4, Room: time.Second, Longest: time.Minute},
	Outputs: 90 * 24 * time.Hour,
	History: year,

	OutputsSize: 1 << 30,
	OutputsEach: 256 << 20,

	Tell: Tell{Of: tell.Usual, Desktop: true},
}

// year is the span that "1y" stands for.
const year = 365 * 24 * time.Hour

// age reads how long something is kept: a span, or years.
func age(text string) (time.Duration, error) {
	if n, ok := strings.CutSuffix(text, "y"); ok {
		if years, err := strconv.Atoi(n); err == nil && years > 0 && years <= 100 {
			return time.Duration(years) * year, nil
		}
	}
	span, err := phrase.ParseSpan(text)
	if err != nil {
		return 0, fmt.Errorf("%w; or y, as in 1y", err)
	}
	return span, nil
}

// SettingsError reports what is wrong in the settings, and where.
type SettingsError struct {
	File         string
	Line, Column int
	Problem      string
}

func (e *SettingsError) Error() string {
	if e.Line == 0 {
		return e.File + ": " + e.Problem
	}
	return fmt.Sprintf("%s:%d:%d: %s", e.File, e.Line, e.Column, e.Problem)
}

type settingsFile struct {
	Scope *string `toml:"scope"`
	Pace  struct {
		AtOnce  *int    `toml:"at_once"`
		Room    *string `toml:"room"`
		Calm    *string `toml:"calm"`
		Longest *string `toml:"longest"`
	} `toml:"pace"`
	Startup struct {
		Tell *bool `toml:"tell"`
	} `toml:"startup"`
	Tell struct {
		Of      []string `toml:"of"`
		Desktop *bool    `toml:"desktop"`
		Syslog  *bool    `toml:"syslog"`
		Mail    *string  `toml:"mail"`
		Command []string `toml:"command"`
	} `toml:"tell"`
	Keep struct {
		Outputs     *string `toml:"outputs"`
		History     *string `toml:"history"`
		HistorySize *string `toml:"history_size"`
		OutputsSize *string `toml:"outputs_size"`
		OutputsEach *string `toml:"outputs_each"`

		WithoutJournal *string `toml:"without_journal"`
	} `toml:"keep"`
}

// ReadSettings reads the keeper's settings. A file that is not there says
// nothing. Its error is a [*SettingsError].
func ReadSettings(path string) (Settings, error) {
	s := DefaultSettings
	data, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return s, nil
	}
	if err != nil {
		return s, &SettingsError{File: path, Problem: "it cannot be read: " + err.Error()}
	}
	var f settingsFile
	if err := toml.NewDecoder(bytes.NewReader(data)).DisallowUnknownFields().Decode(&f); err != nil {
		return s, settingsFault(path, err)
	}
	fault := func(key, problem string) error {
		line, column := find(data, key)
		return &SettingsError{File: path, Line: line, Column: column, Problem: problem}
	}
	if f.Scope != nil {
		if s.Scope = gate.Scope(*f.Scope); s.Scope != gate.System && s.Scope != gate.User {
			return DefaultSettings, fault("scope", `scope is "system" or "user"`)
		}
	}
	s.TellStartup = f.Startup.Tell != nil && *f.Startup.Tell
	if i, unknown := gate.UnknownTell(f.Tell.Of); unknown {
		return DefaultSettings, fault("of", fmt.Sprintf("%q is nothing that people are told of; there are %s", f.Tell.Of[i], strings.Join(gate.TellKinds, ", ")))
	}
	if f.Tell.Of != nil {
		s.Tell.Of = f.Tell.Of
	}
	for _, truth := range []struct{ from, to *bool }{{f.Tell.Desktop, &s.Tell.Desktop}, {f.Tell.Syslog, &s.Tell.Syslog}} {
		if truth.from != nil {
			*truth.to = *truth.from
		}
	}
	if m := f.Tell.Mail; m != nil {
		if s.Tell.Mail = *m; *m != "" && !tell.ValidAddress(*m) {
			return DefaultSettings, fault("mail", fmt.Sprintf("mail cannot be sent to %q; write one address, such as \"maren@example.org\"", *m))
		}
	}
	if s.Tell.Command = f.Tell.Command; len(s.Tell.Command) > 0 && !filepath.IsAbs(s.Tell.Command[0]) {
		return DefaultSettings, fault("command", fmt.Sprintf("%q is not a whole path", s.Tell.Command[0]))
	}
	p := f.Pace
	if p.AtOnce != nil {
		if *p.AtOnce < 0 || *p.AtOnce > 1000 {
			return s, fault("at_once", "at_once is 0 (no limit) to 1000")
		}
		s.Pace.AtOnce = *p.AtOnce
	}
	for _, span := range []struct {
		key  string
		text *string
		to   *time.Duration
	}{{"room", p.Room, &s.Pace.Room}, {"longest", p.Longest, &s.Pace.Longest}, {"outputs", f.Keep.Outputs, &s.Outputs}, {"history", f.Keep.History, &s.History}} {
		if span.text == nil {
			continue
		}
		if *span.to, err = age(*span.text); err != nil {
			return DefaultSettings, fault(span.key, span.key+": "+err.Error())
		}
	}
	for _, size := range []struct {
		key  string
		text *string
		to   *int64
	}{{"history_size", f.Keep.HistorySize, &s.HistorySize}, {"outputs_size", f.Keep.OutputsSize, &s.OutputsSize}, {"outputs_each", f.Keep.OutputsEach, &s.OutputsEach}} {
		if size.text == nil {
			continue
		}
		amount, ok := phrase.ParseAmount(*size.text)
		if !ok || amount.Percent > 0 {
			return DefaultSettings, fault(size.key, size.key+` is an amount, such as "500MiB"`)
		}
		*size.to = amount.Bytes
	}
	if w := f.Keep.WithoutJournal; w != nil {
		if s.StartUnrecorded = *w == "start"; !s.StartUnrecorded && *w != "wait" {
			return DefaultSettings, fault("without_journal", `without_journal is "wait" (nothing starts that cannot be recorded) or "start"`)
		}
	}
	if p.Calm != nil {
		n, err := strconv.Atoi(strings.TrimSuffix(*p.Calm, "%"))
		if err != nil || !strings.HasSuffix(*p.Calm, "%") || n < 1 || n > 100 {
			return DefaultSettings, fault("calm", `calm is a share of time, such as "40%"`)
		}
		s.Pace.Calm = n
	}
	return s, nil
}

// settingsFault words an error of the TOML package.
func settingsFault(path string, err error) error {
	e := &SettingsError{File: path, Problem: err.Error()}
	var strict *toml.StrictMissingError
	var decode *toml.DecodeError
	switch {
	case errors.As(err, &strict) && len(strict.Errors) > 0:
		decode = &strict.Errors[0]
		e.Line, e.Column = decode.Position()
		e.Problem = fmt.Sprintf("there is no key %q; there is scope, [pace] has at_once, room, calm and longest, [startup] has tell, [tell] has of, desktop, syslog, mail and command, [keep] has outputs, outputs_size, outputs_each, history, history_size and without_journal", strings.Join(decode.Key(), "."))
	case errors.As(err, &decode):
		e.Line, e.Column = decode.Position()
		e.Problem = strings.TrimPrefix(decode.Error(), "toml: ")
		if key := decode.Key(); len(key) > 0 {
			e.Problem = fmt.Sprintf("the value of %q is of the wrong type", strings.Join(key, "."))
		}
	}
	return e
}

// find returns where a key stands.
func find(data []byte, key string) (line, column int) {
	for i, text := range strings.Split(string(data), "\n") {
		if at := strings.Index(text, key); at >= 0 {
			return i + 1, at + 1
		}
	}
	return 0, 0
}

// Remember writes into the settings of a home in one folder which scope it has, so
// that commands need not say it.
func (h Home) Remember() error {
	path := h.Settings()
	s, err := ReadSettings(path)
	if err != nil || s.Scope == h.Scope {
		return err
	}
	if s.Scope != "" {
		return &Error{Path: path, Reason: fmt.Sprintf("this home is of the %s scope", s.Scope), Remedy: "leave out --scope, or choose another home with --home"}
	}
	data, err := os.ReadFile(path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return Wrap(path, err)
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return Wrap(path, err)
	}
	line := fmt.Sprintf("scope = %q  # of the gates in this folder\n", h.Scope)
	if err := Replace(path, append([]byte(line), data...), 0o644); err != nil {
		return Wrap(path, err)
	}
	return nil
}
