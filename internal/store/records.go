package store

import (
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"vinescale/core/account"
	"vinescale/core/act"
	"vinescale/core/amount"
)

// Errors callers decide on.
var (
	ErrNotFound = errors.New("not found")
	ErrExists   = errors.New("already exists")
)

// Host is a machine that may send intervals.
type Host struct {
	ID          int32 `gorm:"primaryKey"`
	Name        string
	CPUs        int   `gorm:"column:cpus"`
	MemoryBytes int64 // of the newest interval
	Boot        string
	CgroupMode  string
	EnrolledAt  time.Time `gorm:"default:now()"`
	LastAt      *time.Time
}

// Token is what a person or a collector signs in with; only its hash is kept.
type Token struct {
	ID        int32 `gorm:"primaryKey"`
	Name      string
	Hash      []byte
	Role      string
	HostID    *int32
	Scope     act.Scope `gorm:"serializer:json"` // in which an operator may act
	CreatedAt time.Time `gorm:"default:now()"`
}

// Tenant is whom usage is accounted to.
type Tenant struct {
	ID        int32 `gorm:"primaryKey"`
	Name      string
	Colour    int16
	ParentID  *int32    // the tenant that it is a part of; nil for none
	CreatedAt time.Time `gorm:"default:now()"`
}

// Rule assigns the workloads its expression matches to a tenant, unless a rule before it did.
type Rule struct {
	ID         int32 `gorm:"primaryKey"`
	Position   int
	TenantID   int32
	Tenant     Tenant `gorm:"foreignKey:TenantID"`
	Expression string
	CreatedAt  time.Time `gorm:"default:now()"`
}

// QuotaChange puts a tenant's limit of one resource in force from a moment on. Marks are means in the resource's unit;
// neither ends the limit.
type QuotaChange struct {
	ID            int64 `gorm:"primaryKey"`
	TenantID      int32
	Resource      string
	AppliesAt     time.Time
	MadeAt        time.Time
	MadeBy        string
	Reason        string
	Ceiling, Soft *float64
	ScopeKind     string // fleet, pool or host
	Scope         string // the pool or host by name; empty for the fleet
	Basis         string // used, held or greater
	WindowBy      string // of an allowance, as tenancy.ParseWindow reads it; empty for a ceiling
	Zone          string // of an allowance: a time zone
}

// Workload is a stored workload.
type Workload struct {
	ID       int64 `gorm:"primaryKey"`
	HostID   int32
	Host     Host `gorm:"foreignKey:HostID"`
	Key      string
	Kind     string
	Name     string
	Owner    string
	UID      int64 `gorm:"column:uid"`
	Path     string
	Allowed  string
	Labels   map[string]string `gorm:"serializer:json"`
	TenantID int32
	RuleID   int32
	FirstAt  time.Time

	OuterKey   string
	Recogniser string
	Facts      map[string]string `gorm:"serializer:json"`
	DueAt      *time.Time        // when its first usage is due; nil once there is some
	Alive      bool              // it is in its host's newest interval
	LastAt     *time.Time        // while not alive: end of the last interval it was in
	EndedAt    *time.Time        // when its collector saw that it was gone
}

// SeenUntil is the end of the newest interval a workload was in; nil before the first.
func (w *Workload) SeenUntil(host *Host) *time.Time {
	if w.Alive {
		return host.LastAt
	}
	return w.LastAt
}

// Core is the workload as the rules judge it.
func (w *Workload) Core() account.Workload {
	kind, _ := amount.ParseKind(w.Kind) // checked when it was taken in
	return account.Workload{
		Key: w.Key, Kind: kind, Name: w.Name, Owner: w.Owner, UID: w.UID, Path: w.Path, Labels: w.Labels,
		Allowed: w.Allowed,
		Outer:   w.OuterKey, Recogniser: w.Recogniser, Facts: w.Facts,
	}
}

