// Command licences says how many modules of a CycloneDX bill of materials have which
// licence, and fails where one has none: licences FILE.
package main

import (
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
)

type bill struct {
	Components []struct {
		Name     string `json:"name"`
		Evidence struct {
			Licenses []struct {
				License struct {
					ID string `json:"id"`
				} `json:"license"`
			} `json:"licenses"`
		} `json:"evidence"`
	} `json:"components"`
}

func main() {
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "licences:", err)
		os.Exit(1)
	}
}

func run(args []string) error {
	if len(args) != 1 {
		return fmt.Errorf("usage: licences FILE")
	}
	b, err := os.ReadFile(args[0])
	if err != nil {
		return err
	}
	var list bill
	if err := json.Unmarshal(b, &list); err != nil {
		return err
	}
	if len(list.Components) == 0 {
		return fmt.Errorf("%s lists nothing", args[0])
	}
	found := make(map[string]int)
	var without []string
	for _, c := range list.Components {
		switch {
		case len(c.Evidence.Licenses) > 0:
			found[c.Evidence.Licenses[0].License.ID]++
		case c.Name != "std": // Go itself, whose licence lies outside of its modules
			without = append(without, c.Name)
		}
	}
	fmt.Printf("%d modules:", len(list.Components))
	for _, id := range slices.Sorted(maps.Keys(found)) {
		fmt.Printf(" %d %s", found[id], id)
	}
	fmt.Println()
	if len(without) > 0 {
		return fmt.Errorf("no licence was found for %s", strings.Join(without, ", "))
	}
	return nil
}
