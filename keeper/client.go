package keeper

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"strings"
	"syscall"
	"time"
)

// ErrNoKeeper is returned where no keeper answers.
var ErrNoKeeper = errors.New("no keeper runs for this home")

// Client speaks to a home's keeper.
type Client struct {
	http http.Client
	home Home
}

// NewClient returns a client of the home's keeper, whether or not one runs.
func NewClient(h Home) *Client {
	dial := func(ctx context.Context, _, _ string) (net.Conn, error) {
		var d net.Dialer
		return d.DialContext(ctx, "unix", h.Socket)
	}
	return &Client{home: h, http: http.Client{Transport: &http.Transport{DialContext: dial, DisableKeepAlives: true}, Timeout: 15 * time.Second}}
}

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
	switch {
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, syscall.ECONNREFUSED):
		return ErrNoKeeper
	case errors.Is(err, fs.ErrPermission):
		return &PermissionError{Reason: "this home's keeper is another person's"}
	case err != nil:
		return fmt.Errorf("ask the keeper: %w", err)
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		text, _ := io.ReadAll(io.LimitReader(res.Body, 4096))
		reason := strings.TrimSpace(string(text))
		if res.StatusCode == http.StatusForbidden {
			return &PermissionError{Reason: reason}
		}
		return fmt.Errorf("ask the keeper: %s", reason)
	}
	return json.NewDecoder(res.Body).Decode(out)
}
