package spoken

import (
	"slices"
	"strings"
)

// said is how people name an event: alternatives of words, each of which may
// have several forms. The longest that fits counts.
type said struct {
	event string
	words []string
}

var events = []said{
	{"boot", []string{"boot", "boots", "booting", "startup", "start-up", "reboot", "reboots", "restart", "restarts", "power on", "powered on", "switched on", "turned on", "switch on", "turn on", "system start", "system starts", "computer starts", "computer starts up",
		"machine starts", "machine starts up", "pc starts", "pc starts up", "starts up", "start up", "computer boots", "machine boots", "pc boots", "machine has started", "computer has started", "system has started", "pc has started", "workstation starts", "workstation has started", "computer was started", "machine was started", "computer is on", "machine is on", "pc is on", "system boots", "system boots up", "boots up", "is turned on", "is switched on"}},
	{"shutdown", []string{"shutdown", "shut down", "shuts down", "shutting down", "switched off", "turned off", "power off", "powered off", "switch off", "turn off", "is switched off", "is turned off", "is powered off"}},
	{"logon", []string{"logon", "log on", "logs on", "logging on", "login", "log in", "logs in", "logging in", "sign in", "signs in", "sign on", "signs on", "signing in", "logged on", "logged in"}},
	{"logoff", []string{"logoff", "log off", "logs off", "logging off", "logout", "log out", "logs out", "logging out", "sign out", "signs out", "signing out", "logged off", "logged out"}},
	{"lock", []string{"lock", "locks", "locked", "screen lock", "screen locks", "screen locked", "screen is locked", "computer is locked"}},
	{"unlock", []string{"unlock", "unlocks", "unlocked", "unlocking", "screen unlock", "screen unlocks", "screen is unlocked", "computer is unlocked"}},
	{"sleep", []string{"sleep", "sleeps", "goes to sleep", "go to sleep", "going to sleep", "falls asleep", "suspend", "suspends", "is suspended", "lid closes", "lid is closed", "hibernates", "close the lid", "is put to sleep", "close the laptop", "close my laptop", "laptop closes", "laptop is closed", "close my lid"}},
	{"resume", []string{"resume", "resumes", "wake", "wakes", "wakes up", "wake up", "waking up", "waking", "wake-up", "wakeup", "back from sleep", "comes back from sleep", "returns from sleep", "lid opens", "lid is opened", "open the lid", "open the laptop", "open my laptop", "laptop opens", "laptop opened", "laptop is opened", "resume from sleep", "resumes from sleep", "wakes from sleep", "wake from sleep", "waking from sleep", "comes out of sleep"}},
	{"mains", []string{"mains", "on mains", "mains power", "plugged in", "plug in", "power is connected", "power connected", "charger is connected", "charger is plugged in", "power is plugged in", "starts charging", "charging", "on ac", "ac power", "mains power returns", "mains returns", "mains power is back", "power is back", "power returns", "power comes back", "power cable is plugged in", "power cord is plugged in", "power is restored", "plugging in", "starts to charge", "charger plugged in", "charger connected", "charger is in", "charger attached", "charger is attached", "power adapter connected", "power adapter is connected", "power adapter is plugged in", "have mains again", "mains is back", "mains are back"}},
	{"battery", []string{"battery", "on battery", "battery power", "unplugged", "unplug", "power is disconnected", "power disconnected", "charger is disconnected", "power is lost", "stops charging", "not plugged in", "switching to battery", "switches to battery", "running on battery", "runs on battery", "goes on battery", "goes to battery", "mains power is lost", "power cable is unplugged", "power fails", "power cable is pulled", "power goes out", "power is out", "power cut", "there is a power cut", "charger pulled", "charger pulled out", "charger is pulled", "charger is pulled out", "charger is unplugged", "charger unplugged", "charger is removed", "charger removed", "pull the charger", "pull out the charger", "power is pulled", "power cord is pulled", "power cable is pulled out", "unplugging", "power cord is unplugged", "cord is unplugged", "cable is unplugged", "mains goes off", "mains go off", "mains fails", "mains lost", "mains is lost", "power lost", "power adapter disconnected", "power adapter is disconnected", "power adapter is unplugged"}},
	{"online", []string{"online", "network is up", "network is there", "network comes up", "network connects", "internet is up", "internet is there", "connected to the network", "connected to the internet", "go online", "wi-fi is back", "wifi is back", "wifi connects", "wi-fi connects", "wifi is connected", "wifi is up", "network comes back", "network is back", "internet comes back", "internet is back", "there is internet", "there is a network", "internet is available", "network is available", "network is connected", "goes online", "comes online", "back online", "connected to wifi", "connected to wi-fi", "reconnected to wifi", "reconnected", "reconnects"}},
	{"offline", []string{"offline", "network is down", "network goes down", "network is gone", "internet is down", "connection is lost", "network is lost", "internet connection is lost", "network connection is lost", "wifi disconnects", "wi-fi disconnects", "wifi is lost", "internet goes down", "goes offline", "go offline", "internet lost", "network lost", "connection lost", "wifi lost"}},
	{"active", []string{"active", "active again", "is back", "comes back", "touches the keyboard", "touches the mouse"}},
}

