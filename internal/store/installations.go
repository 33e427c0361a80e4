package store

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"net/netip"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"insegna.example/internal/core/fault"
)

// Installation is one installation as it is kept; as a preview until it is
// begun.
type Installation struct {
	ID         int64                 `gorm:"primaryKey"`
	MandateID  int64                 `gorm:"default:null"`    // whose certificate it is; 0 for a mending
	OrderID    int64                 `gorm:"default:null"`    // that brought it; 0 for a mending
	Mends      []InstallationMend    `gorm:"serializer:json"` // findings that are mended by it
	Source     *InstallationSource   `gorm:"serializer:json"` // where certificate and key are taken from; nil for an order
	Rehearsal  bool                  // nothing is changed
	Server     string                // by name
	Leaf       string                // SHA-256 in hexadecimal
	Plan       json.RawMessage       `gorm:"type:jsonb"` // of the destination, as it made it
	Bindings   []InstallationBinding `gorm:"serializer:json"`
	Notes      []string              `gorm:"serializer:json"` // what else the reload takes in
	State      string                // how far it is
	Switched   bool                  // something may have been changed
	Unasked    bool                  // it may be carried out without a person
	AskedBack  bool                  // a person had it taken back
	Tries      int                   // without a way to the server, in a row
	Reason     string                // why it went back or is stuck
	Advice     string                // what to do
	By         string                // who previewed it
	CreatedAt  time.Time             // of the preview
	StartedAt  *time.Time            // nil for a preview
	FinishedAt *time.Time            // nil while it runs
	WaveID     *int64                // it is a part of; nil for none
	SurveyID   *int64                // that looked at the server afterwards; nil for none
	Mandate    Mandate               // with its name
}

// InstallationBinding is a host name at an address where an installation is
// looked at, with the SHA-256 of the certificate it showed before.
type InstallationBinding struct {
	Host   string         `json:"host"`   // a name visitors use
	At     netip.AddrPort `json:"at"`     // address and port
	Before string         `json:"before"` // certificate shown before
	// it belongs to another site, and has to show what it showed, or what its own
	// files hold by now
	Neighbour bool     `json:"neighbour,omitempty"`
	Own       []string `json:"own,omitempty"` // SHA-256 of the certificates in a neighbour's files
	// what it has to show in the end, where that is not the certificate installed
	Wants   []string `json:"wants,omitempty"`
	Whole   bool     `json:"whole,omitempty"`   // it is the whole list sent that counts
	Stapled bool     `json:"stapled,omitempty"` // the CA's answer has to come along
	Header  string   `json:"header,omitempty"`  // whose value is shown, in an answer over TLS
	Plain   string   `json:"plain,omitempty"`   // what is asked for in plain http; "" for a look over TLS
}

// InstallationMend is a finding that an installation mends.
type InstallationMend struct {
	Finding int64  `json:"finding"` // its number
	Code    string `json:"code"`    // of its rule
	Host    string `json:"host"`    // it was found for; "" for none
	Does    string `json:"does"`    // in words
}

// InstallationSource is where on another server a certificate and its key lie.
type InstallationSource struct {
	Server      string `json:"server"`      // by name
	Certificate string `json:"certificate"` // file
	Chain       string `json:"chain"`       // file of what is sent behind it; "" where it is in the same
	Key         string `json:"key"`         // file
}

// InstallationStep is one step of an installation for people to see.
type InstallationStep struct {
	InstallationID int64     `gorm:"primaryKey"`
	Number         int       `gorm:"primaryKey"` // from 1
	Step           string    // as told
	Outcome        string    // doing, done or failed
	Words          string    // what was seen
	At             time.Time // in UTC
}

// Errors of installations.
var (
	ErrInstallationRunning = fault.New(fault.NotNow, "Not possible now",
		"another installation on that server is under way; one at a time, see how it stands before you begin this one", "")
	ErrInstallationBegun = fault.New(fault.NotNow, "Not possible now", "the installation was begun already", "")
	ErrNotReturnable     = fault.New(fault.NotNow, "Not possible now",
		"only the last installation of a mandate on a server, and only when it is done, can be taken back; a mending counts "+
			"for every mandate there", "")
)

