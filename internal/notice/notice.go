// Package notice puts what happened into messages and hands them over: to people by mail
// (RFC 5321), to programs by webhook.
//
// It knows nothing of rules, records or retries: who is told of what, and when again, is the
// service's. A message is bounded, however much happened.
package notice

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"insegna.example/internal/core/check"
	"insegna.example/internal/core/estate"
)

// Kind is a kind of message.
type Kind string

// The kinds.
const (
	Events Kind = "events" // something happened
	Digest Kind = "digest" // how things stand, once a day
	Test   Kind = "test"   // whether messages come
)

// Line is one thing that is told.
type Line struct {
	Event    estate.NoticeEvent `json:"event"`              // what happened
	Severity check.Severity     `json:"severity,omitempty"` // of a finding
	Number   int64              `json:"number,omitempty"`   // of the finding
	Code     string             `json:"code,omitempty"`     // of the finding
	What     string             `json:"what"`               // host, server, mandate or certificate
	Where    string             `json:"where,omitempty"`    // server and endpoint
	Words    string             `json:"words"`              // one sentence without a full stop
	Remedy   string             `json:"remedy,omitempty"`   // what to do, as a sentence
	Path     string             `json:"path,omitempty"`     // in the console
	At       time.Time          `json:"at"`                 // in UTC
}

// Message is what an owner is told at once.
type Message struct {
	Kind    Kind      `json:"kind"`
	Estate  string    `json:"estate"`         // its name
	Owner   string    `json:"owner"`          // who is told
	At      time.Time `json:"at"`             // in UTC
	Console string    `json:"-"`              // address its links lead to; "" for none
	Lines   []Line    `json:"lines"`          // worst first; at most Most
	More    int       `json:"more,omitempty"` // that are not among the lines
	Counts  Counts    `json:"counts"`         // of all, told or not
	// Standing says how things stand, in a digest; nil elsewhere.
	Standing *Standing `json:"standing,omitempty"`
}

// Counts says how much happened.
type Counts struct {
	Found  map[check.Severity]int     `json:"found,omitempty"`
	Events map[estate.NoticeEvent]int `json:"events,omitempty"` // but findings
}

// Standing is how things stand for an owner.
type Standing struct {
	Open     map[check.Severity]int `json:"open"`     // findings by severity
	Accepted int                    `json:"accepted"` // that are let be
	Bindings int                    `json:"bindings"` // watched
	Worst    []Line                 `json:"worst"`    // open findings, worst first; at most Most
	Ends     []Line                 `json:"ends"`     // certificates in use that end next; at most Most
}

// Most is how many lines a message has at most.
const Most = 50

// Add takes a line in, or counts it where there are enough.
func (m *Message) Add(l Line) {
	if l.Event == estate.NoticeFound {
		if m.Counts.Found == nil {
			m.Counts.Found = map[check.Severity]int{}
		}
		m.Counts.Found[l.Severity]++
	} else {
		if m.Counts.Events == nil {
			m.Counts.Events = map[estate.NoticeEvent]int{}
		}
		m.Counts.Events[l.Event]++
	}
	m.Lines = append(m.Lines, l)
	if len(m.Lines) >= 4*Most {
		m.Settle()
	}
}

// Settle puts the lines in order and keeps the first of them.
func (m *Message) Settle() {
	slices.SortStableFunc(m.Lines, func(a, b Line) int {
		if x, y := rank(&a), rank(&b); x != y {
			return x - y
		}
		return int(a.Number - b.Number)
	})
	if over := len(m.Lines) - Most; over > 0 {
		m.Lines, m.More = slices.Clone(m.Lines[:Most]), m.More+over
	}
}

// rank orders lines: broken findings, what else happened as it matters, the rest.
func rank(l *Line) int {
	if l.Event == estate.NoticeFound && l.Severity == check.Broken {
		return -1
	}
	at := 10 * slices.Index(estate.NoticeEvents, l.Event)
	if l.Event == estate.NoticeFound {
		at += l.Severity.Rank()
	}
	return at
}

