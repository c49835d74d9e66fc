package cli

import (
	"os"
	"time"

	"timegate/core/gate"
	"timegate/home"
	"timegate/keeper"
	"timegate/tell"
)

// How a keeper tells: so long it waits for more before a message, and so long between two.
const (
	tellGather = 5 * time.Second
	tellPause  = time.Minute
)

// telling is how a keeper tells people of what is not well. On a staged machine it tells
// nobody.
func (a *app) telling(isStaged bool) *keeper.Telling {
	if isStaged {
		return nil
	}
	root := a.home.Scope == gate.System && os.Getuid() == 0
	return &keeper.Telling{Gather: tellGather, Pause: tellPause, Channels: func(s home.Tell) []tell.Channel {
		var out []tell.Channel
		if s.Desktop {
			out = append(out, &tell.Desktop{Root: root})
		}
		if s.Syslog {
			out = append(out, &tell.Syslog{Root: root, Now: time.Now})
		}
		out = append(out, &toldCommand{a, s.Command})
		if s.Mail != "" {
			out = append(out, &tell.Mail{To: s.Mail, Now: time.Now})
		}
		return out
	}}
}
