package insegna_test

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

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
