// Shots takes the pictures of docs/screenshots from a demo of its own: the
// console in headless Chromium, the command line in a terminal window under
// Xvfb.
package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"
)

// main draws the pictures of the README.
func main() {
	out := flag.String("out", "docs/screenshots", "directory for the pictures")
	only := flag.String("only", "", "only pictures whose name holds this")
	flag.Parse()
	if err := run(*out, *only); err != nil {
		fmt.Fprintln(os.Stderr, "shots:", err)
		os.Exit(1)
	}
}

// run starts a demo of its own, draws the console's pages and the commands'
// output, and draws late ones after a certificate was installed.
func run(out, only string) error {
	// Short, as a reader of the pictures would have it.
	dir := filepath.Join(os.TempDir(), "ferries")
	if err := os.Mkdir(dir, 0o755); err != nil {
		return fmt.Errorf("the pictures are made in a folder of their own: %w", err)
	}
	defer func() { _ = os.RemoveAll(dir) }()
	work, err := os.Getwd()
	if err != nil {
		return err
	}
	if err := os.Symlink(filepath.Join(work, "bin"), filepath.Join(dir, "bin")); err != nil {
		return err
	}
	cmd := exec.Command(filepath.Join(work, "bin", "demo"))
	cmd.Dir = dir
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	url, err := start(cmd)
	if err != nil {
		return err
	}
	defer func() { _ = cmd.Process.Signal(syscall.SIGTERM); _ = cmd.Wait() }()
	if err := os.MkdirAll(out, 0o755); err != nil {
		return err
	}
	if err := pages(dir, url, out, only, false); err != nil {
		return err
	}
	if err := terminals(dir, url, out, only); err != nil {
		return err
	}
	return pages(dir, url, out, only, true)
}

// start runs the demo and waits for its welcome, which tells the address.
func start(cmd *exec.Cmd) (url string, err error) {
	stdout, err := cmd.StdoutPipe()
	if err != nil {
		return "", err
	}
	if err := cmd.Start(); err != nil {
		return "", err
	}
	lines := bufio.NewScanner(stdout)
	for lines.Scan() {
		if u, ok := strings.CutPrefix(lines.Text(), "The console: "); ok {
			url = u
		}
		if strings.HasPrefix(lines.Text(), "Ctrl-C") {
			go func() {
				for lines.Scan() {
				}
			}()
			return url, nil
		}
	}
	return "", fmt.Errorf("the demo ended before it was ready: %w", cmd.Wait())
}

// page is one picture of the console.
type page struct {
	name, path  string
	width, high int64
	dark        bool
	click       string // XPath to press before the picture
	wait        string // CSS to wait for
	late        bool   // behind the pictures of the command line, of what these did
}

// shots are the console's pictures: where, how large, what must be seen before
// it is taken, and what is pressed first.
var shots = []page{
	{name: "today", path: "/", width: 1280, high: 800, wait: "h1 a"},
	{name: "bindings", path: "/bindings", width: 1280, high: 800, wait: "[aria-label='Bindings by host']"},
	{name: "server", path: "/servers/pier-1", width: 1280, high: 800, wait: "[aria-label=Sites] table",
		click: `//section[@aria-label="Sites"]//thead//th[1]`},
	{name: "server-text", path: "/servers/freight-1", width: 1280, high: 800, wait: "[aria-label='Findings'] a",
		click: `(//section[@aria-label="Findings"]//a[contains(@href, "crane")])[1]`},
	{name: "mandates", path: "/mandates", width: 1280, high: 800, wait: "[aria-label='List of CAs']"},
	{name: "foresee", path: "/foresee", width: 1280, high: 1000, wait: "figure svg path"},
	{name: "by-hand", path: "/mandates/pilot-station", width: 1280, high: 1000, wait: "[aria-label='The certificate request']"},
	{name: "notices", path: "/notices", width: 1280, high: 800, wait: "[aria-label='List of messages'] td"},
	{name: "report", path: "/api/v1/report?format=html", width: 1280, high: 1000, wait: "svg"},
	{name: "mail", path: "@sink/?n=1", width: 1280, high: 800, wait: "section"},
	{name: "mending", path: "/mending?server=pier-1", width: 1280, high: 800, dark: true, wait: "[aria-label='Mends itself'] li"},
	{name: "installation", path: "/installations/10", width: 1280, high: 800, late: true, wait: "[aria-label=Steps]"},
	{name: "certificate", path: "/certificates", width: 1280, high: 800, wait: "[role=gridcell]",
		click: `//*[@role="row"][.//*[contains(@title, "menu.")]]`},
}