// Empty says that nothing happened.
func (m *Message) Empty() bool { return len(m.Lines) == 0 }

// titles name the parts of a message.
var titles = map[estate.NoticeEvent]string{estate.NoticeEnds: "Ends soon", estate.NoticeFailed: "Failed",
	estate.NoticeStale: "Not looked at of late", estate.NoticeAsked: "A CA asks for early renewal", estate.NoticeMended: "Mended",
	estate.NoticeRenewed: "Renewed", estate.NoticeInstalled: "Installed"}

// found names the parts of findings.
var found = map[check.Severity]string{check.Broken: "Broken now", check.Due: "Hurts at a known date", check.Weak: "Works, below good practice",
	check.Note: "Worth knowing"}

// Title names the part of a message a line stands in.
func (l *Line) Title() string {
	if l.Event == estate.NoticeFound {
		return found[l.Severity]
	}
	return titles[l.Event]
}

// Part is the lines under one title.
type Part struct {
	Title string
	Lines []Line
}

// Parts are the lines by title, in order.
func (m *Message) Parts() (list []Part) { return parts(m.Lines) }

func parts(lines []Line) (list []Part) {
	for _, l := range lines {
		if n := len(list); n == 0 || list[n-1].Title != l.Title() {
			list = append(list, Part{Title: l.Title()})
		}
		p := &list[len(list)-1]
		p.Lines = append(p.Lines, l)
	}
	return list
}

// subjectLimit keeps subjects readable in a list, in characters.
const subjectLimit = 120

// Subject is the message in one line.
func (m *Message) Subject() string {
	var list []string
	switch m.Kind {
	case Test:
		return fmt.Sprintf("[%s] a test: messages to %s come", oneLine(m.Estate), m.Owner)
	case Digest:
		for _, s := range check.Severities[:2] {
			if n := m.Standing.Open[s]; n > 0 {
				list = append(list, fmt.Sprintf("%d %s", n, s))
			}
		}
		if list == nil {
			list = []string{"nothing is broken or due"}
		}
		return fmt.Sprintf("[%s] %s: %s", oneLine(m.Estate), m.At.Format("Monday 2 January"), strings.Join(list, ", "))
	}
	for _, s := range check.Severities {
		if n := m.Counts.Found[s]; n > 0 {
			list = append(list, fmt.Sprintf("%d %s", n, s))
		}
	}
	for _, e := range estate.NoticeEvents {
		if n := m.Counts.Events[e]; n > 0 {
			list = append(list, map[estate.NoticeEvent]string{estate.NoticeEnds: fmt.Sprintf("%d about to end", n),
				estate.NoticeFailed: fmt.Sprintf("%d failed", n), estate.NoticeStale: "not looked at of late",
				estate.NoticeAsked: fmt.Sprintf("%d to be renewed early", n), estate.NoticeMended: fmt.Sprintf("%d mended", n),
				estate.NoticeRenewed: fmt.Sprintf("%d renewed", n), estate.NoticeInstalled: fmt.Sprintf("%d installed", n)}[e])
		}
	}
	text := fmt.Sprintf("[%s] %s", oneLine(m.Estate), strings.Join(list, ", "))
	if len(m.Lines) > 0 {
		text += ": " + oneLine(m.Lines[0].What)
		if n := len(m.Lines) + m.More - 1; n > 0 {
			text += fmt.Sprintf(" and %d more", n)
		}
	}
	if runes := []rune(text); len(runes) > subjectLimit {
		text = string(runes[:subjectLimit-1]) + "…"
	}
	return text
}

// oneLine makes text fit for a header and a terminal.
func oneLine(s string) string {
	return strings.Map(func(c rune) rune {
		if c < ' ' || c >= 0x7f && c < 0xa0 {
			return ' '
		}
		return c
	}, s)
}

// Payload is the message for programs: JSON.
func (m *Message) Payload() ([]byte, error) {
	type message Message // without its methods
	return json.Marshal(struct {
		*message
		Subject string `json:"subject"`
		Console string `json:"console,omitempty"`
	}{(*message)(m), m.Subject(), m.Console})
}
