package estate

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"
)

// Schedule says how often the estate is looked at without being asked. An interval of 0 is
// never.
type Schedule struct {
	Every    time.Duration // all of it
	Troubled time.Duration // what is broken or due
	Files    time.Duration // whether files of a configuration have changed, which is then read and looked at
	Quiet    *Hours        // in which nothing is begun; nil for none
	Place    Place         // in the estate file; none where nothing is declared
}

// What counts where an estate file says nothing.
const (
	usualEvery    = 6 * time.Hour
	usualTroubled = time.Hour
	usualFiles    = 10 * time.Minute
)

// Intervals an estate file may declare.
const (
	leastEvery = 5 * time.Minute
	leastFiles = time.Minute
	mostEvery  = 30 * 24 * time.Hour
)

// usualSchedule is the one of an estate file that declares none.
func usualSchedule() Schedule {
	return Schedule{Every: usualEvery, Troubled: usualTroubled, Files: usualFiles}
}

// Of gives how often something is looked at: as it is declared itself, or as the estate has
// it; 0 for never.
func (s *Schedule) Of(own *time.Duration) time.Duration {
	if own != nil {
		return *own
	}
	return s.Every
}

// unscheduled is how long what was looked at counts where nothing looks by itself.
const unscheduled = 48 * time.Hour

// Stale gives the age from which on what was seen is shown as stale: two intervals of its own
// schedule or the estate's, two days where there is none.
func (s *Schedule) Stale(own *time.Duration) time.Duration {
	if every := s.Of(own); every > 0 {
		return 2 * every
	}
	return unscheduled
}

// Next says when something with an interval is due that was begun last at a time, and how
// many beginnings before now did not come, but for the one that is due. The zero time is
// never.
func Next(last, now time.Time, every time.Duration) (at time.Time, missed int) {
	if every <= 0 {
		return time.Time{}, 0
	}
	at = last.Add(every)
	if late := now.Sub(at); late > 0 {
		missed = int(late / every)
	}
	return at, missed
}

// After puts a time behind the quiet hours it falls into, by the clock of the given zone.
func (s *Schedule) After(t time.Time) time.Time {
	if s.Quiet == nil || !s.Quiet.At(t) {
		return t
	}
	end := time.Date(t.Year(), t.Month(), t.Day(), int(s.Quiet.To.Hours()), int(s.Quiet.To.Minutes())%60, 0, 0, t.Location())
	if end.Before(t) {
		end = time.Date(t.Year(), t.Month(), t.Day()+1, end.Hour(), end.Minute(), 0, 0, t.Location())
	}
	return end
}

// Spoke gives when the quiet hours before a time ended last, the time itself in them; zero where
// there are none.
func (s *Schedule) Spoke(t time.Time) time.Time {
	switch {
	case s.Quiet == nil:
		return time.Time{}
	case s.Quiet.At(t):
		return t
	}
	end := time.Date(t.Year(), t.Month(), t.Day(), int(s.Quiet.To.Hours()), int(s.Quiet.To.Minutes())%60, 0, 0, t.Location())
	if end.After(t) {
		end = time.Date(t.Year(), t.Month(), t.Day()-1, end.Hour(), end.Minute(), 0, 0, t.Location())
	}
	return end
}

// Hours are hours of the day.
type Hours struct {
	From, To time.Duration // since midnight by the clock of the service's machine
}

// At says whether a time is in them: from the first to before the last, which may be on the
// next day. Alike they are the whole day.
func (h *Hours) At(t time.Time) bool {
	since := time.Duration(t.Hour())*time.Hour + time.Duration(t.Minute())*time.Minute
	switch {
	case h.From == h.To:
		return true
	case h.From < h.To:
		return h.From <= since && since < h.To
	}
	return h.From <= since || since < h.To
}

// String writes them as an estate file has them.
func (h *Hours) String() string {
	return Clock(h.From) + "-" + Clock(h.To)
}

