package objects

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"testing"

	"echolane/core/policy"
	"echolane/service/source"
	"echolane/service/source/held"
	"echolane/service/store"
)

func TestAStoresErrorsAreRefusals(t *testing.T) {
	own := policy.No(policy.Refusal{Reason: policy.ReasonAddressNotPublic})
	for _, c := range []struct {
		err    error
		want   policy.Reason
		remedy string // what it has
	}{
		{fmt.Errorf("get: %w", fs.ErrNotExist), policy.ReasonNoSuchSource, ""},
		{fmt.Errorf("get: %w", fs.ErrPermission), policy.ReasonOriginFailed, "lane secret kestrel/archive"},
		{fmt.Errorf("get: %w", store.ErrNoBucket), policy.ReasonOriginFailed, "lane set kestrel/archive --bucket"},
		{fmt.Errorf("get: %w", context.DeadlineExceeded), policy.ReasonOriginSlow, ""},
		{errors.New("connection refused"), policy.ReasonOriginFailed, "endpoint"},
		{fmt.Errorf("dial: %w", own), policy.ReasonAddressNotPublic, ""},
	} {
		var no *policy.Refusal
		if err := Refuse("kestrel/archive", "a.jpg", c.err); !errors.As(err, &no) || no.Reason != c.want || !strings.Contains(no.Remedy, c.remedy) {
			t.Errorf("%v: %v, want %s, %q", c.err, err, c.want, c.remedy)
		}
	}
	for _, err := range []error{context.Canceled, held.ErrChanged} {
		if got := Refuse("kestrel/archive", "a.jpg", err); !errors.Is(got, err) {
			t.Errorf("%v became %v", err, got)
		}
	}
}

func TestCredentialsThatCantBeReadAreSaidToBeSo(t *testing.T) {
	l := &policy.CompiledLane{Lane: policy.Lane{Name: "archive", Bucket: "kites"}}
	_, err := Open(source.Opening{Site: "kestrel", Lane: l, Secrets: map[string]string{policy.CredentialsSecret("archive"): "{"}})
	if err == nil || !strings.Contains(err.Error(), "credentials") {
		t.Errorf("%v", err)
	}
	for given, want := range map[string]string{"": "", "a": "a/", "a/": "a/"} {
		if got := prefixOf(&policy.CompiledLane{Lane: policy.Lane{Prefix: given}}); got != want {
			t.Errorf("prefix %q becomes %q, want %q", given, got, want)
		}
	}
}
