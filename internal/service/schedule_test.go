package service_test

import (
	"crypto/tls"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/client"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/service"
	"insegna.example/internal/servicetest"
)

// watched is a service whose schedule goes by a clock of the test's.
type watched struct {
	*servicetest.Running
	clock atomic.Int64 // ahead of the system's
	met   int64        // newest survey the test knows of
	data  string       // directory of the service's own
}

func startWatched(t *testing.T) *watched {
	w := &watched{}
	w.Running = servicetest.Start(t, func(cfg *service.Config) {
		w.data = cfg.Data
		cfg.Clock = func() time.Time { return time.Now().Add(time.Duration(w.clock.Load())) }
	})
	return w
}

// pass lets time go by, and gives the surveys that the schedule has begun meanwhile, at their end.
func (w *watched) pass(t *testing.T, d time.Duration) (out []string) {
	w.clock.Add(int64(d))
	require.NoError(t, w.Service.BeginScheduled(t.Context()))
	for _, v := range slices.Backward(w.surveys(t)) {
		if v.Id > w.met {
			w.met = v.Id
			last := servicetest.Follow(t, w.URL, v.Id)
			require.Equal(t, client.SurveyStateFinished, last.State)
			text := fmt.Sprintf("%s by %s looked %d", last.Scope, last.BegunBy, last.Done)
			if last.Missed > 0 {
				text += fmt.Sprintf(" missed %d", last.Missed)
			}
			out = append(out, text)
		}
	}
	return out
}

func (w *watched) surveys(t *testing.T) []client.Survey {
	list, err := w.Client.ListSurveysWithResponse(t.Context(), nil)
	require.NoError(t, err)
	return list.JSON200.Items
}

func (w *watched) faces(t *testing.T) (out []string) {
	list, err := w.Client.ListBindingsWithResponse(t.Context(), nil)
	require.NoError(t, err)
	for _, b := range list.JSON200.Items {
		out = append(out, fmt.Sprintf("%s %s: %s", b.Host, b.Verdict, b.Faces.Text))
	}
	return out
}

