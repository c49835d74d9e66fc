package tell

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/godbus/dbus/v5"

	"timegate/core/tell"
	"timegate/core/words"
	"timegate/workstation"
	"timegate/workstation/accounts"
	"timegate/workstation/rights"
)

// Desktop shows a notification to those who are logged on to a desktop
// (org.freedesktop.Notifications, version 1.2). Each is told by a process with the rights of
// that person alone.
type Desktop struct {
	Root bool   // everybody is told, else the keeper's own account
	Run  string // the folder of the folders of those who are there; "" for the usual one
}

// Name implements [Channel].
func (*Desktop) Name() string { return "desktop" }

// helpArgument makes the program the one that tells a person.
const helpArgument = "@tell"

// Tell implements [Channel]. Somebody at the system's keeper is told of what runs as them,
// and of nothing else; what runs as root is told to nobody here.
func (c *Desktop) Tell(ctx context.Context, m Message) error {
	var errs []error
	left := m.Notices
	if c.Root {
		left = slices.DeleteFunc(slices.Clone(left), func(n tell.Notice) bool { return n.As == "" || n.As == "root" })
	}
	for _, s := range c.seats() {
		own, others := left, []tell.Notice(nil)
		if c.Root {
			own, others = nil, nil
			for _, n := range left {
				if n.As == s.account {
					own = append(own, n)
				} else {
					others = append(others, n)
				}
			}
		}
		if len(own) == 0 {
			continue
		}
		one := m
		one.Notices = own
		if err := c.tellOne(ctx, s, one); err != nil {
			errs = append(errs, err)
			continue
		}
		left = others
	}
	switch {
	case len(left) == 0:
		return nil
	case len(left) == len(m.Notices) && len(errs) > 0:
		return errors.Join(errs...)
	}
	return &LaterError{Left: left}
}

// seat is where somebody is logged on.
type seat struct {
	account  string
	uid, gid int // -1 for the keeper's own
	bus      string
}

// seats finds the session buses of those who are there.
func (c *Desktop) seats() []seat {
	if !c.Root {
		if address := os.Getenv("DBUS_SESSION_BUS_ADDRESS"); address != "" {
			return []seat{{"", -1, -1, address}}
		}
	}
	run := c.Run
	if run == "" {
		run = "/run/user"
	}
	entries, err := os.ReadDir(run)
	if err != nil {
		return nil
	}
	var out []seat
	for _, e := range entries {
		uid, err := strconv.Atoi(e.Name())
		bus := filepath.Join(run, e.Name(), "bus")
		if info, statErr := os.Lstat(bus); err != nil || statErr != nil || info.Mode()&os.ModeSocket == 0 {
			continue
		}
		switch address := "unix:path=" + dbus.EscapeBusAddressValue(bus); {
		case !c.Root && uid == os.Getuid():
			out = append(out, seat{"", -1, -1, address})
		case c.Root && uid > 0:
			if who, err := accounts.ByID(uid); err == nil {
				out = append(out, seat{who.Name, uid, who.GID, address})
			}
		}
	}
	return out
}

// tellOne lets a process with a person's rights tell that person.
func (c *Desktop) tellOne(ctx context.Context, s seat, m Message) error {
	data, err := json.Marshal(&m)
	if err != nil {
		return err
	}
	call := rights.Call{Program: rights.Self, Args: []string{helpArgument, s.bus}, Stdin: data, Most: mostSaid}
	if s.uid >= 0 {
		call.As = &workstation.Account{UID: uint32(s.uid), GID: uint32(s.gid)}
	}
	out, err := rights.Run(ctx, call)
	if said := strings.TrimSpace(words.Line(string(out))); err != nil && said != "" {
		return errors.New(said)
	}
	return err
}

// Help is the process that tells a person. It returns its exit status, and false where the
// program is not called for that.
func Help(args []string) (status int, ok bool) {
	if len(args) != 2 || args[0] != helpArgument {
		return 0, false
	}
	const most = 1 << 20
	var m Message
	data, err := io.ReadAll(io.LimitReader(os.Stdin, most))
	if err == nil {
		err = json.Unmarshal(data, &m)
	}
	if err == nil {
		err = notify(args[1], &m)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1, true
	}
	return 0, true
}

// The levels of urgency of a notification.
const urgencyNormal, urgencyCritical = byte(1), byte(2)

// notify shows a message on a bus.
func notify(bus string, m *Message) error {
	ctx, enough := context.WithTimeout(context.Background(), 10*time.Second)
	defer enough()
	conn, err := dbus.Connect(bus, dbus.WithContext(ctx))
	if err != nil {
		return err
	}
	defer conn.Close()
	const shown = 6 // lines
	var lines []string
	for i := range m.Notices[:min(len(m.Notices), shown)] {
		lines = append(lines, html.EscapeString(words.Line(m.Notices[i].Line())))
	}
	if more := len(m.Notices) - shown + m.More; more > 0 {
		lines = append(lines, fmt.Sprintf("and %d more: timegate history", more))
	}
	title, urgency := words.Line(m.Title()), urgencyNormal
	if m.Urgent() {
		urgency = urgencyCritical
	}
	if len(lines) == 1 {
		lines[0] = "timegate history"
		if n := &m.Notices[0]; n.Gate != "" {
			lines[0] = "timegate why " + n.Gate
		}
	}
	call := conn.Object("org.freedesktop.Notifications", "/org/freedesktop/Notifications").CallWithContext(ctx, "org.freedesktop.Notifications.Notify", 0,
		"Time Gate", uint32(0), "", title, strings.Join(lines, "\n"), []string{}, map[string]dbus.Variant{"urgency": dbus.MakeVariant(urgency)}, int32(-1))
	return call.Err
}
