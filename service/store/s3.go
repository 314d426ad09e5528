package store

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"iter"
	"net/http"
	"strings"

	"github.com/aws/aws-sdk-go-v2/aws"
	"github.com/aws/aws-sdk-go-v2/credentials"
	"github.com/aws/aws-sdk-go-v2/service/s3"
	"github.com/aws/smithy-go"
	smithyhttp "github.com/aws/smithy-go/transport/http"
)

// S3Options say which bucket, and what is under Prefix in it.
type S3Options struct {
	Endpoint, Region, Bucket string
	Prefix                   string // before every key; "" or ending in a slash
	AccessKey, SecretKey     string // "": requests aren't signed
	Client                   *http.Client
}

// S3 is a store in a bucket of a service with the S3 interface.
type S3 struct {
	client *s3.Client
	o      S3Options
}

// InBucket opens a store in a bucket. It doesn't ask for it yet.
func InBucket(o S3Options) *S3 {
	config := aws.Config{Region: o.Region, HTTPClient: o.Client, Credentials: aws.AnonymousCredentials{}}
	if config.Region == "" {
		config.Region = "us-east-1" // what services without regions take
	}
	if o.AccessKey != "" {
		config.Credentials = credentials.NewStaticCredentialsProvider(o.AccessKey, o.SecretKey, "")
	}
	return &S3{o: o, client: s3.NewFromConfig(config, func(s *s3.Options) {
		s.UsePathStyle = true
		s.RequestChecksumCalculation = aws.RequestChecksumCalculationWhenRequired
		s.ResponseChecksumValidation = aws.ResponseChecksumValidationWhenRequired
		s.RetryMaxAttempts = 2
		if o.Endpoint != "" {
			s.BaseEndpoint = aws.String(o.Endpoint)
		}
	})}
}

// failed makes an answer that tells of a failure one of the errors that Store names.
func failed(err error) error {
	if err == nil {
		return nil
	}
	var status *smithyhttp.ResponseError
	var api smithy.APIError
	code := 0
	if errors.As(err, &status) {
		code = status.HTTPStatusCode()
	}
	name := ""
	if errors.As(err, &api) {
		name = api.ErrorCode()
	}
	switch {
	case name == "NoSuchKey", code == http.StatusNotFound && name != "NoSuchBucket":
		return fmt.Errorf("%w: %w", fs.ErrNotExist, err)
	case code == http.StatusForbidden, code == http.StatusUnauthorized:
		return fmt.Errorf("%w: %w", fs.ErrPermission, err)
	case code == http.StatusPreconditionFailed, code == http.StatusConflict:
		return fmt.Errorf("%w: %w", fs.ErrExist, err)
	}
	return err
}

func (s *S3) key(key string) *string { return aws.String(s.o.Prefix + key) }

// Stat asks for the object's head.
func (s *S3) Stat(ctx context.Context, key string) (Object, error) {
	a, err := s.client.HeadObject(ctx, &s3.HeadObjectInput{Bucket: &s.o.Bucket, Key: s.key(key)})
	if err != nil {
		return Object{}, failed(err)
	}
	return Object{key, aws.ToString(a.ETag), aws.ToInt64(a.ContentLength), aws.ToTime(a.LastModified)}, nil
}

// Open asks for the object.
func (s *S3) Open(ctx context.Context, key string) (io.ReadCloser, Object, error) {
	a, err := s.client.GetObject(ctx, &s3.GetObjectInput{Bucket: &s.o.Bucket, Key: s.key(key)})
	if err != nil {
		return nil, Object{}, failed(err)
	}
	return a.Body, Object{key, aws.ToString(a.ETag), aws.ToInt64(a.ContentLength), aws.ToTime(a.LastModified)}, nil
}

// Put sends the object.
func (s *S3) Put(ctx context.Context, key string, body io.ReadSeeker, size int64) error {
	return s.put(ctx, key, body, size, nil)
}

// Add sends the object on condition that none is there (RFC 9110, section 13.1.2).
func (s *S3) Add(ctx context.Context, key string, body io.ReadSeeker, size int64) error {
	return s.put(ctx, key, body, size, aws.String("*"))
}

func (s *S3) put(ctx context.Context, key string, body io.ReadSeeker, size int64, ifNoneMatch *string) error {
	_, err := s.client.PutObject(ctx, &s3.PutObjectInput{
		Bucket: &s.o.Bucket, Key: s.key(key), Body: body, ContentLength: &size, ContentType: aws.String("application/octet-stream"), IfNoneMatch: ifNoneMatch,
	})
	return failed(err)
}

// Delete removes the object. Stores don't say whether there was one, so it is looked for first.
func (s *S3) Delete(ctx context.Context, key string) error {
	if _, err := s.Stat(ctx, key); err != nil {
		return err
	}
	_, err := s.client.DeleteObject(ctx, &s3.DeleteObjectInput{Bucket: &s.o.Bucket, Key: s.key(key)})
	return failed(err)
}

// List asks for one page of keys after the other, from after on.
func (s *S3) List(ctx context.Context, prefix, after string) iter.Seq2[Object, error] {
	return func(yield func(Object, error) bool) {
		in := &s3.ListObjectsV2Input{Bucket: &s.o.Bucket, Prefix: s.key(prefix)}
		if after != "" {
			in.StartAfter = s.key(after)
		}
		for pages := s3.NewListObjectsV2Paginator(s.client, in); pages.HasMorePages(); {
			page, err := pages.NextPage(ctx)
			if err != nil {
				yield(Object{}, failed(err))
				return
			}
			for _, o := range page.Contents {
				key, ours := strings.CutPrefix(aws.ToString(o.Key), s.o.Prefix)
				if ours && !yield(Object{key, aws.ToString(o.ETag), aws.ToInt64(o.Size), aws.ToTime(o.LastModified)}, nil) {
					return
				}
			}
		}
	}
}

// Close gives up connections that wait for use.
func (s *S3) Close() { s.o.Client.CloseIdleConnections() }
