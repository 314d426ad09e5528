package folder

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"sort"
	"strings"
	"syscall"
	"time"

	"echolane/core/policy"
	"echolane/core/wording"
	"echolane/service/source"
	"echolane/service/source/held"
)

// Lane is a lane whose sources lie in a directory. Links are followed as long as they stay inside it.
type Lane struct {
	Name   string // site/lane, for words
	Dir    string
	Limits policy.Limits
	Fresh  time.Duration
}

// Check passes every plain path.
func (f Lane) Check(path string, _ *[]policy.Step) (string, *policy.Refusal) {
	return path, source.CheckPath(path)
}

// Close has nothing to end.
func (f Lane) Close() {}

// Forget has nothing to drop.
func (f Lane) Forget(string, uint64) {}

// Near is true: a file is opened at once.
func (f Lane) Near() bool { return true }

// Stat compares size, time and inode of the file. Where they are new it gives the file, to be read for its digest.
func (f Lane) Stat(ctx context.Context, p string, have *source.Version) (source.Version, *held.Content, error) {
	root, err := f.open()
	if err != nil {
		return source.Version{}, nil, err
	}
	defer root.Close()
	if have != nil {
		info, err := root.Stat(p)
		if err != nil {
			return source.Version{}, nil, f.refuse(p, err)
		}
		if info.Mode().IsRegular() && stampOf(info) == have.Validator {
			v := *have
			v.Fresh = f.Fresh
			return v, nil, nil
		}
	}
	file, info, err := f.file(root, p)
	if err != nil {
		return source.Version{}, nil, err
	}
	v := source.Version{Bytes: info.Size(), Validator: stampOf(info), Fresh: f.Fresh, Modified: info.ModTime().UTC().Truncate(time.Second)}
	return v, held.InFile(file, 0, v.Bytes), nil
}

func stampOf(info fs.FileInfo) string {
	var inode uint64
	if sys, ok := info.Sys().(*syscall.Stat_t); ok {
		inode = sys.Ino
	}
	return fmt.Sprintf("%d %d %d", info.Size(), info.ModTime().UnixNano(), inode)
}

// Open gives the file itself, as long as it looks as it did.
func (f Lane) Open(_ context.Context, p string, v source.Version) (*held.Content, error) {
	root, err := f.open()
	if err != nil {
		return nil, err
	}
	defer root.Close()
	file, info, err := f.file(root, p)
	if err != nil {
		return nil, err
	}
	if stampOf(info) != v.Validator || info.Size() != v.Bytes {
		file.Close()
		return nil, held.ErrChanged
	}
	return held.InFile(file, 0, v.Bytes), nil
}

// file opens a regular file within the lane's limits.
func (f Lane) file(root *os.Root, p string) (*os.File, fs.FileInfo, error) {
	file, err := root.OpenFile(p, os.O_RDONLY|syscall.O_NONBLOCK, 0) // a pipe can't hold us up
	if err != nil {
		return nil, nil, f.refuse(p, err)
	}
	info, err := file.Stat()
	switch {
	case err != nil:
		err = f.refuse(p, err)
	case !info.Mode().IsRegular():
		err = source.Missing(f.Name, p)
	default:
		if no := f.Limits.CheckBytes(info.Size()); no != nil {
			err = no
		}
	}
	if err != nil {
		file.Close()
		return nil, nil, err
	}
	return file, info, nil
}

// List gives the sources below the folder whose names end as images do. It walks in the order of the paths, so a page reads
// no more than what comes after the one before.
func (f Lane) List(ctx context.Context, after string, limit int) (entries []source.Entry, more bool, err error) {
	root, err := f.open()
	if err != nil {
		return nil, false, err
	}
	defer root.Close()
	w := &folderWalk{ctx: ctx, root: root, after: after, limit: limit}
	w.dir(".")
	if err := ctx.Err(); err != nil {
		return nil, false, err
	}
	return w.entries, w.more, nil
}

type folderWalk struct {
	ctx     context.Context
	root    *os.Root
	after   string
	limit   int
	depth   int
	entries []source.Entry
	more    bool
}

const deepestFolder = 64

// dir walks one directory; what can't be read isn't listed. It says whether to go on.
func (w *folderWalk) dir(at string) bool {
	list, err := fs.ReadDir(w.root.FS(), at)
	if err != nil || w.depth > deepestFolder {
		return true
	}
	w.depth++
	defer func() { w.depth-- }()
	// A directory's paths stand where its name with a slash behind does.
	place := func(e fs.DirEntry) string {
		if e.IsDir() {
			return e.Name() + "/"
		}
		return e.Name()
	}
	sort.Slice(list, func(i, j int) bool { return place(list[i]) < place(list[j]) })
	for _, e := range list {
		if w.ctx.Err() != nil {
			return false
		}
		if strings.HasPrefix(e.Name(), ".") {
			continue
		}
		p := e.Name()
		if at != "." {
			p = at + "/" + p
		}
		if e.IsDir() {
			if below := p + "/"; below < w.after && !strings.HasPrefix(w.after, below) {
				continue // all of it came before
			}
			if !w.dir(p) {
				return false
			}
			continue
		}
		if p <= w.after || !source.IsImageName(p) {
			continue
		}
		info, err := w.root.Stat(p)
		if err != nil || !info.Mode().IsRegular() {
			continue
		}
		if len(w.entries) == w.limit {
			w.more = true
			return false
		}
		w.entries = append(w.entries, source.Entry{Path: p, Bytes: info.Size(), MTime: info.ModTime().UTC()})
	}
	return true
}

func (f Lane) open() (*os.Root, error) {
	root, err := os.OpenRoot(f.Dir)
	if err != nil {
		detail := fmt.Sprintf("lane %s can't open its folder", f.Name)
		if errors.Is(err, fs.ErrNotExist) {
			detail = fmt.Sprintf("the folder of lane %s is gone", f.Name)
		}
		return nil, policy.No(policy.Refusal{
			Reason: policy.ReasonLaneUnreachable, Detail: detail,
			Remedy: "bring the folder back where the lane has it (`echolane lane list` shows where)", RetryIn: 10,
		})
	}
	return root, nil
}

func (f Lane) refuse(p string, err error) *policy.Refusal {
	switch {
	case errors.Is(err, fs.ErrPermission):
		return policy.No(policy.Refusal{
			Reason: policy.ReasonSourceUnreadable,
			Detail: fmt.Sprintf("lane %s may not read %s", f.Name, wording.Cut(p, 120)), Parameter: "path", Given: wording.Cut(p, 120),
			Remedy: "let the user that runs Echo Lane read the file",
		})
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, syscall.ENOTDIR), errors.Is(err, syscall.ENAMETOOLONG), errors.Is(err, syscall.EISDIR):
		return source.Missing(f.Name, p)
	case isEscape(err):
		return policy.No(policy.Refusal{
			Reason:    policy.ReasonOutsideFolder,
			Detail:    fmt.Sprintf("%s is a link that leads out of the folder of lane %s", wording.Cut(p, 120), f.Name),
			Parameter: "path", Given: wording.Cut(p, 120), Allowed: "files inside the lane's folder", Remedy: "put the file itself into the folder, or make a lane for the folder where it lies",
		})
	}
	return source.Unreadable(p)
}

// isEscape recognises os.Root's refusal of paths that lead outside, which has no exported value.
func isEscape(err error) bool {
	var e *fs.PathError
	return errors.As(err, &e) && strings.Contains(e.Err.Error(), "escapes")
}
