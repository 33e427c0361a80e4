package store

import (
	"context"
	"crypto/sha256"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"insegna.example/internal/core/fault"
)

// Person is somebody who may sign in.
type Person struct {
	ID         int64      `gorm:"primaryKey"`
	Name       string     // unique among those not removed
	Role       string     // viewer, operator or admin
	Passphrase string     // argon2id in its usual text form; "" until one was chosen
	Keys       bool       // may take private keys out of the safe
	AddedAt    time.Time  // in UTC
	RemovedAt  *time.Time // nil while access stands
}

// TableName implements GORM's Tabler.
func (Person) TableName() string { return "people" }

// Token lets a program act for a person, within a scope, until it expires.
type Token struct {
	ID        int64      `gorm:"primaryKey"`
	Hash      []byte     // SHA-256 of the secret
	PersonID  int64      // who acts with it
	Name      string     // for people
	Scope     string     // a role, at most the person's
	MadeAt    time.Time  // in UTC
	ExpiresAt time.Time  // in UTC
	UsedAt    *time.Time // last, nil for never
	RevokedAt *time.Time // nil while it stands
	Person    Person     // it acts for
}

// Session is a signed-in browser.
type Session struct {
	Hash      []byte    `gorm:"primaryKey"`
	PersonID  int64     // who signed in
	BeganAt   time.Time // in UTC
	SeenAt    time.Time // last request
	ExpiresAt time.Time // at the latest
	Person    Person    // who signed in
}

// invitationRow is an invitation, by the hash of its code; without a person it
// makes the first admin.
type invitationRow struct {
	Hash      []byte    `gorm:"primaryKey"`
	PersonID  *int64    // nil for the first admin
	ExpiresAt time.Time // in UTC
}

// TableName is GORM's name for the table.
func (invitationRow) TableName() string { return "invitations" }

// Errors of people.
var (
	ErrNameTaken  = fault.New(fault.NotNow, "Not possible", "the name is used, or was used by somebody removed", "")
	ErrLastAdmin  = fault.New(fault.NotNow, "Not possible", "at least one admin has to stay", "")
	ErrInvitation = fault.New(fault.NotTaken, "Link not valid",
		"the link is not valid: it was used, has expired, or was replaced by a newer one",
		"ask an admin for a new one; the first admin's is printed when the service starts")
)

// digest is under which a random secret of 32 bytes is kept; it needs no slow
// hash, since it cannot be guessed.
func digest(secret []byte) []byte {
	sum := sha256.Sum256(secret)
	return sum[:]
}

// found turns GORM's error for no row into the store's own.
func found[T any](v *T, err error) (*T, error) {
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, ErrNotFound
	}
	return v, err
}

// People lists everybody who was not removed, by name.
func (s *Store) People(ctx context.Context) ([]Person, error) {
	var list []Person
	return list, s.db.WithContext(ctx).Where("removed_at is null").Order("name").Find(&list).Error
}

// AnyPerson says whether somebody has ever set up the service.
func (s *Store) AnyPerson(ctx context.Context) (bool, error) {
	var n int64
	err := s.db.WithContext(ctx).Model(&Person{}).Limit(1).Count(&n).Error
	return n > 0, err
}

// Person finds somebody by name; ErrNotFound when there is none or they were
// removed.
func (s *Store) Person(ctx context.Context, name string) (*Person, error) {
	var p Person
	return found(&p, s.db.WithContext(ctx).Where("removed_at is null").Take(&p, "name = ?", name).Error)
}

// AddPerson adds somebody with the one-time link that lets them in.
func (s *Store) AddPerson(ctx context.Context, p *Person, invitation []byte, until time.Time, act *Act) error {
	err := s.tx(ctx, func(db *gorm.DB, _ pgx.Tx) error {
		if err := db.Create(p).Error; err != nil {
			return err
		}
		if err := db.Create(&invitationRow{digest(invitation), &p.ID, until}).Error; err != nil {
			return err
		}
		return act.write(db, p.AddedAt)
	})
	if errors.Is(err, gorm.ErrDuplicatedKey) {
		return ErrNameTaken
	}
	return err
}

