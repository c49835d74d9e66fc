// Package inspect finds what is wrong or unwise about a gate beyond its text:
// its target, and its moments.
package inspect

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"timegate/core/calendar"
	"timegate/core/gate"
	"timegate/workstation/accounts"
	"timegate/workstation/rights"
)

// Target finds out whether what an order would start can be started. path is
// the program's whole path, folder its working folder, who runs it.
func Target(path, folder string, who Who) []gate.Finding {
	var out []gate.Finding
	add := func(code, message, remedy string) {
		out = append(out, gate.Finding{Severity: gate.SevereError, Code: code, Message: message, Remedy: remedy})
	}
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist) && isLink(path):
		add("target-missing", fmt.Sprintf("the program %s is a link that leads nowhere", path), "mend the link, or change \"run\"")
	case errors.Is(err, fs.ErrNotExist):
		add("target-missing", fmt.Sprintf("the program %s does not exist", path), "check the path in \"run\"")
	case err != nil:
		add("target-missing", fmt.Sprintf("the program %s cannot be reached: %v", path, cause(err)), "check the folders above it")
	case info.IsDir():
		add("target-not-executable", fmt.Sprintf("the program %s is a folder", path), "name the program in it")
	case !info.Mode().IsRegular():
		add("target-not-executable", fmt.Sprintf("the program %s is no plain file", path), "check the path in \"run\"")
	case info.Mode()&0o111 == 0:
		add("target-not-executable", fmt.Sprintf("the program %s is not marked as executable", path), widen(path, "chmod +x "+gate.CommandLine(path)))
	case rights.NoPrograms(path):
		add("target-not-executable", fmt.Sprintf("nothing on the file system of the program %s can be run (it is mounted with noexec)", path), "put it elsewhere")
	default:
		out = append(out, content(path, who)...)
	}
	if info, err := os.Stat(folder); err != nil || !info.IsDir() {
		add("folder-missing", fmt.Sprintf("the working folder %s does not exist", folder), "make it, or change \"folder\"")
	}
	return slices.Concat(out, who.reach(path, folder), chained(path), setID(path, info, who))
}

// chained tells of a link to a link: who replaces one of them changes what
// runs, and nobody sees where it leads.
func chained(path string) []gate.Finding {
	to, err := os.Readlink(path)
	if err != nil {
		return nil
	}
	if !filepath.IsAbs(to) {
		to = filepath.Join(filepath.Dir(path), to)
	}
	end, err := filepath.EvalSymlinks(path)
	if !isLink(to) || err != nil {
		return nil
	}
	return []gate.Finding{{Severity: gate.Note, Code: "chained-link", Message: fmt.Sprintf("the program %s is a link to the link %s, which leads to %s", path, to, end),
		Remedy: "write " + end + ", if that is what is meant"}}
}

// setID tells of a program that does not keep the rights with which it is
// started (execve(2)).
func setID(path string, info fs.FileInfo, who Who) []gate.Finding {
	if info == nil || !info.Mode().IsRegular() || info.Mode()&(fs.ModeSetuid|fs.ModeSetgid) == 0 {
		return nil
	}
	uid, gid, ok := ownersOf(info)
	if !ok {
		return nil
	}
	gains := ""
	switch {
	case info.Mode()&fs.ModeSetuid != 0 && uid != who.UID:
		gains = "those of " + accountName(uid)
	case info.Mode()&fs.ModeSetgid != 0 && !slices.Contains(who.Groups, uint32(gid)):
		gains = "those of the group " + groupName(gid)
	default:
		return nil
	}
	return []gate.Finding{{Severity: gate.Warning, Code: "set-id", Message: fmt.Sprintf("the program %s takes other rights than those of %s: %s", path, who.Name, gains),
		Remedy: "let the gate run as whom it is to run as, or chmod ug-s " + gate.CommandLine(path)}}
}

func isLink(path string) bool {
	info, err := os.Lstat(path)
	return err == nil && info.Mode()&fs.ModeSymlink != 0
}

func cause(err error) error {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		return pe.Err
	}
	return err
}

// interpreterOf returns the program that a script's first line names, or "".
func interpreterOf(path string) string {
	f, err := openPlain(path)
	if err != nil {
		return ""
	}
	defer f.Close()
	line, _ := bufio.NewReaderSize(f, 256).ReadSlice('\n')
	rest, ok := bytes.CutPrefix(line, []byte("#!"))
	if !ok {
		return ""
	}
	fields := strings.Fields(string(rest))
	if len(fields) == 0 || !filepath.IsAbs(fields[0]) {
		return ""
	}
	return fields[0]
}