// AddPreview keeps a preview in the place of the one before; several for mendings of one
// server that were worked out together.
func (s *Store) AddPreview(ctx context.Context, v *Installation) error {
	if v.Mends == nil {
		v.Mends = []InstallationMend{}
	}
	return s.tx(ctx, func(db *gorm.DB, _ pgx.Tx) error {
		if err := db.Exec("delete from installations where mandate_id is not distinct from nullif(?::bigint, 0) and server "+
			"= ? and rehearsal = ? and started_at is null and (mandate_id is not null or created_at < ?)", v.MandateID, v.Server,
			v.Rehearsal, v.CreatedAt).Error; err != nil {
			return err
		}
		return db.Omit("Mandate").Create(v).Error
	})
}

// PreviewMends keeps which findings an installation mends that was not begun yet.
func (s *Store) PreviewMends(ctx context.Context, v *Installation) error {
	return s.db.WithContext(ctx).Model(v).Where("started_at is null").Select("mends").Updates(v).Error
}

// change alters an installation together with what the journal says of it and
// the job that carries it out.
func (s *Store) changeInstallation(ctx context.Context, id int64, act func(*Installation) *Act, at time.Time,
	enqueue func(context.Context, Tx, int64) error, do func(*gorm.DB, *Installation) error) error {
	err := s.tx(ctx, func(db *gorm.DB, tx pgx.Tx) error {
		var v Installation
		if err := db.Clauses(clause.Locking{Strength: "UPDATE"}).Take(&v, id).Error; errors.Is(err, gorm.ErrRecordNotFound) {
			return ErrNotFound
		} else if err != nil {
			return err
		}
		if err := do(db, &v); err != nil {
			return err
		}
		if err := enqueue(ctx, Tx{tx}, id); err != nil {
			return err
		}
		return act(&v).write(db, at)
	})
	if errors.Is(err, gorm.ErrDuplicatedKey) {
		return ErrInstallationRunning
	}
	return err
}

// BeginInstallation begins what was previewed.
func (s *Store) BeginInstallation(ctx context.Context, id int64, by, state string, act func(*Installation) *Act,
	at time.Time, enqueue func(context.Context, Tx, int64) error) error {
	return s.changeInstallation(ctx, id, act, at, enqueue, func(db *gorm.DB, v *Installation) error {
		if v.StartedAt != nil {
			return ErrInstallationBegun
		}
		var preparing int64 // a server is for one change at a time
		err := db.Model(&HTTPSRun{}).Where("server = ? and state = 'preparing'", v.Server).Count(&preparing).Error
		if err != nil || preparing > 0 {
			return cmp.Or(err, error(ErrInstallationRunning))
		}
		return db.Model(v).Updates(map[string]any{"state": state, "started_at": at, "by": by}).Error
	})
}

// Installing says whether an installation is under way on a server.
func (s *Store) Installing(ctx context.Context, server string) (bool, error) {
	var n int64
	err := s.db.WithContext(ctx).Model(&Installation{}).
		Where("server = ? and started_at is not null and finished_at is null", server).Count(&n).Error
	return n > 0, err
}

// ReturnInstallation begins the way back of one that is done.
func (s *Store) ReturnInstallation(ctx context.Context, id int64, state, reason string, act func(*Installation) *Act,
	at time.Time, enqueue func(context.Context, Tx, int64) error) error {
	return s.changeInstallation(ctx, id, act, at, enqueue, func(db *gorm.DB, v *Installation) error {
		var later int64
		// a mending may have changed what this one did, and this one what it did
		if err := db.Model(&Installation{}).Where("(mandate_id = ? or mandate_id is null or ? = 0) and server = ? and id > ? "+
			"and started_at is not null and not rehearsal and state <> 'returned'", v.MandateID, v.MandateID, v.Server, v.ID).
			Count(&later).Error; err != nil {
			return err
		}
		if v.State != "done" || v.Rehearsal || later > 0 {
			return ErrNotReturnable
		}
		return db.Model(v).Updates(map[string]any{"state": state, "finished_at": nil, "reason": reason,
			"asked_back": true}).Error
	})
}

