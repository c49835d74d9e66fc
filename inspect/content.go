package inspect

import (
	"bytes"
	"context"
	"debug/elf"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"timegate/core/gate"
	"timegate/workstation"
	"timegate/workstation/rights"
)

// content looks into an executable file: is it a program for this machine, or
// a script that its interpreter will understand?
func content(path string, who Who) []gate.Finding {
	var out []gate.Finding
	add := func(code, message, remedy string) {
		out = append(out, gate.Finding{Severity: gate.SevereError, Code: code, Message: message, Remedy: remedy})
	}
	head, whole, err := readHead(path)
	switch {
	case err != nil:
		return nil // who may only execute it cannot look
	case bytes.HasPrefix(head, []byte(elf.ELFMAG)):
		if problem, remedy := wrongBinary(path); problem != "" {
			add("architecture", problem, remedy)
		}
		return out
	case !bytes.HasPrefix(head, []byte("#!")):
		add("no-interpreter", fmt.Sprintf("%s is neither a program for this machine nor a script that names its interpreter", path), `let a script begin with a line such as "#!/bin/sh"`)
		return out
	}
	line, _, _ := bytes.Cut(head, []byte("\n"))
	if bytes.HasSuffix(line, []byte("\r")) {
		add("line-ends", fmt.Sprintf("the lines of %s end as on another system (CR LF), so its interpreter is not found", path), "sed -i 's/\\r$//' "+gate.CommandLine(path))
		return out
	}
	interpreter := interpreterOf(path)
	if interpreter == "" {
		return nil
	}
	if _, err := os.Stat(interpreter); err != nil {
		add("interpreter-missing", fmt.Sprintf("the script %s wants %s, which does not exist", path, interpreter), "install it, or change the script's first line")
		return out
	}
	if name := carriedByEnv(line); filepath.Base(interpreter) == "env" && name != "" {
		if interpreter = onUsualPath(name); interpreter == "" {
			add("interpreter-missing", fmt.Sprintf("the script %s wants %s, which env does not find on PATH", path, name), "install it, or name its whole path in the script's first line")
			return out
		}
	}
	if problem, _ := wrongBinary(interpreter); problem != "" {
		add("architecture", fmt.Sprintf("the script %s wants an interpreter that does not fit: %s", path, problem), "install the one for this machine")
	} else if whole {
		if problem := syntaxError(interpreter, path, who); problem != "" {
			add("script-syntax", problem, "fix the script; its interpreter reported this without running it")
		}
	}
	return out
}

// carriedByEnv returns the program that a first line lets env look for, or "".
func carriedByEnv(line []byte) string {
	fields := strings.Fields(string(line))
	for _, word := range fields[min(1, len(fields)):] {
		if word = strings.TrimPrefix(word, "-S"); word == "" || strings.HasSuffix(word, "/env") || strings.HasPrefix(word, "-") || strings.Contains(word, "=") {
			continue
		}
		if strings.Contains(word, "/") {
			return ""
		}
		return word
	}
	return ""
}

// onUsualPath finds a program where accounts usually find theirs, and where whoever asks does.
func onUsualPath(name string) string {
	for _, dir := range append([]string{"/usr/local/bin", "/usr/bin", "/bin", "/usr/local/sbin", "/usr/sbin", "/sbin"}, filepath.SplitList(os.Getenv("PATH"))...) {
		path := filepath.Join(dir, name)
		if info, err := os.Stat(path); err == nil && info.Mode().IsRegular() && info.Mode()&0o111 != 0 {
			return path
		}
	}
	return ""
}

// scriptSize is how large a script may be for its syntax to be looked at.
const scriptSize = 1 << 20

// readHead returns the beginning of a file, and whether it is small enough to
// be looked at whole.
func readHead(path string) (head []byte, whole bool, err error) {
	f, err := openPlain(path)
	if err != nil {
		return nil, false, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, false, err
	}
	head, err = io.ReadAll(io.LimitReader(f, 512))
	return head, info.Size() <= scriptSize, err
}

// machines are the kinds of program that a machine runs.
var machines = map[string][]elf.Machine{
	"amd64": {elf.EM_X86_64, elf.EM_386}, "386": {elf.EM_386}, "arm64": {elf.EM_AARCH64, elf.EM_ARM}, "arm": {elf.EM_ARM}, "riscv64": {elf.EM_RISCV},
}

// wrongBinary says why a program does not fit this machine, or "".
func wrongBinary(path string) (problem, remedy string) {
	file, err := openPlain(path)
	if err != nil {
		return "", ""
	}
	defer file.Close()
	f, err := elf.NewFile(file)
	if errors.As(err, new(*elf.FormatError)) || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		if head, _, err := readHead(path); err == nil && bytes.HasPrefix(head, []byte(elf.ELFMAG)) {
			return path + " is a damaged program", "install it anew"
		}
		return "", ""
	}
	if err != nil {
		return "", ""
	}
	defer f.Close()
	if fits, known := machines[runtime.GOARCH]; known && !slices.Contains(fits, f.Machine) {
		return fmt.Sprintf("%s is a program for another machine (%s; this is %s)", path, strings.ToLower(strings.TrimPrefix(f.Machine.String(), "EM_")), runtime.GOARCH),
			"install the one for this machine"
	}
	for _, p := range f.Progs {
		if p.Type != elf.PT_INTERP || p.Filesz > 4096 {
			continue
		}
		name, err := io.ReadAll(p.Open())
		loader := strings.TrimRight(string(name), "\x00")
		if _, statErr := os.Stat(loader); err == nil && statErr != nil {
			return fmt.Sprintf("%s needs the loader %s, which does not exist", path, loader), "install the library for its kind of program"
		}
	}
	return "", ""
}

// checkModes are interpreters that can look at a script without running it.
var checkModes = map[string][]string{
	"sh": {"-n"}, "dash": {"-n"}, "bash": {"-n"}, "ksh": {"-n"}, "zsh": {"-n"},
	"python3": {"-I", "-c", "import ast,sys; ast.parse(open(sys.argv[1],'rb').read(), sys.argv[1])"},
}

// syntaxError lets an interpreter of the system's own look at a script, and
// returns what it finds wrong. It is never asked to run the script, nor is an
// interpreter from elsewhere run at all.
func syntaxError(interpreter, script string, who Who) string {
	real, err := filepath.EvalSymlinks(interpreter)
	dir := filepath.Dir(real)
	args, ok := checkModes[filepath.Base(interpreter)]
	if err != nil || !ok || !slices.Contains([]string{"/bin", "/usr/bin", "/usr/local/bin"}, dir) {
		return ""
	}
	const patience = 5 * time.Second
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	const most = 64 << 10
	call := rights.Call{Program: interpreter, Args: append(slices.Clone(args), script), Env: []string{"LC_ALL=C", "PATH=/usr/bin:/bin"}, Most: most}
	if os.Getuid() == 0 && who.UID != 0 {
		if len(who.Groups) == 0 {
			return "" // its groups are not known
		}
		call.As = &workstation.Account{UID: uint32(who.UID), GID: who.Groups[0], Groups: who.Groups}
	}
	out, err := rights.Run(ctx, call)
	if err == nil || ctx.Err() != nil || !errors.As(err, new(*exec.ExitError)) {
		return ""
	}
	text := strings.TrimSpace(string(out))
	lines := strings.Split(text, "\n")
	if filepath.Base(interpreter) == "python3" {
		return strings.TrimSpace(lines[len(lines)-1]) + " in " + script
	}
	return strings.TrimSpace(lines[0])
}
