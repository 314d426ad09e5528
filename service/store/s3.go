package store

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"iter"
	"math/rand/v2"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/minio/minio-go/v7/pkg/s3utils"
	"github.com/minio/minio-go/v7/pkg/signer"
)

// S3Options say which bucket, and what is under Prefix in it.
type S3Options struct {
	Endpoint, Region, Bucket string
	Prefix                   string // before every key; "" or ending in a slash
	AccessKey, SecretKey     string // "": requests aren't signed
	Client                   *http.Client
}

// S3 is a store in a bucket of a service with the S3 interface. It needs six requests, for which a
// whole client of that interface would be a tenth of the program.
type S3 struct {
	o      S3Options
	client http.Client
	bucket url.URL
	seen   atomic.Int64 // the second since 1970 when the bucket was last known to be there
}

const (
	mostAnswer = 16 << 20 // bytes of a list or an error
	secondTry  = 500 * time.Millisecond
	unsigned   = "UNSIGNED-PAYLOAD"

	seenFor = time.Minute // that a bucket is taken to be there
)

// InBucket opens a store in a bucket. It doesn't ask for it yet.
func InBucket(o S3Options) *S3 {
	o.Region = cmp.Or(o.Region, "us-east-1") // what services without regions take
	at, err := url.Parse(strings.TrimSuffix(cmp.Or(o.Endpoint, "https://s3."+o.Region+".amazonaws.com"), "/"))
	if err != nil { // settings are checked before; requests fail with these words
		at = &url.URL{Scheme: "endpoint", Opaque: o.Endpoint}
	}
	s := &S3{o: o, client: *o.Client, bucket: *at.JoinPath(o.Bucket)}
	s.client.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse } // what is signed is for one place
	return s
}

// ErrNoBucket: the service has no such bucket.
var ErrNoBucket = errors.New("there is no such bucket")

// A request is what is asked of the object under a key, or, where it has a query, of the bucket.
type request struct {
	method, key string
	query       url.Values
	ifNoneMatch string
	body        io.ReadSeeker
	size        int64
}

// do sends a request, once more where the service or the way there fails, and gives an answer that isn't an error. The caller closes
// its body.
func (s *S3) do(ctx context.Context, r request) (*http.Response, error) {
	if r.query == nil && !fs.ValidPath(r.key) || r.key == "." { // without one, it would be of the bucket itself
		return nil, fmt.Errorf("%s: the key isn't a relative path of plain elements: %w", r, fs.ErrInvalid)
	}
	for try := 1; ; try++ {
		a, again, err := s.once(ctx, r)
		if err == nil || !again || try == 2 {
			return a, err
		}
		wait := time.NewTimer(time.Duration((0.2 + 0.8*rand.Float64()) * float64(secondTry)))
		select {
		case <-wait.C:
		case <-ctx.Done():
			wait.Stop()
			return nil, context.Cause(ctx)
		}
	}
}

