package blob

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path"
	"strings"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
)

// S3 keeps each blob as an object of a bucket, below a prefix, on any server of the S3 protocol.
type S3 struct {
	core   minio.Core
	bucket string
	prefix string // "" or ends with "/"
}

// The size of the parts in which a large blob is sent, and after how long parts of one that was never finished are
// taken away.
const (
	partSize   = 16 << 20
	oldUploads = 24 * time.Hour
)

// NewS3 opens a bucket that is there, by an address such as
//
//	s3://BUCKET/PREFIX?endpoint=https://HOST:PORT&region=REGION
//
// The keys are in AWS_ACCESS_KEY_ID and AWS_SECRET_ACCESS_KEY, or in the file of credentials that other tools use; with
// credentials=instance they are asked of the machine. Where the server does not answer now the error wraps ErrAway,
// and the store is returned beside it: it may answer later.
func NewS3(ctx context.Context, address string) (*S3, error) {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "s3" || u.Host == "" {
		return nil, fmt.Errorf("%.200q is no address of a bucket, such as s3://kembrel/blobs?endpoint=https://s3.example:9000", address)
	}
	query := u.Query()
	for name := range query {
		if name != "endpoint" && name != "region" && name != "credentials" {
			return nil, fmt.Errorf("%.200q: there is endpoint, region and credentials, no %.50q", address, name)
		}
	}
	end, err := url.Parse(query.Get("endpoint"))
	if err != nil || end.Host == "" || end.Scheme != "http" && end.Scheme != "https" {
		return nil, fmt.Errorf("%.200q: say where the server is: ?endpoint=https://HOST:PORT", address)
	}
	keys := []credentials.Provider{&credentials.EnvAWS{}, &credentials.FileAWSCredentials{}}
	switch query.Get("credentials") {
	case "":
	case "instance":
		keys = append(keys, &credentials.IAM{})
	default:
		return nil, fmt.Errorf("%.200q: credentials is instance or absent", address)
	}
	client, err := minio.New(end.Host, &minio.Options{Creds: credentials.NewChainCredentials(keys),
		Secure: end.Scheme == "https", Region: query.Get("region"), MaxRetries: tries})
	if err != nil {
		return nil, fmt.Errorf("S3: %w", err)
	}
	s := &S3{core: minio.Core{Client: client}, bucket: u.Host, prefix: strings.Trim(u.Path, "/")}
	if s.prefix != "" {
		s.prefix += "/"
	}
	if err := s.Ready(ctx); err != nil && !errors.Is(err, ErrAway) {
		return nil, err
	} else if err != nil {
		return s, err
	}
	return s, nil
}

// tries is how often a request is sent where the server does not answer it, with growing pauses: some seconds in all.
const tries = 4

// readyTime bounds Ready.
const readyTime = 5 * time.Second

// Ready implements Store.
func (s *S3) Ready(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, readyTime)
	defer cancel()
	there, err := s.core.Client.BucketExists(ctx, s.bucket)
	host := s.core.Client.EndpointURL().Host
	switch {
	case err != nil && away(err):
		return fmt.Errorf("%w: bucket %s at %s: %v", ErrAway, s.bucket, host, err)
	case err != nil:
		return fmt.Errorf("bucket %s at %s: %w", s.bucket, host, err)
	case !there:
		return fmt.Errorf("there is no bucket %s at %s; make it first", s.bucket, host)
	}
	return nil
}

// Room implements Store: a bucket has no end.
func (s *S3) Room(int64) error { return nil }

// Tidy implements Store: it ends the sending of objects that was begun long ago.
func (s *S3) Tidy(ctx context.Context) error {
	for left := range s.core.Client.ListIncompleteUploads(ctx, s.bucket, s.prefix, true) {
		if minio.ToErrorResponse(left.Err).Code == "NoSuchUpload" { // some servers say so where there is none at all
			break
		}
		if left.Err != nil {
			return fmt.Errorf("list what was sent in part: %w", left.Err)
		}
		if time.Since(left.Initiated) > oldUploads {
			if err := s.core.Client.RemoveIncompleteUpload(ctx, s.bucket, left.Key); err != nil {
				return fmt.Errorf("end what was sent in part: %w", err)
			}
		}
	}
	return ctx.Err()
}

