// Command shots_tmp is temporary.
package main

import (
	"context"
	"fmt"
	"os"
	"strconv"
	"time"

	"fado/test/browser"
)

func main() {
	b, err := browser.Open(context.Background())
	if err != nil { panic(err) }
	defer b.Close()
	base, pass := os.Args[1], os.Args[2]
	must := func(err error) { if err != nil { fmt.Println(err) } }
	must(b.Go(base + "/"))
	must(b.Type("textbox", "Name", "marta")); must(b.Type("textbox", "Password", pass)); must(b.Press("button", "Sign in")); must(b.Has("heading", "What needs you"))
	for i := 3; i+3 < len(os.Args); i += 4 {
		w, _ := strconv.Atoi(os.Args[i+2])
		must(b.Size(int64(w), 800))
		must(b.Go(base + os.Args[i]))
		must(b.See(os.Args[i+1]))
		time.Sleep(2500 * time.Millisecond)
		must(b.Picture(os.Args[i+3], true))
	}
	fmt.Println(b.Problems())
}