func knownError(err error) error {
	var pg *pgconn.PgError
	switch {
	case errors.Is(err, gorm.ErrRecordNotFound):
		return ErrNotFound
	case errors.As(err, &pg) && pg.Code == "23505": // unique_violation
		return ErrExists
	}
	return err
}

// Hosts lists all hosts by name.
func (s *Store) Hosts(ctx context.Context) ([]Host, error) {
	hosts, err := noted(ctx, "hosts", func() (hosts []Host, err error) {
		return hosts, s.db.WithContext(ctx).Order("name").Find(&hosts).Error
	})
	return slices.Clone(hosts), err
}

// HostByName finds a host; ErrNotFound.
func (s *Store) HostByName(ctx context.Context, name string) (Host, error) {
	return noted(ctx, "host "+name, func() (h Host, err error) {
		return h, knownError(s.db.WithContext(ctx).Where("name = ?", name).Take(&h).Error)
	})
}

// HostByID finds a host by its number; ErrNotFound.
func (s *Store) HostByID(ctx context.Context, id int32) (Host, error) {
	var h Host
	return h, knownError(s.db.WithContext(ctx).Where("id = ?", id).Take(&h).Error)
}

// Enrol makes a host known, if it is not, and replaces its collector's token.
func (s *Store) Enrol(ctx context.Context, name, token string) error {
	return s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		h := Host{Name: name}
		if err := tx.Clauses(clause.OnConflict{DoNothing: true}).Select("Name").Create(&h).Error; err != nil {
			return err
		}
		if err := tx.Where("name = ?", name).Take(&h).Error; err != nil {
			return err
		}
		if err := tx.Where("role = 'collector' AND host_id = ?", h.ID).Delete(&Token{}).Error; err != nil {
			return err
		}
		return tx.Create(&Token{Name: "collector of " + name, Hash: hashToken(token), Role: "collector",
			HostID: &h.ID}).Error
	})
}

// PutToken stores a person's token under a name, replacing the one of that name.
func (s *Store) PutToken(ctx context.Context, name, role, token string) error {
	t := Token{Name: name, Hash: hashToken(token), Role: role}
	return s.db.WithContext(ctx).Clauses(clause.OnConflict{
		Columns: []clause.Column{{Name: "name"}}, DoUpdates: clause.AssignmentColumns([]string{"hash", "role"}),
	}).Create(&t).Error
}

// AddToken stores a person's new token; ErrExists when the name is taken.
func (s *Store) AddToken(ctx context.Context, name, role string, scope act.Scope, token string) error {
	return knownError(s.db.WithContext(ctx).Create(&Token{Name: name, Hash: hashToken(token), Role: role,
		Scope: scope}).Error)
}

// Tokens lists all tokens by name, collectors' too.
func (s *Store) Tokens(ctx context.Context) ([]Token, error) {
	var tokens []Token
	return tokens, s.db.WithContext(ctx).Order("name").Find(&tokens).Error
}

// RemoveToken makes a person's token void; ErrNotFound. Folios that they shared with the site stay with it.
func (s *Store) RemoveToken(ctx context.Context, name string) error {
	return s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Exec("UPDATE folios SET owner = NULL WHERE owner = $1 AND is_shared", name).Error; err != nil {
			return err
		}
		return removed(tx.Where("name = ? AND role <> 'collector'", name).Delete(&Token{}))
	})
}

// TokenOf finds what a token allows; ErrNotFound for one that is unknown.
func (s *Store) TokenOf(ctx context.Context, token string) (Token, error) {
	var t Token
	return t, knownError(s.db.WithContext(ctx).Where("hash = ?", hashToken(token)).Take(&t).Error)
}

// hashToken needs no slow hash: tokens are 256 random bits.
func hashToken(token string) []byte {
	h := sha256.Sum256([]byte(token))
	return h[:]
}

// Tenants lists all tenants by name.
func (s *Store) Tenants(ctx context.Context) ([]Tenant, error) {
	tenants, err := noted(ctx, "tenants", func() (tenants []Tenant, err error) {
		return tenants, s.db.WithContext(ctx).Order("name").Find(&tenants).Error
	})
	return slices.Clone(tenants), err
}

