package manifest_test

import (
	"fmt"

	"morvant/internal/digest"
	"morvant/internal/manifest"
)

func Example() {
	m := &manifest.Manifest{
		Files:     []manifest.File{{Path: "maps/tide.map", Size: 5, Digest: digest.Of([]byte("tides"))}},
		EmptyDirs: []string{"logs"},
	}
	fmt.Println(string(m.Encode()))
	// Output: {"empty_dirs":["logs"],"files":[{"digest":"f78a1b18235d865e55bd540f578e20d9fb3c7c06e9a1fb996c520e355107de8f","path":"maps/tide.map","size":5}],"format":"morvant-manifest/1","links":[]}
}

func ExampleCompare() {
	file := func(path, content string) manifest.File {
		return manifest.File{Path: path, Size: int64(len(content)), Digest: digest.Of([]byte(content))}
	}
	before := &manifest.Manifest{Files: []manifest.File{file("a.pak", "cranes"), file("b.pak", "tides"), file("c.pak", "gulls")}}
	after := &manifest.Manifest{Files: []manifest.File{file("a.pak", "cranes!"), file("moved.pak", "tides"), file("new.pak", "cargo")}}
	c := manifest.Compare(before, after)
	fmt.Println(len(c.Changed), "changed,", len(c.Added), "added,", len(c.Removed), "removed,", len(c.Moved), "moved")
	fmt.Println(c.BytesIn(), "bytes come in")
	// Output:
	// 1 changed, 1 added, 1 removed, 1 moved
	// 12 bytes come in
}

func ExampleCheckPath() {
	fmt.Println(manifest.CheckPath("../outside"))
	fmt.Println(manifest.CheckPath("maps/tide.map"))
	// Output:
	// path not allowed: "../outside" has a part ..
	// <nil>
}
