package store

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"vinescale/core/act"
	"vinescale/core/question"
)

// Intervention is an act that was asked for: from the request through its preview to what came of it.
type Intervention struct {
	ID          string `gorm:"primaryKey"`
	HostID      *int32
	Host        string
	Who, Origin string
	Reason      string
	Verb        act.Verb
	Request     act.Request       `gorm:"serializer:json"`
	Whose       map[string]string `gorm:"serializer:json"`
	Scope       act.Scope         `gorm:"serializer:json"`
	Undoes      string
	Rule        string // the standing rule that asked for it
	State       act.State
	Detail      string
	AskedAt     time.Time
	ExpiresAt   time.Time
	LivesMillis int64
	GivenAt     *time.Time
	PreviewedAt *time.Time
	ConfirmedAt *time.Time
	ConfirmedBy string
	OverAt      *time.Time
	Preview     *act.Preview `gorm:"serializer:json"`
	Outcome     *act.Outcome `gorm:"serializer:json"`
}

// TableName is where GORM finds interventions.
func (Intervention) TableName() string { return "acts" }

// OrderKey is the key that orders to hosts are signed with. It is made when it is first asked for, and is the same for
// every instance on this book.
func (s *Store) OrderKey(ctx context.Context) (ed25519.PrivateKey, error) {
	seed := make([]byte, ed25519.SeedSize)
	rand.Read(seed) // never fails, by its documentation
	err := s.db.WithContext(ctx).Raw(`UPDATE vinescale_book SET order_key = COALESCE(order_key, $1)
		RETURNING order_key`, seed).Row().Scan(&seed)
	if err != nil {
		return nil, err
	}
	return ed25519.NewKeyFromSeed(seed), nil
}

// AddIntervention stores an act that is asked for.
func (s *Store) AddIntervention(ctx context.Context, x *Intervention) error {
	return s.db.WithContext(ctx).Create(x).Error
}

// InterventionByID finds an act; ErrNotFound.
func (s *Store) InterventionByID(ctx context.Context, id string) (x Intervention, err error) {
	return x, knownError(s.db.WithContext(ctx).Where("id = ?", id).Take(&x).Error)
}

// InterventionsOf says which acts are listed.
type InterventionsOf struct {
	Host   string // "" for all
	State  string // "" for all
	Undoes string // "" for all
	First  int
}

// Interventions lists acts, the newest first.
func (s *Store) Interventions(ctx context.Context, of *InterventionsOf) (list []Intervention, err error) {
	q := s.db.WithContext(ctx).Order("asked_at DESC, id").Limit(of.First)
	if of.Host != "" {
		q = q.Where("host = ?", of.Host)
	}
	if of.State != "" {
		q = q.Where("state = ?", of.State)
	}
	if of.Undoes != "" {
		q = q.Where("undoes = ?", of.Undoes)
	}
	return list, q.Find(&list).Error
}

// InterventionsBetween lists the acts that were over in a span and had been confirmed, or were a standing rule's, the
// newest first.
func (s *Store) InterventionsBetween(ctx context.Context, span question.Span,
	most int) (list []Intervention, err error) {
	return list, s.db.WithContext(ctx).
		Where("over_at >= ? AND over_at < ? AND (confirmed_at IS NOT NULL OR rule <> '')",
			span.From, span.To).
		Order("over_at DESC, id").
		Limit(most).
		Find(&list).
		Error
}

// PendingActs counts the acts of a host that wait for it.
func (s *Store) PendingActs(ctx context.Context, hostID int32) (n int64, err error) {
	return n, s.db.WithContext(ctx).Model(&Intervention{}).Where("host_id = ? AND state IN ?", hostID,
		[]act.State{act.Asked, act.Confirmed, act.Sent}).Count(&n).Error
}

