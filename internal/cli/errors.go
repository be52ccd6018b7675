package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"syscall"

	"morvant/internal/feed/fetch"

	"morvant/internal/state"

	"morvant/internal/apply"
	"morvant/internal/block"
	"morvant/internal/catalogue"
	"morvant/internal/cli/app"
	"morvant/internal/cli/games"
	"morvant/internal/cli/hold"
	"morvant/internal/cli/share"
	"morvant/internal/cli/view"
	"morvant/internal/database"
	"morvant/internal/edit"
	"morvant/internal/exchange"
	"morvant/internal/feed"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/backup"
	"morvant/internal/lane/change"
	"morvant/internal/lane/compose"
	"morvant/internal/manifest"
	"morvant/internal/pack"
	"morvant/internal/pinfile"
	"morvant/internal/plan"
	"morvant/internal/process"
	"morvant/internal/publish"
	"morvant/internal/saves"
	"morvant/internal/scan"
	"morvant/internal/store"
	"morvant/internal/upkeep"
	"morvant/internal/volume"
	"morvant/internal/watch"
)

// report writes an error as one line with what to do next, and chooses the exit code.
func report(a *app.App, err error) int {
	var wrong app.Usage
	switch {
	case err == nil:
		return app.ExitDone
	case errors.Is(err, app.ErrDifferent):
		return app.ExitDifferent
	case errors.Is(err, app.ErrDeclined):
		fmt.Fprintln(a.Err, "Nothing was changed.")
		return app.ExitUnanswered
	case errors.Is(err, context.Canceled):
		fmt.Fprintln(a.Err, "morvant: interrupted; nothing is half-done, and the next run goes on from here")
		return app.ExitInterrupted
	}
	var ended *app.ExitCode
	if errors.As(err, &ended) {
		return ended.Code
	}
	line := "morvant: " + view.OneLine(err)
	if next := advice(err); next != "" {
		line += ". " + next
	}
	fmt.Fprintln(a.Err, line)
	switch {
	case errors.As(err, &wrong):
		return app.ExitUsage
	case errors.Is(err, app.ErrUnanswered):
		return app.ExitUnanswered
	}
	return app.ExitFailed
}

