package store

import (
	"container/list"
	"context"
	"database/sql"
	"database/sql/driver"
	"reflect"
	"strings"
	"sync"
)

// remembering is the SQLite driver with a memory: each connection keeps the
// statements that it was given last ready to be carried out again. Reading a
// statement costs SQLite as much as carrying a small one out.
const remembering = "sqlite-remembering"

// remembered is how many statements a connection keeps ready.
const remembered = 300

var register = sync.OnceValue(func() error {
	db, err := sql.Open("sqlite", "")
	if err != nil {
		return err
	}
	sql.Register(remembering, memory{db.Driver()})
	return db.Close()
})

type memory struct{ driver.Driver }

// Open opens a connection.
func (m memory) Open(name string) (driver.Conn, error) {
	c, err := m.Driver.Open(name)
	if err != nil {
		return nil, err
	}
	return &conn{inner: c.(inner), ready: map[string]*list.Element{}, order: list.New()}, nil
}

// inner is what the driver's own connection can do.
type inner interface {
	driver.Conn
	driver.ConnBeginTx
	driver.ConnPrepareContext
	driver.ExecerContext
	driver.QueryerContext
	driver.SessionResetter
	driver.Validator
}

// conn is used by one goroutine at a time, as database/sql promises.
type conn struct {
	inner
	ready map[string]*list.Element
	order *list.List // the one used last is at the front
}

type statement struct {
	text string
	stmt interface {
		driver.Stmt
		driver.StmtExecContext
		driver.StmtQueryContext
	}
	busy bool // its rows are being read
}

// take gives a statement that is ready and not busy; nil when the text is better
// carried out as it is.
func (c *conn) take(ctx context.Context, text string) (*statement, error) {
	if e, ok := c.ready[text]; ok {
		s := e.Value.(*statement)
		if s.busy {
			return nil, nil
		}
		c.order.MoveToFront(e)
		return s, nil
	}
	verb, _, _ := strings.Cut(text, " ")
	if verb != "SELECT" && verb != "INSERT" && verb != "UPDATE" && verb != "DELETE" || len(text) > 4096 {
		return nil, nil // it is rare, or changes the tables
	}
	p, err := c.PrepareContext(ctx, text)
	if err != nil {
		return nil, err
	}
	s := &statement{text: text}
	if s.stmt, _ = p.(interface {
		driver.Stmt
		driver.StmtExecContext
		driver.StmtQueryContext
	}); s.stmt == nil {
		return nil, p.Close()
	}
	c.ready[text] = c.order.PushFront(s)
	for e := c.order.Back(); len(c.ready) > remembered && e != nil; e = c.order.Back() {
		old := e.Value.(*statement)
		if old.busy {
			break
		}
		c.order.Remove(e)
		delete(c.ready, old.text)
		if err := old.stmt.Close(); err != nil {
			return nil, err
		}
	}
	return s, nil
}

// ExecContext implements driver.ExecerContext.
func (c *conn) ExecContext(ctx context.Context, text string, args []driver.NamedValue) (driver.Result, error) {
	s, err := c.take(ctx, text)
	if err != nil {
		return nil, err
	}
	if s == nil {
		return c.inner.ExecContext(ctx, text, args)
	}
	return s.stmt.ExecContext(ctx, args)
}

// QueryContext implements driver.QueryerContext.
func (c *conn) QueryContext(ctx context.Context, text string, args []driver.NamedValue) (driver.Rows, error) {
	s, err := c.take(ctx, text)
	if err != nil {
		return nil, err
	}
	if s == nil {
		return c.inner.QueryContext(ctx, text, args)
	}
	r, err := s.stmt.QueryContext(ctx, args)
	if err != nil {
		return nil, err
	}
	s.busy = true
	return &rows{r, s}, nil
}

// Close closes the statements, too.
func (c *conn) Close() error {
	for e := c.order.Front(); e != nil; e = e.Next() {
		_ = e.Value.(*statement).stmt.Close()
	}
	c.order.Init()
	clear(c.ready)
	return c.inner.Close()
}

// rows frees its statement when it was read.
type rows struct {
	driver.Rows
	of *statement
}

// Close implements driver.Rows.
func (r *rows) Close() error {
	r.of.busy = false
	return r.Rows.Close()
}

// ColumnTypeDatabaseTypeName implements driver.RowsColumnTypeDatabaseTypeName.
func (r *rows) ColumnTypeDatabaseTypeName(i int) string {
	if t, ok := r.Rows.(driver.RowsColumnTypeDatabaseTypeName); ok {
		return t.ColumnTypeDatabaseTypeName(i)
	}
	return ""
}

// ColumnTypeNullable implements driver.RowsColumnTypeNullable.
func (r *rows) ColumnTypeNullable(i int) (nullable, ok bool) {
	if t, known := r.Rows.(driver.RowsColumnTypeNullable); known {
		return t.ColumnTypeNullable(i)
	}
	return false, false
}

// ColumnTypeScanType implements driver.RowsColumnTypeScanType.
func (r *rows) ColumnTypeScanType(i int) reflect.Type {
	if t, ok := r.Rows.(driver.RowsColumnTypeScanType); ok {
		return t.ColumnTypeScanType(i)
	}
	return reflect.TypeFor[any]()
}
