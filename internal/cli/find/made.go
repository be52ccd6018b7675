package find

import (
	"archive/zip"
	"os"
	"time"

	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
)

// MadeAt says when a file was made, and how that is known: by --date, by the newest entry of a zip,
// which keeps its times when it is copied, or by the file's own date.
func MadeAt(c *cli.Command, file string) (when time.Time, how string, err error) {
	if c.String("date") != "" {
		when, err = app.Date(c.String("date"))
		return when, "as you say", err
	}
	info, err := os.Stat(file)
	if err != nil {
		return when, "", err
	}
	z, err := zip.OpenReader(file)
	if err != nil {
		return info.ModTime(), "the date of the file", nil
	}
	defer z.Close()
	for _, e := range z.File {
		if e.Modified.After(when) && e.Modified.Year() < 2200 {
			when = e.Modified
		}
	}
	if when.Year() < 1990 { // archives of some programs have no dates
		return info.ModTime(), "the date of the file", nil
	}
	return when, "the date inside of it", nil
}
