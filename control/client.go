package control

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"strconv"
	"strings"
	"syscall"
	"time"

	"timegate/home"
)

// ErrNoKeeper is returned where no keeper answers.
var ErrNoKeeper = errors.New("no keeper is running for this home")

// Client speaks to a home's keeper.
type Client struct {
	http http.Client
	home home.Home
}

// NewClient returns a client of the home's keeper, whether or not one runs.
func NewClient(h home.Home) *Client {
	dial := func(ctx context.Context, _, _ string) (net.Conn, error) {
		var d net.Dialer
		return d.DialContext(ctx, "unix", h.Socket)
	}
	return &Client{home: h, http: http.Client{Transport: &http.Transport{DialContext: dial, DisableKeepAlives: true}, Timeout: patience}}
}

// patience is how long a keeper may take for an answer.
const patience = 15 * time.Second

// isTimeout reports whether an error is that something took too long.
func isTimeout(err error) bool {
	late, ok := errors.AsType[net.Error](err)
	return ok && late.Timeout()
}

// errEnded is returned where a keeper was asked to do something, and ended before it said
// what came of it.
var errEnded = errors.New("the keeper ended before it answered; whether it did what it was asked is in: timegate history")

// Status asks the keeper what goes on. Its error is [ErrNoKeeper] where none
// answers.
func (c *Client) Status(ctx context.Context) (Status, error) {
	var s Status
	return s, c.call(ctx, http.MethodGet, "/status", nil, &s)
}

// Open starts a gate's program now.
func (c *Client) Open(ctx context.Context, gate string) (Answer, error) {
	return c.command(ctx, "/open", Command{Gate: gate})
}

// Stop ends a gate's programs.
func (c *Client) Stop(ctx context.Context, gate string) (Answer, error) {
	return c.command(ctx, "/stop", Command{Gate: gate})
}

// Send sends a signal to the gates that wait for it.
func (c *Client) Send(ctx context.Context, name string) (Answer, error) {
	return c.command(ctx, "/send", Command{Name: name})
}

// Reload has the folder of gates read now, and returns when what is there is in
// force. The keeper reads it by itself a moment later in any case.
func (c *Client) Reload(ctx context.Context) error {
	_, err := c.command(ctx, "/reload", Command{})
	return err
}

// Restart lets the keeper begin anew. It has, when another beginning is in its [Status].
func (c *Client) Restart(ctx context.Context) error {
	_, err := c.command(ctx, "/restart", Command{})
	return err
}

// Finish lets the keeper end.
func (c *Client) Finish(ctx context.Context) error {
	_, err := c.command(ctx, "/finish", Command{})
	return err
}

// Stage lets something happen on a staged machine.
func (c *Client) Stage(ctx context.Context, words []string) (Answer, error) {
	return c.command(ctx, "/stage", Command{Words: words})
}

// Pause lets nothing open by itself, until a time or, where that is zero,
// until Resume.
func (c *Client) Pause(ctx context.Context, until time.Time) (Answer, error) {
	cmd := Command{}
	if !until.IsZero() {
		cmd.Until = &until
	}
	return c.command(ctx, "/pause", cmd)
}

// Resume ends a pause.
func (c *Client) Resume(ctx context.Context) (Answer, error) {
	return c.command(ctx, "/resume", Command{})
}

func (c *Client) command(ctx context.Context, path string, cmd Command) (Answer, error) {
	var a Answer
	return a, c.call(ctx, http.MethodPost, path, cmd, &a)
}

// Follow hands events to a function as they are committed: those after a
// number, or from now on where that is negative. It returns when the context
// ends, the keeper goes, or the function returns an error.
func (c *Client) Follow(ctx context.Context, after int64, take func(Item) error) error {
	path := "/events"
	if after >= 0 {
		path += "?after=" + strconv.FormatInt(after, 10)
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://keeper"+path, nil)
	if err != nil {
		return err
	}
	follower := http.Client{Transport: c.http.Transport} // no timeout: it goes on
	res, err := follower.Do(req)
	if err := callError(res, err); err != nil {
		return err
	}
	defer res.Body.Close()
	return readEvents(res.Body, take)
}

// readEvents reads a stream of server-sent events.
func readEvents(r io.Reader, take func(Item) error) error {
	event := ""
	lines := bufio.NewReader(r)
	for {
		line, err := lines.ReadString('\n')
		if errors.Is(err, io.EOF) {
			return ErrNoKeeper
		}
		if err != nil {
			return err
		}
		field, value, _ := strings.Cut(strings.TrimRight(line, "\n"), ": ")
		switch {
		case field == "event":
			event = value
		case field == "data" && event == "committed":
			var it Item
			if err := json.Unmarshal([]byte(value), &it); err != nil {
				return err
			}
			if err := take(it); err != nil {
				return err
			}
		case field == "data" && event == "behind":
			return ErrBehind
		}
	}
}

// PermissionError reports a keeper that does not obey the caller.
type PermissionError struct{ Reason string }

func (e *PermissionError) Error() string { return e.Reason }

func (c *Client) call(ctx context.Context, method, path string, in, out any) error {
	body, err := json.Marshal(in)
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, method, "http://keeper"+path, bytes.NewReader(body))
	if err != nil {
		return err
	}
	res, err := c.http.Do(req)
	if ended := errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, syscall.ECONNRESET) || errors.Is(err, syscall.EPIPE); ended || err == nil && res.StatusCode == http.StatusServiceUnavailable {
		if method != http.MethodGet {
			err = errEnded
		} else {
			err = ErrNoKeeper
		}
		if res != nil {
			res.Body.Close()
		}
		return err
	}
	if err := callError(res, err); err != nil {
		return err
	}
	defer res.Body.Close()
	return json.NewDecoder(res.Body).Decode(out)
}

// callError words what went wrong with a call, and closes its answer then.
func callError(res *http.Response, err error) error {
	switch {
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, syscall.ECONNREFUSED):
		return ErrNoKeeper
	case errors.Is(err, fs.ErrPermission):
		return &PermissionError{Reason: "this home's keeper is another person's"}
	case isTimeout(err):
		return fmt.Errorf("the keeper does not answer within %v; it may be stopped, or its machine under heavy load", patience)
	case err != nil:
		return fmt.Errorf("ask the keeper: %w", err)
	case res.StatusCode == http.StatusOK:
		return nil
	}
	defer res.Body.Close()
	text, _ := io.ReadAll(io.LimitReader(res.Body, 4096))
	reason := strings.TrimSpace(string(text))
	if res.StatusCode == http.StatusForbidden {
		return &PermissionError{Reason: reason}
	}
	return &AnswerError{Reason: reason}
}

// AnswerError is a keeper's answer that it does not do what it is asked.
type AnswerError struct{ Reason string }

func (e *AnswerError) Error() string { return "ask the keeper: " + e.Reason }
