package store

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"iter"
	"os"
	"path"
	"slices"
	"strings"
	"syscall"
)

// Folder is a store in a directory: a file for each object, under its key.
type Folder struct{ root *os.Root }

// InFolder opens a store in a directory, and makes that where it isn't there.
func InFolder(dir string) (*Folder, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, fmt.Errorf("make the store's folder: %w", err)
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, fmt.Errorf("open the store's folder: %w", err)
	}
	return &Folder{root}, nil
}

// unfinished begins the names of files that are being written.
const unfinished = ".unfinished-"

func describe(key string, info fs.FileInfo) Object {
	return Object{Key: key, ETag: fmt.Sprintf("%x-%x", info.ModTime().UnixNano(), info.Size()), Size: info.Size(), Modified: info.ModTime()}
}

// absent makes the errors of paths that lead nowhere the one of objects that aren't there.
func absent(err error) error {
	if errors.Is(err, syscall.ENOTDIR) || errors.Is(err, syscall.EISDIR) {
		return fmt.Errorf("%w: %w", fs.ErrNotExist, err)
	}
	return err
}

// Stat looks at the file.
func (f *Folder) Stat(_ context.Context, key string) (Object, error) {
	info, err := f.root.Stat(key)
	if err == nil && !info.Mode().IsRegular() {
		err = fmt.Errorf("%s: %w", key, fs.ErrNotExist)
	}
	if err != nil {
		return Object{}, absent(err)
	}
	return describe(key, info), nil
}

// Open opens the file.
func (f *Folder) Open(_ context.Context, key string) (io.ReadCloser, Object, error) {
	file, err := f.root.OpenFile(key, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, Object{}, absent(err)
	}
	info, err := file.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = fmt.Errorf("%s: %w", key, fs.ErrNotExist)
	}
	if err != nil {
		file.Close()
		return nil, Object{}, err
	}
	return file, describe(key, info), nil
}

// Put writes a file beside the object's, and gives it the object's name when all of it is on the disk.
func (f *Folder) Put(ctx context.Context, key string, body io.ReadSeeker, size int64) error {
	return f.write(ctx, key, body, size, f.root.Rename)
}

// Add is Put, but the name is given by a link, which there can be only one of.
func (f *Folder) Add(ctx context.Context, key string, body io.ReadSeeker, size int64) error {
	return f.write(ctx, key, body, size, f.root.Link)
}

func (f *Folder) write(ctx context.Context, key string, body io.Reader, size int64, name func(from, to string) error) (err error) {
	dir := path.Dir(key)
	if err := f.root.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	temporary := path.Join(dir, unfinished+rand.Text())
	file, err := f.root.OpenFile(temporary, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	defer f.root.Remove(temporary)
	n, err := io.Copy(file, body)
	if err == nil && n != size {
		err = io.ErrUnexpectedEOF
	}
	if err == nil {
		err = ctx.Err()
	}
	if err == nil {
		err = file.Sync()
	}
	if e := file.Close(); err == nil {
		err = e
	}
	if err == nil {
		err = name(temporary, key)
	}
	return err
}

// Delete removes the file, and the directories that it leaves empty.
func (f *Folder) Delete(_ context.Context, key string) error {
	if err := f.root.Remove(key); err != nil {
		return absent(err)
	}
	for dir := path.Dir(key); dir != "." && f.root.Remove(dir) == nil; dir = path.Dir(dir) {
	}
	return nil
}

// List walks the directories in the order of the keys, passing over those that hold none of them.
func (f *Folder) List(ctx context.Context, prefix, after string) iter.Seq2[Object, error] {
	return func(yield func(Object, error) bool) { f.walk(ctx, ".", prefix, after, yield) }
}

func (f *Folder) walk(ctx context.Context, dir, prefix, after string, yield func(Object, error) bool) bool {
	entries, err := fs.ReadDir(f.root.FS(), dir)
	if errors.Is(err, fs.ErrNotExist) {
		return true // removed meanwhile, or never there
	}
	if err == nil {
		err = ctx.Err()
	}
	if err != nil {
		return yield(Object{}, err)
	}
	keys := make([]string, 0, len(entries)) // those of directories end in a slash, so that they stand where their objects do
	for _, e := range entries {
		key := e.Name()
		if dir != "." {
			key = dir + "/" + key
		}
		if e.IsDir() {
			key += "/"
		}
		if !strings.HasPrefix(e.Name(), unfinished) {
			keys = append(keys, key)
		}
	}
	slices.Sort(keys)
	for _, key := range keys {
		below, isDir := strings.CutSuffix(key, "/")
		switch {
		case isDir && !(strings.HasPrefix(key, prefix) || strings.HasPrefix(prefix, key)), isDir && key < after && !strings.HasPrefix(after, key):
		case isDir:
			if !f.walk(ctx, below, prefix, after, yield) {
				return false
			}
		case strings.HasPrefix(key, prefix) && key > after:
			o, err := f.Stat(ctx, key)
			if errors.Is(err, fs.ErrNotExist) {
				continue
			}
			if !yield(o, err) || err != nil {
				return false
			}
		}
	}
	return true
}

// Close closes the directory.
func (f *Folder) Close() { f.root.Close() }
