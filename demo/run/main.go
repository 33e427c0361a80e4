// The demo starts Lantern Coast Ferries and a service on loopback, applies the
// estate, runs the first survey, and stays until it is told to stop.
package main

import (
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"insegna.example/internal/standin/process"

	"insegna.example/demo"
)

// main runs the demo, or the clock in its place, until it is interrupted.
func main() {
	dir := flag.String("dir", ".demo", "directory for everything the demo writes")
	program := flag.String("insegna", "bin/insegna", "the program")
	once := flag.Bool("once", false, "end after the first survey")
	clock := flag.Duration("clock", 0,
		"run the clock for so long instead: certificates that live for minutes, under traffic")
	life := flag.Duration("life", 5*time.Minute, "of the clock's certificates")
	disturb := flag.Bool("disturb", false, "kill a worker, stop a server and close the CA while the clock runs")
	report := flag.String("report", "",
		"file for what the clock's visitors met; clock.json in the directory when left out")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	var err error
	if *clock > 0 {
		err = runClock(ctx, *dir, *program,
			times{*clock, *life, *disturb, cmp.Or(*report, filepath.Join(*dir, "clock.json"))})
	} else {
		err = run(ctx, *dir, *program, *once)
	}
	if err != nil && ctx.Err() == nil {
		fmt.Fprintln(os.Stderr, "demo:", err)
		os.Exit(1)
	}
}

// run starts estate and service, surveys once, and keeps both running; with
// once it ends after the survey.
func run(ctx context.Context, dir, program string, once bool) error {
	lock, err := takeDir(dir)
	if err != nil {
		return err
	}
	defer func() { _ = lock.Close() }()
	estate, err := demo.Start(ctx, dir)
	if err != nil {
		return err
	}
	defer estate.Stop()
	s, err := serve(ctx, dir, "data", program, firstPort+estate.Net, "--acme", estate.CrewACME())
	if err != nil {
		return err
	}
	defer s.stop()
	file := estate.File
	if rel, err := filepath.Rel(mustWd(), file); err == nil && !strings.HasPrefix(rel, "..") {
		file = rel
	}
	if err := s.people(ctx); err != nil {
		return err
	}
	drafted, err := drafting(dir, file)
	if err != nil {
		return err
	}
	if s.said.link() != "" { // what was drafted is in force until the wishes come
		drafted = append(drafted, []string{"estate", "apply", filepath.Join(filepath.Dir(file), "draft.yaml")})
	}
	for _, args := range append(drafted, []string{"estate", "apply", file, "--yes"}, []string{"survey", "start"}) {
		if err := s.insegna(ctx, args...); err != nil {
			return err
		}
	}
	if err := s.order(ctx, estate); err != nil {
		return err
	}
	if estate.Unreachable != nil {
		fmt.Printf("\npier-2 is reached as a local server, not over SSH: %v.\n", estate.Unreachable)
	}
	s.welcome(file)
	if once {
		return nil
	}
	select {
	case <-ctx.Done():
		fmt.Println("\nStopping everything the demo started.")
		return nil
	case err := <-estate.Failed():
		return err
	case <-s.process.Done():
		return errors.New("the service ended; see " + s.log)
	}
}

// mains are the main files of the demo's servers.
var mains = []string{"quay-lb/haproxy.cfg", "pier-1/nginx.conf", "pier-2/nginx.conf", "freight-1/httpd.conf", "kiosk-gw/nginx.conf", "crew-gw/nginx.conf"}

// drafting are the commands that draft the demo's servers, and say in what the estate file that
// was written by hand differs: by wishes nobody can see.
func drafting(dir, file string) ([][]string, error) {
	folder := filepath.Dir(file)
	draft := filepath.Join(folder, "draft.yaml")
	if err := os.Remove(draft); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	list := []string{"estate", "draft"}
	for _, main := range mains {
		list = append(list, "--main", filepath.Join(folder, main))
	}
	return [][]string{append(slices.Clone(list), "--roots", filepath.Join(folder, "pki/harbour-root.pem"), "--public", "--out", draft),
		append(slices.Clone(list), "--against", file)}, nil
}

// mustWd is for showing short paths alone, so that a missing one only makes
// them longer.
func mustWd() string {
	wd, err := os.Getwd()
	if err != nil {
		return "/"
	}
	return wd
}

// takeDir looks whether the demo has what it needs, and locks its directory, so
// that two demos do not share one.
func takeDir(dir string) (*os.File, error) {
	if missing := demo.Missing(); len(missing) > 0 {
		return nil, fmt.Errorf("not installed: %s; run: make setup", strings.Join(missing, ", "))
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	lock, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		if errors.Is(err, fs.ErrPermission) {
			return nil, fmt.Errorf("%w; it was made by another user, choose another directory: make demo DIR=.demo-%d", err,
				os.Getuid())
		}
		return nil, err
	}
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		return nil, fmt.Errorf(
			"a demo is running in %s already; stop it, or choose another directory: make demo DIR=.demo-2", dir)
	}
	return lock, nil
}

// running is the service started by the demo.
type running struct {
	program, address, log string
	dir                   string
	process               *process.Process
	said                  said // by the service, to stdout: the first link
}

// firstPort is the console's port of the first demo; others take the next.
const firstPort = 7420

