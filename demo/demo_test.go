package demo_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

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
	dir := t.TempDir()
	require.NoError(t, os.Chmod(filepath.Dir(dir), 0o755)) // workers of another user read there
	e, err := demo.Start(t.Context(), dir)
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
		assert.Equal(t, 58, v.Done)
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

// TestTheFaultsMendThemselves has every fault that can be mended on its server mended:
// one by one, then, on another estate, all together. What is open afterwards is what
// needs a certificate or a person.
func TestTheFaultsMendThemselves(t *testing.T) {
	mended := func(how demo.Mends) (out []string) {
		for _, f := range demo.Faults {
			if f.Mends == how {
				out = append(out, f.Code+" "+f.Host+" "+f.Server)
			}
		}
		return out
	}
	one := newMender(t)
	older := one.open(t)["differs-from-siblings booking.lanterncoast.example pier-2"]
	without := one.plan(t, client.MendRequest{Findings: &[]int64{older.Id}})
	require.Len(t, without.Left, 1)
	assert.Contains(t, without.Left[0].Reason, "the permission to take private keys")
	one.mayTakeKeys(t)
	plan := one.plan(t, client.MendRequest{})
	var there, renewed, left []string
	for _, v := range plan.Installations {
		for _, m := range v.Mends {
			there = append(there, m.Code+" "+m.Host+" "+v.Server)
		}
	}
	for _, r := range plan.Renewals {
		for _, f := range r.Findings {
			renewed = append(renewed, f.Code+" "+f.Host+" "+f.Server)
		}
	}
	for _, l := range plan.Left {
		left = append(left, l.About.Code+" "+l.About.Host+" "+l.About.Server)
	}
	assert.ElementsMatch(t, mended(demo.There), there)
	assert.ElementsMatch(t, mended(demo.Renewed), renewed)
	assert.ElementsMatch(t, mended(demo.ByAPerson), left)

	other := newMender(t)
	other.mayTakeKeys(t)
	for again := true; again; {
		again = false
		open := other.open(t)
		for _, f := range demo.Faults {
			found, is := open[f.Code+" "+f.Host+" "+f.Server]
			if f.Mends != demo.There || !is {
				continue
			}
			if v := other.plan(t, client.MendRequest{Findings: &[]int64{found.Id}}); len(v.Installations) > 0 {
				other.carry(t, v)
				require.NotContains(t, other.open(t), f.Code+" "+f.Host+" "+f.Server)
				again = true
			}
		}
	}
	one.carry(t, plan)
	// the key that was named by mistake, and the older certificate, lie there for nothing now
	want := append(append(mended(demo.Renewed), mended(demo.ByAPerson)...), "left-over  freight-1", "left-over  pier-2")
	for what, m := range map[string]*mender{"together": one, "one by one": other} {
		var got []string
		for key := range m.open(t) {
			got = append(got, key)
		}
		assert.ElementsMatch(t, want, got, what)
	}
}

// mender is a demo estate of its own with a service that mends it.
type mender struct {
	*servicetest.Running
}

func newMender(t *testing.T) *mender {
	dir := t.TempDir()
	require.NoError(t, os.Chmod(filepath.Dir(dir), 0o755)) // workers of another user read there
	e, err := demo.Start(t.Context(), dir)
	require.NoError(t, err)
	t.Cleanup(e.Stop)
	r := servicetest.Start(t)
	r.ApplyFile(t, e.File)
	r.Survey(t)
	return &mender{r}
}

// mayTakeKeys gives who mends the permission to take private keys.
func (m *mender) mayTakeKeys(t *testing.T) {
	keys := true
	got, err := m.Client.ChangePersonWithResponse(t.Context(), servicetest.Keeper, client.PersonChange{Keys: &keys})
	require.NoError(t, err)
	require.NotNil(t, got.JSON200, string(got.Body))
}

// open are the findings by code, host and server.
func (m *mender) open(t *testing.T) map[string]client.Finding {
	page, err := m.Client.ListFindingsWithResponse(t.Context(), &client.ListFindingsParams{})
	require.NoError(t, err)
	out := map[string]client.Finding{}
	for _, f := range page.JSON200.Items {
		out[f.Code+" "+f.Host+" "+f.Server] = f
	}
	return out
}

func (m *mender) plan(t *testing.T, which client.MendRequest) *client.MendPlan {
	got, err := m.Client.PreviewMendingWithResponse(t.Context(), which)
	require.NoError(t, err)
	require.NotNil(t, got.JSON201, string(got.Body))
	return got.JSON201
}

// carry carries a plan out, and waits until each server was surveyed.
func (m *mender) carry(t *testing.T, plan *client.MendPlan) {
	for _, v := range plan.Installations {
		begun, err := m.Client.BeginInstallationWithResponse(t.Context(), v.Number)
		require.NoError(t, err)
		require.NotNil(t, begun.JSON200, string(begun.Body))
		var now *client.Installation
		require.Eventually(t, func() bool {
			got, err := m.Client.GetInstallationWithResponse(t.Context(), v.Number)
			require.NoError(t, err)
			now = got.JSON200
			return now.Survey != nil
		}, time.Minute, 50*time.Millisecond)
		require.Equal(t, client.InstallationStateDone, now.State, "%s: %s", v.Server, now.Reason)
		servicetest.Follow(t, m.URL, *now.Survey)
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
