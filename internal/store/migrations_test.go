package store_test

import (
	"encoding/json"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/install"
	"insegna.example/internal/servicetest"
	"insegna.example/internal/store"
)

// older is what a service before the words and plans changed left in its
// database: an estate with a credential under its former key, a mandate with its
// order, and installations whose folders hold files under their former names.
const older = `
insert into declarations (name, file, content, files, digest, endpoints, applied_at, current)
	values ('Ferries', 'estate.yaml', convert_to(@content, 'UTF8'), '{}', '\x00', 1, now(), true);
insert into mandates (name, ca, spec, made_by, next_why)
	values ('menu', 'harbour', '{"proof": {"by": "dns", "tsig": {"name": "k", "secret": "tsig"}}, "install": ["quay:8443", "pier", "quay:9443"]}',
		'marit', 'in the window its CA suggests');
insert into orders (mandate_id, ca, rehearsal, spec, state, sealed, by, created_at, finished_at)
	values (1, 'harbour', false, '{"proof": {"tsig": {"name": "k", "secret": "tsig"}}}', 'issued', '\x0102', 'marit', now(), now());
insert into installations (mandate_id, order_id, server, folder, version, before, leaf, edits, test, reload, doors, notes, state, reason,
		by, created_at, started_at, finished_at)
	values (1, 1, 'quay', '/etc/nginx/insegna/menu', 'v2', 'v1', 'aa', '[{"path": "/etc/nginx/n.conf", "before": "a", "after": "b"}]',
		'nginx -t', 'nginx -s reload', '[{"host": "menu.example", "at": "127.0.0.1:8443", "before": "bb"}]', '[]', 'done', '',
		'marit', now(), now(), now()),
	(1, 1, 'pier', '/etc/nginx/insegna/menu', 'v2', '', 'aa', '[]', 'nginx -t', 'nginx -s reload', '[]', '[]', 'returned',
		'taken back by jens', 'marit', now(), now(), now());
insert into vault_marks (key_id, mark, made_at) values ('k1', '\x01', now());
insert into secrets (name, sealed, changed_at) values ('tsig', '\x0304', now());
`

// TestAnOlderDatabaseIsTakenOver brings a database of before up to date with
// rows in it: each word and column that was renamed keeps what it held, and an
// installation made under the former layout has a plan from which its files can
// be found, renewed and taken back.
func TestAnOlderDatabaseIsTakenOver(t *testing.T) {
	dsn := servicetest.Database(t)
	pool, err := pgxpool.New(t.Context(), dsn)
	require.NoError(t, err)
	defer pool.Close()
	p, err := goose.NewProvider(goose.DialectPostgres, stdlib.OpenDBFromPool(pool), os.DirFS("migrations"))
	require.NoError(t, err)
	_, err = p.UpTo(t.Context(), 10)
	require.NoError(t, err)
	content := "estate: Ferries\nmandates:\n  - {name: menu, proof: {tsig: {name: k, secret: tsig}}}\n"
	conn, err := pool.Acquire(t.Context())
	require.NoError(t, err)
	_, err = conn.Exec(t.Context(), strings.ReplaceAll(older, "@content", "'"+content+"'"))
	conn.Release()
	require.NoError(t, err)

	s, err := store.Open(t.Context(), dsn)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	assert.Equal(t, 1,
		count(t, s, `select count(*) from declarations where convert_from(content, 'UTF8') like '%credential: tsig%'`))
	m, err := s.Mandate(t.Context(), "menu")
	require.NoError(t, err)
	assert.Equal(t, "tsig", m.Spec.Proof.TSIG.Credential)
	assert.Equal(t, 1, count(t, s, `select count(*) from mandates where by_window and servers = '["pier", "quay"]'`))
	o, err := s.Order(t.Context(), 1)
	require.NoError(t, err)
	assert.Equal(t, []byte{1, 2}, o.Encrypted)
	held, err := s.Credential(t.Context(), "tsig")
	require.NoError(t, err)
	assert.Equal(t, []byte{3, 4}, held.Encrypted)
	assert.Equal(t, 1, count(t, s, "select count(*) from safe_marks"))

	done, err := s.Installation(t.Context(), 1)
	require.NoError(t, err)
	assert.Equal(t, "menu.example", done.Bindings[0].Host)
	assert.False(t, done.AskedBack)
	var plan install.Plan
	require.NoError(t, json.Unmarshal(done.Plan, &plan))
	assert.Equal(t, "/etc/nginx/insegna/menu", plan.Where)
	require.Len(t, plan.Files, 1)
	assert.Equal(t, install.File{Path: "/etc/nginx/n.conf", Before: "a", After: "b"}, plan.Files[0])
	var own struct{ Folder, Version, Before, Certificates, Key, Copy, Test, Reload string }
	require.NoError(t, json.Unmarshal(plan.Own, &own))
	assert.Equal(t, "v1", own.Before)
	assert.Equal(t, []string{"chain.pem", "key.pem"}, []string{own.Certificates, own.Key},
		"files keep their names where they are")
	assert.Equal(t, "/etc/nginx/.insegna-menu.", own.Copy)
	assert.Equal(t, []string{"nginx -t", "nginx -s reload"}, []string{own.Test, own.Reload})
	back, err := s.Installation(t.Context(), 2)
	require.NoError(t, err)
	assert.True(t, back.AskedBack, "a person had it taken back: it is not installed again by itself")

	_, err = p.DownTo(t.Context(), 10)
	require.NoError(t, err, "every step has a way back")
	var folder, version, before string
	require.NoError(t, pool.QueryRow(t.Context(), "select folder, version, before from installations where id = 1").
		Scan(&folder, &version, &before))
	assert.Equal(t, []string{"/etc/nginx/insegna/menu", "v2", "v1"}, []string{folder, version, before})
	assert.WithinDuration(t, time.Now(), done.CreatedAt, time.Minute)
}