// hours reads two times of the day.
func (r *reader) hours(n *yaml.Node, into *Hours) {
	const expected = "hours such as 01:00-05:00"
	text, ok := r.text(n, expected)
	if !ok {
		return
	}
	first, last, _ := strings.Cut(text, "-")
	for i, clock := range []string{first, last} {
		t, err := time.Parse("15:04", strings.TrimSpace(clock))
		if err != nil {
			r.fault(r.place(n), expected, "bad hours %q", clip(text))
			return
		}
		*[]*time.Duration{&into.From, &into.To}[i] = time.Duration(t.Hour())*time.Hour + time.Duration(t.Minute())*time.Minute
	}
}

// schedule reads how often the estate is looked at.
func (r *reader) schedule(n *yaml.Node) {
	s := &r.estate.Schedule
	s.Place = r.place(n)
	r.fields(n, "schedule",
		field{"every", false, func(n *yaml.Node) { r.interval(n, &s.Every, leastEvery) }},
		field{"troubled", false, func(n *yaml.Node) { r.interval(n, &s.Troubled, leastEvery) }},
		field{"files", false, func(n *yaml.Node) { r.interval(n, &s.Files, leastFiles) }},
		field{"quiet", false, func(n *yaml.Node) {
			s.Quiet = &Hours{}
			if r.hours(n, s.Quiet); s.Quiet.From == s.Quiet.To && len(r.errs) == 0 {
				r.fault(r.place(n), "hours that leave some of the day, or every: never", "nothing would ever be looked at")
			}
		}},
	)
}

// ownSchedule reads how often one server, or one group, is looked at.
func (r *reader) ownSchedule(n *yaml.Node, into **time.Duration) {
	r.fields(n, "schedule", field{"every", true, func(n *yaml.Node) {
		var every time.Duration
		if r.interval(n, &every, leastEvery) {
			*into = &every
		}
	}})
}

// intervals are written as a number of minutes, hours or days.
var intervals = regexp.MustCompile(`^([1-9][0-9]{0,4})(m|h|d)$`)

// interval reads a while; never is 0.
func (r *reader) interval(n *yaml.Node, into *time.Duration, least time.Duration) bool {
	expected := fmt.Sprintf("a while such as 30m, 6h or 1d, from %s to %s, or never", Interval(least), Interval(mostEvery))
	text, ok := r.text(n, expected)
	if !ok {
		return false
	}
	if text == "never" {
		*into = 0
		return true
	}
	m := intervals.FindStringSubmatch(text)
	if m == nil {
		r.fault(r.place(n), expected, "bad interval %q", clip(text))
		return false
	}
	number, _ := strconv.Atoi(m[1]) // five digits at most
	while := time.Duration(number) * map[string]time.Duration{"m": time.Minute, "h": time.Hour, "d": 24 * time.Hour}[m[2]]
	if while < least || while > mostEvery {
		r.fault(r.place(n), expected, "%q is out of bounds", text)
		return false
	}
	*into = while
	return true
}

// everyText writes an interval of one's own; "" for none.
func everyText(every *time.Duration) string {
	if every == nil {
		return ""
	}
	return "every " + Interval(*every)
}

// Interval writes a while as an estate file has it; 0 is never.
func Interval(d time.Duration) string {
	const day = 24 * time.Hour
	switch {
	case d == 0:
		return "never"
	case d%day == 0:
		return fmt.Sprintf("%dd", d/day)
	case d%time.Hour == 0:
		return fmt.Sprintf("%dh", d/time.Hour)
	}
	return fmt.Sprintf("%dm", d/time.Minute)
}

// declaredSchedule is the schedule where the file declares one.
func declaredSchedule(e *Estate) []Schedule {
	if !e.Schedule.Place.Known() {
		return nil
	}
	return []Schedule{e.Schedule}
}

// scheduleItem tells how often is looked.
func scheduleItem(s Schedule) item {
	quiet := ""
	if s.Quiet != nil {
		quiet = s.Quiet.String()
	}
	return item{"of surveys", s.Place, [][2]string{{"every", Interval(s.Every)}, {"troubled", Interval(s.Troubled)},
		{"files", Interval(s.Files)}, {"quiet", quiet}}}
}