// Installation gives one with its mandate.
func (s *Store) Installation(ctx context.Context, id int64) (*Installation, error) {
	var v Installation
	return found(&v, s.db.WithContext(ctx).Joins("Mandate").Take(&v, "installations.id = ?", id).Error)
}

// Installations lists them, newest first, of one mandate or (0) of all, older
// than before (0: from the newest).
func (s *Store) Installations(ctx context.Context, mandate, before int64, limit int) ([]Installation, error) {
	q := s.db.WithContext(ctx).Omit("plan").Joins("Mandate").Order("installations.id desc").Limit(limit)
	if mandate != 0 {
		q = q.Where("mandate_id = ?", mandate)
	}
	if before > 0 {
		q = q.Where("installations.id < ?", before)
	}
	var list []Installation
	return list, q.Find(&list).Error
}

// LastInstallation gives the last one of what an order, or (0) any order of the
// mandate, brought on a server.
func (s *Store) LastInstallation(ctx context.Context, mandate, order int64, server string) (*Installation, error) {
	var v Installation
	return found(&v,
		s.db.WithContext(ctx).Omit("plan").Where(
			"mandate_id = ? and (order_id = ? or ? = 0) and server = ? and not rehearsal", mandate, order, order,
			server).Order("id desc").Take(&v).Error)
}

// Rehearsals gives how what a rehearsal brought was tried on servers.
func (s *Store) Rehearsals(ctx context.Context, order int64) ([]Installation, error) {
	var list []Installation
	return list,
		s.db.WithContext(ctx).Omit("plan").Where("order_id = ? and rehearsal", order).Order("server, id").Find(&list).Error
}

// Noteworthy lists the installations somebody should know of, newest first:
// those the service did by itself since a time, those that came to nothing or
// are stuck with none after them, and previews it made that wait for a person.
func (s *Store) Noteworthy(ctx context.Context, itself string, since time.Time, limit int) ([]Installation, error) {
	var list []Installation
	return list, s.db.WithContext(ctx).Omit("plan").Joins("Mandate").Where(`not installations.rehearsal and ((installations.by = ? and installations.state = 'done' and installations.finished_at > ?)
		or (installations.by = ? and installations.state = 'previewed')
		or (installations.state in ('returned', 'stuck') and not installations.asked_back and not exists (select from installations l
			where l.mandate_id is not distinct from installations.mandate_id and l.server = installations.server and l.id > installations.id and not l.rehearsal and l.started_at is not null)))`, itself, since, itself).
		Order("coalesce(installations.finished_at, installations.created_at) desc").Limit(limit).Find(&list).Error
}

// InstallationSurveyed notes the survey that looks at a server after an installation.
func (s *Store) InstallationSurveyed(ctx context.Context, id, survey int64) error {
	return s.db.WithContext(ctx).Model(&Installation{ID: id}).Update("survey_id", survey).Error
}

// LastMending gives the last mending that was begun on any server; ErrNotFound when there
// was none.
func (s *Store) LastMending(ctx context.Context) (*Installation, error) {
	var v Installation
	return found(&v, s.db.WithContext(ctx).Omit("plan").Where(
		"mandate_id is null and started_at is not null and not rehearsal").Order("id desc").Take(&v).Error)
}

// InstallationSteps gives the steps as they came.
func (s *Store) InstallationSteps(ctx context.Context, id int64) ([]InstallationStep, error) {
	var list []InstallationStep
	return list, s.db.WithContext(ctx).Where("installation_id = ?", id).Order("number").Find(&list).Error
}

