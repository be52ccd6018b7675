package listing

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"morvant/internal/adapter"
	"morvant/internal/catalogue"
	"morvant/internal/digest"
)

var now = time.Date(2031, 8, 5, 12, 0, 0, 0, time.UTC)

func build(id, date string) adapter.Build {
	return adapter.Build{ID: id, Date: date, Components: []adapter.Component{{Name: "game", Manifest: "m-" + id}}}
}

func channel(known map[string]catalogue.Build, builds ...adapter.Build) *catalogue.Channel {
	return Channel(known, "shelf", "public", builds, make(map[string]catalogue.Component), now)
}

func labels(c *catalogue.Channel) (list []string) {
	for _, b := range c.Builds {
		list = append(list, b.Label)
	}
	return list
}

// TestBuildsWithoutLabelsAreCalledByTheirDates: several of a day in the order of their times, those without a date by the day they were seen.
func TestBuildsWithoutLabelsAreCalledByTheirDates(t *testing.T) {
	c := channel(nil, build("3", ""), build("2", "2031-05-20T18:00:00Z"), build("1", "2031-05-20T09:00:00Z"))
	require.Equal(t, []string{"2031-05-20", "2031-05-20.2", "2031-08-05"}, labels(c))
}

// TestWhatIsListedNoMoreIsKnownStill: and what it was called goes on, unless something else has the name now.
func TestWhatIsListedNoMoreIsKnownStill(t *testing.T) {
	named := build("1", "2031-05-20T09:00:00Z")
	named.Label = "1.0"
	known := map[string]catalogue.Build{}
	for _, b := range channel(nil, named).Builds {
		known[b.ID] = b
	}
	other := build("2", "2031-06-20T09:00:00Z")
	other.Label, other.Withdrawn = "1.0", true
	c := channel(known, other)
	require.Equal(t, []string{"2031-05-20", "1.0"}, labels(c))
	require.True(t, c.Builds[0].Unlisted)
	require.Empty(t, c.Builds[0].Asked(), "it is asked for by its manifest")
	require.True(t, c.Builds[1].Withdrawn)
	require.Len(t, known, 1, "what was known is left alone")
}

// TestFewManifestsAreReadWithTheList: the newest, up to a number of manifests and of files; a sample has both ends; none is read twice.
func TestFewManifestsAreReadWithTheList(t *testing.T) {
	var builds []adapter.Build
	for n := range 100 {
		b := build(fmt.Sprint(n), now.AddDate(0, 0, -n).Format(time.RFC3339))
		b.Components[0].Files = 900
		builds = append(builds, b)
	}
	list := []*catalogue.Channel{channel(nil, builds...)}
	none := func() map[digest.Digest]bool { return make(map[digest.Digest]bool) }
	few := Worth(list, Few, none())
	require.Len(t, few, 20)
	require.Equal(t, "m-0", few[0].Part.ID)
	require.Equal(t, "0", few[0].Build)
	for i := range list[0].Builds {
		list[0].Builds[i].Components[0].Files = 9000
	}
	require.Len(t, Worth(list, Few, none()), 2)
	sample := Worth(list, Sample, none())
	require.Len(t, sample, 12)
	require.Equal(t, "m-0", sample[0].Part.ID)
	require.Equal(t, "m-99", sample[11].Part.ID)
	require.Len(t, Worth(list, Every, none()), 100)
	read := none()
	require.Len(t, Worth(list, Sample, read), 12)
	require.Len(t, Worth(list, Every, read), 88)
	list[0].Builds[0].Components[0].Refused = "not today"
	require.Len(t, Worth(list, Every, none()), 99)
}
