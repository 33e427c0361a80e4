package bench_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"insegna.example/client"
	"insegna.example/internal/servicetest"
	"insegna.example/internal/store/cluster"
)

// served is "insegna serve" as a process with a database of its own.
type served struct {
	cmd  *exec.Cmd
	url  string // of the calls
	dir  string // of the data
	stop func()
}

// serve starts one and signs its keeper in.
func (b *bench) serve(name, address string) (*served, error) {
	v := &served{url: "http://" + address + "/api/v1", dir: filepath.Join(b.dir, name)}
	v.cmd = exec.Command("../bin/insegna", "serve", "--listen", address, "--data", v.dir, "--log-level", "error")
	var out bytes.Buffer
	v.cmd.Stdout, v.cmd.Stderr = &out, os.Stderr
	if err := v.cmd.Start(); err != nil {
		return nil, err
	}
	v.stop = func() { _ = v.cmd.Process.Signal(syscall.SIGTERM); _ = v.cmd.Wait() }
	for range 600 {
		if resp, err := http.Get(v.url + "/ready"); err == nil {
			_ = resp.Body.Close()
			if resp.StatusCode == http.StatusOK {
				break
			}
		}
		time.Sleep(50 * time.Millisecond)
	}
	time.Sleep(300 * time.Millisecond) // the link is printed
	_, link, _ := strings.Cut(out.String(), "/set-up#")
	code, _, _ := strings.Cut(link, "\n")
	return v, servicetest.Admit(b.ctx, "http://"+address, code)
}

// mixed are the reads of people at work.
var mixed = []string{"/today", "/certificates?limit=100", "/bindings?limit=100", "/findings?limit=50",
	"/servers?limit=50",
	"/surveys?limit=20", "/certificates?days_left_max=30&limit=100"}

// answers are what readers got: the 99th percentile of how long answers took, how many
// were turned away with 503 (each counts as the slowest of all), and of how many.
type answers struct {
	slow     time.Duration
	shed, of int
}

func (a answers) String() string {
	if a.shed == 0 {
		return fmt.Sprintf("%d ms", a.slow.Milliseconds())
	}
	return fmt.Sprintf("%d ms, %d of %d turned away", a.slow.Milliseconds(), a.shed, a.of)
}

// reads asks for these at a rate, for a while. An answer that is late does not hold the
// next one up.
func (v *served) reads(each, while time.Duration) (answers, error) {
	var mu sync.Mutex
	var took []time.Duration
	var got answers
	var failed error
	var all sync.WaitGroup
	tick := time.NewTicker(each)
	defer tick.Stop()
	for n, end := 0, time.Now().Add(while); time.Now().Before(end); n++ {
		<-tick.C
		all.Go(func() {
			began := time.Now()
			resp, err := http.Get(v.url + mixed[n%len(mixed)])
			shed := false
			if err == nil {
				_, err = io.Copy(io.Discard, resp.Body)
				_ = resp.Body.Close()
				shed = resp.StatusCode == http.StatusServiceUnavailable
				if resp.StatusCode != http.StatusOK && !shed {
					err = fmt.Errorf("%s: %s", mixed[n%len(mixed)], resp.Status)
				}
			}
			mu.Lock()
			defer mu.Unlock()
			got.of++
			failed = errors.Join(failed, err)
			if shed {
				got.shed++
				return
			}
			took = append(took, time.Since(began))
		})
	}
	all.Wait()
	if len(took) == 0 {
		return got, errors.Join(failed, errors.New("no reader was answered"))
	}
	slices.Sort(took)
	got.slow = took[min(got.of*99/100, len(took)-1)]
	return got, failed
}

