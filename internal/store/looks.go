package store

import (
	"bytes"
	"context"
	"crypto/sha256"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"

	"insegna.example/internal/core/binding"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/check"
)

// Look is one target looked at and judged, to be stored.
type Look struct {
	Target    Target               // looked at
	Seen      *binding.Observation // what came back
	Judgement *check.Judgement     // what follows from it
}

// certificateRow is a certificate met for the first time.
type certificateRow struct {
	Sha256, Der         []byte    // of the DER, and the DER
	CommonName, Issuer  string    // made fit for text
	Names               []string  // it covers
	NotBefore, NotAfter time.Time // in UTC
	Key, Serial         string    // kind and size; serial in hexadecimal
	IsCa                bool      // by its basic constraints
}

// chainRow is a list of certificates as served, stored once however many
// endpoints serve it.
type chainRow struct {
	Sha256       []byte   // over the fingerprints, in order
	Certificates [][]byte // their fingerprints
}

// sightingRow is a span of time in which a target showed the same.
type sightingRow struct {
	ID          int64     // of the span
	TargetID    int64     // looked at
	Vantage     string    // looked at from
	Outcome     string    // of the look
	Alert       int       // TLS's number, 0 for none
	Detail      string    // for people
	Chain       []byte    // nil when nothing was served
	Leaf        []byte    // nil when nothing was served
	Version     int       // number of TLS
	Suite       int       // number of the cipher suite
	KeyGroup    int       // number of the group
	Alpn        string    // protocol chosen
	Stapled     bool      // an OCSP answer came along
	ConnectUs   int64     // microseconds
	HandshakeUs int64     // microseconds
	FirstSeen   time.Time // of the span
	LastSeen    time.Time // of the span
	FirstSurvey int64     // of the span
	LastSurvey  int64     // of the span
	Current     bool      // the span goes on
}

// TableName is GORM's name for the table.
func (sightingRow) TableName() string { return "sightings" }

// same says whether two sightings tell the same. The detail is left out: it
// may hold a count of bytes or a time.
func (r *sightingRow) same(o *sightingRow) bool {
	return r.Outcome == o.Outcome && r.Alert == o.Alert && bytes.Equal(r.Chain, o.Chain) && r.Version == o.Version &&
		r.Suite == o.Suite && r.KeyGroup == o.KeyGroup && r.Alpn == o.Alpn && r.Stapled == o.Stapled
}

// batch is what one SaveLooks works out before it writes.
type batch struct {
	ctx                   context.Context        // of the job
	tx                    pgx.Tx                 // everything below is written in it
	survey                int64                  // the looks belong to
	at                    time.Time              // when the batch was begun
	shard                 int                    // number within the survey
	vantage               string                 // looked from
	looks                 []Look                 // to be stored
	kept                  []int64                // sightings that go on
	fresh                 []sightingRow          // spans that begin
	findings              findingChanges         // opened, reworded, closed
	done, conn, changed   int                    // targets, of these connected, of these changed
	touched               []verdictRow           // verdicts that change
	ids                   []int64                // of the targets
	currents              map[int64]*sightingRow // span that goes on, by target
	openByTarget          map[int64][]FindingRow // findings open before
	verdicts              map[int64]verdictRow   // stored before
	certificates          []certificateRow       // not stored yet
	chains                []chainRow             // not stored yet
	queued                pgx.Batch              // statements sent together
	newPrints, newChainID []certs.Fingerprint    // remembered as stored once the transaction holds
}

// verdictRow is what a target comes to: what the last look came to by itself,
// and that set beside its siblings.
type verdictRow struct {
	ID                                  int64  // of the target
	Verdict, Wanted, Configured, Served string // and the three faces
	LookedConfigured, LookedServed      string // faces as the look alone has them
	Hurt                                bool   // a finding of the look is broken
	Leaf                                []byte // served; nil for none
}

// verdictOf works a target's verdict out; older says that it serves an older
// certificate than its siblings.
func verdictOf(id int64, looked binding.Faces, hurt, older bool, leaf []byte) verdictRow {
	shown := looked.BesideSiblings(older)
	return verdictRow{id, string(binding.Judge(shown, hurt)), string(shown.Wanted), string(shown.Configured),
		string(shown.Served),
		string(looked.Configured), string(looked.Served), hurt, leaf}
}