// InviteFirst keeps the one-time link of the first admin in place of an earlier one.
func (s *Store) InviteFirst(ctx context.Context, invitation []byte, until time.Time) error {
	return s.tx(ctx, func(db *gorm.DB, _ pgx.Tx) error {
		if err := db.Delete(&invitationRow{}, "person_id is null").Error; err != nil {
			return err
		}
		return db.Create(&invitationRow{Hash: digest(invitation), ExpiresAt: until}).Error
	})
}

// Invite gives somebody a new one-time link; the one before is void, and sessions
// and tokens end: whoever is let in anew begins anew.
func (s *Store) Invite(ctx context.Context, name string, invitation []byte, until time.Time, act *Act,
	at time.Time) error {
	return s.change(ctx, name, act, at, func(db *gorm.DB, p *Person) error {
		if err := endAccess(db, p.ID, nil, 0, at); err != nil {
			return err
		}
		return db.Clauses(clause.OnConflict{Columns: []clause.Column{{Name: "person_id"}},
			DoUpdates: clause.AssignmentColumns([]string{"hash", "expires_at"})}).
			Create(&invitationRow{digest(invitation), &p.ID, until}).Error
	})
}

// Accept uses a one-time link: the passphrase becomes its person's, whose
// sessions and tokens end. The first link makes its person from what is given.
func (s *Store) Accept(ctx context.Context, invitation []byte, first Person, passphrase string, act func(Person) *Act,
	at time.Time) (*Person, error) {
	var p Person
	err := s.tx(ctx, func(db *gorm.DB, _ pgx.Tx) error {
		var row invitationRow
		err := db.Clauses(clause.Locking{Strength: "UPDATE"}).Where("expires_at > ?", at).Take(&row, "hash = ?",
			digest(invitation)).Error
		if errors.Is(err, gorm.ErrRecordNotFound) {
			return ErrInvitation
		} else if err != nil {
			return err
		}
		if err := db.Delete(&row).Error; err != nil {
			return err
		}
		if row.PersonID == nil {
			p = first
			p.Passphrase, p.AddedAt = passphrase, at
			err = db.Create(&p).Error
		} else {
			err = db.Where("removed_at is null").Take(&p, *row.PersonID).Error
			if errors.Is(err, gorm.ErrRecordNotFound) {
				return ErrInvitation
			}
			if err == nil {
				err = setPassphrase(db, &p, passphrase, nil, 0, at)
			}
		}
		if err != nil {
			return err
		}
		return act(p).write(db, at)
	})
	if errors.Is(err, gorm.ErrDuplicatedKey) {
		return nil, ErrNameTaken
	}
	return &p, err
}

// setPassphrase ends all other sessions and tokens of the person, for one of them
// may be why it is changed.
func setPassphrase(db *gorm.DB, p *Person, passphrase string, session []byte, token int64, at time.Time) error {
	if err := db.Model(p).Update("passphrase", passphrase).Error; err != nil {
		return err
	}
	return endAccess(db, p.ID, session, token, at)
}

// endAccess ends a person's sessions and tokens but for the one session and the
// one token that are kept.
func endAccess(db *gorm.DB, person int64, session []byte, token int64, at time.Time) error {
	if err := db.Delete(&Session{}, "person_id = ? and hash <> ?", person,
		append([]byte{}, session...)).Error; err != nil {
		return err
	}
	return db.Model(&Token{}).Where("person_id = ? and revoked_at is null and id <> ?", person, token).
		Update("revoked_at", at).Error
}

// SetPassphrase changes somebody's passphrase and ends their sessions and tokens
// but the ones kept.
func (s *Store) SetPassphrase(ctx context.Context, name, passphrase string, session []byte, token int64, act *Act,
	at time.Time) error {
	return s.change(ctx, name, act, at, func(db *gorm.DB, p *Person) error {
		return setPassphrase(db, p, passphrase, session, token, at)
	})
}

