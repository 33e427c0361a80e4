package httpapi

import (
	"bytes"
	"crypto/rand"
	"embed"
	"encoding/base64"
	"errors"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"strings"

	"github.com/gin-gonic/gin"
)

//go:embed all:dist
var dist embed.FS

// nonceMark is what the build puts where each answer's nonce belongs.
const nonceMark = "__CSP_NONCE__"

// policy lets the console load what is its own and nothing else, and no page
// frame it.
const policy = "default-src 'none'; script-src 'self'; style-src 'self' 'nonce-" + nonceMark +
	"'; font-src 'self'; img-src 'self' data:; connect-src 'self'; " +
	"manifest-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'; require-trusted-types-for 'script'"

// notBuilt is shown when the program was compiled without its console.
const notBuilt = `<!doctype html><html lang="en"><title>Insegna</title><h1>The console was not built into this program</h1><p>Run <code>make build</code>. The command line and the calls under /api/v1 work without it.</p></html>`

// console is the built console, embedded in the program.
type console struct {
	files fs.FS  // as built
	index []byte // the page every path of the console begins with
}

// newConsole works without a built console too, and then serves a page that
// says how to build it.
func newConsole() (*console, error) {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		return nil, err
	}
	index, err := fs.ReadFile(files, "index.html")
	if errors.Is(err, fs.ErrNotExist) {
		index, err = []byte(notBuilt), nil
	}
	return &console{files, index}, err
}

// pages are the first parts of the console's paths.
var pages = map[string]bool{"": true, "index.html": true, "bindings": true, "certificates": true, "servers": true,
	"mandates": true, "cas": true, "installations": true, "https": true, "surveys": true, "findings": true, "notices": true, "estate": true, "mending": true, "waves": true, "foresee": true, "drills": true, "journal": true, "settings": true,
	"sign-in": true, "set-up": true, "assets": true, "favicon.svg": true}

// has says whether a path is a place inside the console; whatever else is asked
// for is answered as a program expects it.
func (p *console) has(at string) bool {
	first, _, _ := strings.Cut(strings.TrimPrefix(path.Clean(at), "/"), "/")
	return pages[first]
}

// serve answers with a built file under /assets, and with the page for every
// other path, which is a place inside the console.
func (p *console) serve(c *gin.Context, status int) {
	if c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead {
		write(c, methodProblem(c.Request.Method))
		return
	}
	name := strings.TrimPrefix(path.Clean(c.Request.URL.Path), "/")
	if strings.HasPrefix(name, "assets/") || name == "favicon.svg" {
		p.asset(c, name)
		return
	}
	nonce := make([]byte, 18)
	_, _ = rand.Read(nonce) // never fails, crypto/rand's contract
	text := base64.StdEncoding.EncodeToString(nonce)
	c.Header("Content-Security-Policy", strings.ReplaceAll(policy, nonceMark, text))
	c.Header("Cache-Control", "no-store")
	c.Data(status, "text/html; charset=utf-8", bytes.ReplaceAll(p.index, []byte(nonceMark), []byte(text)))
}

// encodings are what files were compressed to when built, best first.
var encodings = []struct{ name, suffix string }{{"br", ".br"}, {"gzip", ".gz"}}

// asset serves a file whose name holds its hash, in the smallest form the
// client takes.
func (p *console) asset(c *gin.Context, name string) {
	kind := mime.TypeByExtension(path.Ext(name))
	if strings.HasSuffix(name, ".woff2") {
		kind = "font/woff2"
	}
	if strings.HasPrefix(name, "assets/") {
		c.Header("Cache-Control", "public, max-age=31536000, immutable")
	}
	c.Header("Vary", "Accept-Encoding")
	for _, e := range encodings {
		if !strings.Contains(c.GetHeader("Accept-Encoding"), e.name) {
			continue
		}
		if data, err := fs.ReadFile(p.files, name+e.suffix); err == nil {
			c.Header("Content-Encoding", e.name)
			c.Data(http.StatusOK, kind, data)
			return
		}
	}
	data, err := fs.ReadFile(p.files, name)
	if err != nil {
		c.Header("Cache-Control", "no-store")
		write(c, notFoundProblem("no such file"))
		return
	}
	c.Data(http.StatusOK, kind, data)
}