// away reports whether an error says that the server cannot be reached or cannot serve now.
func away(err error) bool {
	answer := minio.ToErrorResponse(err)
	return answer.StatusCode == 0 && !errors.Is(err, context.Canceled) || answer.StatusCode >= 500 ||
		answer.StatusCode == 429
}

func (s *S3) key(blob string) (string, error) {
	if !name.MatchString(blob) {
		return "", badName(blob)
	}
	return s.prefix + blob, nil
}

// wrong says what went wrong with a blob, and ErrNone where there is none.
func (s *S3) wrong(blob string, err error) error {
	if code := minio.ToErrorResponse(err).Code; code == minio.NoSuchKey || code == "NotFound" {
		return fmt.Errorf("%w: %s", ErrNone, blob)
	}
	if away(err) {
		return fmt.Errorf("%w: blob %s: %v", ErrAway, blob, err)
	}
	return fmt.Errorf("blob %s: %w", blob, err)
}

// Put implements Store. The object shows when all of it has come.
func (s *S3) Put(ctx context.Context, blob string, data io.Reader) error {
	key, err := s.key(blob)
	if err != nil {
		return err
	}
	return s.put(ctx, blob, key, data, -1)
}

func (s *S3) put(ctx context.Context, blob, key string, data io.Reader, size int64) error {
	sent, err := s.core.Client.PutObject(ctx, s.bucket, key, data, size,
		minio.PutObjectOptions{PartSize: partSize, SendContentMd5: true, DisableContentSha256: true,
			ContentType: "application/octet-stream"})
	if err != nil {
		// whoever gave up leaves no parts behind
		ending, cancel := context.WithTimeout(context.WithoutCancel(ctx), readyTime)
		defer cancel()
		s.core.Client.RemoveIncompleteUpload(ending, s.bucket, key) // else Tidy does
		return s.wrong(blob, err)
	}
	if size >= 0 && sent.Size != size {
		return fmt.Errorf("blob %s: %d bytes were kept, not %d", blob, sent.Size, size)
	}
	return nil
}

// Get implements Store. A connection that is cut is taken up again where it was.
func (s *S3) Get(ctx context.Context, blob string, offset, size int64) (io.ReadCloser, error) {
	key, err := s.key(blob)
	if err != nil {
		return nil, err
	}
	r := &ranged{store: s, ctx: ctx, blob: blob, key: key, at: offset, end: -1}
	if size > 0 {
		r.end = offset + size
	}
	if err := r.open(); err != nil {
		return nil, err
	}
	return r, nil
}

// ranged reads an object from at on.
type ranged struct {
	store     *S3
	ctx       context.Context
	blob, key string
	at, end   int64 // end -1: to its end
	left      int64 // of the answer that is being read
	body      io.ReadCloser
	cuts      int
}

// maxCuts is how often a reading is taken up again.
const maxCuts = 5

func (r *ranged) open() error {
	r.body, r.left = nil, 0
	if r.end >= 0 && r.at >= r.end {
		return nil
	}
	var o minio.GetObjectOptions
	if r.at > 0 || r.end >= 0 {
		if err := o.SetRange(r.at, max(0, r.end-1)); err != nil {
			return err
		}
	}
	body, info, _, err := r.store.core.GetObject(r.ctx, r.store.bucket, r.key, o)
	if minio.ToErrorResponse(err).Code == minio.InvalidRange { // it ends before
		return nil
	}
	if err != nil {
		return r.store.wrong(r.blob, err)
	}
	r.body, r.left = body, info.Size
	return nil
}

