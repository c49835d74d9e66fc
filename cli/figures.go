package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"timegate/control"
	"timegate/core/calendar"
	"timegate/figures"
	"timegate/journal"
)

func (a *app) figuresCommand() *cli.Command {
	return &cli.Command{
		Name: "figures", Category: watchCommands, Usage: "figures for monitoring, in the OpenMetrics text format",
		Description: examples(`timegate figures`, `timegate figures --write /var/lib/larkspur/timegate.txt`, `timegate figures --serve 127.0.0.1:9907`, `timegate figures --serve unix:/run/larkspur/figures.sock`) +
			"Nothing is served unless you ask for it. A gate can write the file each minute, or serve from the boot on. Every account of\n" +
			"this machine can ask at a port; unix:PATH is for those who may write to PATH.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "write", Usage: "replace `FILE` with them, whole, for a collector", TakesFile: true},
			&cli.StringFlag{Name: "serve", Usage: "answer at `ADDRESS`, a port of this machine or unix:PATH, until you end it"},
		},
		Action: a.figures,
	}
}

func (a *app) figures(ctx context.Context, c *cli.Command) error {
	if err := noArguments(c); err != nil {
		return err
	}
	if address := c.String("serve"); address != "" {
		return a.serveFigures(ctx, address)
	}
	f, err := a.gatherFigures(ctx)
	if err != nil {
		return err
	}
	if file := c.String("write"); file != "" {
		return writeFile(file, func(w io.Writer) error { return figures.Write(w, f) })
	}
	return figures.Write(a.out.Forward, f)
}

// gatherFigures reads what there is to be told.
func (a *app) gatherFigures(ctx context.Context) (*figures.Figures, error) {
	files, err := a.files()
	if err != nil {
		return nil, err
	}
	out := &figures.Figures{}
	status, err := a.client.Status(ctx)
	switch {
	case err == nil:
		out.Up, out.Paused = true, status.Paused
	case !errors.Is(err, control.ErrNoKeeper):
		return nil, err
	}
	stats, costs := map[string]journal.Stats{}, map[string]journal.Cost{}
	last, good := map[string]journal.Entry{}, map[string]calendar.Instant{}
	j, err := a.reader()
	if err != nil {
		return nil, err
	}
	if j != nil {
		defer j.Close()
		const day = 24 * time.Hour
		list, statsErr := j.Stats(journal.Filter{Since: calendar.InstantOf(a.now().Add(-day))})
		for _, s := range list {
			stats[s.Gate] = s
		}
		var errs [3]error
		costs, errs[0] = j.Costs()
		last, errs[1] = j.LastRuns()
		good, errs[2] = j.LastGood()
		if err := errors.Join(statsErr, errs[0], errs[1], errs[2]); err != nil {
			return nil, err
		}
		if info, err := os.Stat(a.home.Journal()); err == nil { // it may be another's
			out.JournalBytes = info.Size()
		}
	}
	at := func(i calendar.Instant) time.Time {
		if i == 0 {
			return time.Time{}
		}
		return i.Time()
	}
	for _, f := range files {
		s, st := stats[f.Name], status.Gates[f.Name]
		g := figures.Gate{Name: f.Name, State: "broken", Running: len(st.Running), EndedWell: s.Runs - s.Bad, EndedBadly: s.Bad, Skipped: s.Skipped, Missed: s.Missed,
			Longest: s.Longest, Usual: costs[f.Name].Took, LastEnded: at(last[f.Name].Ended), LastGood: at(good[f.Name])}
		if f.Gate != nil {
			if g.State = "off"; f.Gate.Enabled && f.Gate.RunsOn(a.host) {
				g.State = "on"
			}
		}
		if st.Next != nil {
			g.NextOpen = *st.Next
		}
		out.Gates = append(out.Gates, g)
	}
	return out, nil
}

// serveFigures answers until the context ends.
func (a *app) serveFigures(ctx context.Context, address string) error {
	a.lasts()
	network := "tcp"
	if path, is := strings.CutPrefix(address, "unix:"); is {
		network, address = "unix", path
	} else if host, _, err := net.SplitHostPort(address); err != nil || !loopback(host) {
		return usageError("--serve %s: figures are served to this machine alone; write 127.0.0.1:PORT, [::1]:PORT or unix:PATH", address)
	}
	l, err := (&net.ListenConfig{}).Listen(ctx, network, address)
	if err != nil {
		return usageError("--serve: %w", err)
	}
	const patience = 10 * time.Second
	server := &http.Server{ReadHeaderTimeout: patience, ReadTimeout: patience, WriteTimeout: patience, MaxHeaderBytes: 8 << 10, Handler: a.figuresHandler(network == "unix")}
	context.AfterFunc(ctx, func() { server.Close() })
	fmt.Fprintf(a.err, "figures are served at %s\n", l.Addr())
	if err := server.Serve(l); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

// figuresAtOnce is how many requests for figures are answered at a time; the others are
// told to come again.
const figuresAtOnce = 4

// figuresHandler answers requests for figures. Over TCP they must be for an address of this
// machine's own: a page in somebody's browser could have a name of its own lead here.
func (a *app) figuresHandler(private bool) http.Handler {
	slots := make(chan struct{}, figuresAtOnce)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		host, _, err := net.SplitHostPort(r.Host)
		if err != nil {
			host = strings.Trim(r.Host, "[]")
		}
		switch {
		case r.Method != http.MethodGet && r.Method != http.MethodHead:
			w.Header().Set("Allow", "GET, HEAD")
			http.Error(w, "figures are only read", http.StatusMethodNotAllowed)
			return
		case !private && !loopback(host):
			http.Error(w, "figures are served to this machine alone, by its own address", http.StatusMisdirectedRequest)
			return
		}
		select {
		case slots <- struct{}{}:
			defer func() { <-slots }()
		default:
			w.Header().Set("Retry-After", "1")
			http.Error(w, "others are being answered", http.StatusServiceUnavailable)
			return
		}
		f, err := a.gatherFigures(r.Context())
		if err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		w.Header().Set("Content-Type", figures.ContentType)
		w.Header().Set("X-Content-Type-Options", "nosniff")
		figures.Write(w, f) // who has gone reads it no more
	})
}

func loopback(host string) bool {
	if host == "localhost" {
		return true
	}
	ip := net.ParseIP(host)
	return ip != nil && ip.IsLoopback()
}
