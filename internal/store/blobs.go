package store

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"

	"github.com/klauspost/compress/zstd"
)

// Digest names a content: its SHA-256 in hexadecimal, before compression. The
// empty Digest means that there is no content.
type Digest string

var digestRE = regexp.MustCompile(`^[0-9a-f]{64}$`)

// blobs is the content-addressed folder: logs, diffs and files, compressed with
// Zstandard. What is in it under a digest has been written whole and flushed,
// and is checked against the digest when it is read.
type blobs struct {
	dir string
	enc *zstd.Encoder
}

func openBlobs(dir string) (*blobs, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	enc, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedDefault), zstd.WithEncoderConcurrency(1))
	return &blobs{dir: dir, enc: enc}, err
}

func (b *blobs) path(d Digest) string {
	return filepath.Join(b.dir, string(d[:2]), string(d[2:])+".zst")
}

// maxBlob bounds what is read back, in bytes.
const maxBlob = 2 << 30

// put stores a content durably and returns its digest; nothing is stored for
// an empty one.
func (b *blobs) put(data []byte) (Digest, error) {
	if len(data) == 0 {
		return "", nil
	}
	sum := sha256.Sum256(data)
	d := Digest(hex.EncodeToString(sum[:]))
	name := b.path(d)
	if there, err := b.get(d); err == nil && len(there) == len(data) {
		return d, nil
	} // else it is not there, or damaged: it is written, and takes the damaged one's place
	if err := os.Mkdir(filepath.Dir(name), 0o700); err == nil {
		if err := syncDir(b.dir); err != nil { // or the new folder could go with a crash, and all that is in it
			return "", err
		}
	} else if !errors.Is(err, fs.ErrExist) {
		return "", err
	}
	tmp, err := os.CreateTemp(b.dir, "new-")
	if err != nil {
		return "", err
	}
	defer os.Remove(tmp.Name())
	if _, err := tmp.Write(b.enc.EncodeAll(data, nil)); err != nil {
		tmp.Close()
		return "", err
	}
	if err := tmp.Sync(); err != nil {
		tmp.Close()
		return "", err
	}
	if err := tmp.Close(); err != nil {
		return "", err
	}
	if err := os.Rename(tmp.Name(), name); err != nil {
		return "", err
	}
	return d, syncDir(filepath.Dir(name))
}

// syncDir flushes a folder, so that a crash does not take away what was just put into it.
func syncDir(name string) error {
	dir, err := os.Open(name)
	if err != nil {
		return err
	}
	return errors.Join(dir.Sync(), dir.Close())
}

// used tells whether anything was ever stored.
func (b *blobs) used() (bool, error) {
	dir, err := os.Open(b.dir)
	if err != nil {
		return false, err
	}
	defer dir.Close()
	names, err := dir.Readdirnames(1)
	if errors.Is(err, io.EOF) {
		err = nil
	}
	return len(names) > 0, err
}

// get reads a content back; the empty digest is the empty content.
func (b *blobs) get(d Digest) ([]byte, error) {
	if d == "" {
		return nil, nil
	}
	if !digestRE.MatchString(string(d)) {
		return nil, fmt.Errorf("%q is not a digest", d)
	}
	f, err := os.Open(b.path(d))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("the content %s is missing from the data folder: %w", d, err)
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	z, err := zstd.NewReader(f, zstd.WithDecoderConcurrency(1))
	if err != nil {
		return nil, err
	}
	defer z.Close()
	var out bytes.Buffer
	if _, err := io.Copy(&out, io.LimitReader(z, maxBlob)); err != nil {
		return nil, fmt.Errorf("the content %s is damaged: %w", d, err)
	}
	if sum := sha256.Sum256(out.Bytes()); hex.EncodeToString(sum[:]) != string(d) {
		return nil, fmt.Errorf("the content %s is damaged: it has another digest", d)
	}
	return out.Bytes(), nil
}