// sinkAt is the address of the demo's mail in its estate file.
var sinkAt = regexp.MustCompile(`127\.20\.[0-9]+\.41:8025`)

// pages opens the pages in one browser without a window; it reaches this
// service and nothing else.
func pages(dir, url, out, only string, late bool) error {
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath("/usr/bin/chromium"), chromedp.NoSandbox,
		chromedp.Flag("host-resolver-rules", "MAP * ~NOTFOUND, EXCLUDE 127.*"),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("no-pings", true),
		chromedp.Flag("font-render-hinting", "none"), chromedp.Env("TZ=UTC", "LANG=C.UTF-8"))
	actx, stop := chromedp.NewExecAllocator(context.Background(), opts...)
	defer stop()
	browser, cancel := chromedp.NewContext(actx)
	defer cancel()
	if err := chromedp.Do(browser); err != nil {
		return err
	}
	session, err := signIn(url, dir)
	if err != nil {
		return err
	}
	for _, p := range shots {
		if !strings.Contains(p.name, only) || p.late != late {
			continue
		}
		if rest, is := strings.CutPrefix(p.path, "@sink"); is { // where the demo's mail can be read
			text, err := os.ReadFile(filepath.Join(dir, ".demo", "estate.yaml"))
			if err != nil {
				return err
			}
			p.path = "http://" + string(sinkAt.Find(text)) + rest
		}
		if err := shoot(browser, session, url, out, p); err != nil {
			return fmt.Errorf("%s: %w", p.name, err)
		}
	}
	return nil
}

// signIn gives the secret of a session of the demo's admin.
func signIn(url, dir string) (string, error) {
	passphrase, err := os.ReadFile(filepath.Join(dir, ".demo", "people", "marit"))
	if err != nil {
		return "", err
	}
	body, err := json.Marshal(map[string]string{"name": "marit", "passphrase": strings.TrimSpace(string(passphrase))})
	if err != nil {
		return "", err
	}
	resp, err := http.Post(url+"/api/v1/session", "application/json", bytes.NewReader(body))
	if err != nil {
		return "", err
	}
	defer func() { _ = resp.Body.Close() }()
	if len(resp.Cookies()) == 0 {
		return "", fmt.Errorf("signing in: %s", resp.Status)
	}
	return resp.Cookies()[0].Value, nil
}

// addressOf is a path at the console, or a whole address.
func addressOf(url, path string) string {
	if strings.HasPrefix(path, "http://") {
		return path
	}
	return url + path
}

// shoot takes one picture, signed in, in a profile of its own, so that no page
// depends on the one before.
func shoot(browser context.Context, session, url, out string, p page) error {
	ctx, cancel := chromedp.NewContext(browser, chromedp.WithNewBrowserContext())
	defer cancel()
	ctx, stop := context.WithTimeout(ctx, 30*time.Second)
	defer stop()
	scheme := "light"
	if p.dark {
		scheme = "dark"
	}
	if _, err := chromedp.Call(ctx, emulation.SetEmulatedMedia,
		emulation.SetEmulatedMediaParams{
			Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: scheme}}}); err != nil {
		return err
	}
	if _, err := chromedp.Call(ctx, network.SetCookie,
		network.SetCookieParams{Name: "insegna_session", Value: session, URL: url}); err != nil {
		return err
	}
	if err := chromedp.Do(ctx, chromedp.EmulateViewport(p.width, p.high), chromedp.Navigate(addressOf(url, p.path)),
		chromedp.WaitVisible(chromedp.CSS(p.wait))); err != nil {
		return err
	}
	if p.click != "" {
		if err := chromedp.Do(ctx, chromedp.Sleep(500*time.Millisecond), chromedp.Click(p.click)); err != nil {
			return err
		}
	}
	if err := chromedp.Do(ctx, chromedp.Sleep(900*time.Millisecond)); err != nil { // fonts and the popover's first frame
		return err
	}
	png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(out, p.name+".png"), png, 0o644)
}