// same says that a target's verdict need not be written.
func (v *verdictRow) same(o *verdictRow) bool {
	return v.Verdict == o.Verdict && v.Wanted == o.Wanted && v.Configured == o.Configured && v.Served == o.Served &&
		v.LookedConfigured == o.LookedConfigured && v.LookedServed == o.LookedServed && v.Hurt == o.Hurt &&
		bytes.Equal(v.Leaf, o.Leaf)
}

// SaveLooks stores looks of one shard in one transaction: spans extended or
// begun, findings opened, kept or closed, verdicts, and the shard's progress.
// A target this survey has stored already is passed over, so a shard that is
// run again counts nothing twice. Findings about siblings belong to FinishSurvey
// and are left alone here.
func (s *Store) SaveLooks(ctx context.Context, v *Survey, shard int, looks []Look) error {
	b := &batch{survey: v.ID, shard: shard, vantage: v.Vantage, looks: looks, at: time.Now().UTC()}
	b.findings = findingChanges{survey: v.ID, at: b.at}
	b.material(s)
	err := s.tx(ctx, func(db *gorm.DB, ptx pgx.Tx) error {
		b.ctx, b.tx = ctx, ptx
		// What a crash of the machine could lose is looked at again: the shard is
		// not finished, and finishing waits for the disk.
		if err := db.Exec("set local synchronous_commit = off").Error; err != nil {
			return err
		}
		if err := b.writeMaterial(); err != nil {
			return err
		}
		if err := b.load(db); err != nil {
			return err
		}
		for i := range looks {
			b.compare(&looks[i])
		}
		return b.write(db)
	})
	if err == nil {
		for _, f := range append(b.newPrints, b.newChainID...) {
			s.stored.Set(f, struct{}{})
		}
	}
	return err
}

// material collects certificates and lists not known to be stored.
func (b *batch) material(s *Store) {
	met := map[certs.Fingerprint]bool{}
	fresh := func(f certs.Fingerprint) bool {
		if _, stored := s.stored.GetIfPresent(f); met[f] || stored {
			return false
		}
		met[f] = true
		return true
	}
	for i := range b.looks {
		list := b.looks[i].Judgement.Chain
		if len(list) == 0 {
			continue
		}
		for _, c := range list {
			if fresh(c.Fingerprint) {
				b.certificates = append(b.certificates, rowOf(c))
				b.newPrints = append(b.newPrints, c.Fingerprint)
			}
		}
		if id := chainID(list); fresh(id) {
			row := chainRow{Sha256: id[:]}
			for _, c := range list {
				row.Certificates = append(row.Certificates, c.Fingerprint[:])
			}
			b.chains = append(b.chains, row)
			b.newChainID = append(b.newChainID, id)
		}
	}
}

// rowOf takes what is searched for out of a certificate; its text is made fit
// for the database first.
func rowOf(c *certs.Certificate) certificateRow {
	f := c.Fingerprint
	return certificateRow{
		Sha256: f[:], Der: c.Raw, CommonName: text(c.CommonName()), Issuer: text(c.IssuerName()), Names: texts(c.Names()),
		NotBefore: c.NotBefore, NotAfter: c.NotAfter, Key: c.Key().String(), Serial: c.SerialNumber.Text(16), IsCa: c.IsCA,
	}
}

// text makes a string from a certificate fit for a text column: PostgreSQL
// takes neither NUL nor broken UTF-8.
func text(s string) string {
	return strings.ReplaceAll(strings.ToValidUTF8(s, "\uFFFD"), "\x00", "\uFFFD")
}

// texts makes a list of strangers' words fit for the database.
func texts(list []string) []string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = text(s)
	}
	return out
}

// chainID is the SHA-256 over the fingerprints of a list.
func chainID(list []*certs.Certificate) certs.Fingerprint {
	h := sha256.New()
	for _, c := range list {
		h.Write(c.Fingerprint[:])
	}
	return certs.Fingerprint(h.Sum(nil))
}