// UndoneBy tells by which acts others were undone, of some.
func (s *Store) UndoneBy(ctx context.Context, ids []string) (map[string]string, error) {
	var list []Intervention
	err := s.db.WithContext(ctx).Select("id", "undoes").Where("undoes IN ? AND state IN ?", ids,
		[]act.State{act.Done, act.Partly}).Find(&list).Error
	by := map[string]string{}
	for i := range list {
		by[list[i].Undoes] = list[i].ID
	}
	return by, err
}

// Advance changes an act that is in one of some states, as change says, and returns it. An act that is in another by
// now is returned as it is, with ErrExists.
func (s *Store) Advance(ctx context.Context, id string, from []act.State,
	change func(*Intervention) error) (x Intervention, err error) {
	err = s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		locked := tx.Clauses(clause.Locking{Strength: "UPDATE"})
		if err := locked.Where("id = ?", id).Take(&x).Error; err != nil {
			return err
		}
		for _, state := range from {
			if x.State == state {
				if err := change(&x); err != nil {
					return err
				}
				return tx.Save(&x).Error
			}
		}
		return ErrExists
	})
	return x, knownError(err)
}

// How long a host is given before an order is given to it again, and for how long it is asked what came of one that it
// did not answer.
const (
	orderAgain  = 10 * time.Second
	recallAgain = 30 * time.Second
	recallFor   = 24 * time.Hour
)

// TakeOrders marks what a host is to be told now as given to it, and returns it: acts to be previewed, confirmed ones
// to be carried out, and those of which it is not known what came of them.
func (s *Store) TakeOrders(ctx context.Context, hostID int32, now time.Time) (list []Intervention, err error) {
	err = s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Where(`host_id = ? AND (
				state IN ('asked', 'confirmed', 'sent') AND expires_at > ? AND (given_at IS NULL OR given_at <= ?)
				OR state = 'unknown' AND expires_at > ? AND given_at <= ?)`, hostID, now, now.Add(-orderAgain),
			now.Add(-recallFor), now.Add(-recallAgain)).Order("asked_at, id").Limit(20).Find(&list).Error
		if err != nil {
			return err
		}
		for i := range list {
			x := &list[i]
			x.GivenAt = &now
			if x.State == act.Confirmed {
				x.State = act.Sent
			}
			if err := tx.Model(x).Select("given_at", "state").Updates(x).Error; err != nil {
				return err
			}
		}
		return nil
	})
	return list, err
}

// silenceAfter is how long after an order's end its host may still be at it: an answer of the service that carries an
// order is taken by a host for so long at most.
const silenceAfter = 45 * time.Second

// ExpireActs ends what was not done in time, and returns the hosts that have something to be told.
func (s *Store) ExpireActs(ctx context.Context, now time.Time) (hosts []int32, err error) {
	db := s.db.WithContext(ctx)
	err = db.Exec(`UPDATE acts SET state = 'expired', over_at = $1, detail = CASE state
			WHEN 'previewed' THEN 'it was not confirmed in time; nothing was done'
			ELSE 'its host did not ask for orders in time; nothing was done' END
		WHERE state IN ('asked', 'previewed', 'confirmed') AND expires_at <= $1`, now).Error
	if err != nil {
		return nil, err
	}
	err = db.Exec(
		`UPDATE acts SET state = 'unknown',
			detail = 'its host had the order and has not said what came of it; it is asked when it is heard again'
		WHERE state = 'sent' AND expires_at <= $1`,
		now.Add(-silenceAfter),
	).Error
	if err != nil {
		return nil, err
	}
	return hosts, db.Raw(`SELECT DISTINCT host_id FROM acts WHERE host_id IS NOT NULL AND (
			state IN ('asked', 'confirmed', 'sent') AND expires_at > $1 AND (given_at IS NULL OR given_at <= $2)
			OR state = 'unknown' AND expires_at > $3 AND given_at <= $4)`, now, now.Add(-orderAgain),
		now.Add(-recallFor),
		now.Add(-recallAgain)).Scan(&hosts).Error
}
