package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"syscall"

	"morvant/internal/adapter"
	"morvant/internal/apply"
	"morvant/internal/block"
	"morvant/internal/cli/app"
	"morvant/internal/cli/share"
	"morvant/internal/cli/view"
	"morvant/internal/database"
	"morvant/internal/edit"
	"morvant/internal/exchange"
	"morvant/internal/feed"
	"morvant/internal/feed/fetch"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/backup"
	"morvant/internal/lane/compose"
	"morvant/internal/lane/guard"
	"morvant/internal/lane/propose"
	"morvant/internal/layout"
	"morvant/internal/oplog"
	"morvant/internal/pack"
	"morvant/internal/problem"
	"morvant/internal/process"
	"morvant/internal/publish"
	"morvant/internal/resolve"
	"morvant/internal/saves"
	"morvant/internal/state"
	"morvant/internal/store"
	"morvant/internal/transfer"
	"morvant/internal/upkeep"
	"morvant/internal/volume"
	"morvant/internal/watch"
)

// report writes an error as one line with what to do next, and chooses the exit code.
func report(a *app.App, err error) int {
	var wrong app.Usage
	switch {
	case err == nil, errors.Is(err, app.ErrDryRun):
		return app.ExitDone
	case errors.Is(err, app.ErrDifferent):
		return app.ExitDifferent
	case errors.Is(err, app.ErrDeclined):
		fmt.Fprintln(a.Err, "Nothing was changed.")
		return app.ExitUnanswered
	case errors.Is(err, context.Canceled):
		fmt.Fprintln(a.Err, "morvant: interrupted; nothing is left half done, and the next run continues from here")
		return app.ExitInterrupted
	}
	var ended *app.ExitCode
	if errors.As(err, &ended) {
		return ended.Code
	}
	line := "morvant: " + app.Commands(view.OneLine(err))
	if next := advice(err); next != "" {
		line += ". " + next
	}
	fmt.Fprintln(a.Err, line)
	switch {
	case errors.As(err, &wrong), mistyped(err):
		return app.ExitUsage
	case errors.Is(err, app.ErrUnanswered), errors.Is(err, lane.ErrStranger), errors.As(err, new(*propose.MovedOnError)), errors.As(err, new(app.Refusal)):
		return app.ExitUnanswered
	}
	return app.ExitFailed
}

// advice says what to do about an error: what the command line knows of it, else what the
// error itself carries.
func advice(err error) string {
	if text, known := special(err); known {
		return text
	}
	for _, a := range commands {
		if errors.Is(err, a.is) {
			return a.next
		}
	}
	if text := problem.Advice(err); text != "" {
		return text
	}
	if errors.Is(err, fs.ErrPermission) {
		return "Give yourself the right to read and write it, then run the command again"
	}
	return ""
}

// special is the advice about errors for which more than their kind counts.
func special(err error) (text string, known bool) {
	var file *share.PinfileError
	var moved *propose.MovedOnError
	var gone *lane.GoneError
	var which *app.WhichGame
	var unknown *state.UnknownError
	var ambiguous *state.AmbiguousError
	var held *process.HeldError
	var damage *store.DamageError
	var refused *feed.RefusedError
	var denied *feed.DeniedError
	var busy *feed.BusyError
	var wrong *fetch.ContentError
	switch {
	case errors.As(err, &file):
		return file.Advice(), true
	case errors.As(err, &gone) && gone.Found != "":
		text = fmt.Sprintf("Take it over with --yes, or: morvant game set -g %s --live %s", gone.Game.Name, view.Quoted(gone.Found))
	case errors.As(err, &moved):
		text = "Nothing was changed. Choose: --whole brings the folder back as it was before; --recorded takes back only those files; morvant unpin --stay ends the hold and leaves every file as it is"
	case errors.Is(err, syscall.EMFILE):
		text = "Raise the limit of open files (ulimit -n 256), then run the command again"
	case errors.As(err, &which):
		text = "Say which one with -g: " + strings.Join(which.Names, ", ")
	case errors.As(err, &unknown) && listed[unknown.Kind] != "":
		text = listed[unknown.Kind] + " lists them"
	case errors.Is(err, state.ErrEdit):
		text = "Correct the pattern of --edit: it has to match once, with the value to set in parentheses"
	case errors.As(err, new(*resolve.TooEarlyError)):
		text = listed["build"] + " lists them"
	case errors.As(err, &ambiguous):
		text = "Write more of it, or use the label"
	case errors.Is(err, upkeep.ErrStateLost), errors.Is(err, upkeep.ErrIncomplete):
		return "", false // rather than the room that is missing as well
	case volume.Full(err), database.Full(err):
		text = space
	case errors.Is(err, problem.ErrNewer):
		text = problem.Advice(problem.ErrNewer)
	case errors.As(err, &damage):
		text = check
	case errors.Is(err, game.ErrProtected):
		text = app.Rights() + ". Then run the command again"
	case database.Unwritable(err):
		text = "You can still look. For changes, Morvant's home needs free space or the right to write (morvant store trim frees what the store does not need)"
	case errors.Is(err, lane.ErrGone) && errors.Is(err, lane.ErrUnfinished):
		return "", true
	case errors.As(err, &refused) && refused.Code == feed.CodeExpired:
		text = "Run it again with the next code"
	case errors.As(err, &wrong):
		text = "None of the wrong content was kept. Try again later, tell the publisher, or add another feed or mirror"
	case errors.As(err, &denied):
		text = "Your account does not have access to it; use --component to choose what you own"
	case errors.As(err, &busy):
		text = "What has arrived is kept; run the command again to continue"
	case errors.As(err, &held):
		text = "Close it, then try again (a command window inside the folder counts too: leave it with cd ..)"
	}
	return text, text != ""
}