// writeMaterial sends columns as arrays, so that the statement is the same for
// every size of batch and is planned once.
func (b *batch) writeMaterial() error {
	if n := len(b.certificates); n > 0 {
		sha, der := make([][]byte, n), make([][]byte, n)
		texts := [5][]string{}
		times := [2][]time.Time{}
		ca := make([]bool, n)
		for i, c := range b.certificates {
			sha[i], der[i], ca[i] = c.Sha256, c.Der, c.IsCa
			for j, v := range [...]string{c.CommonName, c.Issuer, jsonText(c.Names), c.Key, c.Serial} {
				texts[j] = append(texts[j], v)
			}
			times[0], times[1] = append(times[0], c.NotBefore), append(times[1], c.NotAfter)
		}
		if _, err := b.tx.Exec(b.ctx, `insert into certificates (sha256, der, common_name, issuer, names, key, serial, not_before, not_after, is_ca, first_seen)
			select *, $11::timestamptz from unnest($1::bytea[], $2::bytea[], $3::text[], $4::text[], $5::jsonb[], $6::text[], $7::text[], $8::timestamptz[], $9::timestamptz[], $10::bool[])
			on conflict do nothing`, sha, der, texts[0], texts[1], texts[2], texts[3], texts[4], times[0], times[1], ca, b.at); err != nil {
			return err
		}
	}
	for _, c := range b.chains {
		b.queued.Queue("insert into chains (sha256, certificates) values ($1, $2) on conflict do nothing", c.Sha256,
			c.Certificates)
	}
	return b.sendQueued()
}

// sendQueued sends what was queued in one go.
func (b *batch) sendQueued() error {
	if b.queued.Len() == 0 {
		return nil
	}
	err := b.tx.SendBatch(b.ctx, &b.queued).Close()
	b.queued = pgx.Batch{}
	return err
}

// load reads what is stored for the batch's targets, and locks it against
// another worker that may run the same shard.
func (b *batch) load(db *gorm.DB) error {
	for i := range b.looks {
		b.ids = append(b.ids, b.looks[i].Target.ID)
	}
	var verdicts []verdictRow
	if err := db.Raw("select id, verdict, wanted, configured, served, looked_configured, looked_served, hurt, leaf from "+
		"targets where id in ? order by id for no key update", b.ids).Scan(&verdicts).Error; err != nil {
		return err
	}
	b.verdicts = make(map[int64]verdictRow, len(verdicts))
	for _, v := range verdicts {
		b.verdicts[v.ID] = v
	}
	var rows []sightingRow
	if err := db.Where("target_id in ? and vantage = ? and current", b.ids, b.vantage).Find(&rows).Error; err != nil {
		return err
	}
	b.currents = make(map[int64]*sightingRow, len(rows))
	for i := range rows {
		b.currents[rows[i].TargetID] = &rows[i]
	}
	open, err := openFindings(db, "target_id in ?", b.ids)
	if err != nil {
		return err
	}
	b.openByTarget = map[int64][]FindingRow{}
	for _, f := range open {
		b.openByTarget[*f.TargetID] = append(b.openByTarget[*f.TargetID], f)
	}
	return nil
}

// compare sets one look against what is stored.
func (b *batch) compare(l *Look) {
	before := b.currents[l.Target.ID]
	if before != nil && before.LastSurvey >= b.survey {
		return
	}
	b.done++
	now := b.sighting(l)
	if l.Seen.Outcome == binding.Connected {
		b.conn++
	}
	if before != nil && before.same(&now) {
		b.kept = append(b.kept, before.ID)
	} else {
		if before != nil {
			b.changed++
		}
		b.fresh = append(b.fresh, now)
	}
	b.currents[l.Target.ID] = &now
	found := make([]check.Found, len(l.Judgement.Findings))
	for i, f := range l.Judgement.Findings {
		found[i].Finding = f
		copy(found[i].Leaf[:], now.Leaf)
	}
	open := b.findings.compare(about{target: l.Target.ID}, b.openByTarget[l.Target.ID], found, l.Judgement.Judged...)
	older := slices.ContainsFunc(open, func(c check.Code) bool { return check.RuleOf(c).Speaks == check.OfSiblings })
	j := l.Judgement
	v, was := verdictOf(l.Target.ID, j.Faces, j.Hurt, older, now.Leaf), b.verdicts[l.Target.ID]
	if !v.same(&was) {
		b.touched = append(b.touched, v)
	}
}

// sighting is what a look showed, as a row.
func (b *batch) sighting(l *Look) sightingRow {
	o := l.Seen
	row := sightingRow{
		TargetID: l.Target.ID, Vantage: b.vantage, Outcome: string(o.Outcome), Alert: int(o.Alert), Detail: text(o.Detail),
		Version: int(o.Version), Suite: int(o.Suite), KeyGroup: int(o.Group), Alpn: text(o.ALPN), Stapled: len(o.Stapled) > 0,
		ConnectUs: o.Connect.Microseconds(), HandshakeUs: o.Handshake.Microseconds(),
		FirstSeen: o.At, LastSeen: o.At, FirstSurvey: b.survey, LastSurvey: b.survey, Current: true,
	}
	if list := l.Judgement.Chain; len(list) > 0 {
		id, leaf := chainID(list), list[0].Fingerprint
		row.Chain, row.Leaf = id[:], leaf[:]
	}
	return row
}

