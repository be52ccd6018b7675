package game

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/user"
	"time"

	"morvant/internal/problem"
	"morvant/internal/state"
	"morvant/internal/volume"
)

// ErrInUse is returned for a home on a network file system that another process, perhaps
// of another computer, is using.
var ErrInUse = problem.New("this home is in use", "Try again when it has ended")

// Locks of the usual kind do not reach from one computer to another on every network
// file system. So a home there is used by one process at a time, which holds it by a
// file that nobody else can make while it is there, and touches the file as long as it
// lives.
const (
	useFile = "in-use"
	// useEvery is how often the file is touched. One that was not touched for useStale by this computer's clock, nor while it
	// was watched for useWatch, belongs to a process that is gone: clocks of two computers differ.
	useEvery = 5 * time.Second
	useStale = 60 * time.Second
	useWatch = useEvery + 2*time.Second
	// usePatience is how long another process is waited for.
	usePatience = 5 * time.Second
)

// user is who uses a home.
type holder struct {
	Host  string    `json:"host"`
	User  string    `json:"user"`
	PID   int       `json:"pid"`
	Who   string    `json:"who,omitempty"`
	Since time.Time `json:"since"`
	ID    string    `json:"id"`
}

// use is a home that is held.
type use struct {
	file string
	id   string
	stop chan struct{}
	done chan struct{}
}

// occupy takes the home for this process alone.
func (h *Home) occupy(ctx context.Context, kind string, o HomeOptions) (*use, error) {
	return occupy(ctx, h.file(useFile), kind, o, usePatience)
}

func occupy(ctx context.Context, file, kind string, o HomeOptions, patience time.Duration) (*use, error) {
	me := holder{PID: os.Getpid(), Who: o.Who, Since: time.Now().UTC(), ID: state.NewUID()}
	me.Host, _ = os.Hostname()
	if u, err := user.Current(); err == nil {
		me.User = u.Username
	}
	text, err := json.Marshal(me)
	if err != nil {
		return nil, err
	}
	var seen watched
	for until := time.Now().Add(patience); ; {
		f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
		if err == nil {
			_, err = f.Write(text)
			if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
				return nil, errors.Join(err, os.Remove(file))
			}
			u := &use{file: file, id: me.ID, stop: make(chan struct{}), done: make(chan struct{})}
			go u.keep()
			return u, nil
		}
		if volume.ReadOnly(err) || volume.Full(err) {
			return nil, nil // it can be looked at
		}
		if !errors.Is(err, os.ErrExist) {
			return nil, err
		}
		other, gone, unclear := seen.heldBy(file, me)
		if gone {
			// Whoever takes it away first may make it anew.
			if err := os.Remove(file); err != nil && !volume.Absent(err) {
				return nil, err
			}
			continue
		}
		if time.Now().After(until) && !unclear {
			return nil, fmt.Errorf("%w by %s on %s (process %d, since %s); it lies on a network file system (%s), where only one process may use it", ErrInUse, other.User, other.Host, other.PID, other.Since.Local().Format("15:04"), kind)
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}
}

// watched is the file of another process.
type watched struct{ touched, since time.Time }

// heldBy reads who holds a home, and whether that process is gone; unclear: that will be known soon.
func (w *watched) heldBy(file string, me holder) (other holder, gone, unclear bool) {
	info, err := os.Stat(file)
	if err != nil {
		return other, volume.Absent(err), false
	}
	now := time.Now()
	if !info.ModTime().Equal(w.touched) {
		w.touched, w.since = info.ModTime(), now
	}
	b, err := volume.ReadFile(file, volume.Small)
	if err == nil {
		_ = json.Unmarshal(b, &other)
	}
	if now.Sub(w.touched) > useStale {
		still := now.Sub(w.since) >= useWatch
		return other, still, !still
	}
	return other, other.Host != "" && other.Host == me.Host && !alive(other.PID), false
}

// keep touches the file until the home is given back.
func (u *use) keep() {
	defer close(u.done)
	tick := time.NewTicker(useEvery)
	defer tick.Stop()
	for {
		select {
		case <-u.stop:
			return
		case now := <-tick.C:
			_ = os.Chtimes(u.file, now, now) // one that fails is no harm yet
		}
	}
}

// end gives the home back, if it is still this process's.
func (u *use) end() error {
	if u == nil {
		return nil
	}
	close(u.stop)
	<-u.done
	b, err := volume.ReadFile(u.file, volume.Small)
	var is holder
	if err != nil || json.Unmarshal(b, &is) != nil || is.ID != u.id {
		return nil
	}
	return os.Remove(u.file)
}
