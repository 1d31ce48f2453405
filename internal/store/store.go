// Package store keeps Fado's records in SQLite through GORM: records in one
// file, telemetry in another. It seals secrets before they are written. It
// makes no decisions about what the records mean; those are in package core
// and package engine.
package store

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/go-gormigrate/gormigrate/v2"
	"github.com/google/uuid"
	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"
	"gorm.io/gorm/logger"
	driver "modernc.org/sqlite" // without cgo
	sqlite3 "modernc.org/sqlite/lib"

	"fado/internal/core/problem"
	"fado/internal/core/secret"
	"fado/internal/fail"
)

const (
	recordsFile   = "records.db"
	telemetryFile = "telemetry.db"
)

// ErrNone is returned when there is no such record.
var ErrNone = errors.New("no such record")

// Store is an open data folder.
type Store struct {
	*Sealer
	dir       string
	writer    *gorm.DB
	reader    *gorm.DB
	telemetry *gorm.DB
}

// Open opens the data folder, makes it when it is not there, and brings it to
// this version's schema. A folder of a newer version is refused.
func Open(dir string) (*Store, error) {
	if err := os.MkdirAll(filepath.Join(dir, "images"), 0o700); err != nil {
		return nil, fmt.Errorf("make the data folder: %w", err)
	}
	sealer, err := LoadKey(dir)
	if err != nil {
		return nil, err
	}
	s := &Store{Sealer: sealer, dir: dir}
	if s.writer, err = open(filepath.Join(dir, recordsFile), "FULL", 1); err != nil {
		return nil, err
	}
	if err = migrate(s.writer, recordMigrations, filepath.Join(dir, recordsFile)); err != nil {
		s.Close()
		return nil, err
	}
	if s.reader, err = open(filepath.Join(dir, recordsFile), "FULL", 4); err != nil {
		s.Close()
		return nil, err
	}
	if s.telemetry, err = open(filepath.Join(dir, telemetryFile), "NORMAL", 1); err != nil {
		s.Close()
		return nil, err
	}
	if err = migrate(s.telemetry, telemetryMigrations, filepath.Join(dir, telemetryFile)); err != nil {
		s.Close()
		return nil, err
	}
	if err = s.checkKey(); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// Dir is the data folder.
func (s *Store) Dir() string { return s.dir }

// ImagePath is where the image with this SHA-256 is kept.
func (s *Store) ImagePath(sha string) string { return filepath.Join(s.dir, "images", sha) }

// Close closes the files.
func (s *Store) Close() {
	for _, db := range []*gorm.DB{s.reader, s.writer, s.telemetry} {
		if db == nil {
			continue
		}
		if raw, err := db.DB(); err == nil {
			_ = raw.Close()
		}
	}
}

func open(path, synchronous string, connections int) (*gorm.DB, error) {
	// The file is made here so that it is never readable by others.
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("open %s: %w", path, err)
	}
	_ = f.Close()
	dsn := fmt.Sprintf("file:%s?_pragma=journal_mode(WAL)&_pragma=synchronous(%s)&_pragma=busy_timeout(10000)&_pragma=foreign_keys(1)&_time_format=sqlite&_txlock=immediate", path, synchronous)
	if err := register(); err != nil {
		return nil, fmt.Errorf("prepare the database driver: %w", err)
	}
	db, err := gorm.Open(sqlite.Dialector{DriverName: remembering, DSN: dsn}, &gorm.Config{
		// Errors are returned, and logged with what was being tried.
		Logger: logger.Discard,
		// One statement needs no transaction of its own; Write makes them.
		SkipDefaultTransaction: true,
		NowFunc:                func() time.Time { return time.Now().UTC() },
	})
	if err != nil {
		return nil, fmt.Errorf("open %s: %w", path, err)
	}
	raw, err := db.DB()
	if err != nil {
		return nil, err
	}
	raw.SetMaxOpenConns(connections)
	return db, nil
}

