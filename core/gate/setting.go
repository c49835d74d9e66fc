package gate

import (
	"fmt"
	"strconv"
	"time"

	"timegate/core/phrase"
)

// Setting returns the value of a key by which decisions are made, as its file
// would say it, or "" for another key.
func (g *Gate) Setting(key string) string {
	switch key {
	case "as.desktop":
		return strconv.FormatBool(g.As.Desktop)
	case "needs.power":
		return strconv.Quote(g.Needs.Power)
	case "needs.people":
		return strconv.Quote(g.Needs.People)
	case "needs.paths":
		return "[" + quotedList(g.Needs.Paths) + "]"
	case "needs.online":
		return strconv.FormatBool(g.Needs.Online)
	case "needs.idle":
		return quotedSpan(g.Needs.Idle)
	case "needs.wait":
		return quotedSpan(g.Needs.Wait)
	case "needs.if_lost":
		return strconv.Quote(g.Needs.IfLost)
	case "limits.longest":
		return quotedSpan(g.Limits.Longest)
	case "limits.grace":
		return quotedSpan(g.Limits.Grace)
	case "again.times":
		return strconv.Itoa(g.Again.Times)
	case "rules.busy":
		return strconv.Quote(g.Rules.Busy)
	case "rules.missed":
		if g.Rules.Missed == MissedOnce {
			return fmt.Sprintf("%q, missed_within = %s", g.Rules.Missed, quotedSpan(g.Rules.MissedWithin))
		}
		return strconv.Quote(g.Rules.Missed)
	}
	return ""
}

func quotedSpan(d time.Duration) string { return strconv.Quote(phrase.FormatSpan(d)) }
