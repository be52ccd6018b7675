package listing

import (
	"slices"

	"morvant/internal/catalogue"
	"morvant/internal/digest"
)

// Reading says which manifests are asked for along with the list of a distributor.
type Reading int

// Few are the newest, up to a bound; Sample the newest, the oldest and some between; Every all of them.
const (
	Few Reading = iota
	Sample
	Every
)

// What is read without being asked for, at most: a distributor may have thousands of builds with many files each, and the rest
// comes when it is needed.
const (
	fewManifests = 20
	FewFiles     = 20_000
	sampled      = 10 // builds between the newest and the oldest
)

// Wanted is a manifest that is to be asked for.
type Wanted struct {
	Build string // the distributor's id of one that has it; empty: it is not listed any more
	Part  catalogue.Part
}

// Unread lists the manifests of builds that have not been read, those of the first build first, each once, and notes them as read.
// What the distributor has refused since the list was read is left out.
func Unread(builds []catalogue.Build, read map[digest.Digest]bool) []Wanted {
	var list []Wanted
	for _, b := range builds {
		for _, p := range b.Components {
			if !read[p.Manifest] && p.Refused == "" {
				read[p.Manifest] = true
				list = append(list, Wanted{b.Asked(), p})
			}
		}
	}
	return list
}

// Worth lists which of the manifests that have not been read are to be read along with the list.
func Worth(channels []*catalogue.Channel, r Reading, read map[digest.Digest]bool) []Wanted {
	var list []Wanted
	for _, c := range channels {
		builds := slices.Clone(c.Builds)
		slices.Reverse(builds) // the newest first
		if r == Sample {
			builds = spread(builds, sampled+2)
		}
		list = append(list, Unread(builds, read)...)
	}
	if r != Few {
		return list
	}
	list = list[:min(len(list), fewManifests)]
	files := 0
	for i, w := range list {
		if files += w.Part.Files; files > FewFiles {
			return list[:i]
		}
	}
	return list
}

// spread chooses n of a list, the first and the last among them.
func spread[T any](list []T, n int) []T {
	if len(list) <= n {
		return list
	}
	var some []T
	for i := range n {
		some = append(some, list[i*(len(list)-1)/(n-1)])
	}
	return some
}
