package store

import (
	"context"
	"errors"
	"time"

	"gorm.io/gorm"
)

// Pin declares that CPUs of a host are a holder's: a tenant's, or those of workloads by name or by a rule. It is in
// force from From until Until, and is kept when it is over.
type Pin struct {
	ID         int64 `gorm:"primaryKey"`
	HostID     int32
	Host       Host   `gorm:"foreignKey:HostID"`
	TenantID   *int32 // nil where the holder is no tenant
	Tenant     Tenant `gorm:"foreignKey:TenantID"`
	Workload   string
	Expression string
	CPUs       string `gorm:"column:cpus"` // kernel list format
	Exclusive  bool
	Reason     string
	MadeBy     string
	MadeAt     time.Time
	From       time.Time  `gorm:"column:from_at"`
	Until      *time.Time `gorm:"column:until_at"` // nil while it has no end
	EndedBy    string
	EndReason  string
}

// ErrPinOverlap tells that a declaration overlaps another of the same holder in time, in a way that one would lose a
// part.
var ErrPinOverlap = errors.New("overlaps another declaration in time")

// Ends tells whether a declaration is over at a moment, or never was in force.
func (p *Pin) Ends(at time.Time) bool {
	return p.Until != nil && (!p.Until.After(at) || !p.Until.After(p.From))
}

// sameHolder tells whether two declarations of a host have one holder.
func (p *Pin) sameHolder(o *Pin) bool {
	tenant := func(p *Pin) int32 {
		if p.TenantID == nil {
			return 0
		}
		return *p.TenantID
	}
	return tenant(p) == tenant(o) && p.Workload == o.Workload && p.Expression == o.Expression
}

// Pins lists all declarations with host and tenant, those that are over too, by host and the order in which they apply.
func (s *Store) Pins(ctx context.Context) ([]Pin, error) {
	var pins []Pin
	return pins, s.db.WithContext(ctx).Preload("Host").Preload("Tenant").
		Order("(SELECT name FROM hosts h WHERE h.id = host_id), from_at, id").Find(&pins).Error
}

// DeclarePin puts a declaration in force, in place of one of the same holder that is in force when it begins; that one
// ends there. Where just the same is in force, nothing is changed, and that is returned. A declaration that would cut
// something off another that is to come, or that lasts longer, is refused with ErrPinOverlap, and the other is
// returned.
func (s *Store) DeclarePin(ctx context.Context, p Pin) (stands Pin, err error) {
	err = s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Exec("SELECT pg_advisory_xact_lock($1)", lockRules).Error; err != nil {
			return err
		}
		var all []Pin
		if err := tx.Where("host_id = ?", p.HostID).Order("from_at, id").Find(&all).Error; err != nil {
			return err
		}
		for i := range all {
			o := &all[i]
			isPast := o.Ends(p.From) || p.Until != nil && !o.From.Before(*p.Until)
			if isPast || !o.sameHolder(&p) {
				continue
			}
			stands = *o
			switch {
			case o.From.After(p.From) || p.Until != nil && (o.Until == nil || o.Until.After(*p.Until)):
				return ErrPinOverlap
			case o.CPUs == p.CPUs && o.Exclusive == p.Exclusive && (o.Until == nil) == (p.Until == nil) &&
				(o.Until == nil || o.Until.Equal(*p.Until)):
				return nil
			}
			if err := endPin(tx, o, p.From, p.MadeBy, p.Reason); err != nil {
				return err
			}
		}
		p.MadeAt = time.Now()
		stands = p
		return tx.Omit("Host", "Tenant").Create(&stands).Error
	})
	return stands, err
}

// EndPin ends a declaration at a moment, or makes it void where it has not begun then. ErrNotFound where there is none
// of that number, or it is over by then.
func (s *Store) EndPin(ctx context.Context, id int64, at time.Time, by, reason string) (Pin, error) {
	var p Pin
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Exec("SELECT pg_advisory_xact_lock($1)", lockRules).Error; err != nil {
			return err
		}
		if err := tx.Preload("Host").Preload("Tenant").Where("id = ?", id).Take(&p).Error; err != nil {
			return knownError(err)
		}
		if p.Ends(at) {
			return ErrNotFound
		}
		return endPin(tx, &p, at, by, reason)
	})
	return p, err
}

func endPin(tx *gorm.DB, p *Pin, at time.Time, by, reason string) error {
	if at.Before(p.From) {
		at = p.From
	}
	p.Until, p.EndedBy, p.EndReason = &at, by, reason
	return tx.Exec("UPDATE pins SET until_at = $1, ended_by = $2, end_reason = $3 WHERE id = $4", at, by, reason,
		p.ID).Error
}
