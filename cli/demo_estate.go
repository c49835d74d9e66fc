package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	coreestate "timegate/core/estate"
	"timegate/demo"
	"timegate/workstation"
)

// demoShop are the bindery's workstations, an administrator's desk and a hub: homes on this
// machine, with keepers of their own.
type demoShop struct {
	app     *app
	ctx     context.Context
	program string
	dir     string
	hub     string
	running []*exec.Cmd
}

// demoEstate gives the bindery's workstations a bundle, and a second one that fails in the press
// room, which goes no further.
func (a *app) demoEstate(ctx context.Context, dir string, kept bool) error {
	program, err := os.Executable()
	if err != nil {
		return err
	}
	s := &demoShop{app: a, ctx: ctx, program: program, dir: dir}
	defer s.end()
	fmt.Fprintf(a.out, "The Larkspur Bindery has three workstations and a desk. Here each is a home of its own on this machine, with a keeper of its\nown, and they meet at a hub that serves this machine alone. All else is as it is in a shop.\n")
	for _, step := range []func() error{s.begin, s.first, s.next} {
		if err := step(); err != nil {
			return err
		}
	}
	if kept {
		fmt.Fprintf(a.out, "\nThe files are in %s. A workstation goes on with\n  %s=press-room timegate --home %s keeper run\n", dir, workstation.HostVariable, s.path("press-room"))
	}
	return nil
}

// command is a call of the program on a workstation, at the desk or at the hub.
func (s *demoShop) command(ctx context.Context, host string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, s.program, slices.Concat([]string{"--home", filepath.Join(s.dir, host)}, args)...)
	cmd.Env = append(os.Environ(), workstation.HostVariable+"="+host, "TZ="+s.app.zone.Name())
	cmd.Dir = s.dir
	return cmd
}

// call shows a call, and makes it.
func (s *demoShop) call(host string, args ...string) error { return s.ends(0, host, args...) }

// ends shows a call, and makes it; it must end with an exit status.
func (s *demoShop) ends(want int, host string, args ...string) error {
	s.app.title(host + " $ timegate " + strings.ReplaceAll(shownCall(args), s.hub, "mqtts://hub.larkspur.example"))
	cmd := s.command(s.ctx, host, args...)
	cmd.Stdout, cmd.Stderr = os.Stdout, os.Stderr
	err := cmd.Run()
	failed, ok := errors.AsType[*exec.ExitError](err)
	switch {
	case want != 0 && err == nil:
		return fmt.Errorf("%s: timegate %s ended well", host, shownCall(args))
	case !ok || failed.ExitCode() != want:
		return err
	}
	fmt.Fprintln(s.app.err, s.app.err.faint(fmt.Sprintf("exit status %d", want)))
	return nil
}

// shownCall is a call as somebody would write it.
func shownCall(args []string) string {
	shown := slices.Clone(args)
	for i, arg := range shown {
		switch {
		case filepath.IsAbs(arg):
			shown[i] = filepath.Base(arg)
		case strings.ContainsAny(arg, " >"):
			shown[i] = "\"" + arg + "\""
		}
	}
	return strings.Join(shown, " ")
}

// quiet makes a call that is shown to nobody, unless it fails.
func (s *demoShop) quiet(host string, args ...string) (string, error) {
	out, err := s.command(s.ctx, host, args...).Output()
	if failed, ok := errors.AsType[*exec.ExitError](err); ok {
		err = fmt.Errorf("%s: timegate %s: %w: %s", host, strings.Join(args, " "), err, failed.Stderr)
	}
	return string(out), err
}

// keep lets a program run until the end.
func (s *demoShop) keep(host string, args ...string) error {
	cmd := s.command(context.WithoutCancel(s.ctx), host, args...)
	log, err := os.Create(filepath.Join(s.dir, host+".log"))
	if err != nil {
		return err
	}
	defer log.Close()
	cmd.Stdout, cmd.Stderr = log, log
	if err := cmd.Start(); err != nil {
		return err
	}
	s.running = append(s.running, cmd)
	return nil
}

// end ends what runs.
func (s *demoShop) end() {
	const patience = 10 * time.Second
	for _, cmd := range s.running {
		cmd.Process.Signal(syscall.SIGTERM)
		hard := time.AfterFunc(patience, func() { cmd.Process.Kill() })
		cmd.Wait() // however it ends
		hard.Stop()
	}
}

// await waits until something is so; what is not, is said where it never comes.
func (s *demoShop) await(what string, is func() error) error {
	const patience, between = time.Minute, 200 * time.Millisecond
	for began := time.Now(); ; {
		err := is()
		if err == nil {
			return nil
		}
		if time.Since(began) > patience {
			return fmt.Errorf("%s: not within %s: %w", what, short(patience), err)
		}
		select {
		case <-s.ctx.Done():
			return s.ctx.Err()
		case <-time.After(between):
		}
	}
}

// ask makes a call that is shown to nobody, and reads what it says as JSON.
func (s *demoShop) ask(into any, args ...string) error {
	out, err := s.quiet("desk", append([]string{"--json"}, args...)...)
	if err != nil {
		return err
	}
	return json.Unmarshal([]byte(out), into)
}