// TestTheEstateIsLookedAtByItself follows the schedule through days: what is looked at apart,
// what was missed is made up for once, what is in trouble comes more often, quiet hours pass,
// and what was not looked at for too long is shown as stale.
func TestTheEstateIsLookedAtByItself(t *testing.T) {
	t.Parallel()
	w := startWatched(t)
	root := pkitest.CA("root", nil)
	good := pkitest.Leaf(root, "a.lantern.example", pkitest.Valid(-time.Hour, 300*24*time.Hour)).TLS()
	shown := good
	at := servicetest.Serve(t, "127.0.0.1:0", func() *tls.Certificate { return &shown }).Port()
	other := servicetest.Serve(t, "127.0.0.1:0", func() *tls.Certificate { return &good }).Port()
	file := func(quay, more string) string {
		return fmt.Sprintf("estate: Ferries\naudiences:\n  - {name: browsers, roots: [root.pem]}\nservers:\n"+
			"  - {name: quay, addresses: [127.0.0.1], ports: [%d]%s}\n  - {name: pier, addresses: [127.0.0.1], ports: [%d]}\n"+
			"hosts:\n  - {name: a.lantern.example, at: [quay, pier]}\n%s", at, quay, other, more)
	}
	require.NoError(t, w.Service.BeginScheduled(t.Context()), "there is no estate")
	w.Apply(t, file("", ""), root)
	assert.Empty(t, w.pass(t, 50*time.Second))
	plan, err := w.Client.GetScheduleWithResponse(t.Context())
	require.NoError(t, err)
	assert.NotNil(t, plan.JSON200.Parts[0].Next)
	assert.Nil(t, plan.JSON200.Parts[1].Next, "nothing is known to be in trouble")
	assert.Equal(t, []string{"whole estate by insegna looked 4"}, w.pass(t, 11*time.Second), "a minute after it was applied")
	require.Empty(t, w.Findings(t))
	assert.Empty(t, w.pass(t, 6*time.Hour-time.Minute))
	assert.Equal(t, []string{"whole estate by insegna looked 4"}, w.pass(t, time.Minute))
	assert.Equal(t, []string{"whole estate by insegna looked 4 missed 2"}, w.pass(t, 20*time.Hour), "once for all")
	by := w.Survey(t)
	w.met = by.Id
	assert.Equal(t, "keeper", by.BegunBy)
	assert.Empty(t, w.pass(t, 5*time.Hour), "what a person begins counts too")

	// What is in trouble is looked at every hour, and when it is not any more no more.
	shown = pkitest.Leaf(root, "a.lantern.example", pkitest.Valid(-48*time.Hour, -time.Hour)).TLS()
	require.Equal(t, []string{"whole estate by insegna looked 4"}, w.pass(t, time.Hour))
	require.NotEmpty(t, w.Findings(t))
	assert.Empty(t, w.pass(t, 59*time.Minute))
	assert.Equal(t, []string{"what is broken or due by insegna looked 1"}, w.pass(t, time.Minute))
	assert.Equal(t, []string{"whole estate by insegna looked 4"}, w.pass(t, 5*time.Hour), "in trouble or not, all of it is due")
	shown = good
	assert.Equal(t, []string{"what is broken or due by insegna looked 1"}, w.pass(t, time.Hour))
	assert.Empty(t, w.Findings(t))
	assert.Empty(t, w.pass(t, time.Hour))

	// A server with a schedule of its own, and one that is left alone.
	w.Apply(t, file(", schedule: {every: 30m}", "schedule: {every: never}\n"), root)
	assert.Equal(t, []string{"server quay by insegna looked 2"}, w.pass(t, 0), "it is over 30 minutes ago")
	assert.Equal(t, []string{"server quay by insegna looked 2"}, w.pass(t, 30*time.Minute))
	plan, err = w.Client.GetScheduleWithResponse(t.Context())
	require.NoError(t, err)
	require.Len(t, plan.JSON200.Parts, 3)
	assert.Equal(t, "what has no schedule of its own", plan.JSON200.Parts[0].Scope)
	assert.Nil(t, plan.JSON200.Parts[0].Next)
	require.NotNil(t, plan.JSON200.Parts[1].Next)
	assert.Equal(t, 30*time.Minute, plan.JSON200.Parts[1].Next.Sub(*plan.JSON200.Parts[1].Last))

	// A group has one, and the rest of its server goes with the estate.
	grouped := strings.Replace(file("", "schedule: {every: never}\n"), "hosts:\n", "groups:\n  - {name: fast, schedule: {every: 20m}}\nhosts:\n  - {name: b.lantern.example, at: [quay], group: fast}\n", 1)
	w.Apply(t, grouped, root)
	w.met = w.Survey(t).Id
	assert.Empty(t, w.pass(t, 19*time.Minute))
	assert.Equal(t, []string{"group fast by insegna looked 2"}, w.pass(t, time.Minute), "its host, and what the endpoint shows without a name")
	w.Apply(t, strings.Replace(grouped, "schedule: {every: never}", "schedule: {every: 1h, troubled: never}", 1), root)
	both := strings.Join(w.pass(t, time.Hour), "; ") // what both look at is looked at once
	assert.Contains(t, both, "what has no schedule of its own by insegna looked ")
	assert.Contains(t, both, "group fast by insegna looked ")
	w.Apply(t, file("", "schedule: {every: never}\n"), root)
	w.met = w.Survey(t).Id

	// Nothing begins in quiet hours, and what was due then begins behind them.
	now := time.Now().Add(time.Duration(w.clock.Load()))
	quiet := fmt.Sprintf("schedule: {every: 1h, quiet: \"%s-%s\"}\n", now.Format("15:04"), now.Add(3*time.Hour).Format("15:04"))
	w.Apply(t, file("", quiet), root)
	assert.Empty(t, w.pass(t, 2*time.Hour))
	plan, err = w.Client.GetScheduleWithResponse(t.Context())
	require.NoError(t, err)
	assert.True(t, plan.JSON200.QuietNow)
	assert.Equal(t, now.Add(3*time.Hour).Format("15:04"), plan.JSON200.Parts[0].Next.Local().Format("15:04"))
	assert.Equal(t, []string{"whole estate by insegna looked 4"}, w.pass(t, time.Hour), "none was missed: none was to come")

	// Stale is what was not looked at for two intervals: never in agreement, and no longer so
	// once it is looked at.
	agreed := []string{"a.lantern.example agreed: wanted and served agree, configured not read", "a.lantern.example agreed: wanted and served agree, configured not read"}
	stale := "a.lantern.example unknown: configured not read, wanted and served not read of late"
	require.Equal(t, agreed, w.faces(t))
	w.Apply(t, file(", schedule: {every: 1d}", "schedule: {every: never}\n"), root)
	old := func(port uint16, d time.Duration) {
		w.Query(t, `with old as (update sightings set last_seen = $1 where current and target_id in (select t.id from targets t join endpoints e on e.id = t.endpoint_id
			where e.port = $2) returning 1) select count(*) from old`, new(int64), time.Now().Add(time.Duration(w.clock.Load())-d), int(port))
	}
	old(at, 47*time.Hour)
	old(other, 47*time.Hour)
	w.pass(t, 0)
	assert.Equal(t, agreed, w.faces(t))
	w.Apply(t, file(", schedule: {every: never}", "schedule: {every: 12h}\n"), root)
	old(other, 23*time.Hour)
	w.clock.Add(int64(5 * time.Minute))
	require.NoError(t, w.Service.BeginScheduled(t.Context()))
	assert.Equal(t, agreed, w.faces(t), "a server that nobody looks at has its two days")
	w.Apply(t, file(", schedule: {every: 1d}", "schedule: {every: never}\n"), root)
	old(at, 49*time.Hour)
	old(other, 47*time.Hour)
	w.clock.Add(int64(5 * time.Minute))
	require.NoError(t, w.Service.BeginScheduled(t.Context()))
	list := w.faces(t)
	slices.Sort(list)
	assert.Equal(t, []string{agreed[0], stale}, list)
	today, err := w.Client.GetTodayWithResponse(t.Context(), nil)
	require.NoError(t, err)
	assert.Equal(t, 1, today.JSON200.Stale)
	assert.Equal(t, 1, today.JSON200.Bindings.Agreed)
	w.Survey(t)
	assert.Equal(t, agreed, w.faces(t))
}

