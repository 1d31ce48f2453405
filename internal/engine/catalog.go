package engine

import (
	"context"
	"fmt"
	"slices"
	"sync"

	"fado/internal/core/dialect"
	"fado/internal/core/inventory"
	"fado/internal/core/notice"
	"fado/internal/core/problem"
	"fado/internal/store"
)

// catalog holds the models and dialects in their parsed form.
type catalog struct {
	mu       sync.RWMutex
	models   map[string]inventory.Model
	dialects map[string]*dialect.Dialect
	notices  map[string]*notice.Notice
}

func (e *Engine) loadCatalog() error {
	files, err := store.All[store.File](e.Store.Read(e.ctx), "kind, name", "1 = 1")
	if err != nil {
		return fmt.Errorf("load models and dialects: %w", err)
	}
	e.catalog.models, e.catalog.dialects, e.catalog.notices = map[string]inventory.Model{}, map[string]*dialect.Dialect{}, map[string]*notice.Notice{}
	for _, f := range files {
		if f.Kind == "notice" {
			n, faults := notice.Parse(f.Name, []byte(f.Body))
			if len(faults) > 0 {
				e.Log.Error("a stored notice cannot be read by this version", "notice", f.Name, "fault", faults[0].String())
				continue
			}
			e.catalog.notices[f.Name] = n
			continue
		}
		if f.Kind == "dialect" {
			d, faults := dialect.Parse(f.Name, []byte(f.Body))
			if len(faults) > 0 {
				e.Log.Error("a stored dialect cannot be read by this version", "dialect", f.Name, "fault", faults[0].String())
				continue
			}
			e.catalog.dialects[f.Name] = d
			continue
		}
		m, err := inventory.ParseModel([]byte(f.Body))
		if err != nil {
			e.Log.Error("a stored model cannot be read by this version", "model", f.Name, "error", err)
			continue
		}
		e.catalog.models[f.Name] = m
	}
	return nil
}

// Model finds a model.
func (e *Engine) Model(name string) (inventory.Model, bool) {
	e.catalog.mu.RLock()
	defer e.catalog.mu.RUnlock()
	m, ok := e.catalog.models[name]
	return m, ok
}

// Models lists the models by name.
func (e *Engine) Models() []inventory.Model {
	e.catalog.mu.RLock()
	defer e.catalog.mu.RUnlock()
	out := make([]inventory.Model, 0, len(e.catalog.models))
	for _, m := range e.catalog.models {
		out = append(out, m)
	}
	slices.SortFunc(out, func(a, b inventory.Model) int {
		if a.Name < b.Name {
			return -1
		}
		return 1
	})
	return out
}

// Dialect finds a dialect.
func (e *Engine) Dialect(name string) (*dialect.Dialect, bool) {
	e.catalog.mu.RLock()
	defer e.catalog.mu.RUnlock()
	d, ok := e.catalog.dialects[name]
	return d, ok
}

// Dialects lists the dialects by name.
func (e *Engine) Dialects() []*dialect.Dialect {
	e.catalog.mu.RLock()
	defer e.catalog.mu.RUnlock()
	out := make([]*dialect.Dialect, 0, len(e.catalog.dialects))
	for _, d := range e.catalog.dialects {
		out = append(out, d)
	}
	slices.SortFunc(out, func(a, b *dialect.Dialect) int {
		if a.Name < b.Name {
			return -1
		}
		return 1
	})
	return out
}

// PutModel adds a model or replaces the one of the same name.
func (e *Engine) PutModel(ctx context.Context, actor string, file []byte) (inventory.Model, error) {
	m, err := inventory.ParseModel(file)
	if err != nil {
		return m, err
	}
	err = e.putFile(ctx, actor, "model", m.Name, file, m.Name)
	if err == nil {
		e.catalog.mu.Lock()
		e.catalog.models[m.Name] = m
		e.catalog.mu.Unlock()
		err = e.ingest.load()
	}
	return m, err
}

// PutDialect adds a dialect or replaces the one of the same name.
func (e *Engine) PutDialect(ctx context.Context, actor string, file []byte) (*dialect.Dialect, error) {
	d, faults := dialect.Parse("dialect", file)
	if len(faults) > 0 {
		return nil, dialect.Refuse("dialect", faults)
	}
	var models []string
	for _, m := range e.Models() {
		if m.Dialect == d.Name {
			models = append(models, m.Name)
		}
	}
	err := e.putFile(ctx, actor, "dialect", d.Name, file, models...)
	if err == nil {
		e.catalog.mu.Lock()
		e.catalog.dialects[d.Name] = d
		e.catalog.mu.Unlock()
		err = e.ingest.load()
	}
	return d, err
}

// putFile keeps a file. The things of the models that it describes may change with
// it.
func (e *Engine) putFile(ctx context.Context, actor, kind, name string, file []byte, models ...string) error {
	return e.Store.Write(ctx, func(tx *store.Tx) error {
		if err := store.Save(tx, &store.File{Kind: kind, Name: name, Body: string(file), UpdatedAt: e.Clock.Now()}); err != nil {
			return err
		}
		e.mark(tx, kind, name)
		if len(models) > 0 {
			if err := e.enqueueThings(tx, "model IN ?", models); err != nil {
				return err
			}
		}
		return e.event(tx, store.Event{Actor: actor, Kind: kind, Text: fmt.Sprintf("The %s %s was loaded.", kind, name)})
	})
}

// File returns a model or dialect file as it was given.
func (e *Engine) File(ctx context.Context, kind, name string) (store.File, error) {
	f, err := store.One[store.File](e.Store.Read(ctx), "kind = ? AND name = ?", kind, name)
	if err != nil {
		return f, notFound(kind, name)
	}
	return f, nil
}

// speaker returns a device's model and dialect.
func (e *Engine) speaker(d store.Device) (inventory.Model, *dialect.Dialect, error) {
	m, ok := e.Model(d.Model)
	if !ok {
		return m, nil, notFound("model", d.Model)
	}
	dl, ok := e.Dialect(m.Dialect)
	if !ok {
		return m, nil, problem.New(problem.Conflict, fmt.Sprintf("%s cannot be spoken to: its model %s speaks the dialect %q, which is not loaded.", d.Name, m.Name, m.Dialect),
			"The dialect's file was not added.", "Add it with «fado dialect add FILE».")
	}
	return m, dl, nil
}
