package store

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/fault"
)

// Credential is one encrypted credential with its name.
type Credential struct {
	Name      string    `gorm:"primaryKey"`
	Encrypted []byte    // bound to its name
	ChangedAt time.Time // in UTC
}

// AddCredential keeps a encrypted credential in place of the one before.
func (s *Store) AddCredential(ctx context.Context, v *Credential, act *Act) error {
	return s.tx(ctx, func(db *gorm.DB, _ pgx.Tx) error {
		if err := db.Clauses(clause.OnConflict{UpdateAll: true}).Create(v).Error; err != nil {
			return err
		}
		return act.write(db, v.ChangedAt)
	})
}

// RemoveCredential forgets one.
func (s *Store) RemoveCredential(ctx context.Context, name string, act *Act, at time.Time) error {
	return s.tx(ctx, func(db *gorm.DB, _ pgx.Tx) error {
		r := db.Delete(&Credential{}, "name = ?", name)
		if r.Error == nil && r.RowsAffected == 0 {
			return ErrNotFound
		} else if r.Error != nil {
			return r.Error
		}
		return act.write(db, at)
	})
}

// Credentials lists names and times, without what is encrypted.
func (s *Store) Credentials(ctx context.Context) ([]Credential, error) {
	var list []Credential
	return list, s.db.WithContext(ctx).Select("name", "changed_at").Order("name").Find(&list).Error
}

// Credential gives a encrypted credential.
func (s *Store) Credential(ctx context.Context, name string) (*Credential, error) {
	var v Credential
	return found(&v, s.db.WithContext(ctx).Take(&v, "name = ?", name).Error)
}

// Mandate is a mandate with how it stands.
type Mandate struct {
	ID         int64          `gorm:"primaryKey"`
	Name       string         // unique among those not removed
	CA         string         // by name
	Spec       estate.Mandate `gorm:"serializer:json"`
	Servers    []string       `gorm:"serializer:json"` // it is installed on
	Generation *int64         // of the declaration it comes from; nil: made here
	Line       int            // in the estate file, 0 for one made otherwise
	MadeBy     string         // a person, or the estate file
	NextAt     *time.Time     // when something happens by itself
	NextWhy    string         // why then, for people
	ByWindow   bool           // NextAt lies in the window its CA suggests
	Failures   int            // of its orders, in a row
	AskAt      *time.Time     // when the CA is asked again for its window
	RemovedAt  *time.Time     // nil while it stands
}

// AfterFind gives the mandate its line in the estate file.
func (m *Mandate) AfterFind(*gorm.DB) error {
	m.Spec.Place.Line = m.Line
	return nil
}

// Errors of mandates and orders.
var (
	ErrMandateTaken  = fault.New(fault.NotNow, "Not possible now", "there is a mandate of that name already", "")
	ErrMandateOfFile = fault.New(fault.NotNow, "Not possible now",
		"the mandate belongs to the estate file; change it there and apply the file", "")
	ErrOrderRunning = fault.New(fault.NotNow, "Not possible now",
		"an order of this mandate is under way; see how it stands before you begin another", "")
)

// servers lists where a mandate is installed, never nil.
func servers(m *estate.Mandate) []string { return append([]string{}, m.Servers()...) }

// asksSQL is what a mandate or an order, by the name of its row, asks of whatever CA.
func asksSQL(row string) string {
	return strings.ReplaceAll("(x.spec->'names', x.spec->'key', x.spec->'key_on', "+
		"x.spec->'subject', x.spec->'must_staple', x.spec->'profile')", "x.", row+".")
}

// changedSQL says whether a mandate that renews by itself asks for something
// else now.
var changedSQL = `mandates.next_at is not null and mandates.removed_at is null and (
	` + asksSQL("mandates") + ` is distinct from ` + asksSQL("excluded") + ` or mandates.ca <> excluded.ca
	or mandates.failures > 0 and mandates.spec is distinct from excluded.spec)`

