// Package insegna holds the tests of the house: who may import whom, and who
// may name a kind of server.
package insegna_test

import (
	"encoding/json"
	"errors"
	"io"
	"os"
	"os/exec"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/kind/registry"
)

const module = "insegna.example/"

// room is a part of the house and all it may import: other rooms of this
// module, and packages from outside by the beginning of their path. What is not
// listed may not be imported. A room's folders belong to it unless they are rooms
// of their own.
type room struct {
	path    string
	rooms   string // parted by spaces
	outside string
}

// house lists every room. Core is listed with its standard library too: it
// computes, and reaches nothing.
var house = []room{
	{"internal/core", "internal/core",
		"github.com/maypok86/otter go.yaml.in/yaml golang.org/x/crypto/cryptobyte golang.org/x/crypto/ocsp " +
			"golang.org/x/crypto/scrypt golang.org/x/net/idna " +
			"golang.org/x/text/unicode/norm"},
	{"internal/kind", "internal/core internal/install internal/reach", ""},
	{"internal/kind/source", "internal/core internal/kind internal/reach", "golang.org/x/sync"},
	{"internal/kind/nginx", "internal/core internal/install internal/install/files internal/kind internal/kind/expression " +
		"internal/kind/source internal/reach", "github.com/dlclark/regexp2 golang.org/x/sync"},
	{"internal/kind/expression", "", "github.com/dlclark/regexp2 github.com/maypok86/otter"},
	{"internal/kind/httpd", "internal/core internal/install internal/install/files internal/kind internal/kind/expression " +
		"internal/kind/source internal/reach",
		"github.com/dlclark/regexp2 golang.org/x/sync"},
	{"internal/kind/haproxy", "internal/core internal/install internal/install/files internal/kind " +
		"internal/kind/expression internal/kind/source internal/reach", ""},
	{"internal/kind/registry", "internal/core internal/kind internal/kind/haproxy internal/kind/httpd internal/kind/nginx", ""},
	{"internal/draft", "internal/core internal/kind internal/look internal/reach", "github.com/miekg/dns golang.org/x/sync"},
	{"internal/install", "internal/core", ""},
	{"internal/install/files", "internal/core internal/install internal/kind internal/reach", ""},
	{"internal/look", "internal/core", "golang.org/x/crypto/cryptobyte golang.org/x/crypto/ocsp golang.org/x/sync"},
	{"internal/reach", "", "github.com/pkg/sftp golang.org/x/crypto/ssh"},
	{"internal/acme", "internal/core", "github.com/go-jose/go-jose"},
	{"internal/acme/proof", "internal/reach", "github.com/miekg/dns"},
	{"internal/acme/server", "internal/acme internal/acme/proof internal/core", "github.com/go-jose/go-jose github.com/miekg/dns"},
	{"internal/issue", "internal/core", ""},
	{"internal/issue/acmesource", "internal/acme internal/acme/proof internal/core internal/issue",
		"github.com/miekg/dns"},
	{"internal/issue/ownsource", "internal/core internal/issue", ""},
	{"internal/notice", "internal/core", "github.com/wneessen/go-mail"},
	{"internal/safe", "", ""},
	{"internal/store", "internal/core", "github.com/jackc/pgx github.com/maypok86/otter github.com/pressly/goose gorm.io"},
	{"internal/store/cluster", "", "github.com/jackc/pgx"},
	{"internal/work", "", "github.com/jackc/pgx github.com/riverqueue/river"},
	{"internal/service", "internal/acme internal/acme/proof internal/acme/server internal/core internal/draft internal/install internal/issue " +
		"internal/issue/acmesource internal/issue/ownsource internal/kind internal/kind/registry internal/look internal/notice internal/reach internal/safe " +
		"internal/store internal/store/cluster internal/work",
		"github.com/aymanbagabas/go-udiff github.com/google/uuid github.com/maypok86/otter golang.org/x/crypto/argon2 " +
			"golang.org/x/sync"},
	{"internal/httpapi", "internal/acme/proof internal/acme/server internal/core internal/httpapi/contract internal/kind internal/notice internal/safe " +
		"internal/service", "github.com/arran4/golang-ical github.com/getkin/kin-openapi github.com/gin-gonic/gin github.com/klauspost/compress " +
		"github.com/oapi-codegen/runtime github.com/prometheus"},
	{"internal/httpapi/contract", "",
		"github.com/getkin/kin-openapi github.com/gin-gonic/gin github.com/oapi-codegen/runtime"},
	{"internal/cli", "client internal/core internal/draft internal/httpapi internal/kind/registry internal/look internal/service",
		"github.com/jedib0t/go-pretty github.com/schollz/progressbar github.com/spf13/cobra golang.org/x/sync " +
			"golang.org/x/term"},
	{"internal/standin", "", "github.com/emersion github.com/go-jose/go-jose github.com/miekg/dns golang.org/x/crypto/ssh"},
	{"client", "", "github.com/oapi-codegen/runtime"},
	{"cmd/insegna", "internal/cli", ""},
	{"demo", "demo internal/core internal/standin internal/store/cluster", "github.com/chromedp"},
}