// shellWords are words that mean something to a shell, and nothing to other programs.
var shellWords = []string{">", ">>", "2>", "2>>", "2>&1", "&>", "<", "|", "||", "&&", "&"}

// Arguments finds words of a shell's among the arguments of a program: no shell reads them.
func Arguments(g *gate.Gate) []gate.Finding {
	if slices.Contains([]string{"[", "test", "expr"}, filepath.Base(g.Run[0])) {
		return nil
	}
	i := slices.IndexFunc(g.Run, func(arg string) bool { return slices.Contains(shellWords, arg) })
	if i < 1 {
		return nil
	}
	var line []string
	for _, arg := range g.Run {
		if !slices.Contains(shellWords, arg) {
			arg = gate.CommandLine(arg)
		}
		line = append(line, arg)
	}
	return []gate.Finding{{Severity: gate.Warning, Code: "shell-word", Message: fmt.Sprintf("no shell reads the command: the argument %q is given to %s as it is", g.Run[i], g.Run[0]),
		Remedy: fmt.Sprintf("if a shell is to read it: timegate change %s --line %s", g.Name, gate.CommandLine(strings.Join(line, " ")))}}
}

// ScriptAt returns which of the words of a command is the script that an interpreter is given,
// in the forms in which that is its first argument; 0 where there is none.
func ScriptAt(argv []string, path string) int {
	for _, f := range runners[runnerOf(filepath.Base(path), filepath.Base(argv[0]))] {
		if f.then != "script" {
			continue
		}
		if args, _, ok := f.options(argv[1:]); ok && len(args) > 0 && !strings.HasPrefix(args[0], "-") {
			return len(argv) - len(args)
		}
	}
	return 0
}

// Script finds out whether the script is there that an interpreter is given.
func Script(g *gate.Gate, path, folder, home string) []gate.Finding {
	at := ScriptAt(g.Run, path)
	if at == 0 {
		return nil
	}
	script := in(folder, expand(g.Run[at], home))
	if info, err := os.Stat(script); err == nil && !info.IsDir() {
		return nil
	}
	return []gate.Finding{{Severity: gate.SevereError, Code: "target-missing", Message: fmt.Sprintf("the script %s, which %s is given, does not exist", script, g.Run[0]), Remedy: "check the path in \"run\""}}
}

// Moments finds openings that have nothing more to come, and those that wait for
// somebody who is not there.
func Moments(g *gate.Gate, now calendar.Instant) []gate.Finding {
	var out []gate.Finding
	first := map[string]string{} // opening, by what it says
	for _, o := range g.Opens {
		says := o.Plan.Phrase.String()
		if before, twice := first[says]; twice && o.Enabled {
			out = append(out, gate.Finding{Severity: gate.Warning, Code: "same-opening",
				Message: fmt.Sprintf("openings %s and %s say the same (%s): what is due at one instant is started once", before, o.Name, o.When),
				Remedy:  fmt.Sprintf("take one away: timegate remove %s/%s", g.Name, o.Name)})
		} else if o.Enabled {
			first[says] = o.Name
		}
		if who := o.Plan.Phrase.Event.Account; who != "" && unknownAccount(who) {
			out = append(out, gate.Finding{Severity: gate.Warning, Code: "account-missing",
				Message: fmt.Sprintf("opening %s (%s) waits for %s, and there is no such account here", o.Name, o.When, who),
				Remedy:  "check the name; \"logon\" alone is anybody's in the system scope, and your own in the user scope"})
		}
		if o.Plan.Rule == nil || !o.Enabled {
			continue
		}
		if _, _, ok := o.Plan.Next(now); !ok {
			out = append(out, gate.Finding{Severity: gate.Warning, Code: "all-past",
				Message: fmt.Sprintf("opening %s (%s) lies in the past: it will not come again", o.Name, o.When),
				Remedy:  "give it new dates, or remove it"})
		}
	}
	if len(g.Opens) == 0 {
		out = append(out, gate.Finding{Severity: gate.Note, Code: "no-opening",
			Message: "the gate has no opening: it starts only by hand", Remedy: "add one to \"opens\""})
	}
	return out
}

// unknownAccount reports whether there is no account of a name.
func unknownAccount(name string) bool {
	_, err := accounts.ByName(name)
	return accounts.Unknown(err)
}
