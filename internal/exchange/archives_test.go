package exchange

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz"

	"morvant/internal/digest"
	"morvant/internal/manifest"
	"morvant/internal/progress"
)

// readArchive imports an archive; answers are given when it asks for a password.
func readArchive(t *testing.T, src string, answers ...string) (memory, *Imported, error) {
	t.Helper()
	in := memory{}
	i := &Import{Sink: in.put, Meter: progress.None{}}
	if len(answers) > 0 {
		i.Password = func(again bool) (string, error) {
			if len(answers) == 0 {
				return "", errors.New("nothing more is said")
			}
			a := answers[0]
			answers = answers[1:]
			return a, nil
		}
	}
	got, err := i.Read(t.Context(), src)
	return in, got, err
}

// requireQuay: the archives in testdata were all made of the same four entries.
func requireQuay(t *testing.T, in memory, got *Imported) {
	t.Helper()
	var paths []string
	for _, f := range got.Manifest.Files {
		paths = append(paths, f.Path)
		require.Equal(t, f.Digest, digest.Of(in[f.Digest]), f.Path)
	}
	require.Equal(t, []string{"quay/bin/quay.exe", "quay/data/cargo.pak", "quay/readme.txt"}, paths)
	require.Equal(t, []manifest.Link{{Path: "quay/start", Target: "bin/quay.exe"}}, got.Manifest.Links)
	f, _ := got.Manifest.File("quay/bin/quay.exe")
	require.Equal(t, "MZ made up program", string(in[f.Digest]))
	require.Equal(t, 2031, got.Attributes.Files["quay/readme.txt"].MTime.Year())
	require.NotZero(t, got.Attributes.Files["quay/bin/quay.exe"].Mode&0o100)
	big, _ := got.Manifest.File("quay/data/cargo.pak")
	require.EqualValues(t, 30000, big.Size)
}

func TestArchivesOfOtherPrograms(t *testing.T) {
	for _, name := range []string{"quay.7z", "parts.7z.001", "quay.tar.bz2"} {
		in, got, err := readArchive(t, filepath.Join("testdata", name))
		require.NoError(t, err, name)
		requireQuay(t, in, got)
	}
}

func TestEncryptedArchives(t *testing.T) {
	for _, name := range []string{"locked.7z", "sealed.7z"} {
		src := filepath.Join("testdata", name)
		in, got, err := readArchive(t, src, "harbour")
		require.NoError(t, err, name)
		requireQuay(t, in, got)
		in, got, err = readArchive(t, src, "wrong", "harbour")
		require.NoError(t, err, name)
		requireQuay(t, in, got)
		_, _, err = readArchive(t, src)
		require.ErrorIs(t, err, ErrPassword, name)
		_, _, err = readArchive(t, src, "a", "b", "c", "harbour")
		require.ErrorIs(t, err, ErrPassword, name)
	}
	_, _, err := readArchive(t, filepath.Join("testdata", "locked.zip"), "harbour")
	require.ErrorIs(t, err, ErrPassword)
}

// smallTar writes a tar of one file, one folder and one link.
func smallTar(t *testing.T, w io.Writer) {
	t.Helper()
	z := tar.NewWriter(w)
	require.NoError(t, z.WriteHeader(&tar.Header{Name: "bin/", Typeflag: tar.TypeDir, Mode: 0o755}))
	require.NoError(t, z.WriteHeader(&tar.Header{Name: "bin/quay", Typeflag: tar.TypeReg, Mode: 0o755, Size: 7, ModTime: now()}))
	_, err := io.WriteString(z, "program")
	require.NoError(t, err)
	require.NoError(t, z.WriteHeader(&tar.Header{Name: "start", Typeflag: tar.TypeSymlink, Linkname: "bin/quay"}))
	require.NoError(t, z.Close())
}

