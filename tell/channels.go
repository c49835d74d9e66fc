package tell

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"mime"
	"mime/quotedprintable"
	"net"
	"os"
	"strings"
	"time"

	"timegate/core/words"
	"timegate/workstation/rights"
)

// Syslog writes to the machine's log.
type Syslog struct {
	Socket string // "" for the usual one
	Root   bool   // the keeper is the system's
	Now    func() time.Time
}

// Name implements [Channel].
func (*Syslog) Name() string { return "syslog" }

// The facilities and severities of RFC 5424, section 6.2.1.
const (
	facilityUser, facilityDaemon  = 1, 3
	severityError, severityNotice = 3, 5
)

// Tell implements [Channel]: a message a notice, in the form of RFC 5424.
func (s *Syslog) Tell(ctx context.Context, m Message) error {
	path := s.Socket
	if path == "" {
		path = "/dev/log"
	}
	var d net.Dialer
	conn, err := d.DialContext(ctx, "unixgram", path)
	if err != nil {
		return err
	}
	defer conn.Close()
	facility := facilityUser
	if s.Root {
		facility = facilityDaemon
	}
	for i := range m.Notices {
		n := &m.Notices[i]
		severity, id := severityError, string(n.Kind)
		if n.Well {
			severity, id = severityNotice, "well"
		}
		text := words.Line(n.Line())
		if strings.ContainsFunc(text, func(r rune) bool { return r > 126 }) {
			text = "\ufeff" + text // section 6.4: UTF-8 begins with the mark
		}
		host := m.Host
		if host == "" {
			host = "-"
		}
		if id == "" {
			id = "-"
		}
		line := fmt.Sprintf("<%d>1 %s %s timegate %d %s - %s", facility*8+severity, s.Now().Format("2006-01-02T15:04:05.000Z07:00"), host, os.Getpid(), id, text)
		if _, err := conn.Write([]byte(line)); err != nil {
			return err
		}
	}
	return nil
}

// mostSaid is how much a program that tells somebody may print, in bytes.
const mostSaid = 64 << 10

// Mail hands a message to the machine's own mail program, by its sendmail interface.
type Mail struct {
	Program string // "" for the usual one
	To      string // an address
	Now     func() time.Time
}

// Name implements [Channel].
func (*Mail) Name() string { return "mail" }

// SendmailPaths are where the interface lies (FHS, section 4.3).
var SendmailPaths = []string{"/usr/sbin/sendmail", "/usr/lib/sendmail"}

// Tell implements [Channel].
func (c *Mail) Tell(ctx context.Context, m Message) error {
	program := c.Program
	for _, p := range SendmailPaths {
		if _, err := os.Stat(p); program == "" && err == nil {
			program = p
		}
	}
	if program == "" {
		return errors.New("there is no sendmail on this machine (" + strings.Join(SendmailPaths, ", ") + ")")
	}
	text, err := c.letter(&m)
	if err != nil {
		return err
	}
	out, err := rights.Run(ctx, rights.Call{Program: program, Args: []string{"-i", "--", c.To}, Stdin: text, Env: []string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin"}, Most: mostSaid})
	if said := strings.TrimSpace(words.Line(string(out))); err != nil && said != "" {
		err = fmt.Errorf("%w: %s", err, said)
	}
	return err
}

// letter is a message as mail (RFC 5322), which says that no person has written it (RFC
// 3834, section 5), so that none is answered to.
func (c *Mail) letter(m *Message) ([]byte, error) {
	var b bytes.Buffer
	fmt.Fprintf(&b, "To: %s\r\nSubject: %s\r\nDate: %s\r\nAuto-Submitted: auto-generated\r\nMIME-Version: 1.0\r\nContent-Type: text/plain; charset=utf-8\r\nContent-Transfer-Encoding: quoted-printable\r\n\r\n",
		c.To, mime.QEncoding.Encode("utf-8", "["+m.Host+"] "+words.Line(m.Title())), c.Now().Format(time.RFC1123Z))
	w := quotedprintable.NewWriter(&b)
	if m.More > 0 {
		fmt.Fprintf(w, "(%d older notices are left out)\r\n", m.More)
	}
	for i := range m.Notices {
		n := &m.Notices[i]
		fmt.Fprintf(w, "%s  %s\r\n", n.At.Time().Format(time.RFC3339), words.Line(n.Line()))
		switch {
		case n.Run != 0:
			fmt.Fprintf(w, "    timegate why %s; timegate output %d\r\n", n.Gate, n.Run)
		case n.Gate != "":
			fmt.Fprintf(w, "    timegate why %s\r\n", n.Gate)
		}
	}
	return b.Bytes(), w.Close()
}