// TenantByName finds a tenant; ErrNotFound.
func (s *Store) TenantByName(ctx context.Context, name string) (Tenant, error) {
	var t Tenant
	return t, knownError(s.db.WithContext(ctx).Where("name = ?", name).Take(&t).Error)
}

// AddTenant makes a tenant; ErrExists when the name is taken.
func (s *Store) AddTenant(ctx context.Context, name string) (Tenant, error) {
	t := Tenant{Name: name}
	err := s.changeRules(ctx, func(tx *gorm.DB) error { return addTenant(tx, &t) })
	return t, knownError(err)
}

func addTenant(tx *gorm.DB, t *Tenant) error {
	var n int64
	if err := tx.Model(&Tenant{}).Where("name = ?", t.Name).Count(&n).Error; err != nil {
		return err
	}
	if n > 0 {
		return ErrExists
	}
	// The colour used least, lowest first, so that the first tenants get different ones.
	const free = `SELECT c FROM generate_series(1, 8) c LEFT JOIN tenants ON colour = c
		GROUP BY c ORDER BY count(tenants.id), c LIMIT 1`
	if err := tx.Raw(free).Row().Scan(&t.Colour); err != nil {
		return err
	}
	return tx.Create(t).Error
}

// PutParent makes a tenant a part of another, or of none (nil).
func (s *Store) PutParent(ctx context.Context, tenantID int32, parentID *int32) error {
	return s.changeRules(ctx, func(tx *gorm.DB) error {
		return tx.Exec("UPDATE tenants SET parent_id = $1 WHERE id = $2", parentID, tenantID).Error
	})
}

// RemoveTenant removes a tenant with its rules, quotas and pins. Usage accounted to it stays in the books under its
// number and is shown as unassigned.
func (s *Store) RemoveTenant(ctx context.Context, name string) error {
	return s.changeRules(ctx, func(tx *gorm.DB) error {
		if err := removeTenant(tx, name); err != nil {
			return err
		}
		return renumber(tx)
	})
}

// removeTenant removes a tenant. What it used is unassigned from now on, and so the highest minutes of what is
// unassigned are others: they are found again, as far as the minutes are kept.
func removeTenant(tx *gorm.DB, name string) error {
	err := tx.Exec(`WITH gone AS (DELETE FROM peak_hours p
			WHERE EXISTS (SELECT 1 FROM tenant_peak k JOIN tenants t ON t.id = k.tenant_id
					WHERE t.name = $1 AND k.hour = p.hour)
				AND EXISTS (SELECT 1 FROM tenant_minute m
					WHERE m.minute >= p.hour AND m.minute < p.hour + interval '1 hour') RETURNING hour)
		INSERT INTO due_peaks SELECT hour FROM gone ON CONFLICT DO NOTHING`, name).Error
	if err != nil {
		return err
	}
	return removed(tx.Where("name = ?", name).Delete(&Tenant{}))
}

// changeRules runs a change of tenants or rules alone, and marks the rules as changed.
func (s *Store) changeRules(ctx context.Context, change func(tx *gorm.DB) error) error {
	return s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Exec("SELECT pg_advisory_xact_lock($1)", lockRules).Error; err != nil {
			return err
		}
		if err := change(tx); err != nil {
			return err
		}
		return tx.Exec("UPDATE vinescale_book SET rules_version = rules_version + 1").Error
	})
}

// Rules lists the rules in the order they are tried, with a version that changes when they do.
func (s *Store) Rules(ctx context.Context) (rules []Rule, version int64, err error) {
	err = s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Raw("SELECT rules_version FROM vinescale_book").Row().Scan(&version); err != nil {
			return err
		}
		return tx.Preload("Tenant").Order("position").Find(&rules).Error
	})
	return rules, version, err
}