// commands are the command line's pictures, taken of a real terminal.
// What comes before is not shown.
var commands = []struct{ name, line, before string }{
	{"cli-today", "insegna today", ""},
	{"cli-visit", "insegna visit booking.lanterncoast.example --estate .demo/estate.yaml", ""},
	{"cli-https", "insegna https deck-plans.lanterncoast.example --server pier-1 --yes", ""},
	{"cli-wave", "insegna install booking --everywhere --yes | tail -33", "insegna mandate order booking"},
	{"cli-figures", `insegna report | head -9; insegna notice owners; curl -s $CALENDAR | sed -n 8,24p; curl -s -H "$TOKEN" $METRICS | grep -e ^insegna_findings -e ^insegna_bindings{`,
		`export CALENDAR=$(insegna calendar add wall | head -1); export METRICS=${CALENDAR%/calendar*}/metrics
		export TOKEN="Authorization: Bearer $(insegna token make monitoring --scope viewer --days 1 | grep -o 'insegna_[A-Za-z0-9_-]*' | head -1)"`},
	{"cli-mend", "insegna finding mend --server pier-2 --code chain-incomplete --yes", ""},
}

// terminals draws each command in a terminal window and keeps the picture.
func terminals(dir, url, out, only string) error {
	for _, c := range commands {
		if !strings.Contains(c.name, only) {
			continue
		}
		target, err := filepath.Abs(filepath.Join(out, c.name+".png"))
		if err != nil {
			return err
		}
		cmd := exec.Command("bash", "-c", terminalScript, "_", target, c.line, c.before)
		cmd.Dir = dir
		cmd.Env = append(os.Environ(), "PATH="+filepath.Join(dir, "bin")+":"+os.Getenv("PATH"), "INSEGNA_SERVICE="+url,
			"FORCE_COLOR=1", "XDG_CONFIG_HOME="+filepath.Join(dir, ".demo", "sign-ins", "marit"))
		if text, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("%s: %w: %s", c.name, err, text)
		}
	}
	return nil
}

// terminalScript runs a line in a terminal on a virtual screen and takes a
// picture of it.
const terminalScript = `set -eu
eval "$3" >/dev/null 2>&1
tmp=$(mktemp -d); trap 'kill $t $x 2>/dev/null || true; rm -rf "$tmp"' EXIT; t=; x=
mkfifo "$tmp/fifo"
Xvfb -displayfd 9 -screen 0 1280x800x24 -nolisten tcp 9>"$tmp/fifo" 2>/dev/null & x=$!
read -r d <"$tmp/fifo"; export DISPLAY=:$d
LC_ALL=C.UTF-8 TERM=xterm-256color xterm -u8 -geometry 155x48+0+0 -fa 'DejaVu Sans Mono' -fs 9.5 -bg '#12161f' -fg '#f1e9d6' -b 12 -bw 0 +sb \
  -e bash -c 'printf "\e[?25l"; printf "%s\n" "\$ $1"; eval "$1"; touch '"$tmp"'/done; sleep 60' _ "$2" & t=$!
for i in $(seq 600); do [ -e "$tmp/done" ] && break; sleep .05; done
sleep .4; import -window root "$1"`
