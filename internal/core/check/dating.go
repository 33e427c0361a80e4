package check

import (
	"fmt"
	"time"

	"insegna.example/internal/core/lifetime"
)

// dayFormat is how dates are told in causes; evidence has RFC 3339.
const dayFormat = "2 January 2006"

// dating judges the leaf's dates and its length of life.
func dating(s *Subject) {
	if len(s.Chain) == 0 || s.has(OtherSiteAnswers) || s.ownAt() > 0 {
		return
	}
	c := s.leaf()
	valid := Fact{"valid", c.NotBefore.UTC().Format(time.RFC3339) + " to " + c.NotAfter.UTC().Format(time.RFC3339)}
	left := c.NotAfter.Sub(s.At)
	switch {
	case left < 0:
		s.add(Expired, fmt.Sprintf("the certificate ended %s ago, on %s", span(-left), c.NotAfter.UTC().Format(dayFormat)),
			"renew it and install the new one", valid)
	case s.At.Before(c.NotBefore):
		s.add(NotYetValid, fmt.Sprintf("the certificate begins in %s, on %s", span(c.NotBefore.Sub(s.At)),
			c.NotBefore.UTC().Format(dayFormat)), "serve the previous one until then, and check the clocks", valid)
	case left < lifetime.DueWindow(c.NotBefore, c.NotAfter):
		s.add(EndsSoon, fmt.Sprintf("the certificate ends in %s, on %s", span(left), c.NotAfter.UTC().Format(dayFormat)),
			"renew it now and find out why that has not happened", valid)
	}
	if s.public() {
		overLimit(s, valid)
	}
}

// overLimit judges a public certificate's length against the limit in force on
// the day it was issued, not today's.
func overLimit(s *Subject, valid Fact) {
	c := s.leaf()
	limit := lifetime.PublicLimit(c.NotBefore)
	if v := lifetime.Validity(c.NotBefore, c.NotAfter); v > limit {
		s.add(LifetimeOverLimit,
			fmt.Sprintf("valid for %s; public certificates issued on %s may last %d days", beyond(v, limit),
				c.NotBefore.UTC().Format(dayFormat), int(limit/lifetime.Day)),
			"issue it anew with a shorter life; browsers refuse it", valid)
	}
}

// beyond says a duration over a limit of whole days so that what is over it shows.
func beyond(d, limit time.Duration) string {
	if over := d - limit; over < lifetime.Day {
		unit, n := "second", int(over/time.Second)
		switch {
		case over >= time.Hour:
			unit, n = "hour", int(over/time.Hour)
		case over >= time.Minute:
			unit, n = "minute", int(over/time.Minute)
		}
		if n != 1 {
			unit += "s"
		}
		return fmt.Sprintf("%d days and %d %s", int(limit/lifetime.Day), n, unit)
	}
	return span(d)
}

// span says a duration in its largest fitting unit.
func span(d time.Duration) string {
	switch {
	case d >= 2*lifetime.Day:
		return fmt.Sprintf("%d days", int(d/lifetime.Day))
	case d >= 2*time.Hour:
		return fmt.Sprintf("%d hours", int(d/time.Hour))
	case d >= 2*time.Minute:
		return fmt.Sprintf("%d minutes", int(d/time.Minute))
	}
	return fmt.Sprintf("%d seconds", int(d/time.Second))
}