// SetKeys says whether somebody may take private keys out of the safe.
func (s *Store) SetKeys(ctx context.Context, name string, may bool, act *Act, at time.Time) error {
	return s.change(ctx, name, act, at, func(db *gorm.DB, p *Person) error {
		return db.Model(p).Update("keys", may).Error
	})
}

// change does something to a person in one transaction with its act. People
// are changed one at a time: two admins must not remove each other.
func (s *Store) change(ctx context.Context, name string, act *Act, at time.Time,
	do func(*gorm.DB, *Person) error) error {
	return s.tx(ctx, func(db *gorm.DB, _ pgx.Tx) error {
		if err := db.Exec("lock table people in share row exclusive mode").Error; err != nil {
			return err
		}
		var p Person
		err := db.Where("removed_at is null").Take(&p, "name = ?", name).Error
		if errors.Is(err, gorm.ErrRecordNotFound) {
			return ErrNotFound
		} else if err != nil {
			return err
		}
		if err := do(db, &p); err != nil {
			return err
		}
		return act.write(db, at)
	})
}

// oneAdminStays keeps the last admin from losing that role.
func oneAdminStays(db *gorm.DB, p *Person) error {
	if p.Role != "admin" {
		return nil
	}
	var others int64
	err := db.Model(&Person{}).Where("role = 'admin' and removed_at is null and passphrase <> '' and id <> ?",
		p.ID).Count(&others).Error
	if err == nil && others == 0 {
		return ErrLastAdmin
	}
	return err
}

// SetRole changes what somebody may do.
func (s *Store) SetRole(ctx context.Context, name, role string, act *Act, at time.Time) error {
	return s.change(ctx, name, act, at, func(db *gorm.DB, p *Person) error {
		if role != p.Role {
			if err := oneAdminStays(db, p); err != nil {
				return err
			}
		}
		return db.Model(p).Update("role", role).Error
	})
}

// RemovePerson ends somebody's access; their name stays in the journal.
func (s *Store) RemovePerson(ctx context.Context, name string, act *Act, at time.Time) error {
	return s.change(ctx, name, act, at, func(db *gorm.DB, p *Person) error {
		if err := oneAdminStays(db, p); err != nil {
			return err
		}
		if err := db.Delete(&invitationRow{}, "person_id = ?", p.ID).Error; err != nil {
			return err
		}
		if err := endAccess(db, p.ID, nil, 0, at); err != nil {
			return err
		}
		return db.Model(p).Updates(map[string]any{"removed_at": at, "passphrase": ""}).Error
	})
}

// BeginSession keeps a session under the digest of its secret, with its act.
func (s *Store) BeginSession(ctx context.Context, person int64, secret []byte, at, until time.Time, act *Act) error {
	return s.tx(ctx, func(db *gorm.DB, _ pgx.Tx) error {
		if err := db.Delete(&Session{}, "expires_at < ?", at).Error; err != nil {
			return err
		}
		if err := db.Omit("Person").Create(&Session{Hash: digest(secret), PersonID: person, BeganAt: at,
			SeenAt: at, ExpiresAt: until}).Error; err != nil {
			return err
		}
		return act.write(db, at)
	})
}

// Session finds a session in force whose last use is after idle.
func (s *Store) Session(ctx context.Context, secret []byte, at, idle time.Time) (*Session, error) {
	var v Session
	return found(&v,
		s.db.WithContext(ctx).InnerJoins("Person").Where(
			`sessions.expires_at > ? and seen_at > ? and "Person".removed_at is null`, at, idle).Take(&v, "sessions.hash = ?",
			digest(secret)).Error)
}

// Seen notes that a session is in use.
func (s *Store) Seen(ctx context.Context, v *Session, at time.Time) error {
	return s.db.WithContext(ctx).Model(&Session{}).Where("hash = ?", v.Hash).Update("seen_at", at).Error
}

// EndSession ends a session.
func (s *Store) EndSession(ctx context.Context, hash []byte) error {
	return s.db.WithContext(ctx).Delete(&Session{}, "hash = ?", hash).Error
}

