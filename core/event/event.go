// Package event is the table of what can be let happen: on a staged machine, and in the file
// of a rehearsed day. A further event has its entry here, with what it takes; what it does is
// said where it happens.
package event

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"timegate/core/phrase"
)

// Verb is a word for something that can happen.
type Verb struct {
	Word      string
	Arguments string // as help shows them, "" for none; in brackets where it can be left out
	Help      string
	check     []func(arg string) (problem, remedy string) // of the arguments, in their order
	Staged    bool                                        // on a staged machine
	Played    bool                                        // in a day file
}

// Verbs are all that can be let happen, in the order in which help lists them.
var Verbs = []Verb{
	{Word: "boot", Help: "the machine has booted; nobody is logged on", Staged: true, Played: true},
	{Word: "shutdown", Help: "the machine is about to shut down", Staged: true, Played: true},
	{Word: "logon", Arguments: "[NAME]", Help: "an account logs on, by default your own", Staged: true},
	{Word: "logon", Arguments: "NAME", Help: "an account logs on", Played: true},
	{Word: "logoff", Arguments: "NAME", Help: "an account logs off", Staged: true, Played: true},
	{Word: "lock", Arguments: "[NAME]", Help: "the session is locked", Staged: true, Played: true},
	{Word: "unlock", Arguments: "[NAME]", Help: "the session is unlocked", Staged: true, Played: true},
	{Word: "sleep", Help: "the machine sleeps, until it resumes or an alarm wakes it", Staged: true, Played: true},
	{Word: "resume", Help: "the machine wakes up", Staged: true, Played: true},
	{Word: "mains", Help: "the machine is plugged in", Staged: true, Played: true},
	{Word: "battery", Arguments: "[N%]", check: checks(charge), Help: "it runs on its battery, with this charge", Staged: true, Played: true},
	{Word: "online", Help: "there is a default route", Staged: true, Played: true},
	{Word: "offline", Help: "there is none", Staged: true, Played: true},
	{Word: "idle", Arguments: "SPAN", check: checks(span), Help: "nobody has touched the machine for this long", Staged: true},
	{Word: "idle", Arguments: "[SPAN]", check: checks(span), Help: "nobody has touched the machine for this long, or from now on", Played: true},
	{Word: "active", Help: "somebody touches it", Staged: true, Played: true},
	{Word: "mount", Arguments: "PATH", check: checks(whole), Help: "something is mounted there", Staged: true, Played: true},
	{Word: "unmount", Arguments: "PATH", check: checks(whole), Help: "something mounted there is taken away", Staged: true, Played: true},
	{Word: "device", Arguments: "NAME", Help: "a device turns up", Staged: true, Played: true},
	{Word: "change", Arguments: "PATH", check: checks(whole), Help: "a file changes", Played: true},
	{Word: "memory", Arguments: "AMOUNT", check: checks(amount), Help: "so much memory is free", Staged: true, Played: true},
	{Word: "disk", Arguments: "PATH AMOUNT", check: checks(whole, amount), Help: "so much of the disk at the path is free", Staged: true, Played: true},
	{Word: "signal", Arguments: "NAME", Help: "the signal is sent", Played: true},
	{Word: "open", Arguments: "GATE", Help: "the gate is opened by hand", Played: true},
	{Word: "stop", Arguments: "GATE", Help: "its program is stopped", Played: true},
	{Word: "pause", Help: "all gates are paused", Played: true},
	{Word: "continue", Help: "the pause ends", Played: true},
	{Word: "clock", Arguments: "+SPAN|-SPAN|TIME", Help: "the clock is set forward or back, to the next such time of day, or to a date (2026-12-01 18:30); while the machine sleeps, the time passes", Staged: true},
}

func checks(list ...func(string) (string, string)) []func(string) (string, string) { return list }

// Staged returns what can happen on a staged machine.
func Staged() []Verb { return of(func(v Verb) bool { return v.Staged }) }

// Played returns what can happen in a day file.
func Played() []Verb { return of(func(v Verb) bool { return v.Played }) }

func of(chosen func(Verb) bool) []Verb {
	return slices.DeleteFunc(slices.Clone(Verbs), func(v Verb) bool { return !chosen(v) })
}

// Usage is the word with its arguments.
func (v *Verb) Usage() string { return strings.TrimSpace(v.Word + " " + v.Arguments) }

// Find returns the verb among some that words begin with, and says what is wrong with them
// and what to do; no problem is "".
func Find(among []Verb, words []string) (found Verb, problem, remedy string) {
	var known []string
	for _, v := range among {
		known = append(known, v.Word)
		if v.Word == strings.ToLower(words[0]) {
			problem, remedy = v.wrong(words[1:])
			return v, problem, remedy
		}
	}
	remedy = "one of " + strings.Join(known, ", ")
	if near, ok := phrase.Nearest(strings.ToLower(words[0]), known); ok {
		remedy = fmt.Sprintf("did you mean %q?", near)
	}
	return Verb{}, fmt.Sprintf("%q is nothing that can happen here", words[0]), remedy
}

// wrong says what is wrong with arguments.
func (v *Verb) wrong(args []string) (problem, remedy string) {
	if most := len(strings.Fields(v.Arguments)); len(args) > most || len(args) < most && !strings.HasPrefix(v.Arguments, "[") {
		return fmt.Sprintf("%q takes %s", v.Word, cmp.Or(v.Arguments, "no argument")), "write " + v.Usage()
	}
	for i, check := range v.check {
		if i < len(args) {
			if problem, remedy = check(args[i]); problem != "" {
				return problem, remedy
			}
		}
	}
	return "", ""
}

// Charge reads a charge in percent, with or without the sign; 1 to 100.
func Charge(arg string) (percent int, ok bool) {
	n, err := strconv.Atoi(strings.TrimSuffix(arg, "%"))
	return n, err == nil && n >= 1 && n <= 100
}

func charge(arg string) (problem, remedy string) {
	if _, ok := Charge(arg); !ok {
		return fmt.Sprintf("%q is no charge", arg), "write for instance 70%"
	}
	return "", ""
}

func span(arg string) (problem, remedy string) {
	if _, err := phrase.ParseSpan(arg); err != nil {
		return err.Error(), "write for instance 10m"
	}
	return "", ""
}

func amount(arg string) (problem, remedy string) {
	if _, ok := phrase.ParseAmount(arg); !ok {
		return fmt.Sprintf("%q is no amount", arg), "write for instance 300MiB or 5%"
	}
	return "", ""
}

func whole(arg string) (problem, remedy string) {
	if !path.IsAbs(arg) && !strings.HasPrefix(arg, "~/") {
		return fmt.Sprintf("%q is no whole path", arg), "write for instance /media/vault"
	}
	return "", ""
}