// TestChangedFilesAreLookedAt has a server read and looked at soon after a file of its
// configuration has changed, one has come or gone, and not when all is as it was read.
func TestChangedFilesAreLookedAt(t *testing.T) {
	w := startWatched(t)
	c := startConfiguredWith(t, w.Running)
	c.look(t)
	w.met = w.surveys(t)[0].Id
	const while = 10 * time.Minute
	assert.Empty(t, w.pass(t, while), "as it was read")
	assert.Empty(t, w.pass(t, while-time.Minute))
	for _, change := range []func(){
		func() { c.lay(t, c.leaf, c.leaf) }, // certificate and key, in a folder above
		func() { c.write(t, "sites/b", "# new\n") },
		func() { require.NoError(t, os.Remove(filepath.Join(c.dir, "sites/b"))) },
		func() { c.write(t, "sites/a", "# nothing\n") },
	} {
		change()
		assert.Equal(t, []string{"server pier by insegna looked 2"}, w.pass(t, while))
		assert.Empty(t, w.pass(t, while))
	}
	c.write(t, "sites/a", "# in between\n")
	assert.Empty(t, w.pass(t, while-time.Minute))
	e, err := c.Client.GetEstateWithResponse(t.Context())
	require.NoError(t, err)
	now := time.Now().Add(time.Duration(w.clock.Load()))
	quiet := fmt.Sprintf("schedule: {every: never, quiet: \"%s-%s\"}\n", now.Format("15:04"), now.Add(time.Hour).Format("15:04"))
	w.Apply(t, e.JSON200.Text+quiet, c.root)
	assert.Empty(t, w.pass(t, while), "it is a quiet hour")
	w.Apply(t, e.JSON200.Text, c.root)
	require.NoError(t, os.RemoveAll(c.dir))
	assert.Len(t, w.pass(t, time.Minute), 1, "all of it is gone")
}