func (s *demoShop) path(name string) string { return filepath.Join(s.dir, name) }

// begin lets the hub serve, and the workstations and the desk join.
func (s *demoShop) begin() error {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	address := l.Addr().String()
	if err := l.Close(); err != nil {
		return err
	}
	s.hub = "mqtts://" + address
	if err := s.keep("hub", "estate", "hub", "run", "--shop", "larkspur", "--listen", address); err != nil {
		return err
	}
	if err := s.await("the hub", func() error {
		c, err := net.Dial("tcp", address)
		if err == nil {
			c.Close()
		}
		return err
	}); err != nil {
		return err
	}
	for _, name := range append([]string{"maren"}, demo.Workstations...) {
		args := []string{"estate", "hub", "admit", name}
		if name == "maren" {
			args = append(args, "--desk")
		}
		secret, err := s.quiet("hub", args...)
		if err == nil {
			err = os.WriteFile(s.path(name+".secret"), []byte(secret), 0o600)
		}
		if err != nil {
			return err
		}
	}
	if err := s.call("desk", "sign", "--new-key", s.path("larkspur.key")); err != nil {
		return err
	}
	join := func(host, user string, more ...string) error {
		args := []string{"estate", "join", s.hub, "--shop", "larkspur", "--trust", s.path("larkspur.key.pub"), "--authority", s.path("hub/hub/authority.pem"), "--user", user, "--password-file", s.path(user + ".secret")}
		if host == "desk" || host == demo.Workstations[0] {
			return s.call(host, append(args, more...)...)
		}
		_, err := s.quiet(host, append(args, more...)...)
		return err
	}
	if err := join("desk", "maren", "--desk"); err != nil {
		return err
	}
	for _, host := range demo.Workstations {
		if err := errors.Join(join(host, host), s.keep(host, "keeper", "run")); err != nil {
			return err
		}
	}
	if err := s.await("all workstations to ask", func() error {
		var now jsonEstate
		if err := s.ask(&now, "estate", "status"); err != nil || now.Asking == len(demo.Workstations) {
			return err
		}
		return fmt.Errorf("%d do", now.Asking)
	}); err != nil {
		return err
	}
	fmt.Fprintf(s.app.out, "\nThe other two do the same. At the desk, each is let in:\n")
	for _, host := range demo.Workstations {
		if err := s.call("desk", "estate", "accept", host, "--yes"); err != nil {
			return err
		}
	}
	return nil
}

// key are the words with which the desk signs.
func (s *demoShop) key() []string { return []string{"--key", s.path("larkspur.key")} }

// told waits until all workstations have told that they have a bundle.
func (s *demoShop) told(number int64) error {
	return s.await("the bundle", func() error {
		var hosts []jsonHost
		if err := s.ask(&hosts, "estate", "list"); err != nil {
			return err
		}
		for _, h := range hosts {
			if h.Report == nil || h.Report.Bundle.Number != number || h.Report.Bundle.State != coreestate.Taken {
				return fmt.Errorf("%s has not told", h.Host)
			}
		}
		return nil
	})
}

// first gives all workstations a gate.
func (s *demoShop) first() error {
	folder := s.path("larkspur-gates")
	if err := demo.Folder(folder, false); err != nil {
		return err
	}
	fmt.Fprintf(s.app.out, "\nA folder with one gate, for all of them at once:\n")
	if err := s.call("desk", slices.Concat([]string{"estate", "publish", folder}, s.key(), []string{"--waves", "rest", "--after", "1s", "--yes"})...); err != nil {
		return err
	}
	if err := s.told(1); err != nil {
		return err
	}
	return s.call("desk", "estate", "list")
}

// next gives them more, which fails in the press room.
func (s *demoShop) next() error {
	folder := s.path("larkspur-gates")
	if err := demo.Folder(folder, true); err != nil {
		return err
	}
	fmt.Fprintf(s.app.out, "\nTwo gates more. What would they change? The workstations say:\n")
	if err := s.ends(exitFound, "desk", slices.Concat([]string{"estate", "forecast", folder}, s.key())...); err != nil {
		return err
	}
	fmt.Fprintf(s.app.out, "\nThe vault is being mounted anyway; so it goes out, in waves. It cannot be foreseen that the press room's scale was taken to be\nmended: its count fails, and the wave stops by itself.\n")
	if err := s.ends(exitFailed, "desk", slices.Concat([]string{"estate", "publish", folder}, s.key(), []string{"--waves", "2,rest", "--after", "4h", "--stop-if", "failed > 0", "--yes"})...); err != nil {
		return err
	}
	for _, args := range [][]string{{"estate", "list"}, {"estate", "show", "press-room"}, slices.Concat([]string{"estate", "why", "press-room", "stock-count"}, s.key())} {
		if err := s.call("desk", args...); err != nil {
			return err
		}
	}
	fmt.Fprintf(s.app.out, "\nBack to what was there before:\n")
	if err := s.call("desk", slices.Concat([]string{"estate", "back"}, s.key(), []string{"--yes"})...); err != nil {
		return err
	}
	if err := s.told(3); err != nil {
		return err
	}
	return s.call("desk", "estate", "list")
}
