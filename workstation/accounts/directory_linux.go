package accounts

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"syscall"
	"time"

	"timegate/workstation/rights"
)

// Patience bounds a question to the directory service, by both ways together.
const Patience = 5 * time.Second

// mostTold bounds an answer, in bytes.
const mostTold = 1 << 20

// askMachine asks by the machine's own means: the record service of the init system
// where it runs, which knows all that the name service switch knows; else, or where it
// gives no answer, getent(1). That getent knows nothing says nothing then: the record
// service may have known more.
func askMachine(q question) (told, error) {
	t, err := bounded(q, askRecords)
	if err == nil {
		return t, nil
	}
	alone := errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ECONNREFUSED) // there is no record service
	t, switchErr := bounded(q, askSwitch)
	if !alone && (switchErr != nil || t.empty()) {
		return told{}, err
	}
	return t, switchErr
}

// bounded asks in half of the time that there is.
func bounded(q question, ask func(context.Context, question) (told, error)) (told, error) {
	ctx, cancel := context.WithTimeout(context.Background(), Patience/2)
	defer cancel()
	t, err := ask(ctx, q)
	if err != nil && ctx.Err() != nil {
		err = fmt.Errorf("none within %v", Patience/2)
	}
	return t, err
}

// Exit status of getent(1).
const notFound = 2

// askSwitch asks the name service switch (getent(1)).
func askSwitch(ctx context.Context, q question) (told, error) {
	database := map[int]string{accountNamed: "passwd", accountNumbered: "passwd", groupOf: "group", groupsOfName: "initgroups"}[q.what]
	program := ""
	for _, dir := range []string{"/usr/bin/", "/bin/", "/usr/sbin/"} {
		if _, err := os.Stat(dir + "getent"); err == nil {
			program = dir + "getent"
			break
		}
	}
	if program == "" {
		return told{}, errors.New("getent, which asks it, is not installed")
	}
	out, err := rights.Run(ctx, rights.Call{Program: program, Args: []string{database, "--", q.key}, Env: []string{"LC_ALL=C", "PATH=/usr/bin:/bin"}, Most: mostTold})
	if exit, is := errors.AsType[*exec.ExitError](err); is && exit.ExitCode() == notFound {
		return told{}, nil
	}
	if err != nil {
		return told{}, fmt.Errorf("%s %s: %w", program, database, err)
	}
	line, _, _ := strings.Cut(string(out), "\n")
	return readSwitch(q, line)
}

// readSwitch reads a line of getent(1).
func readSwitch(q question, line string) (told, error) {
	strange := fmt.Errorf("getent says %.80q", line)
	switch q.what {
	case accountNamed, accountNumbered:
		a, ok := accountIn(strings.Split(line, ":"), q)
		if !ok { // a name of digits alone is taken for a number
			return told{}, nil
		}
		return told{account: &a}, nil
	case groupOf:
		f := strings.Split(line, ":")
		if len(f) != groupFields || f[2] != q.key {
			return told{}, strange
		}
		return told{group: f[0]}, nil
	}
	t := told{groups: []uint32{}}
	numbers := strings.TrimSpace(strings.TrimPrefix(line, q.key))
	for _, text := range strings.Fields(numbers) {
		t.groups = appendNumber(t.groups, text)
	}
	return t, nil
}

// The record service of the init system: "User/Group Record Lookup API via Varlink"
// (systemd.io/USER_GROUP_API). A message is a JSON object and a zero byte.
const (
	recordSocket    = "/run/systemd/userdb/io.systemd.Multiplexer"
	recordInterface = "io.systemd.UserDatabase."
	recordService   = "io.systemd.Multiplexer"
)

// asking is a call of the record service.
type asking struct {
	Method     string         `json:"method"`
	Parameters map[string]any `json:"parameters"`
	More       bool           `json:"more,omitempty"`
}

// answer is what comes of it.
type answer struct {
	Error      string `json:"error"`
	Continues  bool   `json:"continues"`
	Parameters struct {
		Group  string `json:"groupName"` // of a membership
		Record struct {
			User   string `json:"userName"`
			UID    *int64 `json:"uid"`
			GID    *int64 `json:"gid"`
			Folder string `json:"homeDirectory"`
			Shell  string `json:"shell"`
			Group  string `json:"groupName"`
		} `json:"record"`
	} `json:"parameters"`
}

// askRecords asks the record service.
func askRecords(ctx context.Context, q question) (told, error) {
	number, _ := strconv.ParseInt(q.key, 10, 64)
	switch q.what {
	case accountNamed, accountNumbered:
		args := map[string]any{"userName": q.key}
		if q.what == accountNumbered {
			args = map[string]any{"uid": number}
		}
		list, err := callRecords(ctx, "GetUserRecord", args, false)
		if err != nil || len(list) == 0 {
			return told{}, err
		}
		r := list[0].Parameters.Record
		if r.UID == nil || r.User == "" || q.what == accountNamed && r.User != q.key || q.what == accountNumbered && *r.UID != number {
			return told{}, errors.New("a record of another account, or without a number")
		}
		a := Account{Name: r.User, UID: int(*r.UID), GID: int(*r.UID), Folder: r.Folder, Shell: r.Shell}
		if r.GID != nil { // else the same number (systemd.io/USER_RECORD, "gid")
			a.GID = int(*r.GID)
		}
		return told{account: &a}, nil
	case groupOf:
		list, err := callRecords(ctx, "GetGroupRecord", map[string]any{"gid": number}, false)
		if err != nil || len(list) == 0 {
			return told{}, err
		}
		return told{group: list[0].Parameters.Record.Group}, nil
	}
	list, err := callRecords(ctx, "GetMemberships", map[string]any{"userName": q.key}, true)
	t := told{groups: []uint32{}}
	for _, m := range list {
		groups, err := callRecords(ctx, "GetGroupRecord", map[string]any{"groupName": m.Parameters.Group}, false)
		if err != nil {
			return told{}, err
		}
		for _, g := range groups {
			if gid := g.Parameters.Record.GID; gid != nil {
				t.groups = appendNumber(t.groups, strconv.FormatInt(*gid, 10))
			}
		}
	}
	return t, err
}

// callRecords makes one call, and returns its answers: none where there is no such
// record.
func callRecords(ctx context.Context, method string, args map[string]any, more bool) ([]answer, error) {
	args["service"] = recordService
	var d net.Dialer
	conn, err := d.DialContext(ctx, "unix", recordSocket)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	if end, ok := ctx.Deadline(); ok {
		conn.SetDeadline(end)
	}
	text, err := json.Marshal(asking{recordInterface + method, args, more})
	if err != nil {
		return nil, err
	}
	if _, err := conn.Write(append(text, 0)); err != nil {
		return nil, err
	}
	var out []answer
	lines := bufio.NewScanner(conn)
	lines.Buffer(nil, mostTold)
	lines.Split(splitZero)
	for lines.Scan() {
		var a answer
		if err := json.Unmarshal(lines.Bytes(), &a); err != nil {
			return nil, err
		}
		switch a.Error {
		case recordInterface + "NoRecordFound":
			return nil, nil
		case "":
		default:
			return nil, errors.New(a.Error)
		}
		if out = append(out, a); !a.Continues {
			return out, nil
		}
	}
	return nil, errors.Join(errors.New("the record service has ended in the middle of its answer"), lines.Err())
}

// splitZero is a [bufio.SplitFunc] of messages that end with a zero byte.
func splitZero(data []byte, _ bool) (advance int, token []byte, err error) {
	if i := bytes.IndexByte(data, 0); i >= 0 {
		return i + 1, data[:i], nil
	}
	return 0, nil, nil
}
