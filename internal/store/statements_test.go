package store

import (
	"database/sql"
	"fmt"
	"testing"
)

// TestStatementsAreRemembered: a statement that is used again, while its rows are
// still being read or after the tables have changed, gives what it should, and old
// ones make room.
func TestStatementsAreRemembered(t *testing.T) {
	if err := register(); err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open(remembering, "file:"+t.TempDir()+"/x.db")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = db.Close() })
	db.SetMaxOpenConns(1)
	do := func(text string, args ...any) {
		t.Helper()
		if _, err := db.Exec(text, args...); err != nil {
			t.Fatal(text, err)
		}
	}
	do("CREATE TABLE x (id INTEGER PRIMARY KEY, name TEXT UNIQUE)")
	for i := range 5 {
		do("INSERT INTO x (id, name) VALUES (?, ?)", i, fmt.Sprint("n", i))
	}
	if _, err := db.Exec("INSERT INTO x (id, name) VALUES (?, ?)", 9, "n1"); err == nil {
		t.Error("a name was taken twice")
	}
	do("INSERT INTO x (id, name) VALUES (?, ?)", 9, "n9") // the one that failed is as good as new
	tx, err := db.Begin()
	if err != nil {
		t.Fatal(err)
	}
	const all = "SELECT name FROM x ORDER BY id"
	outer, err := tx.Query(all)
	if err != nil {
		t.Fatal(err)
	}
	count := 0
	for outer.Next() {
		inner, err := tx.Query(all) // the same one, while its rows are being read
		if err != nil {
			t.Fatal(err)
		}
		for inner.Next() {
			count++
		}
		if err := inner.Close(); err != nil {
			t.Error(err)
		}
	}
	if err := outer.Close(); err != nil || count != 36 {
		t.Errorf("%d, %v", count, err)
	}
	if err := tx.Commit(); err != nil {
		t.Fatal(err)
	}
	do("ALTER TABLE x ADD COLUMN more TEXT DEFAULT 'm'")
	var id int
	var name, more string
	for range 2 {
		if err := db.QueryRow("SELECT * FROM x WHERE id = ?", 3).Scan(&id, &name, &more); err != nil || name != "n3" || more != "m" {
			t.Errorf("%d %s %s, %v", id, name, more, err)
		}
	}
	for i := range remembered + 20 {
		if err := db.QueryRow(fmt.Sprintf("SELECT %d FROM x WHERE id = ?", i), 3).Scan(&id); err != nil || id != i {
			t.Fatal(id, err)
		}
	}
	if err := db.QueryRow("SELECT nothing FROM x").Scan(&id); err == nil {
		t.Error("a wrong statement was carried out")
	}
	if types, err := db.Query(all); err != nil {
		t.Error(err)
	} else if list, err := types.ColumnTypes(); err != nil || list[0].DatabaseTypeName() != "TEXT" || types.Close() != nil {
		t.Errorf("%v, %v", list, err)
	}
}