// crowd measures what others notice of many readers, of many who follow what
// happens, and of a flood of sign-ins.
func (b *bench) crowd() error {
	const first, count = 26000, 200
	root, stop, err := startRig(first, count, 0)
	if err != nil {
		return err
	}
	defer stop()
	v, err := b.serve("crowd", "127.0.0.1:7391")
	if err != nil {
		return err
	}
	defer v.stop()
	cl, err := client.NewClientWithResponses(v.url)
	if err != nil {
		return err
	}
	applied, err := cl.ApplyEstateWithResponse(b.ctx, client.EstateFile{File: "bench.yaml",
		Text: estateOf(5, first, count, true), Attachments: &map[string]string{"root.pem": root}})
	if err != nil || applied.JSON200 == nil {
		return fmt.Errorf("apply: %w %s", err, applied.Body)
	}
	dsn, err := cluster.Running(b.ctx, filepath.Join(v.dir, "postgres"))
	if err != nil {
		return err
	}
	conn, err := pgx.Connect(b.ctx, dsn)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(context.Background()) }()
	for _, q := range fillSQL {
		if _, err := conn.Exec(b.ctx, q); err != nil {
			return err
		}
	}
	for n := range 5 { // what is surveyed was before
		if err := v.survey(b.ctx, cl, n); err != nil {
			return err
		}
	}
	if _, err := v.reads(300*time.Millisecond, 6*time.Second); err != nil { // each was asked for before
		return err
	}
	surveying := v.surveying(b.ctx, cl)
	busy, err := v.reads(5*time.Millisecond, 20*time.Second)
	surveys := surveying()
	if err != nil {
		return err
	}
	if surveys == 0 {
		return errors.New("no survey ran meanwhile")
	}
	b.figures = append(b.figures, figure{"200 mixed reads a second while surveys run, 99th percentile",
		busy.String(), "< 100 ms on a quiet machine",
		fmt.Sprintf("`insegna serve` with 100,000 certificates and 300,000 bindings stored; today, certificates, bindings, "+
			"findings, servers and surveys in turn for 20 s, while surveys of 200 endpoints, surveyed before, follow each other, "+
			"half a second apart (%d of them). "+
			"Service, PostgreSQL, endpoints and readers share the cores.", surveys), busy.slow < 100*time.Millisecond && busy.shed == 0})

	defer v.surveying(b.ctx, cl)()
	return errors.Join(b.attacked(v, "1,000 who follow what happens", listening),
		b.attacked(v, "a flood of sign-ins", flooding))
}

// survey makes one of a server, to its end.
func (v *served) survey(ctx context.Context, cl *client.ClientWithResponses, n int) error {
	server := fmt.Sprintf("s%d", n)
	started, err := cl.StartSurveyWithResponse(ctx, client.SurveyRequest{Server: &server})
	if err != nil {
		return err
	}
	if started.JSON201 == nil {
		return fmt.Errorf("survey: %s", started.Body)
	}
	return client.FollowSurvey(ctx, http.DefaultClient, v.url, started.JSON201.Id, func(client.Survey) error { return nil })
}

// surveying surveys a part of the estate, again and again, until it is ended; then it
// gives how often.
func (v *served) surveying(ctx context.Context, cl *client.ClientWithResponses) (end func() int) {
	ctx, cancel := context.WithCancel(ctx)
	done, n := make(chan struct{}), 0
	go func() {
		defer close(done)
		for ; ctx.Err() == nil; n++ {
			_ = v.survey(ctx, cl, n%5)
			select {
			case <-time.After(500 * time.Millisecond):
			case <-ctx.Done():
			}
		}
	}()
	return func() int { cancel(); <-done; return n }
}

// attacked compares the reads of others alone and under an attack, in turn.
func (b *bench) attacked(v *served, name string, attack func(context.Context, *served) (func(), error)) error {
	var ratios []float64
	shed, of := 0, 0
	for range 3 {
		alone, err := v.reads(20*time.Millisecond, 5*time.Second)
		if err != nil {
			return err
		}
		ctx, cancel := context.WithCancel(b.ctx)
		end, err := attack(ctx, v)
		if err != nil {
			cancel()
			return err
		}
		under, err := v.reads(20*time.Millisecond, 5*time.Second)
		cancel()
		end()
		if err != nil {
			return err
		}
		ratios = append(ratios, under.slow.Seconds()/alone.slow.Seconds())
		shed, of = shed+under.shed, of+under.of
	}
	b.add("others' answers under "+name+", 99th percentile, against without", median(ratios), " times", "≤ 2",
		"50 mixed reads a second for 5 s without it, then under it, in turn, while surveys follow each other; 100,000 "+
			"certificates and 300,000 bindings stored. Who attacks shares the cores. "+
			fmt.Sprintf("Turned away with 503 under it: %d of %d. ", shed, of)+
			"Rounds: "+spread(ratios)+".", median(ratios) <= 2 && shed == 0)
	return nil
}