// listed says which command lists things of a kind.
var listed = map[string]string{"game": "morvant games", "build": "morvant builds", "change": "morvant history"}

const (
	space = "Nothing was lost, and no file is half changed. Free some space and run the command again (morvant store trim --dry-run shows how much the store can free)"
	check = "Run morvant store check: it rebuilds the index, lists what is damaged, and mends what it can"
)

// commands is the advice that names commands. Where an error is several of these, the first
// one counts.
var commands = []struct {
	is   error
	next string
}{
	{upkeep.ErrStateLost, "Nothing was dropped; run morvant store check --recover-builds first, which lists again every snapshot that the store describes"},
	{upkeep.ErrIncomplete, "Nothing was dropped; run morvant store check, which rebuilds the index and mends what it can"},
	{volume.ErrSpace, space},
	{store.ErrIndexLost, check},
	{layout.Err, check},
	{pack.ErrChecksum, check},
	{oplog.ErrElsewhere, "Run Morvant on that computer; where that is not possible any more, morvant game interrupt takes over here"},
	{store.ErrMissing, "The store has lost this content. Run morvant store check, which lists what is affected and mends what it can"},
	{database.ErrDamaged, "Run morvant store check --recover-builds: it sets the damaged file aside and finds the snapshots again in the packs"},
	{lane.ErrNotHeld, "Hold it with morvant pin BUILD"},
	{lane.ErrNothing, "morvant history shows what was done"},
	{propose.ErrMadeLane, "To be rid of the lane: morvant lane remove NAME; to end the hold and leave every file as it is: morvant unpin --stay"},
	{propose.ErrWhose, "Name what is yours (morvant carry FROM \"Mods/**\"), or make it a keep rule: morvant game set --keep \"Mods/**\""},
	{propose.ErrFragment, "Lay them over the build that they belong to: morvant pin BUILD --overlay \"LABEL:**\""},
	{transfer.ErrLane, "Choose an empty folder; to bring the game itself to a build: morvant pin BUILD"},
	{lane.ErrNames, "Rename these files, or leave their folder out with: morvant game set --scratch \"FOLDER/**\""},
	{game.ErrNoHome, "Is the folder spelled right, and its disk attached? morvant add makes a new home there"},
	{lane.ErrAway, "Attach the disk and run the command again; if the folder is elsewhere now: morvant game set --live FOLDER"},
	{lane.ErrStranger, ""}, // it says itself
	{lane.ErrCannotHold, "Nothing was changed; use a folder on another disk (lane new --to FOLDER --linked, or game set --live FOLDER)"},
	{lane.ErrGone, "morvant pin BUILD and morvant verify --repair make it again; if it is elsewhere now: morvant game set --live FOLDER"},
	{apply.ErrJournal, "Both copies of the record in .morvant/change cannot be read; the files that were set aside are in .morvant/change/old. Move .morvant/change out of the folder, then run morvant verify --repair"},
	{feed.ErrSignIn, "Sign in with morvant feed sign-in, then run the command again"},
	{adapter.ErrProtocol, "Nothing of that answer was used. The adapter's author can find out more: morvant adapter try PROGRAM ADDRESS"},
	{adapter.ErrSilent, "The adapter was ended. Try again later, or give it more time with --timeout"},
	{adapter.ErrEnded, "What has arrived is kept; run the command again. --verbose shows what the adapter says"},
	{feed.ErrNotTold, "morvant feed refresh asks the adapter for it"},
	{feed.ErrLocked, "Open the channel with its key: morvant feed unlock CHANNEL"},
	{feed.ErrKey, "Ask the publisher whether the key has changed. If so, forget the feed (morvant feed remove) and add it anew with --key"},
	{compose.ErrNotFetched, "Fetch it first: morvant fetch BUILD"},
	{guard.ErrLauncherRuns, "Close it and run the command again, or add --when-closed to wait for that"},
	{watch.ErrHalfDone, "Run it again, or go back: morvant verify --repair"},
	{exchange.ErrPassword, "Unpack it with a program that knows the password, then: morvant lane new NAME --adopt FOLDER"},
	{backup.ErrNone, "Tell Morvant where they are: morvant game set --saves \"~/Saved Games/...\" (morvant saves list shows where it looked)"},
	{saves.ErrTooMuch, "Name the folder of the saves more exactly: morvant game set --no-saves OLD --saves NEW"},
	{saves.ErrPattern, "Name the folder of the saves more exactly: morvant game set --no-saves OLD --saves NEW"},
	{lane.ErrLive, "Switch to another lane first: morvant lane switch LANE"},
	{lane.ErrNotTheLane, "Put the lane's folder back there, or forget it: morvant lane remove LANE"},
	{block.ErrTouched, "Check the file, then run morvant unblock --force to restore what the block found there"},
	{edit.ErrMatches, "Correct the block rule in the game's settings (morvant game show tells where they are)"},
	{feed.ErrCopy, "morvant feed refresh mends it"},
	{compose.ErrNotOffered, "Add a feed that offers it: morvant feed add ADDRESS"},
	{feed.ErrNone, "Add one: morvant feed add ADDRESS"},
	{feed.ErrUnknown, "morvant feed list lists them"},
	{publish.ErrLeftOver, "Add a component that takes the remaining files (--component base), or keep rules for files that are yours"},
	{publish.ErrOwner, "Publish into another folder, or use the key that signed this feed (--secret-key)"},
}