// MakeToken keeps a token under the digest of its secret.
func (s *Store) MakeToken(ctx context.Context, t *Token, secret []byte, act *Act) error {
	t.Hash = digest(secret)
	return s.tx(ctx, func(db *gorm.DB, _ pgx.Tx) error {
		if err := db.Omit("Person").Create(t).Error; err != nil {
			return err
		}
		return act.write(db, t.MadeAt)
	})
}

// Token finds a token in force by its secret.
func (s *Store) Token(ctx context.Context, secret []byte, at time.Time) (*Token, error) {
	t, err := s.tokens.get(ctx, string(digest(secret)), func(ctx context.Context) (Token, error) { return s.token(ctx, digest(secret), at) })
	if err != nil {
		return nil, err
	}
	return &t, nil
}

// token finds a token in force by the hash of its secret.
func (s *Store) token(ctx context.Context, hash []byte, at time.Time) (Token, error) {
	t := Token{Hash: hash}
	p := &t.Person
	err := s.pool.QueryRow(ctx, `select t.id, t.name, t.scope, t.made_at, t.expires_at, t.used_at, p.id, p.name, p.role, p.passphrase, p.keys, p.added_at
		from tokens t join people p on p.id = t.person_id
		where t.hash = $1 and t.expires_at > $2 and t.revoked_at is null and p.removed_at is null`, hash, at).
		Scan(&t.ID, &t.Name, &t.Scope, &t.MadeAt, &t.ExpiresAt, &t.UsedAt, &p.ID, &p.Name, &p.Role, &p.Passphrase, &p.Keys, &p.AddedAt)
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrNotFound
	}
	t.PersonID = p.ID
	return t, err
}

// TokenUsed notes that a token is in use.
func (s *Store) TokenUsed(ctx context.Context, t *Token, at time.Time) error {
	return s.db.WithContext(ctx).Model(&Token{}).Where("id = ?", t.ID).Update("used_at", at).Error
}

// Tokens lists the tokens not revoked, of one person or (0) of all, newest
// first.
func (s *Store) Tokens(ctx context.Context, person int64) ([]Token, error) {
	q := s.db.WithContext(ctx).InnerJoins("Person").Where("revoked_at is null").Order("tokens.id desc").Limit(1000)
	if person != 0 {
		q = q.Where("person_id = ?", person)
	}
	var list []Token
	return list, q.Find(&list).Error
}

// RevokeToken ends a token, of one person or (0) of anybody.
func (s *Store) RevokeToken(ctx context.Context, id, person int64, act func(*Token) *Act, at time.Time) error {
	return s.tx(ctx, func(db *gorm.DB, _ pgx.Tx) error {
		q := db.Clauses(clause.Locking{Strength: "UPDATE"}).Where("revoked_at is null")
		if person != 0 {
			q = q.Where("person_id = ?", person)
		}
		var t Token
		if err := q.Take(&t, id).Error; errors.Is(err, gorm.ErrRecordNotFound) {
			return ErrNotFound
		} else if err != nil {
			return err
		}
		if err := db.Model(&t).Update("revoked_at", at).Error; err != nil {
			return err
		}
		return act(&t).write(db, at)
	})
}

// TokenStands says whether a token is in force, and its person's access.
func (s *Store) TokenStands(ctx context.Context, id int64, at time.Time) (stands bool, err error) {
	return stands, s.pool.QueryRow(ctx, `select exists (select from tokens t join people p on p.id = t.person_id
		where t.id = $1 and t.expires_at > $2 and t.revoked_at is null and p.removed_at is null)`, id, at).Scan(&stands)
}

// SessionStands says whether a session is in force, and its person's access. One
// that follows what happens is not unused.
func (s *Store) SessionStands(ctx context.Context, hash []byte, at time.Time) (stands bool, err error) {
	return stands, s.pool.QueryRow(ctx, `select exists (select from sessions v join people p on p.id = v.person_id
		where v.hash = $1 and v.expires_at > $2 and p.removed_at is null)`, hash, at).Scan(&stands)
}