// listening lets a thousand follow what happens.
func listening(ctx context.Context, v *served) (func(), error) {
	var all sync.WaitGroup
	begun := make(chan error, 1000)
	for range cap(begun) {
		all.Go(func() {
			req, err := http.NewRequestWithContext(ctx, http.MethodGet, v.url+"/events", nil)
			if err != nil {
				begun <- err
				return
			}
			resp, err := http.DefaultClient.Do(req)
			begun <- err
			if err == nil {
				_, _ = io.Copy(io.Discard, resp.Body)
				_ = resp.Body.Close()
			}
		})
	}
	for range cap(begun) {
		if err := <-begun; err != nil {
			return all.Wait, err
		}
	}
	return all.Wait, nil
}

// flooding lets a hundred addresses guess, five hundred times a second together, from
// a process of its own, so that who is measured does not wait behind them.
func flooding(ctx context.Context, v *served) (func(), error) {
	self, err := os.Executable()
	if err != nil {
		return func() {}, err
	}
	cmd := exec.CommandContext(ctx, self, "flood", v.url)
	return func() { _ = cmd.Wait() }, cmd.Start()
}

// flood guesses until it is ended.
func flood(url string) {
	var all sync.WaitGroup
	for n := range 100 {
		all.Go(func() {
			d := &net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 2, byte(n+1))}}
			c := &http.Client{Transport: &http.Transport{DialContext: d.DialContext}}
			time.Sleep(time.Duration(n) * 2 * time.Millisecond) // not all at once
			for i := 0; ; i++ {
				body := strings.NewReader(fmt.Sprintf(`{"name":"n%d-%d","passphrase":"wrong wrong wrong"}`, n, i))
				if resp, err := c.Post(url+"/session", "application/json", body); err == nil {
					_, _ = io.Copy(io.Discard, resp.Body)
					_ = resp.Body.Close()
				}
				time.Sleep(200 * time.Millisecond)
			}
		})
	}
	all.Wait()
}

// large applies an estate of a hundred thousand hosts.
func (b *bench) large() error {
	v, err := b.serve("large", "127.0.0.1:7392")
	if err != nil {
		return err
	}
	defer v.stop()
	a, err := newAuthority()
	if err != nil {
		return err
	}
	var text strings.Builder
	text.WriteString("estate: Bench\naudiences:\n  - {name: bench, roots: [root.pem]}\nservers:\n")
	for n := range 1000 {
		fmt.Fprintf(&text, "  - {name: s%d, addresses: [10.0.%d.%d], ports: [443]}\n", n, n/250, n%250+1)
	}
	text.WriteString("hosts:\n")
	for n := range 100_000 {
		fmt.Fprintf(&text, "  - {name: h%d.lantern.example, at: [s%d]}\n", n, n%1000)
	}
	cl, err := client.NewClientWithResponses(v.url)
	if err != nil {
		return err
	}
	began := time.Now()
	applied, err := cl.ApplyEstateWithResponse(b.ctx, client.EstateFile{File: "bench.yaml", Text: text.String(),
		Attachments: &map[string]string{"root.pem": string(a.pem())}})
	took := time.Since(began)
	if err != nil || applied.JSON200 == nil {
		return fmt.Errorf("apply: %w %s", err, applied.Body)
	}
	peak, err := highWater(v.cmd.Process.Pid)
	if err != nil {
		return err
	}
	how := "`insegna serve` as a process, its first estate: 1,000 servers and 100,000 hosts in a file of " +
		fmt.Sprintf("%.1f MB", float64(text.Len())/1e6) + "; "
	b.figures = append(b.figures,
		figure{"applying an estate of 100,000 hosts", fmt.Sprintf("%.1f s", took.Seconds()), "< 30 s on a quiet machine",
			how + "from the request to the answer.", took < 30*time.Second},
		figure{"memory of the service when it applies 100,000 hosts", fmt.Sprintf("%.0f MB", peak), "< 400 MB",
			how + "its largest resident size (VmHWM).", peak < 400})
	return nil
}