func TestTarsOfEveryKind(t *testing.T) {
	var plain bytes.Buffer
	smallTar(t, &plain)
	kinds := map[string][]byte{"tar": plain.Bytes()}
	var zipped bytes.Buffer
	g := gzip.NewWriter(&zipped)
	_, err := g.Write(plain.Bytes())
	require.NoError(t, errors.Join(err, g.Close()))
	kinds["tar.gz"] = zipped.Bytes()
	var packed bytes.Buffer
	x, err := xz.NewWriter(&packed)
	require.NoError(t, err)
	_, err = x.Write(plain.Bytes())
	require.NoError(t, errors.Join(err, x.Close()))
	kinds["tar.xz"] = packed.Bytes()
	for kind, b := range kinds {
		src := filepath.Join(t.TempDir(), "quay."+kind)
		require.NoError(t, os.WriteFile(src, b, 0o644))
		in, got, err := readArchive(t, src)
		require.NoError(t, err, kind)
		require.Len(t, got.Manifest.Files, 1, kind)
		require.Equal(t, "program", string(in[got.Manifest.Files[0].Digest]), kind)
		require.Len(t, got.Manifest.Links, 1, kind)
		for n := 1; n < len(b)-1; n += max(1, len(b)/97) {
			if kind == "tar" && n >= len(b)-2*512-1024 {
				break // a tar without its empty end is whole to most programs
			}
			require.NoError(t, os.WriteFile(src, b[:n], 0o644))
			_, _, err := readArchive(t, src)
			require.Error(t, err, "%s cut at %d", kind, n)
		}
	}
}

// number is a RAR 5.0 number: seven bits a byte, the lowest first.
func number(n uint64) []byte { return binary.AppendUvarint(nil, n) }

// rarBlock is a block of a RAR 5.0 archive: checksum, size of the header, header; data follows.
func rarBlock(header, data []byte) []byte {
	sized := append(number(uint64(len(header))), header...)
	return append(append(binary.LittleEndian.AppendUint32(nil, crc32.ChecksumIEEE(sized)), sized...), data...)
}

// rarFile is a file in a RAR 5.0 archive, as it is; link is where it leads, if it is a link.
func rarFile(name, content, link string) []byte {
	var extra []byte
	if link != "" {
		record := append(append(append(number(5), number(rarUnixLink)...), number(0)...), number(uint64(len(link)))...)
		record = append(record, link...)
		extra = append(number(uint64(len(record))), record...)
	}
	flags, h := uint64(2), number(2) // data follows
	if extra != nil {
		flags |= 1
	}
	h = append(h, number(flags)...)
	if extra != nil {
		h = append(h, number(uint64(len(extra)))...)
	}
	h = append(h, number(uint64(len(content)))...)
	h = append(h, number(4)...) // with a checksum
	h = append(h, number(uint64(len(content)))...)
	h = append(h, number(0o100755)...)
	h = binary.LittleEndian.AppendUint32(h, crc32.ChecksumIEEE([]byte(content)))
	h = append(h, number(0)...) // stored
	h = append(h, number(1)...) // Unix
	h = append(h, number(uint64(len(name)))...)
	h = append(h, name...)
	return rarBlock(append(h, extra...), []byte(content))
}

func rarOf(blocks ...[]byte) []byte {
	b := []byte("Rar!\x1a\x07\x01\x00")
	b = append(b, rarBlock([]byte{1, 0, 0}, nil)...)
	for _, block := range blocks {
		b = append(b, block...)
	}
	return append(b, rarBlock([]byte{5, 0, 0}, nil)...)
}