// serve starts a service with its data in a folder of the demo's directory, at
// the first free port from one on.
func serve(ctx context.Context, dir, data, program string, from int, args ...string) (*running, error) {
	s := &running{program: program, dir: dir, log: filepath.Join(dir, strings.Replace(data, "data", "service", 1)+".log")}
	if err := awaitPrevious(ctx, filepath.Join(dir, data, "lock")); err != nil {
		return nil, err
	}
	port, err := freePort(from)
	if err != nil {
		return nil, err
	}
	s.address = net.JoinHostPort("127.0.0.1", strconv.Itoa(port))
	out, err := os.Create(s.log)
	if err != nil {
		return nil, err
	}
	defer func() { _ = out.Close() }()
	cmd := exec.Command(program,
		append([]string{"serve", "--data", filepath.Join(dir, data), "--listen", s.address}, args...)...)
	cmd.Stdout, cmd.Stderr = &s.said, out
	if s.process, err = process.Start(cmd, syscall.SIGTERM); err != nil {
		return nil, err
	}
	if err := s.await(ctx); err != nil {
		s.stop()
		return nil, err
	}
	return s, nil
}

// awaitPrevious waits for the service of a killed demo, which is told to stop
// and does so in good order, to let go of its data directory.
func awaitPrevious(ctx context.Context, path string) error {
	lock, err := os.Open(path)
	if err != nil {
		return nil // no service has been here
	}
	defer func() { _ = lock.Close() }()
	for deadline := time.Now().Add(30 * time.Second); time.Now().Before(deadline); {
		if syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) == nil {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
	return nil // the service itself says what is in its way
}

// freePort looks from the usual port on, so that a second demo gets a port near
// the first one's.
func freePort(from int) (int, error) {
	for p := from; p < from+500; p++ {
		l, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(p)))
		if err == nil {
			return p, l.Close()
		}
	}
	return 0, fmt.Errorf("no free port from %d on", from)
}

// await waits until the service says it is ready, or tells the end of its log
// when it stopped.
func (s *running) await(ctx context.Context) error {
	for deadline := time.Now().Add(90 * time.Second); time.Now().Before(deadline); {
		resp, err := http.Get("http://" + s.address + "/api/v1/ready")
		if err == nil {
			_ = resp.Body.Close()
			if resp.StatusCode == http.StatusOK {
				return nil
			}
		}
		select {
		case <-s.process.Done():
			text, _ := os.ReadFile(s.log)
			return fmt.Errorf("the service did not start: %s", strings.TrimSpace(string(text)))
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
	return errors.New("the service is not ready; see " + s.log)
}

// stop gives the service time to end what it does before it is killed.
func (s *running) stop() {
	s.process.Signal(syscall.SIGTERM)
	select {
	case <-s.process.Done():
	case <-time.After(20 * time.Second):
		s.process.Signal(syscall.SIGKILL)
		<-s.process.Done()
	}
}

// insegna runs one command of the program against the service, as the admin.
func (s *running) insegna(ctx context.Context, args ...string) error {
	fmt.Printf("\n$ insegna %s\n", strings.Join(args, " "))
	cmd := s.command(ctx, admin, args...)
	cmd.Stdout, cmd.Stderr = os.Stdout, os.Stderr
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("insegna %s: %w", strings.Join(args, " "), err)
	}
	return nil
}

// welcome tells what to do next: where the console is, who may sign in, and a
// few commands worth trying.
func (s *running) welcome(file string) {
	at := filepath.Join(s.dir, peopleDir)
	if rel, err := filepath.Rel(mustWd(), at); err == nil && !strings.HasPrefix(rel, "..") {
		at = rel
	}
	service := ""
	if s.address != "127.0.0.1:"+strconv.Itoa(firstPort) {
		service = fmt.Sprintf("  export INSEGNA_SERVICE=http://%s\n", s.address)
	}
	fmt.Printf(`
The console: http://%s

Sign in as marit (admin), tove (operator) or jens (viewer); each one's
passphrase is in a file of that name in %s.

Twelve commands to try in another terminal:
%s  bin/insegna sign-in marit --passphrase-file %s
  bin/insegna today
  bin/insegna binding list --verdict broken,at-odds
  bin/insegna server sites pier-1
  bin/insegna mandate check timetable
  bin/insegna mandate order booking && bin/insegna install booking --everywhere
  bin/insegna https deck-plans.lanterncoast.example --server pier-1
  bin/insegna finding mend --server pier-2 --code chain-incomplete
  bin/insegna visit freight.lanterncoast.example --estate %s
  bin/insegna inspect %s
  bin/insegna order reply %s
  bin/insegna certificate take %s --passphrase-file %s
  bin/insegna ca show crew

To see certificates renewed again and again under traffic: make clock

Ctrl-C stops everything.
`, s.address, at, service, filepath.Join(at, admin), file, filepath.Join(filepath.Dir(file), "freight-1", "ships.pem"),
		filepath.Join(filepath.Dir(file), "inbox", "pilot-station.p7b"), filepath.Join(filepath.Dir(file), "inbox", "kiosks.p12"),
		filepath.Join(filepath.Dir(file), "inbox", "kiosks.passphrase"))
}
