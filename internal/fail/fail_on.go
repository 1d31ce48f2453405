//go:build failpoints

package fail

import (
	"fmt"
	"os"
	"strconv"
	"strings"
	"sync"
)

var (
	mu   sync.Mutex
	seen = map[string]int{}
)

// Point ends the process with status 86, without any clean-up, when the
// environment variable FADO_FAIL_AT names this place, as name or name:n for the
// nth time it is passed. With FADO_FAIL_LIST set, each place is appended to
// that file as it is passed.
func Point(name string) {
	mu.Lock()
	seen[name]++
	n := seen[name]
	mu.Unlock()
	if list := os.Getenv("FADO_FAIL_LIST"); list != "" {
		f, err := os.OpenFile(list, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
		if err == nil {
			_, _ = fmt.Fprintf(f, "%s:%d\n", name, n)
			_ = f.Close()
		}
	}
	at, nth := os.Getenv("FADO_FAIL_AT"), 1
	if i := strings.LastIndexByte(at, ':'); i >= 0 {
		if v, err := strconv.Atoi(at[i+1:]); err == nil {
			at, nth = at[:i], v
		}
	}
	if at == name && n == nth {
		os.Exit(86)
	}
}