// subjects are who or what an event happens to, which it says by itself.
var subjects = []string{"the", "a", "an", "i", "we", "my", "our", "laptop", "computer", "machine", "pc", "workstation", "system", "someone", "somebody", "anyone", "anybody", "user", "person", "it", "is", "gets", "has", "been", "goes", "screen", "you", "comes", "we're", "i'm", "user's", "just", "was"}

// leads are words that lead to an event.
var leads = []string{"when", "whenever", "once", "if", "as", "soon", "after", "at", "on", "upon", "every", "each", "time", "right", "immediately", "before", "just", "the", "a", "first", "my", "directly", "shortly"}

// takeEvent takes an event, with what leads to it. Behind a moment by the clock it
// is a condition, and no event.
func (r *reader) takeEvent() bool {
	begin, first := r.at, false
	for slices.Contains(leads, r.word(0)) {
		first = first || r.word(0) == "first"
		r.at++
	}
	before := slices.ContainsFunc(r.tokens[begin:r.at], func(t token) bool { return t.lower == "before" })
	event := r.event
	r.event = ""
	some := r.takeLine() || r.takeFiles() || r.takeLevel() || r.takeSignal() || r.takeMount() || r.takeGate() || r.takeIdle() || r.takeDevice() || r.takeNamed()
	switch {
	case !some:
		r.at, r.event = begin, event
		return false
	case event != "":
		r.stuck = true // two of them
	case r.clocked() && !(r.subDay() && len(r.times) == 0 && begins(r.event) && !r.joined(begin)) || len(r.dates) > 0:
		r.event = ""
		r.condition(begin)
		return true
	case before && (r.event != "shutdown" && r.event != "sleep" || begin > 0 && units[r.tokens[begin-1].lower] != ""):
		r.stuck = true // nobody knows beforehand, or a day before it
	}
	first = r.skip("for", "the", "first", "time") || first
	r.occurrence(first)
	return true
}

// begins reports whether an event is an instant from which on something may be
// done again and again, and not a state.
func begins(event string) bool {
	kind, _, _ := strings.Cut(event, " ")
	return slices.Contains([]string{"boot", "logon", "unlock", "resume", "mount", "device", "end", "failure"}, kind)
}

// occurrence reads which of the events of a day or week is meant.
func (r *reader) occurrence(first bool) {
	period := ""
	switch {
	case r.skip("of|in", "the|each|every|a", "day|week"), r.skip("of|each|every|a|per", "day|week"):
		period = r.word(-1)
	case first && r.skip("today"):
		r.stuck = true
	}
	switch {
	case first && period == "":
		r.first = "guess"
	case first:
		r.first = period
	case period != "":
		r.stuck = true // which of them?
	}
}

// ofPeople reports whether an event may be that of an account.
func ofPeople(event string) bool { return event == "logon" || event == "logoff" }

// takeNamed takes an event of the machine or its people.
func (r *reader) takeNamed() bool {
	begin := r.at
	account := ""
	for range 6 {
		if event := r.longest(); event != "" {
			if r.skip("of|by|for") {
				switch {
				case r.ahead("the", "each", "every", "a") && slices.Contains([]string{"day", "week"}, r.word(1)):
					r.at--
				case r.ahead("anyone", "anybody", "someone", "somebody"), r.ahead("the") && r.word(1) == "first":
					r.maybe("anyone", "anybody", "someone", "somebody")
				case ofPeople(event) && isLikelyName(r.word(0)):
					account = r.tokens[r.at].text
					r.at++
				default:
					r.at--
				}
			}
			if account != "" {
				if !ofPeople(event) { // the grammar has no such event
					r.stuck, r.unknown = true, append(r.unknown, account)
				}
				event += " of " + account
			}
			r.event = event
			r.skip("the|my|a", "screen|computer|laptop|machine|pc|workstation|desktop|system|charger|cable|session")
			r.skip("of|to|into|from", "the|my", "computer|laptop|machine|pc|workstation|system")
			r.maybe("again", "completely", "successfully", "power")
			return true
		}
		w := r.word(0)
		switch {
		case slices.Contains(subjects, w):
		case account == "" && isLikelyName(w) && r.eventFollows():
			account = r.tokens[r.at].text
		default:
			r.at = begin
			return false
		}
		r.at++
	}
	r.at = begin
	return false
}

// eventFollows reports whether the next word begins a logon or the like.
func (r *reader) eventFollows() bool {
	at := r.at
	defer func() { r.at = at }()
	r.at++
	r.maybe("has", "is", "gets")
	e := r.longest()
	return ofPeople(e) || e == "lock" || e == "unlock"
}

func isName(w string) bool {
	return w != "" && !turns(w) && !slices.Contains(fillers, w) && !slices.Contains(others, w) && dayOf(w) == "" && monthOf(w) == "" && strings.Trim(w, "abcdefghijklmnopqrstuvwxyz0123456789_-") == ""
}

// isLikelyName reports whether a word is a name, and no word of the vocabulary that was
// mistyped.
func isLikelyName(w string) bool { return isName(w) && likest(w) == "" }

// longest takes the longest name of an event that stands here.
func (r *reader) longest() string {
	best, length := "", 0
	for _, e := range events {
		for _, phrase := range e.words {
			words := strings.Fields(phrase)
			if len(words) <= length {
				continue
			}
			fits := true
			for i, w := range words {
				fits = fits && r.word(i) == w
			}
			if fits {
				best, length = e.event, len(words)
			}
		}
	}
	r.at += length
	return best
}
