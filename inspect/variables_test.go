package inspect

import (
	"slices"
	"strings"
	"testing"
	"timegate/core/gate"
)

// TestVariables: with root's rights a variable is taken only if it is known to be harmless,
// or if the gate trusts it. Each of the others is an order to some program.
func TestVariables(t *testing.T) {
	t.Parallel()
	for line, want := range map[string]string{ // what is found with root's rights, and with another account's
		"LANG=en_GB.UTF-8": "", "LC_ALL=C": "", "LC_TIME=en_GB": "", "TZ=Europe/London": "", "TZ=UTC0": "", "TERM=dumb": "", "COLUMNS=80": "", "NO_COLOR=1": "", "LANGUAGE=en_GB:en": "",
		"PATH=/usr/bin:/bin": "", "HOME=/root": "", "TMPDIR=/usr": "",
		"PRESS_ROOM=2": "trusted-variable trusted-variable", "GIT_DIR=/usr": "trusted-variable trusted-variable",

		"ROOM=press": "unjudged-variable", "PRESSROOM=2": "unjudged-variable", "LANG=/home/maren/locale": "unjudged-variable", "TZ=/home/maren/tz": "unjudged-variable", "TZ=:/home/maren/tz": "unjudged-variable",
		"TZ=../../home/maren/tz": "unjudged-variable", "TERM=../x": "unjudged-variable", "LC_ALL=$(x)": "unjudged-variable", "lc_all=C": "unjudged-variable", "LC_=C": "unjudged-variable",
		"LOCPATH=/usr": "unjudged-variable", "TAR_OPTIONS=--to-command=./go": "unjudged-variable", "GIT_SSH_COMMAND=./go": "unjudged-variable", "GIT_EXTERNAL_DIFF=./go": "unjudged-variable", "PAGER=./go": "unjudged-variable",
		"EDITOR=/bin/sh -c ./go": "unjudged-variable", "SHELL=./go": "unjudged-variable", "RSYNC_RSH=./go": "unjudged-variable", "LESSOPEN=|./go": "unjudged-variable", "GREP=./go": "unjudged-variable", "GZIP=-k": "unjudged-variable",
		"IFS=/": "unjudged-variable", "PS4=$(./go)": "unjudged-variable", "PROMPT_COMMAND=./go": "unjudged-variable", "BASH_FUNC_ls%%=() { ./go; }": "unjudged-variable", "MANPAGER=./go": "unjudged-variable",
		"MAKEFLAGS=--eval=x": "unjudged-variable", "CC=./go": "unjudged-variable", "PERL_UNICODE=1": "unjudged-variable", "OPENSSL_CONF=/usr/x": "unjudged-variable", "APT_CONFIG=/usr/x": "unjudged-variable",
		"http_proxy=http://x": "unjudged-variable", "XDG_RUNTIME_DIR=/usr": "unjudged-variable", "DISPLAY=:7": "unjudged-variable", "DBUS_SESSION_BUS_ADDRESS=unix:path=/x": "unjudged-variable",

		"PATH=/usr/bin::/bin": "relative-program relative-program", "PATH=bin": "relative-program relative-program", "HOME=maren": "relative-program", "XDG_CONFIG_HOME=.": "relative-program",
		"LD_PRELOAD=/usr/x": "loader-environment loader-environment", "LD_AUDIT=/usr/x": "loader-environment loader-environment", "PYTHONSTARTUP=/usr/x": "loader-environment loader-environment",
		"BASH_ENV=/usr/x": "loader-environment loader-environment", "PERL5OPT=-Mx": "loader-environment loader-environment", "PERL5DB=x": "loader-environment loader-environment",
	} {
		name, value, _ := strings.Cut(line, "=")
		root, account, _ := strings.Cut(want, " ")
		for who, want := range map[int]string{0: root, 1000: account} {
			h := &hazards{trusted: []int{0, who}, root: who == 0, trust: []string{"$PRESS_*", "$GIT_DIR", "/srv"}, home: "/root"}
			h.variables(map[string]string{name: value})
			got := ""
			if len(h.found) > 0 {
				got = h.found[0].Code
			}
			if got != want {
				t.Errorf("%s for account %d: %q, want %q: %v", line, who, got, want, h.found)
			}
		}
	}
}

// TestTellTwice: the same words are told once, as severely as they were found.
func TestTellTwice(t *testing.T) {
	for _, c := range []struct {
		first, second gate.Severity
		want          []gate.Severity
	}{
		{gate.Warning, gate.SevereError, []gate.Severity{gate.Warning, gate.SevereError}},
		{gate.SevereError, gate.Warning, []gate.Severity{gate.SevereError}},
		{gate.Warning, gate.Warning, []gate.Severity{gate.Warning}},
	} {
		h := &hazards{}
		h.tell(gate.Finding{Severity: c.first, Message: "the script can be changed by maren"})
		h.tell(gate.Finding{Severity: c.second, Message: "the script can be changed by maren"})
		var got []gate.Severity
		for _, f := range h.found {
			got = append(got, f.Severity)
		}
		if !slices.Equal(got, c.want) {
			t.Errorf("%s, then %s: told %v, want %v", c.first, c.second, got, c.want)
		}
	}
}
