// Package insegna holds the test of the house rules: who may import whom.
package insegna_test

import (
	"encoding/json"
	"errors"
	"io"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const module = "insegna.example/"

// only names who alone may import a package from outside.
var only = map[string]string{
	"gorm.io/gorm": "internal/store", "github.com/gin-gonic/gin": "internal/httpapi", "github.com/spf13/cobra": "internal/cli", "github.com/riverqueue/river": "internal/work",
}

// above lists what a room may not know: the floors above it.
var above = map[string][]string{
	"internal/core":    {"internal/look", "internal/store", "internal/work", "internal/service", "internal/httpapi", "internal/cli", "internal/standin", "client", "demo"},
	"internal/kind":    {"internal/look", "internal/reach", "internal/store", "internal/work", "internal/service", "internal/httpapi", "internal/cli"},
	"internal/reach":   {"internal/core", "internal/kind", "internal/look", "internal/store", "internal/work", "internal/service", "internal/httpapi", "internal/cli"},
	"internal/acme":    {"internal/store", "internal/work", "internal/service", "internal/httpapi", "internal/cli", "internal/standin"},
	"internal/issue":   {"internal/store", "internal/work", "internal/service", "internal/httpapi", "internal/cli", "internal/standin"},
	"internal/safe":    {"internal/core", "internal/store", "internal/work", "internal/service", "internal/httpapi", "internal/cli"},
	"internal/look":    {"internal/store", "internal/work", "internal/service", "internal/httpapi", "internal/cli"},
	"internal/store":   {"internal/look", "internal/work", "internal/service", "internal/httpapi", "internal/cli"},
	"internal/work":    {"internal/look", "internal/store", "internal/service", "internal/httpapi", "internal/cli"},
	"internal/service": {"internal/httpapi", "internal/cli", "client"},
	"internal/httpapi": {"internal/cli", "client"},
}

// outward are packages that reach outside the process; core imports none (net
// it does, for crypto/x509's address types).
var outward = []string{"net/http", "os", "os/exec", "database/sql", "log", "log/slog", "crypto/rand", "math/rand", "syscall"}

func TestTheHouseRules(t *testing.T) {
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports", "./...").Output()
	require.NoError(t, err)
	packages := 0
	for dec := json.NewDecoder(strings.NewReader(string(out))); ; packages++ {
		var p struct {
			ImportPath string
			Imports    []string
		}
		if err := dec.Decode(&p); errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		checkPackage(t, strings.TrimPrefix(p.ImportPath, module), p.Imports)
	}
	assert.Greater(t, packages, 20)
}

func checkPackage(t *testing.T, path string, imports []string) {
	if strings.HasSuffix(path, "test") {
		return // what only tests use stands outside the house
	}
	for _, imported := range imports {
		for outside, room := range only {
			if imported == outside || strings.HasPrefix(imported, outside+"/") {
				assert.True(t, strings.HasPrefix(path, room), "%s imports %s, only %s may", path, imported, room)
			}
		}
		for room, forbidden := range above {
			for _, f := range forbidden {
				if strings.HasPrefix(path, room) && strings.HasPrefix(strings.TrimPrefix(imported, module), f) && strings.HasPrefix(imported, module) {
					t.Errorf("%s imports %s, which stands above it", path, imported)
				}
			}
		}
		if strings.HasPrefix(path, "internal/core") {
			for _, o := range outward {
				assert.NotEqual(t, o, imported, "%s reaches outside", path)
			}
		}
	}
}
