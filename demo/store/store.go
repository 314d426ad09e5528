// Package store is a stand-in for an object store with the S3 interface, as far as Echo Lane
// uses it: objects in buckets by path, listed, written, read and removed, by whoever signs with its one pair of
// credentials. Objects are files below a directory.
package store

import (
	"crypto/hmac"
	"crypto/md5"
	"crypto/sha256"
	"encoding/hex"
	"encoding/xml"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"time"
)

// Store answers requests. Safe for concurrent use.
type Store struct {
	Dir                  string // a directory a bucket
	AccessKey, SecretKey string
}

type failure struct {
	XMLName xml.Name `xml:"Error"`
	Code    string
	Message string
}

func fail(w http.ResponseWriter, status int, code, message string) {
	w.Header().Set("Content-Type", "application/xml")
	w.WriteHeader(status)
	xml.NewEncoder(w).Encode(failure{Code: code, Message: message})
}

// ServeHTTP takes /bucket/key.
func (s *Store) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if !s.signed(r) {
		fail(w, 403, "AccessDenied", "the request isn't signed with this store's credentials")
		return
	}
	bucket, key, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
	if !fs.ValidPath(bucket) || bucket == "." || key != "" && !fs.ValidPath(key) {
		fail(w, 400, "InvalidRequest", "that isn't a bucket and a key")
		return
	}
	root := filepath.Join(s.Dir, bucket)
	if info, err := os.Stat(root); err != nil || !info.IsDir() {
		fail(w, 404, "NoSuchBucket", "there is no such bucket")
		return
	}
	switch {
	case key == "" && r.Method == "GET":
		list(w, r.URL.Query(), bucket, root)
	case key == "":
		w.WriteHeader(200)
	case r.Method == "GET" || r.Method == "HEAD":
		read(w, r, filepath.Join(root, key))
	case r.Method == "PUT":
		write(w, r, filepath.Join(root, key))
	case r.Method == "DELETE":
		os.Remove(filepath.Join(root, key))
		w.WriteHeader(204)
	default:
		fail(w, 405, "MethodNotAllowed", "objects are read, written and removed")
	}
}

// signed works the signature out again (AWS Signature Version 4), with the store's secret and at the time that the request says, and
// compares.
func (s *Store) signed(r *http.Request) bool {
	given := r.Header.Get("Authorization")
	_, rest, ok := strings.Cut(given, "Credential=")
	if !ok {
		return false
	}
	scope, rest, _ := strings.Cut(rest, ",")
	_, rest, _ = strings.Cut(rest, "SignedHeaders=")
	names, _, _ := strings.Cut(rest, ",")
	parts := strings.Split(scope, "/")
	at, err := time.Parse("20060102T150405Z", r.Header.Get("X-Amz-Date"))
	if err != nil || len(parts) != 5 || parts[0] != s.AccessKey || time.Since(at).Abs() > 15*time.Minute {
		return false
	}
	var headers strings.Builder
	for name := range strings.SplitSeq(names, ";") {
		value := strings.Join(r.Header.Values(name), ",")
		switch name {
		case "host":
			value = r.Host
		case "content-length":
			value = strconv.FormatInt(r.ContentLength, 10)
		}
		headers.WriteString(name + ":" + strings.TrimSpace(value) + "\n")
	}
	query := strings.Split(r.URL.RawQuery, "&")
	sort.Strings(query)
	canonical := strings.Join([]string{r.Method, r.URL.EscapedPath(), strings.Join(query, "&"), headers.String(), names, r.Header.Get("X-Amz-Content-Sha256")}, "\n")
	sum := sha256.Sum256([]byte(canonical))
	text := strings.Join([]string{"AWS4-HMAC-SHA256", r.Header.Get("X-Amz-Date"), strings.Join(parts[1:], "/"), hex.EncodeToString(sum[:])}, "\n")
	key := []byte("AWS4" + s.SecretKey)
	for _, part := range append(parts[1:], text) {
		mac := hmac.New(sha256.New, key)
		mac.Write([]byte(part))
		key = mac.Sum(nil)
	}
	_, signature, _ := strings.Cut(given, "Signature=")
	return hmac.Equal([]byte(hex.EncodeToString(key)), []byte(signature))
}

func read(w http.ResponseWriter, r *http.Request, path string) {
	data, err := os.ReadFile(path)
	info, statErr := os.Stat(path)
	if err != nil || statErr != nil {
		fail(w, 404, "NoSuchKey", "there is no such object")
		return
	}
	h := w.Header()
	h.Set("ETag", tag(data))
	h.Set("Content-Type", "application/octet-stream")
	h.Set("Last-Modified", info.ModTime().UTC().Format(http.TimeFormat))
	h.Set("Content-Length", strconv.Itoa(len(data)))
	if r.Method == "GET" {
		w.Write(data)
	}
}

func tag(data []byte) string {
	sum := md5.Sum(data)
	return `"` + hex.EncodeToString(sum[:]) + `"`
}

func write(w http.ResponseWriter, r *http.Request, path string) {
	data, err := io.ReadAll(io.LimitReader(r.Body, 1<<30))
	if err == nil {
		err = os.MkdirAll(filepath.Dir(path), 0o755)
	}
	if err != nil {
		fail(w, 500, "InternalError", "the object can't be written")
		return
	}
	flags := os.O_WRONLY | os.O_CREATE | os.O_TRUNC
	if r.Header.Get("If-None-Match") == "*" {
		flags |= os.O_EXCL
	}
	f, err := os.OpenFile(path, flags, 0o644)
	if err != nil {
		fail(w, 412, "PreconditionFailed", "there is such an object already")
		return
	}
	defer f.Close()
	if _, err := f.Write(data); err != nil {
		fail(w, 500, "InternalError", "the object can't be written")
		return
	}
	w.Header().Set("ETag", tag(data))
}

type listing struct {
	XMLName               xml.Name `xml:"ListBucketResult"`
	Name, Prefix          string
	KeyCount, MaxKeys     int
	IsTruncated           bool
	NextContinuationToken string `xml:",omitempty"`
	Contents              []object
}

type object struct {
	Key, LastModified, ETag string
	Size                    int64
}

func list(w http.ResponseWriter, q url.Values, bucket, root string) {
	most, err := strconv.Atoi(q.Get("max-keys"))
	if err != nil || most < 1 || most > 1000 {
		most = 1000
	}
	after := max(q.Get("start-after"), q.Get("continuation-token"))
	out := listing{Name: bucket, Prefix: q.Get("prefix"), MaxKeys: most}
	filepath.WalkDir(root, func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return nil
		}
		key, _ := filepath.Rel(root, p)
		info, err := d.Info()
		if err != nil || !strings.HasPrefix(key, out.Prefix) || key <= after {
			return nil
		}
		out.Contents = append(out.Contents, object{Key: key, LastModified: info.ModTime().UTC().Format(time.RFC3339), ETag: fmt.Sprintf(`"%d"`, info.ModTime().UnixNano()), Size: info.Size()})
		return nil
	})
	sort.Slice(out.Contents, func(i, j int) bool { return out.Contents[i].Key < out.Contents[j].Key })
	if len(out.Contents) > most {
		out.Contents, out.IsTruncated = out.Contents[:most], true
		out.NextContinuationToken = out.Contents[most-1].Key
	}
	out.KeyCount = len(out.Contents)
	w.Header().Set("Content-Type", "application/xml")
	xml.NewEncoder(w).Encode(out)
}