// AddRule puts a rule at a position from 1, or last for 0; those after it move down.
func (s *Store) AddRule(ctx context.Context, position int, tenantID int32, expression string) (Rule, error) {
	r := Rule{TenantID: tenantID, Expression: expression}
	err := s.changeRules(ctx, func(tx *gorm.DB) error {
		var n int64
		if err := tx.Model(&Rule{}).Count(&n).Error; err != nil {
			return err
		}
		if position <= 0 || position > int(n) {
			position = int(n) + 1
		}
		if err := tx.Exec("UPDATE rules SET position = position + 1 WHERE position >= $1", position).Error; err != nil {
			return err
		}
		r.Position = position
		return tx.Omit("Tenant").Create(&r).Error
	})
	return r, knownError(err)
}

// RemoveRule removes the rule at a position; those after it move up.
func (s *Store) RemoveRule(ctx context.Context, position int) error {
	return s.changeRules(ctx, func(tx *gorm.DB) error {
		if err := removed(tx.Where("position = ?", position).Delete(&Rule{})); err != nil {
			return err
		}
		return renumber(tx)
	})
}

// MoveRule gives the rule at a position another; those between move by one. It does nothing to a list that is no longer
// of the version the caller saw, and tells by ErrRulesChanged.
func (s *Store) MoveRule(ctx context.Context, from, to int, version int64) error {
	return s.changeRules(ctx, func(tx *gorm.DB) error {
		var now, n int64
		if err := tx.Raw("SELECT rules_version, (SELECT count(*) FROM rules) FROM vinescale_book").Row().Scan(&now,
			&n); err != nil {
			return err
		}
		if version != 0 && now != version {
			return ErrRulesChanged
		}
		if from < 1 || int64(from) > n {
			return ErrNotFound
		}
		to = min(max(to, 1), int(n))
		return tx.Exec(`UPDATE rules SET position = CASE WHEN position = $1 THEN $2
			WHEN $1 < $2 AND position > $1 AND position <= $2 THEN position - 1
			WHEN $2 < $1 AND position >= $2 AND position < $1 THEN position + 1 ELSE position END`, from, to).Error
	})
}

// ReplaceRules makes the list of rules anew, in order, after adding the tenants named that are not there. Tenants that
// remove names are removed with all that is theirs.
func (s *Store) ReplaceRules(ctx context.Context, tenants []string, rules []NewRule, remove []string) error {
	return s.changeRules(ctx, func(tx *gorm.DB) error {
		for _, name := range remove {
			if err := removeTenant(tx, name); err != nil && !errors.Is(err, ErrNotFound) {
				return err
			}
		}
		for _, name := range tenants {
			if err := addTenant(tx, &Tenant{Name: name}); err != nil && !errors.Is(knownError(err), ErrExists) {
				return err
			}
		}
		// Rules that stay keep their number: what was accounted by them still says so.
		if err := tx.Exec("UPDATE rules SET position = -position").Error; err != nil {
			return err
		}
		for i, r := range rules {
			res := tx.Exec(`UPDATE rules SET position = $1 WHERE id = (SELECT r.id FROM rules r
					JOIN tenants t ON t.id = r.tenant_id
				WHERE t.name = $2 AND r.expression = $3 AND r.position < 0 ORDER BY r.position DESC LIMIT 1)`, i+1,
				r.Tenant, r.Expression)
			if res.Error != nil {
				return res.Error
			}
			if res.RowsAffected > 0 {
				continue
			}
			err := tx.Exec(
				"INSERT INTO rules (position, tenant_id, expression) SELECT $1, id, $3 FROM tenants WHERE name = $2",
				i+1,
				r.Tenant,
				r.Expression,
			).Error
			if err != nil {
				return err
			}
		}
		return tx.Exec("DELETE FROM rules WHERE position < 0").Error
	})
}

// NewRule is a rule that is to be, by its tenant's name.
type NewRule struct{ Tenant, Expression string }

// renumber closes the gaps that removed rules leave.
func renumber(tx *gorm.DB) error {
	return tx.Exec(`UPDATE rules SET position = n FROM (SELECT id, row_number() OVER (ORDER BY position) AS n
			FROM rules) AS ordered
		WHERE ordered.id = rules.id`).Error
}