// expandMandates writes a declaration's mandates and hides those only the one
// before declared; one that comes back is due when it was. One that renews by
// itself is due at once when what it asks for has changed, or when its last try
// failed and anything of it has. What was made here under the same name stands
// in the way.
func expandMandates(db *gorm.DB, d *Declaration, e *estate.Estate) error {
	for i := range e.Mandates {
		m := &e.Mandates[i]
		row := Mandate{Name: m.Name, CA: m.CA, Spec: *m, Servers: servers(m), Generation: &d.ID, Line: m.Place.Line}
		var taken int64
		if err := db.Model(&Mandate{}).Where("name = ? and generation is null and removed_at is null",
			m.Name).Count(&taken).Error; err != nil {
			return err
		}
		if taken > 0 {
			return estate.Errors{{Place: m.Place, Message: "mandate " + m.Name + " was made by command or in the console",
				Expected: "another name, or that one removed"}}
		}
		change := clause.AssignmentColumns([]string{"ca", "spec", "servers", "generation", "line", "removed_at"})
		change = append(change, clause.Assignments(map[string]any{
			"next_at":  gorm.Expr("case when "+changedSQL+" then ?::timestamptz else mandates.next_at end", d.AppliedAt),
			"next_why": gorm.Expr("case when " + changedSQL + " then 'what it asks for has changed' else mandates.next_why end"),
		})...)
		if err := db.Clauses(clause.OnConflict{Columns: []clause.Column{{Name: "name"}},
			DoUpdates: change}).Create(&row).Error; err != nil {
			return err
		}
	}
	return db.Exec("update mandates set removed_at = ? where generation is not null and generation <> ? and removed_at "+
		"is null", d.AppliedAt, d.ID).Error
}

// AddMandates keeps mandates made here, all or none.
func (s *Store) AddMandates(ctx context.Context, list []estate.Mandate, by string, act func(*estate.Mandate) *Act, at time.Time) error {
	return s.tx(ctx, func(db *gorm.DB, _ pgx.Tx) error {
		acts := make([]*Act, len(list))
		for i := range list {
			if _, err := addMandate(db, &list[i], by); err != nil {
				return err
			}
			acts[i] = act(&list[i])
		}
		return write(db, at, acts...)
	})
}

// addMandate keeps a mandate made here, or one again that was ended.
func addMandate(db *gorm.DB, m *estate.Mandate, by string) (int64, error) {
	var there []Mandate
	if err := db.Clauses(clause.Locking{Strength: "UPDATE"}).Find(&there, "name = ?", m.Name).Error; err != nil {
		return 0, err
	}
	row := Mandate{Name: m.Name, CA: m.CA, Spec: *m, Servers: servers(m), MadeBy: by}
	switch {
	case len(there) == 0:
		if err := db.Create(&row).Error; errors.Is(err, gorm.ErrDuplicatedKey) {
			return 0, ErrMandateTaken
		} else if err != nil {
			return 0, err
		}
		return row.ID, nil
	case there[0].RemovedAt == nil:
		return 0, ErrMandateTaken
	}
	change := map[string]any{"ca": row.CA, "spec": jsonText(row.Spec), "servers": jsonText(row.Servers),
		"generation": nil, "line": 0, "made_by": row.MadeBy, "removed_at": nil, "next_at": nil, "next_why": "",
		"failures": 0, "by_window": false}
	return there[0].ID, db.Model(&there[0]).Updates(change).Error
}

// RemoveMandate ends a mandate made here; its orders stay as history.
func (s *Store) RemoveMandate(ctx context.Context, name string, act *Act, at time.Time) error {
	return s.madeHere(ctx, name, act, at, func(db *gorm.DB, m *Mandate) error {
		return db.Model(m).Updates(map[string]any{"removed_at": at, "next_at": nil}).Error
	})
}

// NameMandate gives a mandate made here other names.
func (s *Store) NameMandate(ctx context.Context, name string, names []string, act *Act, at time.Time) error {
	return s.madeHere(ctx, name, act, at, func(db *gorm.DB, m *Mandate) error {
		m.Spec.Names = names
		return db.Model(m).Update("spec", jsonText(m.Spec)).Error
	})
}

// madeHere changes a mandate that is no file's.
func (s *Store) madeHere(ctx context.Context, name string, act *Act, at time.Time,
	change func(db *gorm.DB, m *Mandate) error) error {
	return s.tx(ctx, func(db *gorm.DB, _ pgx.Tx) error {
		var m Mandate
		err := db.Clauses(clause.Locking{Strength: "UPDATE"}).Where("removed_at is null").Take(&m, "name = ?", name).Error
		switch {
		case errors.Is(err, gorm.ErrRecordNotFound):
			return ErrNotFound
		case err != nil:
			return err
		case m.Generation != nil:
			return ErrMandateOfFile
		}
		if err := change(db, &m); err != nil {
			return err
		}
		return act.write(db, at)
	})
}