// write stores the batch in one transaction: sightings, findings, verdicts, the
// shard's progress. After a kill either all of it is there or none.
func (b *batch) write(db *gorm.DB) error {
	if b.done == 0 {
		return nil
	}
	if err := b.writeSightings(db); err != nil {
		return err
	}
	if err := b.findings.write(b.ctx, db, b.tx); err != nil {
		return err
	}
	if err := writeVerdicts(b.ctx, b.tx, b.touched); err != nil {
		return err
	}
	return db.Exec(`update shards set done = done + ?, connected = connected + ?, changed = changed + ?, begun = begun + ?, opened = opened + ?,
			closed = closed + ? where survey_id = ? and number = ?`, b.done, b.conn, b.changed, len(b.fresh), len(b.findings.opened), b.findings.apart, b.survey, b.shard).Error
}

// writeSightings lets spans that go on grow, ends those that changed and begins
// new ones.
func (b *batch) writeSightings(db *gorm.DB) error {
	if len(b.kept) > 0 {
		if err := db.Exec("update sightings set last_seen = ?, last_survey = ? where id in ?", b.at, b.survey,
			b.kept).Error; err != nil {
			return err
		}
	}
	if len(b.fresh) == 0 {
		return nil
	}
	ended := make([]int64, len(b.fresh))
	for i, r := range b.fresh {
		ended[i] = r.TargetID
	}
	if b.changed > 0 {
		if err := db.Exec("update sightings set current = false where target_id in ? and vantage = ? and current", ended,
			b.vantage).Error; err != nil {
			return err
		}
	}
	return b.copySightings()
}

// sightingColumns are in the order of copySightings.
var sightingColumns = []string{"target_id", "vantage", "outcome", "alert", "detail", "chain", "leaf", "version",
	"suite", "key_group", "alpn", "stapled",
	"connect_us", "handshake_us", "first_seen", "last_seen", "first_survey", "last_survey", "current"}

// copySightings uses PostgreSQL's COPY, for a first survey begins a span for
// every target.
func (b *batch) copySightings() error {
	_, err := b.tx.CopyFrom(b.ctx, pgx.Identifier{"sightings"}, sightingColumns,
		pgx.CopyFromSlice(len(b.fresh), func(i int) ([]any, error) {
			r := &b.fresh[i]
			return []any{r.TargetID, r.Vantage, r.Outcome, r.Alert, r.Detail, r.Chain, r.Leaf, r.Version, r.Suite, r.KeyGroup,
				r.Alpn, r.Stapled,
				r.ConnectUs, r.HandshakeUs, r.FirstSeen, r.LastSeen, r.FirstSurvey, r.LastSurvey, r.Current}, nil
		}))
	return err
}

// writeVerdicts updates targets in one statement.
func writeVerdicts(ctx context.Context, tx pgx.Tx, list []verdictRow) error {
	n := len(list)
	if n == 0 {
		return nil
	}
	ids, leaves, hurt := make([]int64, n), make([][]byte, n), make([]bool, n)
	texts := [6][]string{}
	for i, t := range list {
		ids[i], leaves[i], hurt[i] = t.ID, t.Leaf, t.Hurt
		for j, v := range [...]string{t.Verdict, t.Wanted, t.Configured, t.Served, t.LookedConfigured, t.LookedServed} {
			texts[j] = append(texts[j], v)
		}
	}
	_, err := tx.Exec(ctx, `update targets t set verdict = v.verdict, wanted = v.wanted, configured = v.configured, served = v.served,
			looked_configured = v.looked_configured, looked_served = v.looked_served, hurt = v.hurt, leaf = v.leaf,
			replaced = t.replaced + case when t.leaf <> v.leaf then 1 else 0 end,
			leaf_ends = (select c.not_after from certificates c where c.sha256 = v.leaf)
		from unnest($1::bigint[], $2::text[], $3::text[], $4::text[], $5::text[], $6::text[], $7::text[], $8::bool[], $9::bytea[])
			as v(id, verdict, wanted, configured, served, looked_configured, looked_served, hurt, leaf) where t.id = v.id`,
		ids, texts[0], texts[1], texts[2], texts[3], texts[4], texts[5], hurt, leaves)
	return err
}
