package find

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
	"morvant/internal/cli/view"
	"morvant/internal/identify"
	"morvant/internal/lane"
	"morvant/internal/lane/record"
	"morvant/internal/rules"
	"morvant/internal/state"
	"morvant/internal/transfer"
)

// KeepHidden is the value of --exclude that leaves nothing out.
const KeepHidden = "none"

// Asked answers what an import asks, at the terminal or by options.
func Asked(a *app.App, c *cli.Command, l *lane.Lane) transfer.Asked {
	dry := c.Bool("dry-run")
	importing := "" // what has the options that are named
	if c.Name != "import" {
		importing = "morvant import ... "
	}
	// sure asks a question; without an answer it refuses with what can be said instead.
	sure := func(question, instead string) error {
		if dry {
			return nil
		}
		switch err := a.Ask(c, question); {
		case err == nil:
			return nil
		case errors.Is(err, app.ErrUnanswered), errors.Is(err, app.ErrDeclined):
			return app.Refusef("nothing was recorded; %s", instead)
		default:
			return err
		}
	}
	asked := transfer.Asked{
		Nested: func(src, folder string) error {
			a.Note("%s does not resemble %s as it is; its folder %s does.", filepath.Base(src), l.Game.Display(), folder)
			return sure("Take only what is in "+folder+"?", fmt.Sprintf("say which folder of it is the game: %s--inside %s, or --inside . for all of it", importing, view.Quoted(folder)))
		},
		Hidden: func(src string, folders []string) (bool, error) {
			if slices.Contains(c.StringSlice("exclude"), KeepHidden) {
				return true, nil
			}
			var options []string
			for _, f := range folders {
				options = append(options, "--exclude "+view.Quoted(rules.Literal(f)+"/**"))
			}
			a.Note("%s in %s: no known build of %s has such a hidden folder. It may belong to the program that downloaded the files.", strings.Join(folders, ", "), filepath.Base(src), l.Game.Display())
			return false, sure("Leave it out?", fmt.Sprintf("say %s%s to leave it out, or --exclude none to take it", importing, strings.Join(options, " ")))
		},
		Unlike: func(d identify.Doubt) error {
			a.Note("%s", view.Doubt(d, l.Game.Display()))
			if dry || c.Bool("yes") || !a.Interactive() {
				return nil
			}
			return a.Ask(c, "Record it anyway?")
		},
		Suspect: func(why string) error {
			a.Note("%s. That is what a download that was cut off leaves, or a sync program. A build of it is marked as doubtful.", why)
			if dry || c.Bool("yes") || !a.Interactive() {
				return nil
			}
			return a.Ask(c, "Record it all the same?")
		},
		Cost: func(files int, bytes, grows, shared int64) {
			if shared > 0 {
				a.Note("%s, %s; the store shares %s of that with the folder, which takes no space, and grows by at most %s.", view.Count(files, "file"), view.Size(bytes), view.Size(shared), view.Size(grows))
				return
			}
			a.Note("%s, %s; the store grows by at most %s.", view.Count(files, "file"), view.Size(bytes), view.Size(grows))
		},
	}
	if a.Interactive() && !dry {
		asked.Password = func(src string, again bool) (string, error) {
			if again {
				a.Note("That password does not open %s.", filepath.Base(src))
			}
			return a.Secrets(c, "").Read("password of "+filepath.Base(src), "")
		}
	}
	return asked
}

// explicit is how a path is written that cannot be a build's name.
var explicit = regexp.MustCompile(`^(\.{1,2}[/\\]|[/\\~]|[A-Za-z]:[/\\])`)

// FolderOrBuild finds the build that was typed: a plain folder or an archive is imported. It returns
// what was recorded for that, to be forgotten if nothing comes of it.
func FolderOrBuild(ctx context.Context, a *app.App, c *cli.Command, l *lane.Lane, text string) (b *state.Build, recorded []*state.Build, err error) {
	if !explicit.MatchString(text) {
		b, err = Offered(ctx, a, c, l.Home, l.Game.Name, text)
		return b, nil, err
	}
	src := app.Home(text)
	if _, err := os.Stat(src); err != nil {
		return nil, nil, err
	}
	if src, err = filepath.Abs(src); err != nil {
		return nil, nil, err
	}
	label, err := record.NextLabel(ctx, l, labelOf(src)+"-"+a.Now().Format("2006-01-02"))
	if err != nil {
		return nil, nil, err
	}
	in, err := transfer.ImportBuild(ctx, l, transfer.Imports{Sources: []transfer.Source{{Path: src}}, Label: label, Note: "from " + src, Ask: Asked(a, c, l)})
	if err != nil {
		return nil, nil, err
	}
	a.NoteOdd(in.Odd)
	known, err := l.Home.Recorded(ctx, l.Game.Name)
	if err != nil {
		return nil, nil, err
	}
	for _, k := range known {
		if k.Manifest == in.Manifest && k.UID != in.UID && k.RecordedHere() && !k.Fragment {
			a.Note("%s has the same content as %s, which is recorded already.", src, k.Name())
			return k, nil, l.Home.ForgetBuild(context.WithoutCancel(ctx), in.Build)
		}
	}
	if c.Bool("dry-run") {
		a.Note("%s would be recorded as snapshot/%s.", src, label)
	} else {
		a.Note("%s is recorded as snapshot/%s.", src, label)
	}
	return in.Build, []*state.Build{in.Build}, nil
}

// Forget forgets what was recorded for a change that was not made.
func Forget(ctx context.Context, c *cli.Command, l *lane.Lane, recorded []*state.Build, err error) error {
	if !c.Bool("dry-run") && !errors.Is(err, app.ErrDeclined) && !errors.Is(err, app.ErrUnanswered) {
		return nil
	}
	var errs []error
	for _, b := range recorded {
		errs = append(errs, l.Home.ForgetBuild(context.WithoutCancel(ctx), b))
	}
	return errors.Join(errs...)
}

var notInLabels = regexp.MustCompile(`[^A-Za-z0-9._+-]+`)

// labelOf makes a label of a path: the name of the file or folder.
func labelOf(src string) string {
	name := filepath.Base(src)
	for _, end := range []string{".zip", ".7z", ".rar", ".tar", ".gz", ".xz", ".zst", ".bz2", ".001"} {
		name = strings.TrimSuffix(name, end)
	}
	name = strings.Trim(notInLabels.ReplaceAllString(name, "-"), "-._+")
	if name == "" {
		return "import"
	}
	return name[:min(len(name), 60)]
}
