package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"insegna.example/demo"
	"insegna.example/internal/store/cluster"
)

// times of a run of the clock.
type times struct {
	length, life time.Duration
	disturb      bool
	report       string // file for what the visitors met
}

// What is disturbed, and when in the run.
const (
	killAt, stopAt, closeAt = 0.15, 0.35, 0.55 // parts of its length
	backIn                  = 10               // part of a life after which a worker and a server are started again
	fewest                  = 5                // renewals on each server
)

// away is how long the CA is closed: three minutes where a life is five.
func (t *times) away() time.Duration {
	const most, part = 3 * time.Minute, 4
	if t.life >= 5*time.Minute {
		return most
	}
	return t.life / part
}

// runClock runs two workers on one database over two nginx, an httpd and a HAProxy
// whose certificates live for minutes, with steady visitors, and tells what these met.
func runClock(ctx context.Context, dir, program string, t times) error {
	lock, err := takeDir(dir)
	if err != nil {
		return err
	}
	defer func() { _ = lock.Close() }()
	// every run begins with plain sites
	for _, old := range []string{"tick", "tock", "bell", "gate", "data-1", "data-2", "postgres", configDir, peopleDir, "safe.key"} {
		if err := os.RemoveAll(filepath.Join(dir, old)); err != nil {
			return err
		}
	}
	estate, err := demo.StartClock(ctx, dir, t.life)
	if err != nil {
		return err
	}
	defer estate.Stop()
	db, err := cluster.Start(ctx, filepath.Join(dir, "postgres"), cluster.Options{})
	if err != nil {
		return err
	}
	defer db.Stop()
	c := &clock{times: t, estate: estate, dir: dir, program: program,
		args: []string{"--database", db.DSN(), "--safe-key", filepath.Join(dir, "safe.key")}}
	defer c.stop()
	if err := c.prepare(ctx); err != nil {
		return err
	}
	return c.run(ctx)
}

// clock is a running clock.
type clock struct {
	times
	estate       *demo.Clock
	dir, program string
	args         []string
	workers      []*running
	visitors     []*visitors
	events       []string
}

// stop ends the workers, as an operator would, with SIGTERM.
func (c *clock) stop() {
	for _, w := range c.workers {
		w.stop()
	}
}

// worker starts one of the two services that share the database; each has a
// data folder and port of its own.
func (c *clock) worker(ctx context.Context, n int) (*running, error) {
	args := c.args
	if n == 1 { // the one that is not killed
		args = append(args[:len(args):len(args)], "--proofs", c.estate.Listener())
	}
	return serve(ctx, c.dir, fmt.Sprintf("data-%d", n+1), c.program, firstPort+100+10*c.estate.Net+n, args...)
}

// prepare starts the workers and takes both plain sites to https, as a person
// does.
func (c *clock) prepare(ctx context.Context) error {
	for n := range 2 {
		w, err := c.worker(ctx, n)
		if err != nil {
			return err
		}
		c.workers = append(c.workers, w)
		if n == 0 {
			if err := w.people(ctx); err != nil {
				return err
			}
		}
	}
	s := c.workers[1] // the one that is not killed
	if err := s.quietly(ctx, admin, "sign-in", admin, "--passphrase-file",
		filepath.Join(c.dir, peopleDir, admin)); err != nil {
		return err
	}
	terms := strings.TrimSuffix(c.estate.CADirectory(), "/directory") + "/terms"
	for _, args := range [][]string{{"estate", "apply", c.estate.File},
		{"ca", "agree", "harbour-clock", "--terms", terms}, {"survey", "start"}} {
		if err := s.quietly(ctx, admin, args...); err != nil {
			return err
		}
	}
	for i := range c.estate.Servers {
		server := c.estate.Servers[i]
		if err := s.insegna(ctx, "https", server.Host(), "--server", server.Server, "--mandate", server.Server,
			"--yes"); err != nil {
			return err
		}
		c.visitors = append(c.visitors, &visitors{server: server})
	}
	return nil
}

// tell says and keeps what happened to the estate, for the report.
func (c *clock) tell(format string, args ...any) {
	words := time.Now().UTC().Format("15:04:05") + "  " + fmt.Sprintf(format, args...)
	c.events = append(c.events, words)
	fmt.Println(words)
}

