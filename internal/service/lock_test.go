package service

import (
	"strings"
	"syscall"
	"testing"
)

// TestTheLockGoesAtOnce: even while a program that is being started still holds a copy
// of its descriptor, as one does between fork and exec.
func TestTheLockGoesAtOnce(t *testing.T) {
	dir := t.TempDir()
	f, err := lock(dir)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := lock(dir); err == nil || !strings.Contains(err.Error(), "is in use") {
		t.Errorf("two services on one folder: %v", err)
	}
	held, err := syscall.Dup(int(f.Fd()))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = syscall.Close(held) }()
	unlock(f)
	again, err := lock(dir)
	if err != nil {
		t.Fatal(err)
	}
	unlock(again)
}
