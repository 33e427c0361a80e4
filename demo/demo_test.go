package demo_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/client"
	"insegna.example/demo"
	"insegna.example/internal/servicetest"
)

func TestMain(m *testing.M) { servicetest.Main(m) }

// TestEveryFaultIsFoundAndNothingElse compares the table of deliberate faults
// with what a survey of the real servers reports, at the first survey and
// again at the second.
func TestEveryFaultIsFoundAndNothingElse(t *testing.T) {
	e, err := demo.Start(t.Context(), t.TempDir())
	require.NoError(t, err)
	t.Cleanup(e.Stop)
	r := servicetest.Start(t)
	r.ApplyFile(t, e.File)
	var want []string
	for _, f := range demo.Faults {
		want = append(want, fmt.Sprintf("%s %s at %s", f.Code, f.Host, f.Server))
	}
	for range 2 {
		v := r.Survey(t)
		assert.Equal(t, 56, v.Done)
		assert.ElementsMatch(t, want, r.Findings(t))
	}
	resp, err := r.Client.ListFindingsWithResponse(t.Context(), &client.ListFindingsParams{})
	require.NoError(t, err)
	found := map[string]client.Finding{}
	for _, f := range resp.JSON200.Items {
		found[f.Code+" "+f.Host] = f
		assert.Contains(t, f.Place, "estate.yaml:", "a finding names the line that declares its host or server")
		assert.NotEmpty(t, f.Remedy)
	}
	for _, f := range demo.Faults {
		got := found[f.Code+" "+f.Host]
		if f.Port > 0 {
			assert.Contains(t, got.Endpoint, fmt.Sprintf(":%d", f.Port), f.Host)
		}
		spot := ""
		if got.Source != nil {
			spot = strings.TrimPrefix(*got.Source, e.Dir+"/")
		}
		assert.Equal(t, f.Spot, spot, "%s %s", f.Code, f.Host)
	}
}

// TestTwoDemosAtOnce holds that a second one finds addresses of its own.
func TestTwoDemosAtOnce(t *testing.T) {
	one, err := demo.Start(t.Context(), t.TempDir())
	require.NoError(t, err)
	defer one.Stop()
	two, err := demo.Start(t.Context(), t.TempDir())
	require.NoError(t, err)
	defer two.Stop()
	assert.NotEqual(t, one.Addr(10), two.Addr(10))
}