var recordMigrations = []*gormigrate.Migration{
	{ID: "2026-11-23-first", Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(records...) }},
	// Settings of units in service: topics on the move, addresses, sealed copies.
	{ID: "2026-11-23-settings", Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(records...) }},
	// Two units with one id.
	{ID: "2026-11-23-bench", Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(records...) }},
	// Sightings in a home's network and on the broker, checks that a person
	// answers, and names that a retired device gives back.
	{ID: "2026-11-23-sign-off", Migrate: func(tx *gorm.DB) error {
		for _, name := range []string{"device_hostname", "device_topic"} {
			if tx.Migrator().HasIndex(&Device{}, name) {
				if err := tx.Migrator().DropIndex(&Device{}, name); err != nil {
					return err
				}
			}
		}
		return tx.AutoMigrate(records...)
	}},
	// How hubs answer.
	{ID: "2026-11-23-hubs", Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(records...) }},
	// Authorities of brokers, accounts of brokers elsewhere, hubs that listen.
	{ID: "2026-11-25-brokers", Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(records...) }},
	// Updates of every family, over routes; feeds.
	{ID: "2026-11-25-updates", Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(records...) }},
	// Rollouts, and sites that want the intended firmware before adoption.
	{ID: "2026-11-25-rollouts", Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(records...) }},
}

var telemetryMigrations = []*gormigrate.Migration{
	{ID: "2026-11-23-first", Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(telemetry...) }},
	// What was said in the last hour.
	{ID: "2026-11-23-heard", Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(telemetry...) }},
}

func migrate(db *gorm.DB, steps []*gormigrate.Migration, path string) error {
	known := map[string]bool{}
	for _, m := range steps {
		known[m.ID] = true
	}
	if db.Migrator().HasTable("migrations") {
		var done []string
		if err := db.Table("migrations").Pluck("id", &done).Error; err != nil {
			return fmt.Errorf("read the migrations of %s: %w", path, err)
		}
		for _, id := range done {
			if !known[id] {
				return problem.New(problem.Broken, fmt.Sprintf("The data folder was used by a newer Fado: %s has the migration %q.", path, id),
					"An older program was started on it.", "Start the newer version again, or restore a backup from before.")
			}
		}
	}
	if err := gormigrate.New(db, &gormigrate.Options{TableName: "migrations", IDColumnName: "id", IDColumnSize: 255, UseTransaction: true}, steps).Migrate(); err != nil {
		return fmt.Errorf("bring %s to this version: %w", path, err)
	}
	return nil
}

const keyProof = "the key fits"

// checkKey opens a value that was sealed when the folder was made.
func (s *Store) checkKey() error {
	return s.Write(context.Background(), func(tx *Tx) error {
		m, err := One[Meta](tx, "name = ?", "key")
		if errors.Is(err, ErrNone) {
			return Save(tx, &Meta{"key", string(s.Seal("meta", secret.New(keyProof)))})
		}
		if err != nil {
			return err
		}
		if _, err := s.Open("meta", []byte(m.Value)); err != nil {
			return problem.New(problem.Broken, "The sealing key does not fit the records.", "The key file belongs to another data folder.",
				"Put the right "+KeyFile+" back, or restore a backup with «fado restore».")
		}
		return nil
	})
}

// NewID makes an id: a UUID of version 7, so that ids sort by age.
func NewID() string { return uuid.Must(uuid.NewV7()).String() }

// Tx is a view of the records: inside Write it may change them.
type Tx struct {
	db    *gorm.DB
	after []func()
}

// After runs fn once the transaction of Write is committed, and never when it
// is not: whoever is told of a change must be able to read it.
func (tx *Tx) After(fn func()) { tx.after = append(tx.after, fn) }

// Write runs fn in one transaction of the one writer.
func (s *Store) Write(ctx context.Context, fn func(tx *Tx) error) error {
	fail.Point("before commit")
	after, err := transact(s.writer.WithContext(ctx), fn)
	if err != nil {
		return err
	}
	fail.Point("after commit")
	for _, f := range after {
		f()
	}
	return nil
}