// QuotaChanges lists every change of every limit, in the order they were made.
func (s *Store) QuotaChanges(ctx context.Context) ([]QuotaChange, error) {
	changes, err := noted(ctx, "quota changes", func() (changes []QuotaChange, err error) {
		return changes, s.db.WithContext(ctx).Order("made_at, id").Find(&changes).Error
	})
	return slices.Clone(changes), err
}

// AddQuotaChange writes a change down. It returns it with its number and when it was made.
func (s *Store) AddQuotaChange(ctx context.Context, c QuotaChange) (QuotaChange, error) {
	c.MadeAt = time.Now()
	c.ScopeKind, c.Basis = cmp.Or(c.ScopeKind, "fleet"), cmp.Or(c.Basis, "used")
	return c, s.db.WithContext(ctx).Create(&c).Error
}

func removed(res *gorm.DB) error {
	if res.Error == nil && res.RowsAffected == 0 {
		return ErrNotFound
	}
	return res.Error
}

// Workloads lists all workloads with their hosts.
func (s *Store) Workloads(ctx context.Context) ([]Workload, error) {
	var w []Workload
	return w, s.db.WithContext(ctx).Preload("Host").Order("id").Find(&w).Error
}

// WorkloadsSince lists the workloads that are there, were seen after a time, or wait for their first usage, with their
// hosts.
func (s *Store) WorkloadsSince(ctx context.Context, t time.Time) ([]Workload, error) {
	var w []Workload
	return w, s.db.WithContext(ctx).Preload("Host").Where("alive OR last_at IS NULL OR last_at > ?",
		t).Order("id").Find(&w).Error
}

// WorkloadsOn lists the workloads of a host that are there, were seen after a time, or wait for their first usage.
func (s *Store) WorkloadsOn(ctx context.Context, hostID int32, t time.Time) ([]Workload, error) {
	var w []Workload
	return w, s.db.WithContext(ctx).Where("host_id = ? AND (alive OR last_at IS NULL OR last_at > ?)", hostID,
		t).Order("id").Find(&w).Error
}

// Assign moves workloads to tenants from a time on.
func (s *Store) Assign(ctx context.Context, moves []Move, from time.Time) error {
	if len(moves) == 0 {
		return nil
	}
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Exec("SELECT pg_advisory_xact_lock($1)", lockBooks).Error; err != nil {
			return err
		}
		ids, tenants, rules, texts := make(
			[]int64,
			len(moves),
		), make(
			[]int32,
			len(moves),
		), make(
			[]int32,
			len(moves),
		),
			make(
				[]string,
				len(moves),
			)
		for i, m := range moves {
			ids[i], tenants[i], rules[i], texts[i] = m.WorkloadID, m.TenantID, m.RuleID, m.Rule
		}
		const moved = "unnest($1::bigint[], $2::int[], $3::int[], $4::text[]) AS m(id, tenant, rule, text)"
		if err := tx.Exec(
			"UPDATE workloads SET tenant_id = tenant, rule_id = rule FROM "+moved+" WHERE workloads.id = m.id", ids,
			tenants, rules, texts).Error; err != nil {
			return fmt.Errorf("assign %d workloads: %w", len(moves), err)
		}
		return tx.Exec(`INSERT INTO assignments (workload_id, from_at, tenant_id, rule_id, rule) SELECT id, $5,
				tenant, rule, text FROM `+moved+`
			ON CONFLICT (workload_id, from_at) DO UPDATE SET tenant_id = excluded.tenant_id,
			rule_id = excluded.rule_id, rule = excluded.rule`,
			ids, tenants, rules, texts, from).Error
	})
	s.mu.Lock()
	s.forgetAll()
	s.mu.Unlock()
	return err
}

// Move puts one workload under a tenant (0 for unassigned) by a rule (0 for none).
type Move struct {
	WorkloadID       int64
	TenantID, RuleID int32
	Rule             string // its expression
}
