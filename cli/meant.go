package cli

import (
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"timegate/core/gate"
)

// meantCommands are what people call commands, and how they are called here.
var meantCommands = map[string]string{
	"run": "open NAME (starts it now), or keeper run", "start": "open NAME", "trigger": "open NAME", "kill": "stop NAME", "end": "stop NAME",
	"cancel": "stop NAME (ends its program), disable NAME (it does not start any more), or pause (nothing does)",
	"delete": "remove NAME", "rm": "remove NAME", "del": "remove NAME", "new": "add NAME --open PHRASE -- PROGRAM", "create": "add NAME --open PHRASE -- PROGRAM",
	"set": "change NAME --set KEY=VALUE", "modify": "change NAME", "update": "change NAME",
	"status": "keeper status", "daemon": "keeper run", "logs": "history, or output RUN", "log": "history, or output RUN", "ls": "list", "info": "show NAME", "describe": "show NAME", "cat": "show NAME",
	"next": "preview NAME", "upcoming": "preview NAME", "test": "try NAME", "lint": "check", "verify": "check", "validate": "check", "explain": "why NAME",
	"on": "enable NAME", "off": "disable NAME", "calendar": "week", "install": "keeper install", "uninstall": "keeper uninstall", "signal": "send SIGNAL",
	"keeper start": "keeper run (in this terminal), or keeper install (at each logon or boot from now on)", "keeper end": "keeper stop", "keeper kill": "keeper stop",
	"keeper reload": "keeper restart (gates are read by themselves)", "keeper log": "keeper status", "keeper enable": "keeper install", "keeper disable": "keeper uninstall",
}

// meantOptions are what people call options, and what is to be written for them: by the
// command (change has those of add), then by the option. What was typed stands in the place of VALUE.
var meantOptions = map[string]map[string]string{
	"add": {
		"time": `--open "at VALUE"`, "at": `--open "at VALUE"`, "daily": `--open "at 08:15"`, "every": `--open "every VALUE"`, "interval": `--open "every VALUE"`, "hourly": `--open "every 1h"`,
		"weekly": `--open "at 08:15 on mon"`, "monthly": `--open "at 08:15 on day 1"`, "when": `--open "VALUE"`, "on": `--open "VALUE"`, "event": `--open "VALUE"`, "trigger": `--open "VALUE"`, "phrase": `--open "VALUE"`,
		"boot": `--open boot`, "logon": `--open logon`, "login": `--open logon`, "startup": `--open boot`, "delay": `--open "logon + VALUE", or after another event`, "wait": `--set needs.wait=VALUE`,
		"command": `-- VALUE`, "cmd": `-- VALUE`, "exec": `-- VALUE`, "run": `-- VALUE`, "script": `-- VALUE`, "arguments": `--args -- VALUE`,
		"description": `--about "VALUE"`, "comment": `--about "VALUE"`, "name": "VALUE after add, without an option", "dir": `--folder VALUE`, "cwd": `--folder VALUE`, "workdir": `--folder VALUE`,
		"timeout": `--longest VALUE`, "max": `--longest VALUE`, "retries": `--set again.times=VALUE`, "retry": `--set again.times=VALUE`, "env": `--set as.env.NAME=VALUE`,
		"hidden": `--set as.window=none`, "hide": `--set as.window=none`, "minimised": `--set as.window=minimised`, "minimized": `--set as.window=minimised`, "desktop": `--set as.desktop=true`, "window": `--set as.window=VALUE`,
		"admin": `--elevated`, "root": `--elevated`, "as": `--user VALUE`, "account": `--user VALUE`, "power": `--set needs.power=VALUE`, "mains": `--set needs.power=mains`, "ac": `--set needs.power=mains`,
		"wake": `--set rules.wake=5m`, "missed": `--set rules.missed=VALUE`, "disabled": `--off`, "priority": `--set as.priority=VALUE`, "idle": `--set needs.idle=VALUE`, "online": `--set needs.online=true`,
	},
	"history":        {"last": `--count VALUE`, "limit": `--count VALUE`, "lines": `--count VALUE`, "tail": `--count VALUE`, "failed": `--result failed`, "errors": `--result failed`, "gate": "VALUE, without an option", "from": `--since VALUE`, "to": `--until VALUE`},
	"list":           {"running": `--state running`, "off": `--state off`, "disabled": `--state off`, "on": `--state on`, "enabled": `--state on`, "broken": `--state broken`, "failed": `--result failed`, "all": "list, without an option: it lists all", "waiting": `--state waiting`, "paused": `--state paused`},
	"pause":          {"time": `--until VALUE`, "hours": `--for VALUEh`, "minutes": `--for VALUEm`, "to": `--until VALUE`},
	"remove":         {"force": `--yes`, "f": `--yes`},
	"undo":           {"force": `--yes`},
	"keeper install": {"system": `timegate --scope system keeper install`, "boot": `timegate --scope system keeper install`},
}

// meantOption says what is to be written for an option that there is not, with what was
// typed with it; "" where that is not known.
func meantOption(c *cli.Command, name string) string {
	command := commandPath(c)
	if command == "change" {
		command = "add"
	}
	meant := meantOptions[command][name]
	return strings.ReplaceAll(meant, "VALUE", valueTyped(os.Args[1:], name, meant))
}

// valueTyped returns what was typed after an option.
func valueTyped(args []string, name, meant string) string {
	for i, arg := range args {
		option, value, joined := strings.Cut(strings.TrimLeft(arg, "-"), "=")
		switch {
		case !strings.HasPrefix(arg, "-") || option != name:
			continue
		case joined:
			return quotedFor(meant, value)
		case i+1 < len(args) && !strings.HasPrefix(args[i+1], "-"):
			return quotedFor(meant, args[i+1])
		}
		break
	}
	return "…"
}

// quotedFor quotes a value for a shell, where it does not stand in quotes already.
func quotedFor(meant, value string) string {
	if strings.Contains(meant, `"`) {
		return strings.ReplaceAll(value, `"`, `\"`)
	}
	return gate.CommandLine(value)
}

// meantCommand says how a command is called that there is not.
func meantCommand(c *cli.Command, name string) string {
	meant := meantCommands[strings.TrimSpace(commandPath(c)+" "+name)]
	if given := c.Args().Get(1); gate.ValidName(given) {
		meant = strings.ReplaceAll(meant, "NAME", given)
	}
	return meant
}

// oneWord says of a program that is not there, and whose name has blanks, that it is
// written as several words; "" where that is not what is wrong.
func oneWord(argv []string) string {
	words := strings.Fields(argv[0])
	if len(argv) != 1 || len(words) < 2 {
		return ""
	}
	if _, err := lineScript(argv[0]); err == nil && strings.ContainsAny(argv[0], "|&;<>$`") {
		return "no shell reads a command; for a line that a shell is to read: --line " + gate.CommandLine(argv[0])
	}
	return fmt.Sprintf("each argument is a word of its own: -- %s", gate.CommandLine(words...))
}

func (a *app) versionCommand() *cli.Command {
	return &cli.Command{
		Name: "version", Category: otherCommands, Usage: "the version of this program", Description: examples(`timegate version`, `timegate version --json`),
		Action: func(_ context.Context, c *cli.Command) error {
			if err := noArguments(c); err != nil {
				return err
			}
			if a.json {
				return a.out.printJSON(map[string]string{"version": version})
			}
			fmt.Fprintln(a.out, "timegate "+version)
			return nil
		},
	}
}
