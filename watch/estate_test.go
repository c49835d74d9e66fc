package watch

import (
	"context"
	"fmt"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	tea "charm.land/bubbletea/v2"

	"timegate/core/calendar"
)

// fakeEstate is an estate that does not change.
type fakeEstate struct {
	estate *Estate
	news   chan struct{}
	looked atomic.Int64
}

func (f *fakeEstate) News() <-chan struct{} { return f.news }
func (f *fakeEstate) Look() *Estate         { f.looked.Add(1); return f.estate }
func (f *fakeEstate) Show(host string) []string {
	return []string{"all of " + host, "its gates"}
}

// larkspur is the bindery's estate with some more workstations.
func larkspur(desks int) *Estate {
	e := &Estate{Name: "larkspur", Summary: fmt.Sprintf("%d workstations, 2 on", desks+3), Bundle: "bundle 2, wave 1 of 2 (2): taken by 2 of 2 workstations, 1 failed; held", Taken: 2, Bad: 1, All: desks + 3,
		Columns: []string{"HOST", "STATE", "LAST FAILURE"},
		Events:  []EstateEvent{{monday(12, 10, 7), "press-room", "run 5 of stock-count failed (3)"}, {monday(12, 9, 0), "ma\x1b[2Jren", "on"}}}
	host := func(name, state, failure string) {
		e.Hosts = append(e.Hosts, EstateHost{Name: name, Groups: []string{"bindery"}, Bad: failure != "", Cells: func() []string { return []string{name, state, failure} }})
	}
	host("press-room", "on", "stock-count failed (3)")
	host("front-desk", "on", "")
	host("studio-laptop", "off", "")
	for i := range desks {
		host(fmt.Sprintf("desk-%05d", i), "off", "")
	}
	return e
}

func shownEstate(e *Estate, width, height int, style Style) *estateModel {
	m := &estateModel{frame: frame{style: style}, zone: calendar.UTC.Location(), source: &fakeEstate{estate: e}}
	m.Update(tea.WindowSizeMsg{Width: width, Height: height})
	m.Update(estateMsg{e})
	return m
}

// TestEstatePictures draws the view in several sizes, and compares with pictures that were read.
func TestEstatePictures(t *testing.T) {
	for _, size := range [][2]int{{80, 24}, {120, 20}, {40, 12}, {20, 4}, {1, 1}} {
		m := shownEstate(larkspur(9), size[0], size[1], plainStyle(size[0] == 80))
		checkPicture(t, m.View().Content, size, "testdata/estate-%dx%d.txt")
	}
	m := &estateModel{frame: frame{style: plainStyle(true)}, zone: calendar.UTC.Location()}
	m.Update(tea.WindowSizeMsg{Width: 80, Height: 24})
	if text := m.View().Content; !strings.Contains(text, "looking at the estate") {
		t.Errorf("before anything is known it shows\n%s", text)
	}
	e := larkspur(0)
	e.Bundle, e.Trouble = "", "no route\x1b[2J to it"
	m.Update(estateMsg{e})
	if text := m.View().Content; !strings.Contains(text, "no bundle was published yet") || !strings.Contains(text, "the broker is not reached: no route\\x1b[2J to it") {
		t.Errorf("without bundle and broker it shows\n%s", text)
	}
}

// TestEstateKeys types keys and reads what is shown.
func TestEstateKeys(t *testing.T) {
	for _, tt := range []struct{ keys, want, not string }{
		{"", "› press-room", "all of"},
		{"down", "› front-desk", ""},
		{"end", "› desk-00049", "front-desk"},
		{"end home", "› press-room", "desk-00049"},
		{"pgdown pgup", "› press-room", ""},
		{"down enter", "all of front-desk", "workstations"},
		{"down enter esc", "› front-desk", "all of"},
		{"t", "workstations 1 with trouble", "front-desk"},
		{"t t", "workstations 53", ""},
		{"t down enter", "all of press-room", ""},
		{"/ 0 0 0 4 enter", "workstations 11 with \"0004\"", "front-desk"},
		{"/ b i n d e r y enter", "workstations 53 with \"bindery\"", ""},
		{"/ x", "filter: x_", "front-desk"},
		{"/ x enter enter", "workstations 0 with \"x\"", "all of"},
		{"/ x enter esc", "workstations 53", ""},
		{"?", "t   only those with trouble", "workstations 53"},
	} {
		m := shownEstate(larkspur(50), 120, 30, plainStyle(false))
		m.View()
		for _, k := range strings.Fields(tt.keys) {
			if _, cmd := m.Update(press(k)); cmd != nil {
				t.Errorf("%q: %s quits", tt.keys, k)
			}
			m.View()
		}
		if text := m.View().Content; !strings.Contains(text, tt.want) || tt.not != "" && strings.Contains(text, tt.not) {
			t.Errorf("%q shows\n%s\nwant …%s…, not %q", tt.keys, text, tt.want, tt.not)
		}
	}
	m := shownEstate(larkspur(50), 120, 30, plainStyle(false))
	m.View()
	m.Update(tea.MouseClickMsg{X: 4, Y: m.firstRow + 2})
	if text := m.View().Content; !strings.Contains(text, "› studio-laptop") {
		t.Errorf("a click on the third row shows\n%s", text)
	}
	if _, cmd := m.Update(press("q")); cmd == nil {
		t.Error("q does not quit")
	}
}

// TestFeedEstate: what comes together is looked at once, and where nothing comes it is looked at
// now and then.
func TestFeedEstate(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, stop := context.WithCancel(t.Context())
		src := &fakeEstate{estate: larkspur(0), news: make(chan struct{}, 1)}
		ended := make(chan struct{})
		go func() { feedEstate(ctx, src, func(tea.Msg) {}); close(ended) }()
		synctest.Wait()
		for range 5 {
			select {
			case src.news <- struct{}{}:
			default:
			}
			time.Sleep(estateTogether / 20)
		}
		time.Sleep(estateTogether)
		if synctest.Wait(); src.looked.Load() > 3 {
			t.Errorf("it is looked at %d times", src.looked.Load())
		}
		before := src.looked.Load()
		time.Sleep(3 * estateLook)
		if synctest.Wait(); src.looked.Load() < before+3 {
			t.Errorf("where nothing comes it is looked at %d times", src.looked.Load()-before)
		}
		stop()
		<-ended
	})
}

// BenchmarkEstatePicture draws 10,000 workstations.
func BenchmarkEstatePicture(b *testing.B) {
	m := shownEstate(larkspur(10_000), 158, 46, plainStyle(false))
	for b.Loop() {
		m.View()
	}
}
