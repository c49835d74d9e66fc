package figures

import (
	"bytes"
	"strings"
	"testing"
	"time"

	dto "github.com/prometheus/client_model/go"
	"github.com/prometheus/common/expfmt"
	"github.com/prometheus/common/model"
)

// TestWrite: what is written is read by a collector's own parser, whatever a gate is called,
// and says what it was told; what is not known is left out.
func TestWrite(t *testing.T) {
	hostile := "a\"b\\c\nd{e}"
	end := time.Date(2026, 11, 30, 6, 45, 0, 5e8, time.UTC)
	f := &Figures{Up: true, JournalBytes: 4096, Gates: []Gate{
		{Name: "vault-copy", State: "on", Running: 1, EndedWell: 5, EndedBadly: 2, Skipped: 3, Missed: 4, Longest: 90 * time.Second, Usual: 1500 * time.Millisecond, LastEnded: end, LastGood: end, NextOpen: end},
		{Name: hostile, State: "broken"}}}
	var b bytes.Buffer
	if err := Write(&b, f); err != nil {
		t.Fatal(err)
	}
	text := b.String()
	if !strings.HasSuffix(text, "\n# EOF\n") || strings.Count(text, "# EOF") != 1 {
		t.Errorf("it does not end as it must: %q", text[max(0, len(text)-40):])
	}
	parser := expfmt.NewTextParser(model.UTF8Validation)
	families, err := parser.TextToMetricFamilies(strings.NewReader(text))
	if err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	value := func(name string, labels ...string) (float64, bool) {
		for _, m := range families[name].GetMetric() {
			has := map[string]string{}
			for _, l := range m.Label {
				has[l.GetName()] = l.GetValue()
			}
			fits := len(has) == len(labels)/2
			for i := 0; i < len(labels); i += 2 {
				fits = fits && has[labels[i]] == labels[i+1]
			}
			if fits {
				return m.Gauge.GetValue(), true
			}
		}
		return 0, false
	}
	for _, tt := range []struct {
		name   string
		labels []string
		want   float64
	}{
		{"timegate_keeper_up", nil, 1},
		{"timegate_keeper_paused", nil, 0},
		{"timegate_journal_size_bytes", nil, 4096},
		{"timegate_gate_state", []string{"gate", "vault-copy", "state", "on"}, 1},
		{"timegate_gate_state", []string{"gate", hostile, "state", "broken"}, 1},
		{"timegate_gate_state", []string{"gate", hostile, "state", "on"}, 0},
		{"timegate_gate_running", []string{"gate", "vault-copy"}, 1},
		{"timegate_gate_day_runs", []string{"gate", "vault-copy", "ended", "well"}, 5},
		{"timegate_gate_day_runs", []string{"gate", "vault-copy", "ended", "badly"}, 2},
		{"timegate_gate_day_passed", []string{"gate", "vault-copy", "how", "skipped"}, 3},
		{"timegate_gate_day_passed", []string{"gate", "vault-copy", "how", "missed"}, 4},
		{"timegate_gate_day_longest_seconds", []string{"gate", "vault-copy"}, 90},
		{"timegate_gate_usual_seconds", []string{"gate", "vault-copy"}, 1.5},
		{"timegate_gate_last_end_timestamp_seconds", []string{"gate", "vault-copy"}, 1796021100.5},
		{"timegate_gate_last_success_timestamp_seconds", []string{"gate", "vault-copy"}, 1796021100.5},
		{"timegate_gate_next_timestamp_seconds", []string{"gate", "vault-copy"}, 1796021100.5},
	} {
		if got, there := value(tt.name, tt.labels...); !there || got != tt.want {
			t.Errorf("%s %v is %v, %v, want %v", tt.name, tt.labels, got, there, tt.want)
		}
	}
	for _, name := range []string{"timegate_gate_usual_seconds", "timegate_gate_last_end_timestamp_seconds", "timegate_gate_next_timestamp_seconds"} {
		if _, there := value(name, "gate", hostile); there {
			t.Errorf("%s is told of what is not known", name)
		}
	}
	for name, family := range families { // each is named as OpenMetrics wants it
		if family.GetType() != dto.MetricType_GAUGE || family.GetHelp() == "" || strings.HasSuffix(name, "_total") || strings.ToLower(name) != name {
			t.Errorf("%s is a %v, %q", name, family.GetType(), family.GetHelp())
		}
	}
}