func transact(db *gorm.DB, fn func(tx *Tx) error) (after []func(), err error) {
	err = db.Transaction(func(db *gorm.DB) error {
		tx := &Tx{db: db}
		defer func() { after = tx.after }()
		return fn(tx)
	})
	return after, err
}

// Read gives a view that reads.
func (s *Store) Read(ctx context.Context) *Tx { return &Tx{db: s.reader.WithContext(ctx)} }

// Telemetry runs fn in one transaction on the telemetry file.
func (s *Store) Telemetry(ctx context.Context, fn func(tx *Tx) error) error {
	after, err := transact(s.telemetry.WithContext(ctx), fn)
	if err != nil {
		return err
	}
	for _, f := range after {
		f()
	}
	return nil
}

// One finds a record, or returns ErrNone.
func One[T any](tx *Tx, where string, args ...any) (T, error) {
	var out []T
	err := tx.db.Where(where, args...).Limit(1).Find(&out).Error
	if err == nil && len(out) == 0 {
		err = ErrNone
	}
	if err != nil {
		var zero T
		return zero, err
	}
	return out[0], nil
}

// All finds records in an order.
func All[T any](tx *Tx, order, where string, args ...any) ([]T, error) {
	out := []T{}
	err := tx.db.Where(where, args...).Order(order).Find(&out).Error
	return out, err
}

// Some finds at most limit records in an order.
func Some[T any](tx *Tx, limit int, order, where string, args ...any) ([]T, error) {
	out := []T{}
	err := tx.db.Where(where, args...).Order(order).Limit(limit).Find(&out).Error
	return out, err
}

// Count counts records.
func Count[T any](tx *Tx, where string, args ...any) (int64, error) {
	var n int64
	err := tx.db.Model(new(T)).Where(where, args...).Count(&n).Error
	return n, err
}

// Create adds a record; a doubled key is an error.
func Create[T any](tx *Tx, rec *T) error { return tx.db.Create(rec).Error }

// Save adds a record or replaces the one with the same key.
func Save[T any](tx *Tx, rec *T) error {
	return tx.db.Clauses(clause.OnConflict{UpdateAll: true}).Create(rec).Error
}

// SaveAll adds or replaces records in batches.
func SaveAll[T any](tx *Tx, recs []T) error {
	if len(recs) == 0 {
		return nil
	}
	return tx.db.Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(recs, 200).Error
}

// Change sets columns of the records that match and returns how many did.
func Change[T any](tx *Tx, columns map[string]any, where string, args ...any) (int64, error) {
	r := tx.db.Model(new(T)).Where(where, args...).Updates(columns)
	return r.RowsAffected, r.Error
}

// AddSamples adds to what is kept of the same spans.
func AddSamples(tx *Tx, rows []Sample) error {
	if len(rows) == 0 {
		return nil
	}
	return tx.db.Clauses(clause.OnConflict{
		Columns: []clause.Column{{Name: "device_id"}, {Name: "span"}, {Name: "what"}, {Name: "start"}},
		DoUpdates: clause.Assignments(map[string]any{
			"count": gorm.Expr("samples.count + excluded.count"), "low": gorm.Expr("min(samples.low, excluded.low)"), "high": gorm.Expr("max(samples.high, excluded.high)"),
			"sum": gorm.Expr("samples.sum + excluded.sum"), "latest": gorm.Expr("excluded.latest"),
		}),
	}).CreateInBatches(rows, 200).Error
}

// Delete removes records and returns how many there were.
func Delete[T any](tx *Tx, where string, args ...any) (int64, error) {
	r := tx.db.Where(where, args...).Delete(new(T))
	return r.RowsAffected, r.Error
}

// Taken reports whether an error says that a unique name is in use.
func Taken(err error) bool {
	var e *driver.Error
	return errors.As(err, &e) && (e.Code() == sqlite3.SQLITE_CONSTRAINT_UNIQUE || e.Code() == sqlite3.SQLITE_CONSTRAINT_PRIMARYKEY)
}

