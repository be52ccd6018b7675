package adapter

import (
	"fmt"
	"strings"

	"morvant/internal/digest"
)

// Ground says what it rests on that bytes are those of a file that was told.
type Ground int

// The grounds, the best first.
const (
	Strong    Ground = iota // digests that name content wherever it comes from
	Weak                    // a digest that other content can be made to share
	Unchecked               // nothing
)

// Claim is a digest that was told of a part of a file.
type Claim struct {
	At, Size int64
	Want     digest.Foreign
}

// Split returns the pieces of the file: one for a file without.
func (f *File) Split() []Piece {
	if len(f.Pieces) > 0 {
		return f.Pieces
	}
	return []Piece{{Size: f.Size, Digest: f.Digest}}
}

// Claims lists every digest that was told of the file, each once: that of the whole first. All of them must hold.
func (f *File) Claims() []Claim {
	var list []Claim
	whole, err := digest.ParseForeign(f.Digest)
	if err == nil {
		list = append(list, Claim{0, f.Size, whole})
	}
	var at int64
	for _, p := range f.Pieces {
		if d, err := digest.ParseForeign(p.Digest); err == nil && !(p.Size == f.Size && d == whole) {
			list = append(list, Claim{at, p.Size, d})
		}
		at += p.Size
	}
	return list
}

// contradicts returns an error where no content can have what was told.
func (f *File) contradicts() error {
	claims := f.Claims()
	if len(claims) == 2 && claims[0].Size == claims[1].Size && claims[0].Want.Alg == claims[1].Want.Alg {
		return fmt.Errorf("%s has two digests that contradict each other, %s and %s", f.Path, claims[0].Want, claims[1].Want)
	}
	return nil
}

// Ground returns what the identity of the file rests on: on the digest of the whole or on those of all pieces,
// whichever is better.
func (f *File) Ground() Ground {
	whole, pieces := Unchecked, Strong
	if d, err := digest.ParseForeign(f.Digest); err == nil {
		whole = groundOf(d)
	}
	if len(f.Pieces) == 0 {
		return whole
	}
	for _, p := range f.Pieces {
		d, err := digest.ParseForeign(p.Digest)
		if err != nil {
			return whole
		}
		pieces = max(pieces, groundOf(d))
	}
	return min(whole, pieces)
}

func groundOf(d digest.Foreign) Ground {
	if d.Strong() {
		return Strong
	}
	return Weak
}

// Forgeable reports whether other content could be made in the file's place without being noticed.
func (f *File) Forgeable() bool {
	if f.Ground() != Weak {
		return false
	}
	if d, err := digest.ParseForeign(f.Digest); err == nil && !d.Forgeable() {
		return false
	}
	for _, p := range f.Split() {
		if d, err := digest.ParseForeign(p.Digest); err != nil || d.Forgeable() {
			return true
		}
	}
	return false
}

// Teller is who has told a list of files: Scope names the subscription, Of is what the adapter calls the list.
type Teller struct {
	Scope, Of string
}

// Name returns what stands for a file's content as long as that has not been seen. It names every digest that was
// told, so that content counts for it only once all of them have been found to hold; where they are weak, or missing,
// it is a name of this subscription alone.
func (t Teller) Name(f *File) digest.Digest {
	claims, ground := f.Claims(), f.Ground()
	switch {
	case ground == Unchecked:
		return digest.Unseen(fmt.Sprintf("unchecked %s\n%s\n%s\n%d\n%s", t.Scope, t.Of, f.Path, f.Size, written(claims)))
	case ground == Weak:
		return digest.Unseen(fmt.Sprintf("weak %s\n%d\n%s", t.Scope, f.Size, written(claims)))
	case len(claims) == 1:
		return NameOf(claims[0].Want, f.Size)
	case f.Digest == "":
		return digest.Unseen("pieces\n" + strings.ReplaceAll(written(claims), " ", "/"))
	}
	return digest.Unseen(fmt.Sprintf("all of %d\n%s", f.Size, written(claims)))
}

// PieceName returns what stands for the content of a piece. One without a digest is known by its place.
func (t Teller) PieceName(f *File, i int) digest.Digest {
	pieces := f.Split()
	if len(pieces) == 1 {
		return t.Name(f)
	}
	p := pieces[i]
	d, err := digest.ParseForeign(p.Digest)
	switch {
	case err != nil:
		return digest.Unseen(fmt.Sprintf("piece %s\n%s\n%s\n%d", t.Scope, t.Of, f.Path, i))
	case !d.Strong():
		return digest.Unseen(fmt.Sprintf("weak piece %s\n%s/%d", t.Scope, d, p.Size))
	}
	return NameOf(d, p.Size)
}

// NameOf returns what stands for content of which one strong digest was told: the same whoever tells it.
func NameOf(d digest.Foreign, size int64) digest.Digest {
	return digest.Unseen(fmt.Sprintf("%s/%d", d, size))
}

// written writes claims down in their order, a line each.
func written(claims []Claim) string {
	var b strings.Builder
	for _, c := range claims {
		fmt.Fprintf(&b, "%s %d\n", c.Want, c.Size)
	}
	return b.String()
}

// Verifier holds the content that is written to it, from its beginning, against all that was told of a file.
type Verifier struct {
	whole, parts []*checking // parts in their order
	at           int64
	wrong, none  bool
}

type checking struct {
	Claim
	h *digest.ForeignHasher
}

// Verifier returns one that has seen nothing.
func (f *File) Verifier() *Verifier {
	v := &Verifier{none: f.Ground() == Unchecked}
	for _, c := range f.Claims() {
		k := &checking{c, digest.NewForeignHasher(c.Want.Alg)}
		if c.Size == f.Size {
			v.whole = append(v.whole, k)
		} else {
			v.parts = append(v.parts, k)
		}
	}
	return v
}

// Write never fails.
func (v *Verifier) Write(b []byte) (int, error) {
	for _, k := range v.whole {
		k.h.Write(b)
	}
	for rest := b; len(v.parts) > 0 && len(rest) > 0; {
		k := v.parts[0]
		n := min(int64(len(rest)), k.At+k.Size-v.at)
		if v.at < k.At {
			n = min(int64(len(rest)), k.At-v.at)
		} else {
			k.h.Write(rest[:n])
		}
		rest = rest[n:]
		if v.at += n; v.at == k.At+k.Size {
			v.wrong = v.wrong || !k.holds()
			v.parts = v.parts[1:]
			if len(v.parts) == 0 {
				break
			}
		}
	}
	return len(b), nil
}

func (k *checking) holds() bool {
	got, err := k.h.Foreign()
	return err == nil && got == k.Want
}

// Fits reports whether all that was told holds for what has been written; false where nothing was told.
func (v *Verifier) Fits() bool {
	for _, k := range v.whole {
		v.wrong = v.wrong || !k.holds()
	}
	return !v.wrong && len(v.parts) == 0 && !v.none
}
