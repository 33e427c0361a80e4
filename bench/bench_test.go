package bench_test

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"text/template"
	"time"
)

// rounds is how often each side of a comparison is measured.
const rounds = 5

// figure is one line of the report.
type figure struct {
	Name, Got, Wanted, How string
	Met                    bool
}

// Verdict is how a figure stands to what is wanted.
func (f figure) Verdict() string {
	if f.Met {
		return "met"
	}
	return "**not met**"
}

type bench struct {
	ctx     context.Context
	dir     string
	figures []figure
	plan    string
	tb      testing.TB
}

var (
	out  = flag.String("out", "", "file to write the report to")
	only = flag.String("only", "", "only figures whose name holds this; no report is written")
)

// TestMain becomes the rig, or who floods, when a benchmark starts this program again as
// one.
func TestMain(m *testing.M) {
	if len(os.Args) > 3 && os.Args[1] == "rig" && os.Args[2] == "read" {
		if err := readAlone(os.Args[3], os.Args[4]); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	if len(os.Args) == 3 && os.Args[1] == "flood" {
		flood(os.Args[2])
	}
	if len(os.Args) > 1 && os.Args[1] == "rig" {
		rig(os.Args[2:])
		return
	}
	os.Exit(m.Run())
}

// BenchmarkFigures measures every figure once and writes the report.
func BenchmarkFigures(b *testing.B) {
	for range b.N {
		if err := run(b, *out, *only); err != nil {
			b.Fatal(err)
		}
	}
}

func run(tb testing.TB, out, only string) error {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	dir, err := os.MkdirTemp("", "insegna-bench-")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	if err := os.Chmod(dir, 0o755); err != nil {
		return err
	}
	b := &bench{ctx: ctx, dir: dir, tb: tb}
	for _, part := range []struct {
		name string
		run  func() error
	}{{"judging", b.judging}, {"survey", b.survey}, {"silent", b.silent}, {"list", b.list}, {"reading", b.reading},
		{"mending", b.mending}, {"reached", b.reached}, {"drafting", b.drafting}, {"ranging", b.ranging}, {"digest", b.digest}, {"figured", b.figured}, {"scheduled", b.scheduled}, {"foreseen", b.foreseen}, {"drilled", b.drilled}, {"owning", b.owning}, {"orders", b.orders}, {"due", b.due}, {"installing", b.installing}, {"load", b.underLoad},
		{"clock", b.clock}, {"memory", b.memory}, {"crowd", b.crowd}, {"large", b.large}} {
		if !strings.Contains(part.name, only) {
			continue
		}
		fmt.Fprintf(os.Stderr, "bench: %s\n", part.name)
		if err := part.run(); err != nil {
			if ctx.Err() != nil || only != "" {
				return fmt.Errorf("%s: %w", part.name, err)
			}
			fmt.Fprintf(os.Stderr, "bench: %s: %v\n", part.name, err)
			b.figures = append(b.figures, figure{part.name + ": not all of it was measured", "failed", "all of it",
				"It ended with: " + oneLine(err) + ".", false})
		}
	}
	for _, f := range b.figures {
		fmt.Printf("%-58s %-34s wanted %s: %s\n", f.Name, f.Got, f.Wanted, f.Verdict())
	}
	if out == "" || only != "" {
		return nil
	}
	return b.report(out)
}

// oneLine is an error as a cell of a table holds it.
func oneLine(err error) string {
	text, _, cut := strings.Cut(err.Error(), "\n")
	if cut {
		text += " (and more like it)"
	}
	return strings.ReplaceAll(text, "|", "/")
}

func (b *bench) add(name string, got float64, unit, wanted, how string, met bool) {
	b.figures = append(b.figures, figure{name, fmt.Sprintf("%.2f%s", got, unit), wanted, how, met})
}

func median(list []float64) float64 {
	s := slices.Sorted(slices.Values(list))
	return s[len(s)/2]
}

// spread writes the measured values beside their median.
func spread(list []float64) string {
	parts := make([]string, len(list))
	for i, v := range list {
		parts[i] = fmt.Sprintf("%.2f", v)
	}
	return strings.Join(parts, ", ")
}

func (b *bench) report(out string) error {
	t, err := template.New("report").Parse(reportText)
	if err != nil {
		return err
	}
	var text bytes.Buffer
	err = t.Execute(&text,
		map[string]any{"Figures": b.figures, "Plan": b.plan, "Day": time.Now().UTC().Format("2 January 2006"),
			"Machine": machine(), "Rounds": rounds, "Go": runtime.Version()})
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Clean(out), text.Bytes(), 0o644)
}

func machine() string {
	name := "unknown processor"
	info, _ := os.ReadFile("/proc/cpuinfo")
	for line := range strings.SplitSeq(string(info), "\n") {
		if v, ok := strings.CutPrefix(line, "model name\t: "); ok {
			name = v
		}
	}
	return fmt.Sprintf("%d cores of %s, %s", runtime.NumCPU(), name, runtime.GOOS)
}
