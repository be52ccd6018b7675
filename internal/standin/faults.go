package standin

import (
	"fmt"
	"io"
	"log"
	"net/http"
	"strconv"
	"strings"

	"morvant/internal/catalogue"
)

// Faults say how the feed service misbehaves. Counts run down as they happen; a
// negative count never ends.
type Faults struct {
	Slow        int64  // bytes a second, for each answer
	Cut         int64  // bytes of a pack after which an answer is cut
	Cuts        int    // how many answers are cut there
	Resets      int    // requests whose connection is reset
	Busy        int    // requests for packs that are answered with 429
	After       string // Retry-After of those, in seconds or as a date
	Down        int    // requests for packs that are answered with 503
	WrongLength bool   // more is promised than comes
	NoRanges    bool   // whole files only
	Flip        int    // packs in whose answer a bit is flipped
	FlipAll     bool   // also in manifests, layouts and catalogues
	Unsigned    bool   // no signatures
	Catalogue   string // a folder from which the catalogue comes instead: an older, or a foreign one
}

// fault is what happens to one request.
type fault struct {
	reset, missing, wrongLength, noRanges, flip bool

	status int
	after  string
	slow   int64
	cut    int64
	dir    string
}

// next draws the fault for a request; the service's lock is held.
func (f *Faults) next(name string) fault {
	out := fault{slow: f.Slow, wrongLength: f.WrongLength, noRanges: f.NoRanges}
	signed := name == catalogue.FeedFile || strings.HasPrefix(name, "channels/") || strings.HasSuffix(name, ".minisig")
	isPack := strings.HasPrefix(name, "packs/")
	switch {
	case take(&f.Resets):
		out.reset = true
	case isPack && take(&f.Cuts):
		out.cut = f.Cut
	case isPack && take(&f.Busy):
		out.status, out.after = http.StatusTooManyRequests, f.After
	case isPack && take(&f.Down):
		out.status = http.StatusServiceUnavailable
	}
	if f.FlipAll && !isPack {
		out.flip = true
	} else if isPack && take(&f.Flip) {
		out.flip = true
	}
	if signed && f.Catalogue != "" {
		out.dir = f.Catalogue
	}
	out.missing = f.Unsigned && strings.HasSuffix(name, ".minisig")
	return out
}

func take(n *int) bool {
	if *n == 0 {
		return false
	}
	if *n > 0 {
		*n--
	}
	return true
}

// ParseFault reads "slow=200000", "cut=1000000" and the like into f.
func (f *Faults) ParseFault(text string) error {
	name, value, _ := strings.Cut(text, "=")
	number := func() (int64, error) {
		n, err := strconv.ParseInt(value, 10, 64)
		if err != nil {
			return 0, fmt.Errorf("fault \"%s\": a number is needed behind =", text)
		}
		return n, nil
	}
	n := int64(0)
	var err error
	switch name {
	case "slow", "cut", "resets", "busy", "down", "flip":
		if n, err = number(); err != nil {
			return err
		}
	}
	switch name {
	case "slow":
		f.Slow = n
	case "cut":
		f.Cut, f.Cuts = n, -1
	case "resets":
		f.Resets = int(n)
	case "busy":
		f.Busy, f.After = int(n), "2"
	case "down":
		f.Down = int(n)
	case "flip":
		f.Flip = int(n)
	case "wrong-length":
		f.WrongLength = true
	case "no-ranges":
		f.NoRanges = true
	case "unsigned":
		f.Unsigned = true
	case "catalogue":
		f.Catalogue = value
	default:
		return fmt.Errorf("fault \"%s\": slow=N, cut=N, resets=N, busy=N, down=N, flip=N, wrong-length, no-ranges, unsigned, catalogue=FOLDER", text)
	}
	return nil
}

func quiet() *log.Logger { return log.New(io.Discard, "", 0) }