// once is one try. again says that another one may help.
func (s *S3) once(ctx context.Context, r request) (a *http.Response, again bool, err error) {
	at := s.bucket
	if r.query == nil {
		at.Path += "/" + s.o.Prefix + r.key
	}
	at.RawPath = s3utils.EncodePath(at.Path) // the signature is of this form
	at.RawQuery = strings.ReplaceAll(r.query.Encode(), "+", "%20")
	var body io.Reader
	payload := sha256.Sum256(nil)
	hash := hex.EncodeToString(payload[:])
	if r.body != nil {
		// A store may answer before the connection finds that there is more, so the length is looked at first.
		if n, err := r.body.Seek(0, io.SeekEnd); err != nil {
			return nil, false, err
		} else if n != r.size {
			return nil, false, fmt.Errorf("%s: %d bytes are to be put, and there are %d", r, r.size, n)
		}
		if hash, err = hashOf(at.Scheme, r.body); err != nil {
			return nil, false, err
		}
		body = io.NopCloser(io.LimitReader(r.body, r.size+1)) // one more: a file that has grown since fails
		if r.size == 0 {
			body = http.NoBody
		}
	}
	req, err := http.NewRequestWithContext(ctx, r.method, at.String(), body)
	if err != nil {
		return nil, false, err
	}
	h := req.Header
	h.Set("Accept-Encoding", "identity")
	h.Set("User-Agent", "echolane")
	if r.body != nil {
		req.ContentLength = r.size
		h.Set("Content-Type", "application/octet-stream")
	}
	if r.ifNoneMatch != "" {
		h.Set("If-None-Match", r.ifNoneMatch)
	}
	if s.o.AccessKey != "" {
		h.Set("X-Amz-Content-Sha256", hash)
		req = signer.SignV4(*req, s.o.AccessKey, s.o.SecretKey, "", s.o.Region)
	}
	a, err = s.client.Do(req)
	if err != nil {
		var named *url.Error // which says once more what was asked
		if errors.As(err, &named) {
			err = named.Err
		}
		return nil, ctx.Err() == nil, fmt.Errorf("%s: %w", r, err)
	}
	if a.StatusCode/100 == 2 {
		s.seen.Store(time.Now().Unix())
		return a, false, nil
	}
	defer a.Body.Close()
	err = failed(r, a)
	if r.method != http.MethodHead && errors.Is(err, fs.ErrNotExist) {
		s.seen.Store(time.Now().Unix())
	}
	return nil, a.StatusCode >= 500 || a.StatusCode == http.StatusTooManyRequests, err
}

// hashOf is what the signature says of a body, which is read from its beginning afterwards: its SHA-256, or nothing where the
// connection keeps it as it is.
func hashOf(scheme string, body io.ReadSeeker) (string, error) {
	if _, err := body.Seek(0, io.SeekStart); err != nil || scheme == "https" {
		return unsigned, err
	}
	sum := sha256.New()
	if _, err := io.Copy(sum, body); err != nil {
		return "", err
	}
	_, err := body.Seek(0, io.SeekStart)
	return hex.EncodeToString(sum.Sum(nil)), err
}

func (r request) String() string {
	if r.query != nil {
		return "list the bucket"
	}
	return r.method + " " + r.key
}

// failed makes an answer that tells of a failure one of the errors that Store names.
func failed(r request, a *http.Response) error {
	var told struct{ Code, Message string }
	if text, err := io.ReadAll(io.LimitReader(a.Body, 64<<10)); err == nil {
		_ = xml.Unmarshal(text, &told) // what isn't XML says nothing
	}
	err := fmt.Errorf("%s: %s", r, strings.TrimSpace(fmt.Sprintf("status %d %s %s", a.StatusCode, told.Code, told.Message)))
	switch code := a.StatusCode; {
	case told.Code == "NoSuchBucket":
		return fmt.Errorf("%w: %w", ErrNoBucket, err)
	case told.Code == "NoSuchKey", code == http.StatusNotFound:
		return fmt.Errorf("%w: %w", fs.ErrNotExist, err)
	case code == http.StatusForbidden, code == http.StatusUnauthorized:
		return fmt.Errorf("%w: %w", fs.ErrPermission, err)
	case code == http.StatusPreconditionFailed, code == http.StatusConflict:
		return fmt.Errorf("%w: %w", fs.ErrExist, err)
	case code/100 == 3:
		return fmt.Errorf("%w: it is at another endpoint or in another region", err)
	}
	return err
}

func object(key string, a *http.Response) Object {
	modified, _ := http.ParseTime(a.Header.Get("Last-Modified"))
	return Object{key, a.Header.Get("ETag"), a.ContentLength, modified}
}

