package sim

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math/rand/v2"
)

// imageMagic opens every image that a simulated unit can start.
const imageMagic = "SIMULATED UNIT IMAGE\n"

// ImageHeader is what a simulated image says of itself.
type ImageHeader struct {
	Firmware string `json:"firmware"`
	Version  string `json:"version"`
	Chip     string `json:"chip"`
	Starts   bool   `json:"starts"` // false: the unit gives up starting it
}

// BuildImage writes an image of the given size whose filling is the same for
// the same header.
func BuildImage(h ImageHeader, size int) []byte {
	head, err := json.Marshal(h)
	if err != nil {
		panic(err)
	}
	var b bytes.Buffer
	b.WriteString(imageMagic)
	b.Write(head)
	b.WriteByte('\n')
	sum := sha256.Sum256(b.Bytes())
	fill := rand.NewChaCha8(sum)
	if rest := size - b.Len(); rest > 0 {
		filling := make([]byte, rest)
		_, _ = fill.Read(filling)
		b.Write(filling)
	}
	return b.Bytes()
}

func readImage(b []byte) (ImageHeader, error) {
	var h ImageHeader
	rest, ok := bytes.CutPrefix(b, []byte(imageMagic))
	if !ok {
		return h, fmt.Errorf("not an image")
	}
	line, _, ok := bytes.Cut(rest, []byte("\n"))
	if !ok {
		return h, fmt.Errorf("the image is cut short")
	}
	return h, json.Unmarshal(line, &h)
}

func digestOf(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}