// installationStepSQL adds a step, or rewrites the last one when it is the same
// step with another outcome.
const installationStepSQL = `insert into installation_steps (installation_id, number, step, outcome, words, at)
	select $1, coalesce((select case when step = $2 then number else number + 1 end from installation_steps where installation_id = $1 order by number desc limit 1), 1), $2, $3, $4, $5
	on conflict (installation_id, number) do update set outcome = excluded.outcome, words = excluded.words, at = excluded.at`

// installationEvents are what the ends of an installation are told as.
var installationEvents = map[string]EventKind{"done": Installed, "returned": CameBack, "stuck": InstallStuck}

// SaveInstallation keeps what its steps change, with a step in the same
// transaction; nil for none.
func (s *Store) SaveInstallation(ctx context.Context, v *Installation, step *InstallationStep) error {
	var b pgx.Batch
	b.Queue("update installations set state = $2, switched = $3, tries = $4, reason = $5, advice = $6, finished_at = $7 "+
		"where id = $1", v.ID, v.State, v.Switched, v.Tries, text(v.Reason), text(v.Advice), v.FinishedAt)
	if kind := installationEvents[v.State]; kind != "" && !v.Rehearsal && v.FinishedAt != nil {
		e := Event{At: *v.FinishedAt, Kind: kind, InstallationID: &v.ID}
		if v.MandateID != 0 {
			e.MandateID, e.OrderID = &v.MandateID, &v.OrderID
		}
		e.queue(&b)
	}
	if step != nil {
		b.Queue(installationStepSQL, v.ID, step.Step, step.Outcome, text(step.Words), step.At)
	}
	return s.pool.SendBatch(ctx, &b).Close()
}

// Uninstalled is a certificate that is in force and not on a server it belongs on.
type Uninstalled struct {
	Mandate string // by name
	Server  string // by name
	OrderID int64  // whose certificate is not there yet
}

// Uninstalled lists certificates to install by themselves, of one mandate or (0) of
// all: those of mandates a person has installed on the server before, unless that is
// under way or waits for a person, or was tried within a wait, which is shorter where
// the certificate would not live for so many waits. A wave that stopped holds all its
// servers for that long, and for good when it was begun by somebody else than itself.
func (s *Store) Uninstalled(ctx context.Context, itself string, mandate int64, now time.Time, wait time.Duration,
	waits, limit int) ([]Uninstalled, error) {
	var list []Uninstalled
	return list, s.db.WithContext(ctx).Raw(`select distinct m.name as mandate, t.server, o.id as order_id
		from (select distinct on (mandate_id) mandate_id, id, not_after - finished_at as life from orders where state = 'issued' and not rehearsal and (mandate_id = ? or ? = 0) order by mandate_id, id desc) o
		join mandates m on m.id = o.mandate_id and m.removed_at is null
		cross join lateral jsonb_array_elements_text(m.servers) t(server)
		where (select i.state from installations i where i.mandate_id = m.id and i.server = t.server and not i.rehearsal and i.started_at is not null and i.state <> 'returned' order by i.id desc limit 1) = 'done'
		and not exists (select from installations i where i.mandate_id = m.id and i.server = t.server and i.order_id = o.id
			and (i.state in ('done', 'stuck')
				or i.started_at is null and not exists (select from waves w where w.id = i.wave_id and w.by = ? and w.state in ('stopped', 'kept', 'returned'))
				or i.started_at is not null and i.finished_at is null
				or i.finished_at > ?::timestamptz - least(make_interval(secs => ?), o.life / ?)))
		and not exists (select from waves w where w.mandate_id = m.id and w.order_id = o.id
			and (w.state in ('running', 'returning') or w.state = 'stopped' and w.by <> ?
				or w.state in ('stopped', 'kept', 'returned') and (select max(i.finished_at) from installations i where i.wave_id = w.id) > ?::timestamptz - least(make_interval(secs => ?), o.life / ?)))
		order by o.id limit ?`, mandate, mandate, itself, now, wait.Seconds(), waits, itself, now, wait.Seconds(), waits, limit).
		Scan(&list).Error
}