// Stat asks for the object's head. An answer without a body doesn't tell an object that isn't there from a bucket that isn't: where that
// isn't known, the object itself is asked for.
func (s *S3) Stat(ctx context.Context, key string) (Object, error) {
	a, err := s.do(ctx, request{method: http.MethodHead, key: key})
	if errors.Is(err, fs.ErrNotExist) && time.Since(time.Unix(s.seen.Load(), 0)) > seenFor {
		a, err = s.do(ctx, request{method: http.MethodGet, key: key})
	}
	if err != nil {
		return Object{}, err
	}
	a.Body.Close()
	return object(key, a), nil
}

// Open asks for the object.
func (s *S3) Open(ctx context.Context, key string) (io.ReadCloser, Object, error) {
	a, err := s.do(ctx, request{method: http.MethodGet, key: key})
	if err != nil {
		return nil, Object{}, err
	}
	return a.Body, object(key, a), nil
}

// Put sends the object.
func (s *S3) Put(ctx context.Context, key string, body io.ReadSeeker, size int64) error {
	return s.done(ctx, request{method: http.MethodPut, key: key, body: body, size: size})
}

// Add sends the object on condition that none is there (RFC 9110, section 13.1.2).
func (s *S3) Add(ctx context.Context, key string, body io.ReadSeeker, size int64) error {
	return s.done(ctx, request{method: http.MethodPut, key: key, body: body, size: size, ifNoneMatch: "*"})
}

// Delete removes the object. Stores don't say whether there was one, so it is looked for first.
func (s *S3) Delete(ctx context.Context, key string) error {
	if _, err := s.Stat(ctx, key); err != nil {
		return err
	}
	return s.done(ctx, request{method: http.MethodDelete, key: key})
}

// done sends a request whose answer says nothing but that.
func (s *S3) done(ctx context.Context, r request) error {
	a, err := s.do(ctx, r)
	if err != nil {
		return err
	}
	defer a.Body.Close()
	_, err = io.Copy(io.Discard, io.LimitReader(a.Body, mostAnswer)) // so that the connection is used again
	return err
}

// page is one answer to a request for keys.
type page struct {
	IsTruncated           bool
	NextContinuationToken string
	Contents              []struct {
		Key, ETag, LastModified string
		Size                    int64
	}
}

// List asks for one page of keys after the other, from after on.
func (s *S3) List(ctx context.Context, prefix, after string) iter.Seq2[Object, error] {
	return func(yield func(Object, error) bool) {
		q := url.Values{"list-type": {"2"}, "prefix": {s.o.Prefix + prefix}}
		if after != "" {
			q.Set("start-after", s.o.Prefix+after)
		}
		for {
			p, err := s.page(ctx, q)
			if err != nil {
				yield(Object{}, err)
				return
			}
			for _, o := range p.Contents {
				key, ours := strings.CutPrefix(o.Key, s.o.Prefix)
				modified, _ := time.Parse(time.RFC3339, o.LastModified)
				if ours && !yield(Object{key, o.ETag, o.Size, modified}, nil) {
					return
				}
			}
			if !p.IsTruncated {
				return
			}
			if p.NextContinuationToken == "" || p.NextContinuationToken == q.Get("continuation-token") {
				yield(Object{}, errors.New("list the bucket: it says that there is more, and not where"))
				return
			}
			q.Set("continuation-token", p.NextContinuationToken)
		}
	}
}

func (s *S3) page(ctx context.Context, q url.Values) (p page, err error) {
	a, err := s.do(ctx, request{method: http.MethodGet, query: q})
	if err != nil {
		return p, err
	}
	defer a.Body.Close()
	text, err := io.ReadAll(io.LimitReader(a.Body, mostAnswer+1))
	if err == nil && len(text) > mostAnswer {
		err = errors.New("list the bucket: the answer is longer than " + strconv.Itoa(mostAnswer) + " bytes")
	}
	if err != nil {
		return p, err
	}
	if err := xml.Unmarshal(text, &p); err != nil {
		return p, fmt.Errorf("list the bucket: the answer isn't what the interface says: %w", err)
	}
	return p, nil
}

// Close gives up connections that wait for use.
func (s *S3) Close() { s.client.CloseIdleConnections() }
