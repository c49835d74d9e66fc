package phrase

import (
	"timegate/core/calendar"
)

// complete checks what only the whole phrase can show and writes out what a
// stride leaves to its date.
func (p *parser) complete() {
	q := p.out
	p.completeStride()
	if q.Kind == AfterSuccess {
		for _, part := range []string{"then", "times"} {
			if m, ok := q.marks[part]; ok {
				p.failAt(m, `%q does not go with "after success"`, m.text)
			}
		}
	}
	if m, ok := q.marks["times"]; ok {
		beginning := q.Kind == Event || q.Kind == Since || q.Starting != nil || q.Stride.Unit != calendar.NoStride
		if !beginning {
			p.failWith(m, `add "starting DATE"`, "%q has no beginning to count from", m.text)
		}
	}
	s, e := q.Starting, q.Ending
	if q.Kind == Since && s == nil {
		s = &q.Since
	}
	if s != nil && e != nil && (e.Day < s.Day || e.Day == s.Day && e.HasTime && e.Time < s.Time) {
		p.failAt(q.marks["ending"], "the end is before the start")
	}
	if q.Stride.Unit != calendar.NoStride && e != nil && e.Day < q.Stride.From {
		p.failAt(q.marks["ending"], "the end is before the stride's start")
	}
}

func (p *parser) completeStride() {
	q := p.out
	_, month, dayOfMonth := q.Stride.From.Date()
	add := func(it calendar.Item) {
		if len(q.On) == 0 {
			q.On = []Days{{Term: calendar.Term{Items: []calendar.Item{it}}}}
		}
	}
	switch q.Stride.Unit {
	case calendar.WeekUnit:
		add(calendar.Item{Weekdays: 1 << q.Stride.From.Weekday()})
	case calendar.YearUnit:
		if q.In == 0 {
			q.In = 1 << (month - 1)
		}
		add(calendar.Item{MonthDays: 1 << (dayOfMonth - 1)})
	case calendar.MonthUnit:
		add(calendar.Item{MonthDays: 1 << (dayOfMonth - 1)})
	}
	const allMonths = 1<<12 - 1
	if q.In == allMonths && q.Stride.Unit != calendar.YearUnit {
		q.In = 0
	}
}
