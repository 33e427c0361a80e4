package insegna_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"insegna.example/internal/core/check"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/kind/registry"
)

var link = regexp.MustCompile(`\]\(([^)#:]+)\)`)

// TestTheDocsPointAtWhatIsThere follows every relative link and picture, and
// holds that every picture kept is shown somewhere.
func TestTheDocsPointAtWhatIsThere(t *testing.T) {
	docs, err := filepath.Glob("docs/*.md")
	require.NoError(t, err)
	shown := map[string]bool{}
	for _, doc := range append(docs, "README.md", "CONTRIBUTING.md") {
		text, err := os.ReadFile(doc)
		require.NoError(t, err)
		for _, m := range link.FindAllStringSubmatch(string(text), -1) {
			target := filepath.Join(filepath.Dir(doc), m[1])
			assert.FileExists(t, target, "%s points at %s", doc, m[1])
			shown[target] = true
		}
	}
	pictures, err := filepath.Glob("docs/screenshots/*.png")
	require.NoError(t, err)
	assert.Less(t, len(pictures), 20)
	for _, p := range pictures {
		assert.True(t, shown[p], "%s is shown nowhere", p)
	}
}

// TestTheEstateFileGuideNamesEveryKey compares the guide with the schema.
func TestTheEstateFileGuideNamesEveryKey(t *testing.T) {
	guide, err := os.ReadFile("docs/estate-file.md")
	require.NoError(t, err)
	for _, m := range regexp.MustCompile(`(?m)^ +"([a-z_]+)": \{"(?:type|enum|\$ref)`).FindAllStringSubmatch(
		string(estate.Schema(registry.Kinds.Declared())), -1) {
		assert.Contains(t, string(guide), m[1], "docs/estate-file.md says nothing of %s", m[1])
	}
}

// TestEveryFindingSaysHowItIsMended holds the table of the docs against the catalogue, and
// that each rule either mends itself or says why a person has to.
func TestEveryFindingSaysHowItIsMended(t *testing.T) {
	docs, err := os.ReadFile("docs/findings.md")
	require.NoError(t, err)
	for _, r := range check.Rules {
		assert.Equal(t, r.Mends == "", r.Person != "", r.Code)
		assert.Equal(t, r.Mends == "", r.Mends.String() == "", r.Code)
		assert.Contains(t, string(docs), fmt.Sprintf("\n| `%s` | %s | %s | %s |\n", r.Code, r.Severity, r.Meaning, r.Mending()))
	}
	assert.Equal(t, len(check.Rules), strings.Count(string(docs), "\n| `"))
}

// TestWhatWatchesTheFiguresNamesThem holds alerts, the dashboard and the guide against the
// figures there are.
func TestWhatWatchesTheFiguresNamesThem(t *testing.T) {
	code, err := os.ReadFile("internal/httpapi/metrics.go")
	require.NoError(t, err)
	there := map[string]bool{}
	for _, m := range regexp.MustCompile(`newGauge\("([a-z_]+)"`).FindAllStringSubmatch(string(code), -1) {
		there["insegna_"+m[1]] = true
	}
	require.Greater(t, len(there), 10)
	guide, err := os.ReadFile("docs/monitoring.md")
	require.NoError(t, err)
	for name := range there {
		assert.Contains(t, string(guide), "| `"+name+"` |")
	}
	for _, file := range []string{"docs/monitoring.md", "docs/alerts.yaml", "docs/dashboard.json"} {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		for _, name := range regexp.MustCompile(`insegna_[a-z_]+`).FindAllString(string(text), -1) {
			assert.True(t, there[name], "%s names %s, which nobody tells", file, name)
		}
	}
	var dashboard struct {
		Rows []struct {
			Panels []struct{ Title, Drawn, Expression string }
		}
	}
	text, err := os.ReadFile("docs/dashboard.json")
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &dashboard))
	for _, r := range dashboard.Rows {
		for _, p := range r.Panels {
			assert.Contains(t, []string{"number", "line", "parts", "table"}, p.Drawn, p.Title)
			assert.Contains(t, p.Expression, "insegna_", p.Title)
		}
	}
	var alerts struct {
		Groups []struct {
			Rules []struct{ Alert, Expr string }
		}
	}
	text, err = os.ReadFile("docs/alerts.yaml")
	require.NoError(t, err)
	require.NoError(t, yaml.Unmarshal(text, &alerts))
	for _, r := range alerts.Groups[0].Rules {
		assert.NotEmpty(t, r.Alert)
		if !strings.Contains(r.Expr, "absent") {
			assert.Contains(t, string(guide), "| `"+r.Expr+"`", "the guide tells of each")
		}
	}
}

// TestCausesAndRemediesReadAsSentences keeps the catalogue's words in one form.
func TestCausesAndRemediesReadAsSentences(t *testing.T) {
	met := map[check.Code]bool{}
	for _, r := range check.Rules {
		assert.False(t, met[r.Code], "%s is listed twice", r.Code)
		met[r.Code] = true
		assert.Regexp(t, `^[a-z][a-z-]+$`, r.Code)
		assert.GreaterOrEqual(t, r.Severity.Rank(), 0)
		assert.False(t, strings.HasSuffix(r.Meaning, "."), r.Code)
	}
}
