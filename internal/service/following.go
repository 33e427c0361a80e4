package service

import (
	"context"
	"sync"
	"time"

	"insegna.example/internal/core/fault"
	"insegna.example/internal/store"
)

// Following is the room of those who follow what happens: one reader of the
// records for all of them, however many there are.
type Following struct {
	base

	mu       sync.Mutex                      // guards the listeners
	surveys  map[int64]map[chan *Survey]bool // who follows a survey
	events   map[chan *Events]bool           // who follows everything
	reading  bool                            // the reader runs; it ends when nobody follows
	lastRead int64                           // number of the last event that was passed on
}

// Pace of the reader, and how far somebody may lag behind before the stream to
// them is ended.
const (
	followEach  = 250 * time.Millisecond
	manyFollow  = 100         // from so many on, the pace is another
	followMany  = time.Second // that one
	eventsAhead = 1000
	turnsAhead  = 16
	mostFollow  = 4000
)

// Events is what happened between two turns of the reader, the same for all who
// follow: it is put into its form once.
type Events struct {
	List []Event

	once sync.Once
	text []byte
}

// As gives the events in a form, which is made by whoever asks first.
func (e *Events) As(form func([]Event) []byte) []byte {
	e.once.Do(func() { e.text = form(e.List) })
	return e.text
}

// ErrManyFollow says that nobody more can follow what happens.
var ErrManyFollow = fault.New(fault.Busy, "Busy", "too many follow what happens already", "try again in a moment")

// FollowSurvey gives a survey's progress as it changes, until it is finished or
// the context ends: then the channel is closed. Who lags behind misses what lies
// between, never the end.
func (s *Following) FollowSurvey(ctx context.Context, id int64) (<-chan *Survey, error) {
	v, err := s.store.Survey(ctx, id)
	if err != nil {
		return nil, err
	}
	ch := make(chan *Survey, 1)
	ch <- v
	if v.State == store.Finished {
		close(ch)
		return ch, nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.following() >= mostFollow {
		return nil, ErrManyFollow
	}
	if s.surveys[id] == nil {
		s.surveys[id] = map[chan *Survey]bool{}
	}
	s.surveys[id][ch] = true
	s.begin()
	context.AfterFunc(ctx, func() { s.leaveSurvey(id, ch) })
	return ch, nil
}

// FollowEvents gives what happens from now on, until the context ends: then the
// channel is closed, as it is for who lags far behind.
func (s *Following) FollowEvents(ctx context.Context) (<-chan *Events, error) {
	last, err := s.store.LastEvent(ctx)
	if err != nil {
		return nil, err
	}
	ch := make(chan *Events, turnsAhead)
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.following() >= mostFollow {
		return nil, ErrManyFollow
	}
	if len(s.events) == 0 {
		s.lastRead = last
	}
	s.events[ch] = true
	s.begin()
	context.AfterFunc(ctx, func() { s.leaveEvents(ch) })
	return ch, nil
}

// following counts who follows anything; the lock is held.
func (s *Following) following() int {
	n := len(s.events)
	for _, list := range s.surveys {
		n += len(list)
	}
	return n
}

// leaveSurvey ends the stream of a survey to somebody.
func (s *Following) leaveSurvey(id int64, ch chan *Survey) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.surveys[id][ch] {
		s.dropSurvey(id, ch)
	}
}

// leaveEvents ends the stream of events to somebody.
func (s *Following) leaveEvents(ch chan *Events) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.events[ch] {
		delete(s.events, ch)
		close(ch)
	}
}

// dropSurvey takes a follower of a survey out; the lock is held.
func (s *Following) dropSurvey(id int64, ch chan *Survey) {
	if delete(s.surveys[id], ch); len(s.surveys[id]) == 0 {
		delete(s.surveys, id)
	}
	close(ch)
}

// begin starts the reader when it does not run; the lock is held.
func (s *Following) begin() {
	if s.reading {
		return
	}
	s.reading = true
	go s.read()
}

// read reads for all who follow, until nobody does.
func (s *Following) read() {
	tick := time.NewTicker(followEach)
	defer tick.Stop()
	for range tick.C {
		s.mu.Lock()
		if tick.Reset(followEach); s.following() >= manyFollow {
			tick.Reset(followMany)
		}
		var ids []int64
		for id := range s.surveys {
			ids = append(ids, id)
		}
		after, listening := s.lastRead, len(s.events) > 0
		if len(ids) == 0 && !listening {
			s.reading = false
			s.mu.Unlock()
			return
		}
		s.mu.Unlock()
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		s.passOn(ctx, ids, after, listening)
		cancel()
	}
}

// passOn reads once and gives everybody their part. What cannot be read now is
// read at the next turn.
func (s *Following) passOn(ctx context.Context, ids []int64, after int64, listening bool) {
	if len(ids) > 0 {
		if list, err := s.store.SurveysByID(ctx, ids); err == nil {
			s.mu.Lock()
			for i := range list {
				s.passSurvey(&list[i])
			}
			s.mu.Unlock()
		}
	}
	if !listening {
		return
	}
	list, err := s.store.Events(ctx, after, eventsAhead)
	if err != nil || len(list) == 0 {
		return
	}
	all := &Events{List: list}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.lastRead = list[len(list)-1].ID
	for ch := range s.events {
		select {
		case ch <- all:
		default: // far behind
			delete(s.events, ch)
			close(ch)
		}
	}
}

// passSurvey gives a survey's state to those who follow it, in the place of one
// they have not taken yet; the lock is held.
func (s *Following) passSurvey(v *Survey) {
	for ch := range s.surveys[v.ID] {
		select {
		case <-ch:
		default:
		}
		ch <- v
		if v.State == store.Finished {
			s.dropSurvey(v.ID, ch)
		}
	}
}
