// Chunksizes measures what different chunk sizes would cost and save: it cuts
// the files of several folders, taken as successive builds, and counts what a
// store would hold. Usage: go run ./scripts/chunksizes FOLDER...
package main

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"morvant/internal/chunk"
	"morvant/internal/digest"
	"morvant/internal/pack"
)

// perRecord is what a chunk costs beside its bytes: the head and index entry in a
// pack (104), its row in the index (about 60) and its line in a layout (36).
const perRecord = 200

func main() {
	if len(os.Args) < 2 {
		fmt.Fprintln(os.Stderr, "usage: chunksizes FOLDER...")
		os.Exit(2)
	}
	fmt.Println("average   chunks   new content  stored  with overhead  of all   cut at")
	for _, avg := range []int{16 << 10, 32 << 10, 64 << 10, 128 << 10, 256 << 10, 512 << 10} {
		if err := measure(avg, os.Args[1:]); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
	}
}

func measure(avg int, dirs []string) error {
	cutter, err := chunk.NewSizes(chunk.Sizes{Min: avg / 4, Avg: avg, Max: avg * 4})
	if err != nil {
		return err
	}
	coder, err := pack.NewCoder(pack.Fast)
	if err != nil {
		return err
	}
	defer coder.Close()
	seen := make(map[digest.Digest]bool)
	var total, fresh, stored int64
	var cutting time.Duration
	for _, dir := range dirs {
		err := filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
			if err != nil || !d.Type().IsRegular() {
				return err
			}
			b, err := os.ReadFile(p)
			if err != nil {
				return err
			}
			total += int64(len(b))
			for len(b) > 0 {
				started := time.Now()
				n := cutter.Next(b)
				cutting += time.Since(started)
				if id := digest.Of(b[:n]); !seen[id] {
					seen[id] = true
					fresh += int64(n)
					_, out := coder.Encode(b[:n], nil)
					stored += int64(len(out))
				}
				b = b[n:]
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	all := stored + perRecord*int64(len(seen))
	fmt.Printf("%4d KiB %8d %10.1f MB %7.1f MB %9.1f MB %8.3f %5.0f MB/s\n", avg>>10, len(seen), mb(fresh), mb(stored), mb(all),
		float64(all)/float64(total), mb(total)/cutting.Seconds())
	return nil
}

func mb(n int64) float64 { return float64(n) / 1e6 }