// Read implements io.Reader.
func (r *ranged) Read(p []byte) (int, error) {
	for {
		if r.body == nil || r.left == 0 {
			return 0, io.EOF
		}
		n, err := r.body.Read(p)
		r.at, r.left = r.at+int64(n), r.left-int64(n)
		if n > 0 || err == nil {
			return n, nil
		}
		r.body.Close()
		if r.cuts++; r.cuts > maxCuts || r.ctx.Err() != nil {
			// no io.ErrUnexpectedEOF: the blob is not short
			return 0, fmt.Errorf("blob %s was cut off with %d bytes to come: %v", r.blob, r.left, err)
		}
		if err := r.open(); err != nil {
			return 0, err
		}
	}
}

// Close implements io.Closer.
func (r *ranged) Close() error {
	if r.body == nil {
		return nil
	}
	return r.body.Close()
}

// Size implements Store.
func (s *S3) Size(ctx context.Context, blob string) (int64, error) {
	key, err := s.key(blob)
	if err != nil {
		return 0, err
	}
	info, err := s.core.StatObject(ctx, s.bucket, key, minio.StatObjectOptions{})
	if err != nil {
		return 0, s.wrong(blob, err)
	}
	return info.Size, nil
}

// Grows implements Store: objects are sent whole.
func (s *S3) Grows() bool { return false }

// Append implements Store: what is written waits in a file without a name, and Sync sends all of it.
func (s *S3) Append(blob string) (Appending, error) {
	key, err := s.key(blob)
	if err != nil {
		return nil, err
	}
	f, err := os.CreateTemp("", "kembrel-pack-")
	if err != nil {
		return nil, fmt.Errorf("append to blob %s: %w", blob, err)
	}
	if err := os.Remove(f.Name()); err != nil {
		f.Close()
		return nil, fmt.Errorf("append to blob %s: %w", blob, err)
	}
	return &object{File: f, store: s, blob: blob, key: key}, nil
}

// object is an object being written.
type object struct {
	*os.File
	store     *S3
	blob, key string
}

// Sync implements Appending.
func (o *object) Sync(ctx context.Context) error {
	size, err := o.Seek(0, io.SeekEnd)
	if err != nil {
		return err
	}
	return o.store.put(ctx, o.blob, o.key, io.NewSectionReader(o.File, 0, size), size)
}

// List implements Store.
func (s *S3) List(ctx context.Context, prefix string, each func(name string, size int64) error) error {
	ctx, end := context.WithCancel(ctx) // ends the listing where each fails
	defer end()
	for o := range s.core.Client.ListObjects(ctx, s.bucket, minio.ListObjectsOptions{Prefix: s.prefix + prefix,
		Recursive: true}) {
		if o.Err != nil {
			return fmt.Errorf("list blobs: %w", o.Err)
		}
		if blob := strings.TrimPrefix(o.Key, s.prefix); name.MatchString(blob) {
			if err := each(blob, o.Size); err != nil {
				return err
			}
		}
	}
	return ctx.Err()
}

// Delete implements Store.
func (s *S3) Delete(ctx context.Context, blob string) error {
	key, err := s.key(blob)
	if err != nil {
		return err
	}
	if err := s.core.Client.RemoveObject(ctx, s.bucket, key, minio.RemoveObjectOptions{}); err != nil {
		if err = s.wrong(blob, err); !errors.Is(err, ErrNone) {
			return err
		}
	}
	return nil
}

// Open opens the store at a place: a folder, or a bucket as NewS3 takes it; beside an error that wraps ErrAway it
// returns the store too.
func Open(ctx context.Context, place string) (Store, error) {
	if strings.HasPrefix(place, "s3:") {
		s, err := NewS3(ctx, place)
		if s == nil {
			return nil, err
		}
		return s, err
	}
	if scheme, _, found := strings.Cut(place, "://"); found {
		return nil, fmt.Errorf("blobs are kept in a folder or at s3://BUCKET, not at %.20s://", scheme)
	}
	return NewLocal(path.Clean(place))
}