// Mandates lists mandates by name, from after a name on.
func (s *Store) Mandates(ctx context.Context, query, after string, limit int) ([]Mandate, error) {
	q := s.db.WithContext(ctx).Where("removed_at is null and name > ?", after).Order("name").Limit(limit)
	if query != "" {
		q = q.Where("(name ilike ? or spec->>'names' ilike ? or ca ilike ?)", contains(query), contains(query),
			contains(query))
	}
	var list []Mandate
	return list, q.Find(&list).Error
}

// ProvedOver lists the mandates proved over plain http on one of some servers, or by a
// listener beside any.
func (s *Store) ProvedOver(ctx context.Context, servers []string) ([]Mandate, error) {
	var list []Mandate
	return list, s.db.WithContext(ctx).Where("removed_at is null and (spec->'proof'->>'by' = 'listener' or "+
		"exists (select from jsonb_array_elements_text(coalesce(spec::jsonb->'proof'->'servers', '[]')) as on_server "+
		"where on_server in ?))", servers).Order("name").Find(&list).Error
}

// Mandate finds one by name.
func (s *Store) Mandate(ctx context.Context, name string) (*Mandate, error) {
	var m Mandate
	return found(&m, s.db.WithContext(ctx).Where("removed_at is null").Take(&m, "name = ?", name).Error)
}

// MandateByID finds one by number, also when it was removed.
func (s *Store) MandateByID(ctx context.Context, id int64) (*Mandate, error) {
	var m Mandate
	return found(&m, s.db.WithContext(ctx).Take(&m, id).Error)
}

// dueSQL picks what is due and has no order under way, the longest waiting
// first; mandates_due serves it.
const dueSQL = `select m.* from mandates m where m.next_at <= ? and m.removed_at is null
	and not exists (select from orders o where o.mandate_id = m.id and o.finished_at is null) order by m.next_at limit ?`

// Due gives the mandates that are due at a time.
func (s *Store) Due(ctx context.Context, at time.Time, limit int) ([]Mandate, error) {
	var list []Mandate
	return list, s.db.WithContext(ctx).Raw(dueSQL, at, limit).Scan(&list).Error
}

// ToAsk gives mandates whose CA is to be asked for its window again.
func (s *Store) ToAsk(ctx context.Context, at time.Time, limit int) ([]Mandate, error) {
	var list []Mandate
	return list,
		s.db.WithContext(ctx).Where("ask_at <= ? and removed_at is null", at).Order("ask_at").Limit(limit).Find(&list).Error
}

// Asked keeps when a CA is asked again and, unless next is nil, when the
// mandate is due by what it said; one that has failed since keeps its time.
func (s *Store) Asked(ctx context.Context, id int64, askAt time.Time, next *time.Time, why string) error {
	_, err := s.pool.Exec(ctx, `update mandates set ask_at = $2, next_at = case when failures = 0 then coalesce($3, next_at) else next_at end,
		next_why = case when failures = 0 and $3::timestamptz is not null then $4 else next_why end,
		by_window = case when failures = 0 and $3::timestamptz is not null then true else by_window end where id = $1`, id, askAt, next, text(why))
	return err
}

// SetNext keeps when a mandate that could not be ordered is due next.
func (s *Store) SetNext(ctx context.Context, id int64, next Next) error {
	_, err := s.pool.Exec(ctx,
		"update mandates set next_at = $2, next_why = $3, failures = $4, by_window = false where id = $1", id, next.At,
		text(next.Why), next.Failures)
	return err
}

// MandateOfNames gives the mandates that are for just these names, in any order; two
// at most.
func (s *Store) MandateOfNames(ctx context.Context, names []string) ([]Mandate, error) {
	sorted := jsonText(slices.Compact(slices.Sorted(slices.Values(names))))
	var list []Mandate
	return list, s.db.WithContext(ctx).Where(`removed_at is null and
		(select jsonb_agg(n order by n collate "C") from jsonb_array_elements_text(spec->'names') n) = cast(? as jsonb)`, sorted).
		Order("id").Limit(2).Find(&list).Error
}
