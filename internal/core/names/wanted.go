package names

import (
	"fmt"
	"slices"
	"strings"
)

// wildcardFrom is from how many neighbours on a wildcard is worth a thought.
const wildcardFrom = 4

// Advise says what to think of before a certificate for names is ordered: the
// apex without www and the other way round, a wildcard that leaves something
// out, and names that a wildcard would spare. Names may be wildcards.
func Advise(list []string) (out []string) {
	has := func(n string) bool { return slices.Contains(list, n) }
	neighbours := map[string][]string{}
	for _, n := range list {
		if base, ok := strings.CutPrefix(n, "*."); ok {
			if !has(base) {
				out = append(out, fmt.Sprintf("%s does not cover %s itself; add it when visitors come there", n, base))
			}
			for _, o := range list {
				if deep := strings.TrimSuffix(o, "."+base); deep != o && strings.Contains(deep, ".") {
					out = append(out, fmt.Sprintf("%s covers one label only, so %s has to stand beside it", n, o))
				}
			}
			continue
		}
		label, parent, _ := strings.Cut(n, ".")
		if label == "www" && !has(parent) {
			out = append(out, fmt.Sprintf("%s is there and %s is not; visitors type both", n, parent))
		} else if strings.Count(n, ".") == 1 && !has("www."+n) && !has("*."+n) {
			out = append(out, fmt.Sprintf("%s is there and www.%s is not; visitors type both", n, n))
		}
		if strings.Contains(parent, ".") && !has("*."+parent) {
			neighbours[parent] = append(neighbours[parent], n)
		}
	}
	var parents []string
	for p, names := range neighbours {
		if len(names) >= wildcardFrom {
			parents = append(parents, p)
		}
	}
	slices.Sort(parents)
	for _, p := range parents {
		out = append(out,
			fmt.Sprintf("%d names stand under %s; *.%s would cover them, needs proof by dns, and one key for all",
				len(neighbours[p]), p, p))
	}
	return out
}