// run lets the visitors come for the length of the run.
func (c *clock) run(ctx context.Context) error {
	fmt.Printf("\nThe clock runs for %s with certificates of %s, two workers, two nginx, an httpd and a HAProxy.\n", c.length, c.life)
	visiting, end := context.WithTimeout(ctx, c.length)
	defer end()
	var all sync.WaitGroup
	for _, v := range c.visitors {
		all.Go(func() { v.visit(visiting, c.estate.Root) })
	}
	disturbed := make(chan error, 1)
	go func() { disturbed <- c.disturbances(visiting) }()
	for tick := time.NewTicker(max(c.length/10, time.Second)); visiting.Err() == nil; {
		select {
		case <-tick.C:
			for _, v := range c.visitors {
				fmt.Println(time.Now().UTC().Format("15:04:05") + "  " + v.count().String())
			}
		case err := <-c.estate.Failed():
			return err
		case <-visiting.Done():
			tick.Stop()
		}
	}
	all.Wait()
	if err := <-disturbed; err != nil || ctx.Err() != nil {
		return errors.Join(err, ctx.Err())
	}
	return c.report()
}

// String is one server's line of the report.
func (n count) String() string {
	return fmt.Sprintf(
		"%s: %d renewals, %d requests, %d failed, %d aside while it was down, %d met an expired certificate", n.Server,
		n.Renewals, n.Requests, n.Failed, n.Aside, n.Expired)
}

// disturbances kill a worker, stop a server and close the CA, one after the
// other, and have each back after a while.
func (c *clock) disturbances(ctx context.Context) error {
	if !c.disturb {
		return nil
	}
	began := time.Now()
	part := func(p float64) time.Duration { return time.Duration(p * float64(c.length)) }
	for _, d := range []struct {
		at          time.Duration
		away        time.Duration
		words, back string
		do          func()
		undo        func() error
	}{
		{part(killAt), c.life / backIn, "a worker is killed", "the worker is started again", func() {
			c.workers[0].process.Stop(syscall.SIGKILL)
		}, func() (err error) {
			c.workers[0], err = c.worker(ctx, 0)
			return err
		}},
		{part(stopAt), c.life / backIn, "the server tock is stopped", "the server tock is started again", func() {
			c.visitors[1].outage.Add(1)
			c.estate.StopServer("tock")
		}, func() error {
			err := c.estate.StartServer(ctx, "tock")
			c.visitors[1].outage.Add(1)
			return err
		}},
		{part(closeAt), c.away(), "the CA is closed", "the CA is open again", c.estate.CloseCA, c.estate.ReopenCA},
	} {
		if !wait(ctx, time.Until(began.Add(d.at))) {
			return nil
		}
		c.tell("%s", d.words)
		d.do()
		if !wait(ctx, d.away) {
			return nil
		}
		if err := d.undo(); err != nil {
			return err
		}
		c.tell("%s", d.back)
	}
	return nil
}

// wait is false when the run was ended meanwhile.
func wait(ctx context.Context, d time.Duration) bool {
	select {
	case <-time.After(d):
		return true
	case <-ctx.Done():
		return false
	}
}

// spoken writes a duration as people do.
func spoken(d time.Duration) string {
	if d%time.Minute == 0 {
		return fmt.Sprintf("%d minutes", int(d.Minutes()))
	}
	return d.String()
}

// report tells what the visitors met, and keeps it in a file; an error
// when it is not what was promised.
func (c *clock) report() error {
	fmt.Printf("\nAfter %s with certificates of %s:\n", c.length, c.life)
	var list []count
	var wrong []error
	for _, v := range c.visitors {
		n := v.count()
		list = append(list, n)
		fmt.Println("  " + n.String())
		if n.Failed > 0 {
			wrong = append(wrong, fmt.Errorf("%s: %d requests failed; the first: %s", n.Server, n.Failed, n.First))
		}
		if n.Renewals < fewest {
			wrong = append(wrong, fmt.Errorf("%s: %d renewals, at least %d are promised", n.Server, n.Renewals, fewest))
		}
	}
	text, err := json.MarshalIndent(map[string]any{"day": time.Now().UTC().Format("2 January 2006"),
		"length": spoken(c.length), "life": spoken(c.life), "disturbed": c.events, "servers": list}, "", "  ")
	if err != nil {
		return err
	}
	return errors.Join(append(wrong, os.WriteFile(c.times.report, append(text, '\n'), 0o644))...)
}