func TestRar(t *testing.T) {
	src := filepath.Join(t.TempDir(), "quay.rar")
	b := rarOf(rarFile("bin/quay", "program", ""), rarFile("start", "", "bin/quay"))
	require.NoError(t, os.WriteFile(src, b, 0o644))
	in, got, err := readArchive(t, src)
	require.NoError(t, err)
	require.Len(t, got.Manifest.Files, 1)
	require.Equal(t, "program", string(in[got.Manifest.Files[0].Digest]))
	require.Equal(t, []manifest.Link{{Path: "start", Target: "bin/quay"}}, got.Manifest.Links)
	require.EqualValues(t, 0o755, got.Attributes.Files["bin/quay"].Mode)
	for n := 9; n < len(b)-8; n++ {
		require.NoError(t, os.WriteFile(src, b[:n], 0o644))
		_, _, err := readArchive(t, src)
		require.Error(t, err, "cut at %d", n)
	}
	for _, name := range []string{"../evil", "/etc/evil", "a/../../evil", "CON"} {
		require.NoError(t, os.WriteFile(src, rarOf(rarFile(name, "x", "")), 0o644))
		_, _, err := readArchive(t, src)
		require.Error(t, err, name)
	}
	require.NoError(t, os.WriteFile(src, rarOf(rarFile("start", "", "../../etc/passwd"), rarFile("a", "b", "")), 0o644))
	_, _, err = readArchive(t, src)
	require.ErrorIs(t, err, ErrHostile)
}

func TestPartsOfArchives(t *testing.T) {
	whole := t.TempDir()
	for _, part := range []string{"001", "002", "003"} {
		b, err := os.ReadFile(filepath.Join("testdata", "parts.7z."+part))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(whole, "parts.7z."+part), b, 0o644))
	}
	_, _, err := readArchive(t, filepath.Join(whole, "parts.7z.002"))
	require.ErrorIs(t, err, ErrParts)
	require.NoError(t, os.Remove(filepath.Join(whole, "parts.7z.003")))
	_, _, err = readArchive(t, filepath.Join(whole, "parts.7z.001"))
	require.ErrorIs(t, err, ErrCut)
}

func TestASevenZipCutShort(t *testing.T) {
	b, err := os.ReadFile(filepath.Join("testdata", "quay.7z"))
	require.NoError(t, err)
	src := filepath.Join(t.TempDir(), "quay.7z")
	for n := 6; n < len(b); n += 211 {
		require.NoError(t, os.WriteFile(src, b[:n], 0o644))
		_, _, err := readArchive(t, src)
		require.Error(t, err, "cut at %d", n)
	}
	for n := 6; n < len(b); n += 97 { // a bit of it is not what it was
		flipped := bytes.Clone(b)
		flipped[n] ^= 0x10
		require.NoError(t, os.WriteFile(src, flipped, 0o644))
		in, got, err := readArchive(t, src)
		if err == nil { // where it matters to nothing that is taken
			requireContent(t, in, got)
		}
	}
}

// requireContent: whatever was read is what the sums say.
func requireContent(t *testing.T, in memory, got *Imported) {
	t.Helper()
	f, ok := got.Manifest.File("quay/data/cargo.pak")
	if ok {
		require.EqualValues(t, 30000, f.Size)
	}
	for _, f := range got.Manifest.Files {
		require.Equal(t, f.Digest, digest.Of(in[f.Digest]))
	}
}

// FuzzOtherArchives: no archive of another program crashes, hangs, or leads out of the folder.
func FuzzOtherArchives(f *testing.F) {
	for _, name := range []string{"quay.7z", "quay.tar.bz2"} { // what is encrypted takes its time
		b, err := os.ReadFile(filepath.Join("testdata", name))
		require.NoError(f, err)
		f.Add(b)
	}
	f.Add(rarOf(rarFile("bin/quay", "program", ""), rarFile("start", "", "bin/quay")))
	f.Fuzz(func(t *testing.T, b []byte) {
		src := filepath.Join(t.TempDir(), "a")
		require.NoError(t, os.WriteFile(src, b, 0o644))
		got, err := (&Import{Sink: func(_ context.Context, r io.Reader, _ func(int)) (digest.Digest, int64, error) {
			n, err := io.Copy(io.Discard, io.LimitReader(r, 1<<20))
			return digest.Digest{1}, n, err
		}, Meter: progress.None{}}).Read(t.Context(), src)
		if err == nil {
			require.NoError(t, got.Manifest.Validate())
		}
	})
}
