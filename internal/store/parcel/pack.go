package parcel

import (
	"bufio"
	"crypto/sha256"
	"encoding/hex"
	"hash"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"
	"time"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/zip"

	"anagram/internal/files/safe"
)

// Records are packed for the ZIP file as they come, so that they are written to disk once and
// small.

// packSuffix ends the name of a file that is packed already.
const packSuffix = ".packed"

// packLevel packs about as small as the levels above it, on lines of records, in half the time.
const packLevel = 2

// packing is a file that is packed and summed up while it is written: what was written waits
// for others to do that, a piece at a time.
type packing struct {
	file *os.File
	out  *bufio.Writer
	pack *flate.Writer
	hash hash.Hash
	sum  uint32
	n    int64

	piece []byte      // that is being filled
	full  chan []byte // to be packed, nil before the first
	free  chan []byte // to be filled again
	ended chan error  // gives once why packing failed, nil where it did not
}

const (
	pieceSize = 128 << 10
	pieces    = 3
)

// packed says what a packed file holds.
type packed struct {
	Sum
	crc  uint32
	size int64 // packed
}

func createPacking(path string) (*packing, error) {
	f, err := safe.CreateNew(path + packSuffix)
	if err != nil {
		return nil, err
	}
	p := &packing{file: f, out: bufio.NewWriterSize(f, 256<<10), hash: sha256.New()}
	p.pack, err = flate.NewWriter(p.out, packLevel)
	return p, err
}

// Write takes bytes. That they could not be packed is told by finish.
func (p *packing) Write(b []byte) (int, error) {
	p.n += int64(len(b))
	for rest := b; len(rest) > 0; {
		if len(p.piece) == cap(p.piece) {
			p.next()
		}
		n := min(len(rest), cap(p.piece)-len(p.piece))
		p.piece, rest = append(p.piece, rest[:n]...), rest[n:]
	}
	return len(b), nil
}

// next hands on the piece that is filled and takes one that is free.
func (p *packing) next() {
	if p.full == nil {
		p.full, p.free, p.ended = make(chan []byte, pieces), make(chan []byte, pieces), make(chan error, 1)
		for range pieces {
			p.free <- make([]byte, 0, pieceSize)
		}
		go p.work(p.full)
	}
	if len(p.piece) > 0 {
		p.full <- p.piece
	}
	p.piece = <-p.free
}

// work packs and sums up pieces until there are no more. After an error they are let go.
func (p *packing) work(full <-chan []byte) {
	var failed error
	for piece := range full {
		if failed == nil {
			p.hash.Write(piece)
			p.sum = crc32.Update(p.sum, crc32.IEEETable, piece)
			_, failed = p.pack.Write(piece)
		}
		p.free <- piece[:0]
	}
	p.ended <- failed
}

// stop waits until all that was written is packed; what comes after it is nobody's.
func (p *packing) stop() error {
	if p.full == nil {
		return nil
	}
	if len(p.piece) > 0 {
		p.full <- p.piece
	}
	close(p.full)
	p.full, p.piece = nil, nil
	return <-p.ended
}

// discard ends it before its end; after finish it does nothing.
func (p *packing) discard() {
	_ = p.stop()
	_ = p.file.Close()
}

func (p *packing) finish() (packed, error) {
	if err := p.stop(); err != nil {
		return packed{}, err
	}
	if err := p.pack.Close(); err != nil {
		return packed{}, err
	}
	if err := p.out.Flush(); err != nil {
		return packed{}, err
	}
	info, err := p.file.Stat()
	if err != nil {
		return packed{}, err
	}
	return packed{Sum{Bytes: p.n, SHA256: hex.EncodeToString(p.hash.Sum(nil))}, p.sum, info.Size()}, p.file.Close()
}

// zipPacked puts a packed file into a ZIP file as it is.
func zipPacked(z *zip.Writer, name, path string, p packed) error {
	out, err := z.CreateRaw(&zip.FileHeader{Name: name, Method: zip.Deflate, Modified: earliest, CRC32: p.crc,
		CompressedSize64: uint64(p.size), UncompressedSize64: uint64(p.Bytes)})
	if err != nil {
		return err
	}
	in, err := os.Open(path + packSuffix)
	if err != nil {
		return err
	}
	defer in.Close()
	_, err = io.Copy(out, in)
	return err
}

// unpack makes a packed file a plain one.
func unpack(path string) error {
	in, err := os.Open(path + packSuffix)
	if err != nil {
		return err
	}
	defer in.Close()
	plain := flate.NewReader(bufio.NewReaderSize(in, 256<<10))
	if _, err := writeFile(path, func(out io.Writer) error {
		_, err := io.Copy(out, plain)
		return err
	}); err != nil {
		return err
	}
	return os.Remove(path + packSuffix)
}

// entry puts a file into the ZIP file.
func (w *Writer) entry(z *zip.Writer, name string, manifest []byte, packs map[string]packed) error {
	if of, ok := packs[name]; ok {
		return zipPacked(z, name, filepath.Join(w.folder, name), of)
	}
	out, err := z.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Deflate, Modified: earliest})
	if err != nil {
		return err
	}
	if name == manifestName {
		_, err := out.Write(manifest)
		return err
	}
	in, err := os.Open(filepath.Join(w.folder, name))
	if err != nil {
		return err
	}
	defer in.Close()
	_, err = io.Copy(out, in)
	return err
}

// earliest is the time that every entry of a ZIP carries, the first that ZIP can
// write, so that the same records give the same bytes.
var earliest = time.Date(1980, 1, 1, 0, 0, 0, 0, time.UTC)

// sealComment stands before the SHA-256 of all bytes up to it, at the very end of the
// ZIP file. It covers what the manifest cannot: the ZIP's own structure.
const sealComment = "anagram seal sha256:"

func (w *Writer) zip(path string, manifest []byte) error {
	f, err := safe.CreateNew(path)
	if err != nil {
		return err
	}
	defer f.Close()
	buffered := bufio.NewWriterSize(f, 256<<10)
	z := zip.NewWriter(buffered)
	names, packs := []string{manifestName, catalogName}, map[string]packed{}
	for name, of := range w.packs {
		packs[recordsName(name)] = of
	}
	if w.manifest.Referred != nil {
		names = append(names, referredName)
	}
	for _, t := range w.manifest.Types {
		names = append(names, recordsName(t.Name))
	}
	for _, o := range w.manifest.Outside {
		names = append(names, outsideName(o.Name))
	}
	for _, sum := range w.manifest.Files {
		names = append(names, fileName(sum.SHA256))
	}
	for _, name := range names {
		if err := w.entry(z, name, manifest, packs); err != nil {
			return err
		}
	}
	if err := z.SetComment(sealComment + zeroHash); err != nil {
		return err
	}
	if err := z.Close(); err != nil {
		return err
	}
	if err := buffered.Flush(); err != nil {
		return err
	}
	size, err := f.Seek(0, io.SeekEnd)
	if err != nil {
		return err
	}
	hash := sha256.New()
	if _, err := io.Copy(hash, io.NewSectionReader(f, 0, size-64)); err != nil {
		return err
	}
	if _, err := f.WriteAt([]byte(hex.EncodeToString(hash.Sum(nil))), size-64); err != nil {
		return err
	}
	return f.Sync()
}