// computing are the packages of the standard library core may use; net is there
// for crypto/x509's addresses.
var computing = strings.Fields("bytes cmp crypto crypto/aes crypto/cipher crypto/des crypto/ecdsa crypto/ed25519 crypto/hmac crypto/md5 " +
	"crypto/pbkdf2 crypto/rc4 crypto/rsa crypto/sha1 crypto/sha256 crypto/sha512 crypto/x509 hash math/bits " +
	"crypto/x509/pkix embed encoding/asn1 encoding/binary encoding/hex encoding/json encoding/pem errors fmt io iter " +
	"maps math/big net net/netip net/url path regexp slices sort strconv strings sync time unicode unicode/utf16 unicode/utf8")

// forTests are packages only tests use; they stand outside the house.
var forTests = regexp.MustCompile(`^internal/[a-z]+test$|^bench$|^$`)

// roomOf finds the room a package belongs to: the longest path that fits.
func roomOf(path string) (found *room) {
	for i := range house {
		if r := &house[i]; (path == r.path || strings.HasPrefix(path, r.path+"/")) &&
			(found == nil || len(r.path) > len(found.path)) {
			found = r
		}
	}
	return found
}

// may says whether a room's packages may import a path.
func (r *room) may(imported string) bool {
	if own, ok := strings.CutPrefix(imported, module); ok {
		to := roomOf(own)
		return to != nil && (to == r || slices.Contains(strings.Fields(r.rooms), to.path))
	}
	if first, _, _ := strings.Cut(imported, "/"); !strings.Contains(first, ".") { // the standard library
		return r.path != "internal/core" || slices.Contains(computing, imported)
	}
	return slices.ContainsFunc(strings.Fields(r.outside),
		func(prefix string) bool { return imported == prefix || strings.HasPrefix(imported, prefix+"/") })
}

// TestTheHouseRules holds every import of every package against the list.
func TestTheHouseRules(t *testing.T) {
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports", "./...").Output()
	require.NoError(t, err)
	met := map[string]bool{}
	for dec := json.NewDecoder(strings.NewReader(string(out))); ; {
		var p struct {
			ImportPath string
			Imports    []string
		}
		if err := dec.Decode(&p); errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		path := strings.TrimPrefix(p.ImportPath+"/", module)
		path = strings.TrimSuffix(path, "/")
		if forTests.MatchString(path) {
			continue
		}
		r := roomOf(path)
		if !assert.NotNil(t, r, "%s stands in no room", path) {
			continue
		}
		met[r.path] = true
		for _, imported := range p.Imports {
			assert.True(t, r.may(imported), "%s imports %s, which %s may not", path, imported, r.path)
		}
	}
	for _, r := range house {
		assert.True(t, met[r.path], "the room %s is empty", r.path)
	}
}

// TestAForbiddenImportIsToldAnywhere tries, for every room, rooms and packages
// that are not listed.
func TestAForbiddenImportIsToldAnywhere(t *testing.T) {
	outside := []string{"gorm.io/gorm", "github.com/gin-gonic/gin", "github.com/spf13/cobra",
		"github.com/riverqueue/river", "example.org/anything"}
	only := map[string]string{"gorm.io/gorm": "internal/store", "github.com/spf13/cobra": "internal/cli",
		"github.com/riverqueue/river": "internal/work"}
	for i := range house {
		r := &house[i]
		for j := range house {
			other := &house[j]
			listed := other == r || slices.Contains(strings.Fields(r.rooms), other.path)
			assert.Equal(t, listed, r.may(module+other.path), "%s and %s", r.path, other.path)
		}
		assert.False(t, r.may(module+"internal/pkitest"), r.path)
		for _, o := range outside {
			if room := only[o]; room != "" {
				assert.Equal(t, room == r.path, r.may(o), "%s and %s", r.path, o)
			}
		}
		assert.False(t, r.may("example.org/anything"), r.path)
		assert.Equal(t, r.path != "internal/core", r.may("os/exec"), r.path)
	}
}

// kindWords are names and directives by which one recognises a kind of server.
var kindWords = regexp.MustCompile(
	`(?i)nginx|httpd|haproxy|apache|server_name|ssl_certificate|ssl_reject|proxy_pass|listen directive|sites?-(available|enabled)|\blocation [/^~]|"(windows|ingress|edge|stream)"`)

// kindRooms are where kinds may be named: their own folders, their registration,
// and what is made up.
var kindRooms = regexp.MustCompile(`^(internal/kind/[a-z]+/|internal/standin/|demo/|bench/)`)

// TestAKindIsNamedInItsFolderAlone looks through every Go file that is no test,
// and holds that the words to look for still fit the kinds that are registered.
func TestAKindIsNamedInItsFolderAlone(t *testing.T) {
	files, err := exec.Command("git", "ls-files", "*.go").Output()
	require.NoError(t, err)
	seen := 0
	for _, file := range strings.Fields(string(files)) {
		if strings.HasSuffix(file, "_test.go") || strings.HasSuffix(file, ".gen.go") || kindRooms.MatchString(file) ||
			regexp.MustCompile(`^internal/[a-z]+test/`).MatchString(file) {
			continue
		}
		text, err := os.ReadFile(file)
		if errors.Is(err, os.ErrNotExist) {
			continue // removed and not committed yet
		}
		require.NoError(t, err)
		seen++
		for n, line := range strings.Split(string(text), "\n") {
			assert.Empty(t, kindWords.FindString(line), "%s:%d names a kind of server: %s", file, n+1, strings.TrimSpace(line))
		}
	}
	assert.Greater(t, seen, 100)
	for _, k := range registry.Kinds[:len(registry.Kinds)-1] {
		assert.Regexp(t, kindWords, `"`+k.Name()+`"`)
	}
}
