package launch

import (
	"strings"
	"testing"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/home"
)

func TestEnvironment(t *testing.T) {
	g := gate.Default("glue-warm")
	g.As.Env = map[string]string{"LANG": "en_GB.UTF-8", "ROOM": "press"}
	d := &engine.Decision{Opening: "1", Run: 7, Reason: engine.Reason{Code: engine.CodeDue, Args: engine.Args{Phrase: "boot"}}, Due: calendar.InstantOf(time.Date(2026, 11, 30, 5, 59, 0, 0, time.UTC))}
	env := strings.Join(environment(account{name: "maren", home: "/home/maren", shell: "/bin/bash", uid: 1000, vars: map[string]string{"PATH": "/usr/local/bin:/usr/bin:/bin", "LANG": "C.UTF-8"}}, g, d), "\n")
	want := "HOME=/home/maren\nLANG=en_GB.UTF-8\nLOGNAME=maren\nPATH=/usr/local/bin:/usr/bin:/bin\nROOM=press\nSHELL=/bin/bash\n" +
		"TIMEGATE_DUE=2026-11-30T05:59:00Z\nTIMEGATE_GATE=glue-warm\nTIMEGATE_OPENING=1\nTIMEGATE_REASON=due: boot\nTIMEGATE_RUN=7\nUSER=maren"
	if env != want {
		t.Errorf("environment:\n%s\nwant:\n%s", env, want)
	}
}

func TestAccounts(t *testing.T) {
	for _, tt := range []struct {
		scope gate.Scope
		as    gate.As
		want  string
	}{
		{gate.User, gate.As{}, ""}, {gate.User, gate.As{User: self().name}, ""},
		{gate.User, gate.As{User: "maren-who-is-not-there"}, "only root's keeper of the system scope"},
	} {
		g := gate.Default("x")
		g.As = tt.as
		_, err := (&Launcher{Home: home.Home{Scope: tt.scope}}).accountOf(g)
		if (err == nil) != (tt.want == "") || err != nil && !strings.Contains(err.Error(), tt.want) {
			t.Errorf("account of %+v: %v, want %q", tt.as, err, tt.want)
		}
	}
}