// NextRevision records a change of what is intended and returns its number.
func NextRevision(tx *Tx, at time.Time, actor, what string) (int64, error) {
	r := Revision{At: at, Actor: actor, What: what}
	err := tx.db.Create(&r).Error
	return r.ID, err
}

// Log writes an event.
func Log(tx *Tx, e Event) error { return tx.db.Create(&e).Error }

// DeviceFilter selects devices.
type DeviceFilter struct {
	SiteID, RoomID, Model, Stage, Presence, Standing, Tag, Search string
	Attention                                                     bool
}

// Devices returns a page of devices by name, after the cursor, and counts all
// that match. The cursor is the last page's last name and id.
func Devices(tx *Tx, f DeviceFilter, afterName, afterID string, limit int) ([]Device, int64, error) {
	where := func(db *gorm.DB) *gorm.DB {
		for column, v := range map[string]string{"site_id": f.SiteID, "room_id": f.RoomID, "model": f.Model, "stage": f.Stage, "presence": f.Presence, "standing": f.Standing} {
			if v != "" {
				db = db.Where(column+" = ?", v)
			}
		}
		if f.Stage == "" {
			db = db.Where("stage <> 'retired'") // they are for the record
		}
		if f.Tag != "" {
			db = db.Where("instr(tags, ?) > 0", ","+f.Tag+",")
		}
		for word := range strings.FieldsSeq(f.Search) {
			db = db.Where("instr(search, ?) > 0", word)
		}
		if f.Attention {
			db = db.Where("attention <> ''")
		}
		return db
	}
	var n int64
	if err := where(tx.db.Model(&Device{})).Count(&n).Error; err != nil {
		return nil, 0, err
	}
	q := where(tx.db)
	if afterID != "" {
		q = q.Where("(name, id) > (?, ?)", afterName, afterID)
	}
	out := []Device{}
	err := q.Order("name, id").Limit(limit).Find(&out).Error
	return out, n, err
}

// VersionCount is how many devices of a model at a site run a version.
type VersionCount struct {
	SiteID, Model, Running, Standing string
	N                                int64
}

// VersionCounts counts the devices that are in use by site, model, version and
// standing.
func VersionCounts(tx *Tx) ([]VersionCount, error) {
	out := []VersionCount{}
	err := tx.db.Table("devices").Select("site_id, model, running, standing, count(*) AS n").Where("stage <> 'retired' AND unit_id IS NOT NULL").
		Group("site_id, model, running, standing").Order("site_id, model, running").Find(&out).Error
	return out, err
}

// OnlineDevices lists the devices whose units are online and do not sleep, with each
// live account; one without an account once.
func OnlineDevices(tx *Tx) ([]Online, error) {
	out := []Online{}
	err := tx.db.Table("devices d").Select("d.id, d.site_id, d.name, coalesce(a.name, '') AS account").Joins("LEFT JOIN accounts a ON a.device_id = d.id AND a.revoked_at IS NULL").
		Where("d.presence = 'online' AND d.awake_until IS NULL").Order("d.id").Find(&out).Error
	return out, err
}

// LoadKept returns what the embedded broker kept.
func (s *Store) LoadKept(ctx context.Context) (map[string][]byte, error) {
	out := map[string][]byte{}
	err := s.Telemetry(ctx, func(tx *Tx) error {
		list, err := All[Kept](tx, "key", "1 = 1")
		for _, k := range list {
			out[k.Key] = k.Value
		}
		return err
	})
	return out, err
}

// SaveKept keeps a batch for the embedded broker; a nil value takes a key away.
func (s *Store) SaveKept(ctx context.Context, batch map[string][]byte) error {
	return s.Telemetry(ctx, func(tx *Tx) error {
		var put []Kept
		var drop []string
		for k, v := range batch {
			if v == nil {
				drop = append(drop, k)
				continue
			}
			put = append(put, Kept{k, v})
		}
		for len(drop) > 0 {
			n := min(len(drop), 500)
			if _, err := Delete[Kept](tx, "key IN ?", drop[:n]); err != nil {
				return err
			}
			drop = drop[n:]
		}
		return SaveAll(tx, put)
	})
}
