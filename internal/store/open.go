package store

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"math"
	"net/url"
	"sync"
	"time"

	"github.com/pressly/goose/v3"
	"gorm.io/driver/postgres"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"

	"vinescale/internal/frames"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrNotOurs says that a database holds something else. Nothing in it is touched.
var ErrNotOurs = errors.New("the database holds tables that are not Vine Scale's; give an empty one")

// Store is an open database.
type Store struct {
	db  *gorm.DB
	url string

	mu         sync.Mutex
	partitions map[string]bool            // days made
	workloads  map[int32]map[string]known // by host and key
	mostNew    int                        // workloads of a host in a day
	rules      int64                      // the rules_version the workloads' tenants are of

	memory   *memory
	users    frameUsers
	byMinute minuteRule

	// Frames are what hosts told of their newest ticks. They are nowhere else.
	Frames *frames.Hold
}

// Open connects, waits up to a few seconds for a server that is starting, and migrates.
// The error says what to do; it never holds the password.
func Open(ctx context.Context, databaseURL string) (*Store, error) {
	return open(ctx, databaseURL, newest)
}

// newest is the newest version of the books that this program knows.
const newest = math.MaxInt64

// minutesVersion is the version of the books that say since when the rule of minutes holds that holds now.
const minutesVersion = 11

// open is Open of books that are brought up to a version.
func open(ctx context.Context, databaseURL string, version int64) (*Store, error) {
	where := Redact(databaseURL)
	gdb, err := gorm.Open(postgres.New(postgres.Config{DSN: databaseURL, PreferSimpleProtocol: false}), &gorm.Config{
		Logger: logger.Default.LogMode(logger.Silent), SkipDefaultTransaction: true, DisableAutomaticPing: true,
	})
	if err != nil {
		return nil, fmt.Errorf("open database %s: %w", where, err)
	}
	db, err := gdb.DB()
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(24)
	// Requests come in bursts, every few seconds: a connection that is closed between two of them is opened again, and
	// its password is hashed thousands of times for that.
	db.SetMaxIdleConns(24)
	db.SetConnMaxIdleTime(time.Minute)
	wait, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	for err = db.PingContext(wait); err != nil; err = db.PingContext(wait) {
		select {
		case <-wait.Done():
			db.Close()
			return nil, fmt.Errorf("database %s does not answer: %w; is the server running, and may this user sign in?",
				where, err)
		case <-time.After(100 * time.Millisecond):
		}
	}
	s := &Store{db: gdb, url: databaseURL, mostNew: mostNewADay, memory: newMemory(), Frames: frames.NewHold(),
		users: frameUsers{hosts: map[int32]usersOfHost{}}}
	s.forgetAll()
	if err := s.migrate(ctx, version); err != nil {
		db.Close()
		return nil, fmt.Errorf("database %s: %w", where, err)
	}
	return s, nil
}

// migrate brings the books up to a version.
func (s *Store) migrate(ctx context.Context, version int64) error {
	var tables, ours int
	const count = `SELECT count(*), count(*) FILTER (WHERE table_name = 'vinescale_book')
		FROM information_schema.tables WHERE table_schema = current_schema()`
	if err := s.db.WithContext(ctx).Raw(count).Row().Scan(&tables, &ours); err != nil {
		return err
	}
	if tables > 0 && ours == 0 {
		return ErrNotOurs
	}
	db, err := s.db.DB()
	if err != nil {
		return err
	}
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectPostgres, db, files)
	if err != nil {
		return err
	}
	has, err := provider.GetDBVersion(ctx)
	if err != nil {
		return fmt.Errorf("read its version: %w", err)
	}
	sources := provider.ListSources()
	if last := sources[len(sources)-1].Version; has > last {
		return fmt.Errorf("its books are of version %d, newer than this program knows (%d): use a newer vinescale", has,
			last)
	}
	done, err := provider.UpTo(ctx, version)
	if err != nil {
		return fmt.Errorf("bring its books up to date: %w", err)
	}
	for _, d := range done {
		slog.Info("migrated", "version", d.Source.Version)
	}
	s.byMinute.since = time.Unix(1<<40, 0)
	if version >= minutesVersion {
		since := s.db.WithContext(ctx).Raw("SELECT since FROM minutes_divided").Row()
		if err := since.Scan(&s.byMinute.since); err != nil {
			return fmt.Errorf("read since when its intervals are divided into minutes as they are: %w", err)
		}
	}
	return s.makeColumns(ctx)
}

// Close ends all connections.
func (s *Store) Close() error {
	db, err := s.db.DB()
	if err != nil {
		return err
	}
	return db.Close()
}

// Ping tells whether the database answers.
func (s *Store) Ping(ctx context.Context) error {
	db, err := s.db.DB()
	if err != nil {
		return err
	}
	return db.PingContext(ctx)
}

// Redact is a database URL without its password, fit for logs.
func Redact(databaseURL string) string {
	u, err := url.Parse(databaseURL)
	if err != nil || u.Host == "" && u.Scheme == "" {
		return "(unreadable URL)"
	}
	return u.Redacted()
}

// partitioned tables get one partition a day, whose name ends in the day.
var partitioned = []string{quires, "tenant_minute"}

const partitionDay = "20060102"

// EnsureDay makes the partitions that hold a day's rows.
func (s *Store) EnsureDay(ctx context.Context, t time.Time) error {
	day := t.UTC().Truncate(24 * time.Hour)
	name := day.Format(partitionDay)
	s.mu.Lock()
	known := s.partitions[name]
	s.mu.Unlock()
	if known {
		return nil
	}
	for _, table := range partitioned {
		if err := s.makePartition(ctx, table, name, day); err != nil {
			return fmt.Errorf("make the partition of %s for %s: %w", table, name, err)
		}
	}
	s.mu.Lock()
	s.partitions[name] = true
	s.mu.Unlock()
	return nil
}

// makePartition makes a table of its own and attaches it, which readers and writers of the other days need not wait
// for; CREATE TABLE … PARTITION OF would lock them out, and deadlock with them.
func (s *Store) makePartition(ctx context.Context, table, name string, day time.Time) error {
	return s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Exec("SELECT pg_advisory_xact_lock($1)", lockPartitions).Error; err != nil {
			return err
		}
		partition := table + "_" + name
		var there bool
		if err := tx.Raw("SELECT to_regclass($1) IS NOT NULL", partition).Row().Scan(&there); err != nil || there {
			return err
		}
		if err := tx.Exec(fmt.Sprintf("CREATE TABLE %s (LIKE %s INCLUDING ALL)", partition, table)).Error; err != nil {
			return err
		}
		return tx.Exec(fmt.Sprintf("ALTER TABLE %s ATTACH PARTITION %s FOR VALUES FROM ('%s') TO ('%s')",
			table, partition, day.Format(time.RFC3339), day.Add(24*time.Hour).Format(time.RFC3339))).Error
	})
}

// Advisory locks of this program.
const (
	lockPartitions = 0x56530001
	lockRetention  = 0x56530002
	lockRules      = 0x56530003
	lockBooks      = 0x56530004 // shared by intake, alone to what rewrites whose usage is
	lockHost       = 0x56530005 // with a host's number: alone to who writes of it
)