// advice says what to do about an error.
func advice(err error) string {
	var which *app.WhichGame
	var unknown *state.UnknownError
	var ambiguous *state.AmbiguousError
	var file *share.PinfileError
	var held *process.HeldError
	var damage *store.DamageError
	var refused *feed.RefusedError
	var denied *feed.DeniedError
	var busy *feed.BusyError
	var wrong *fetch.ContentError
	if errors.As(err, &file) {
		return file.Advice()
	}
	switch {
	case errors.Is(err, upkeep.ErrStateLost):
		return "Nothing was dropped; run morvant store check --recover-builds first, which lists again every snapshot that the store describes"
	case errors.Is(err, upkeep.ErrIncomplete):
		return "Nothing was dropped; run morvant store check, which rebuilds the index and mends what it can"
	case errors.Is(err, syscall.EMFILE):
		return "Raise the limit of open files (ulimit -n 256), then run the command again"
	case errors.As(err, &which):
		return "Say which one with -g: " + strings.Join(which.Names, ", ")
	case errors.Is(err, app.ErrNoGame):
		return "Register one: morvant add NAME FOLDER"
	case errors.As(err, &unknown) && unknown.Kind == "game":
		return "morvant games lists them"
	case errors.As(err, &unknown) && unknown.Kind == "build":
		return "morvant builds lists them"
	case errors.As(err, &unknown) && unknown.Kind == "change":
		return "morvant history lists them"
	case errors.As(err, &ambiguous):
		return "Write more of it, or use the label"
	case errors.Is(err, app.ErrUnanswered):
		return "Look at the plan with --dry-run, then run it again with --yes"
	case errors.Is(err, manifest.ErrVersion), errors.Is(err, pack.ErrVersion), errors.Is(err, database.ErrVersion),
		errors.Is(err, apply.ErrVersion), errors.Is(err, plan.ErrVersion), errors.Is(err, catalogue.ErrVersion):
		return "Use that newer version here; this one has changed nothing"
	case errors.Is(err, volume.ErrSpace), volume.Full(err), database.Full(err):
		return "Nothing was lost or half-changed; free some space and run the command again (morvant store trim --dry-run shows what the store could give back)"
	case errors.As(err, &damage), errors.Is(err, store.ErrIndexLost), errors.Is(err, store.ErrLayout), errors.Is(err, pack.ErrChecksum):
		return "Run morvant store check: it rebuilds the index, names what is damaged and mends it where it can"
	case errors.Is(err, store.ErrMissing):
		return "The store has lost it; run morvant store check, which says what is affected and mends it where it can"
	case errors.Is(err, database.ErrDamaged):
		return "Run morvant store check --recover-builds: it puts the damaged file aside and finds the snapshots again in the packs"
	case errors.Is(err, store.ErrBusy):
		return "Try again when it has finished"
	case errors.Is(err, game.ErrProtected):
		return app.Rights() + ". Then run the command again"
	case errors.Is(err, game.ErrBusy):
		return "Try again when it has finished; the lock goes with the process"
	case errors.Is(err, game.ErrSettings):
		return "Nothing was changed; correct the settings and run the command again"
	case errors.Is(err, lane.ErrRunning):
		return "Close the game and run the command again"
	case errors.Is(err, lane.ErrNotHeld):
		return "Hold it with morvant pin BUILD"
	case errors.Is(err, lane.ErrNothing):
		return "morvant history shows what was done"
	case errors.Is(err, lane.ErrNames):
		return "Rename these files, or leave their folder out with: morvant game set --scratch \"FOLDER/**\""
	case errors.Is(err, game.ErrNoHome):
		return "Is the folder spelled right, and its disk attached? morvant add makes a new home there"
	case errors.Is(err, game.ErrInUse):
		return "Try again when it has ended"
	case database.Unwritable(err):
		return "Looking is possible; for the rest give Morvant's home room or the right to write (morvant store trim gives back what the store does not need)"
	case errors.Is(err, lane.ErrAway):
		return "Attach the disk and run the command again; if the folder is elsewhere now: morvant game set --live FOLDER"
	case errors.Is(err, lane.ErrStranger):
		return ""
	case errors.Is(err, lane.ErrImmutable):
		return "Nothing was changed; let it go (chattr -i FILE, as an administrator), then run the command again"
	case errors.Is(err, lane.ErrCannotHold):
		return "Nothing was changed; use a folder on another disk (lane new --to FOLDER --linked, or game set --live FOLDER)"
	case errors.Is(err, volume.ErrNoLinks):
		return "Nothing was changed; choose a folder on another disk, or keep a copy in each lane"
	case errors.Is(err, saves.ErrLeftOut):
		return "Nothing was moved; rename it or give yourself the right to read it, then run the command again"
	case errors.Is(err, lane.ErrGone) && errors.Is(err, lane.ErrUnfinished):
		return ""
	case errors.Is(err, lane.ErrGone):
		return "morvant pin BUILD and morvant verify --repair make it again; if it is elsewhere now: morvant game set --live FOLDER"
	case errors.Is(err, apply.ErrJournal):
		return "Both copies of the record in .morvant/change cannot be read; what had been set aside is in .morvant/change/old. Move .morvant/change out of the folder, then run morvant verify --repair"
	case errors.Is(err, scan.ErrUnstable):
		return "Close whatever writes to it and run the command again"
	case errors.Is(err, apply.ErrChanged):
		return "Close whatever is writing there and run the command again"
	case errors.Is(err, plan.ErrConflict):
		return "Nothing was changed"
	case errors.Is(err, feed.ErrSignIn):
		return "Sign in with morvant feed sign-in, then run the command again"
	case errors.Is(err, feed.ErrKey):
		return "Ask the publisher whether the key has changed. If so, forget the feed (morvant feed remove) and add it anew with --key"
	case errors.Is(err, feed.ErrExpired), errors.Is(err, feed.ErrRollback), errors.Is(err, catalogue.ErrSignature):
		return "Nothing of it is taken; what was known before stays. Try again later, or ask the publisher"
	case errors.As(err, &refused) && refused.Code == feed.CodeExpired:
		return "Run it again with the next code"
	case errors.As(err, &wrong):
		return "Nothing wrong was kept. Try again later, tell the publisher, or add another feed or mirror"
	case errors.As(err, &denied):
		return "The account may not have it; choose components that it has with --component"
	case errors.Is(err, feed.ErrInsecure):
		return "Use an address that begins with https"
	case errors.Is(err, fetch.ErrNoContent):
		return "Get the content from another feed, or from a folder that has it"
	case errors.Is(err, compose.ErrNotFetched):
		return "Fetch it first: morvant fetch BUILD"
	case errors.Is(err, feed.ErrShort), errors.Is(err, feed.ErrSilent), errors.As(err, &busy):
		return "What has arrived is kept; run the command again to go on"
	case errors.Is(err, watch.ErrNoUpdate):
		return "Let the launcher look for updates, then try again; nothing was changed"
	case errors.Is(err, watch.ErrHalfDone):
		return "Run it again, or go back: morvant verify --repair"
	case errors.Is(err, pinfile.ErrNewer):
		return "Get a newer Morvant"
	case errors.Is(err, exchange.ErrPassword):
		return "Unpack it with a program that knows the password, then: morvant lane new NAME --adopt FOLDER"
	case errors.Is(err, exchange.ErrHostile), errors.Is(err, exchange.ErrCut):
		return "Nothing of it was recorded; get it again from somebody you trust"
	case errors.Is(err, backup.ErrNone):
		return "Say where they are: morvant game set --saves \"~/Saved Games/...\"; morvant saves list says what was looked for"
	case errors.Is(err, saves.ErrTooMuch), errors.Is(err, saves.ErrPattern):
		return "Say more exactly where the saves are: morvant game set --no-saves OLD --saves NEW"
	case errors.Is(err, lane.ErrLive):
		return "Switch to another lane first: morvant lane switch LANE"
	case errors.Is(err, change.ErrFollowed):
		return "Pin this lane to another build, or let the other lane be held first"
	case errors.Is(err, lane.ErrNotTheLane):
		return "Put the lane's folder back there, or forget it: morvant lane remove LANE"
	case errors.Is(err, lane.ErrInTheWay):
		return "Move it away, then try again"
	case errors.As(err, &held):
		return "Close it, then try again (a window that works in the folder holds it too: cd .. leaves it)"
	case errors.Is(err, games.ErrStillBlocked):
		return "Take the block off first: morvant unblock"
	case errors.Is(err, hold.ErrNoRules):
		return "Add some: morvant block presets lists what there is, morvant block add takes one"
	case errors.Is(err, block.ErrTouched):
		return "Look at it, then run morvant unblock --force to put back what the block had found"
	case errors.Is(err, edit.ErrMatches):
		return "Correct the block rule in the game's settings (morvant game show says where they are)"
	case errors.Is(err, feed.ErrNone):
		return "Add one: morvant feed add ADDRESS"
	case errors.Is(err, feed.ErrUnknown):
		return "morvant feed list lists them"
	case errors.Is(err, publish.ErrBusy):
		return "Try again when it has finished"
	case errors.Is(err, publish.ErrLeftOver):
		return "Add a component that takes the rest (--component base), or keep rules for what is yours"
	case errors.Is(err, publish.ErrOwner):
		return "Publish into another folder, or with the key that signed it (--secret-key)"
	case errors.Is(err, fs.ErrPermission):
		return "Give yourself the right to read and write it, then run the command again"
	}
	return ""
}
