package estate

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"
)

// TestFits: what can be asked for of what; nothing that a program would take for an option.
func TestFits(t *testing.T) {
	for _, tt := range []struct {
		do      Ask
		fits    string // words
		doesNot string
	}{
		{AskWhy, "humidity-log", "--not 12! ../x"}, {AskOpen, "humidity-log", "-h UPPER/x"}, {AskStop, "vault-copy", "--yes"}, {AskSend, "proofs-ready", "-x a/b"},
		{AskPause, "2h 30m 1d", "--for -2h 0s soon"}, {AskResume, "", "2h"}, {AskOutput, "12 vault-copy", "-1 --raw"}, {"erase", "", "vault-copy"},
	} {
		for _, of := range strings.Fields(tt.fits) {
			if !tt.do.Fits(of) {
				t.Errorf("%s of %q does not fit", tt.do, of)
			}
		}
		for _, of := range strings.Fields(tt.doesNot) {
			if tt.do.Fits(of) {
				t.Errorf("%s of %q fits", tt.do, of)
			}
		}
	}
	if !AskPause.Fits("") || !AskResume.Fits("") || AskOpen.Fits("") || AskOutput.Fits("") {
		t.Error("nothing fits, or does not")
	}
}

// TestAsked: a request is taken once, as long as it could come again, also where the clock was
// set back; what is remembered is bounded.
func TestAsked(t *testing.T) {
	now := time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)
	request := func(i int, made time.Time) *Request {
		return &Request{ID: fmt.Sprintf("%026d", i), Do: AskOpen, Of: "humidity-log", Made: made, Expires: made.Add(RequestLife)}
	}
	code := func(err error) string {
		fault, _ := errors.AsType[*MessageError](err)
		if fault == nil {
			return ""
		}
		return fault.Code
	}
	var a Asked
	first := request(0, now)
	for i, want := range []string{"", Twice, Twice} {
		if got := code(a.Take(first, "", now)); got != want {
			t.Errorf("time %d: %q, want %q", i, got, want)
		}
	}
	// A day of requests, a minute apart: the latest are remembered, and the first is still known.
	at := now
	for i := range 24 * 60 {
		at = at.Add(time.Minute)
		if err := a.Take(request(i+1, at), "", at); err != nil {
			t.Fatal(err)
		}
	}
	if len(a.List) > 30 {
		t.Errorf("%d are remembered", len(a.List))
	}
	if got := code(a.Take(first, "", now)); got != Twice {
		t.Errorf("with the clock set back the first one is %q", got)
	}
	if got := code(a.Take(request(9999, now.Add(time.Hour)), "", now)); got != Twice {
		t.Errorf("one that is not remembered is %q", got)
	}
	for i := range 2 * mostAsked {
		err := a.Take(request(10_000+i, at.Add(time.Second)), "", at)
		if want := map[bool]string{true: Busy}[len(a.List) >= mostAsked && err != nil]; code(err) != want || len(a.List) > mostAsked {
			t.Fatalf("at %d: %v, %d remembered", i, err, len(a.List))
		}
	}
	if got := code(a.Take(request(1, at.Add(time.Hour)), "", at.Add(time.Hour))); got != "" {
		t.Errorf("an hour later: %q", got)
	}
}
