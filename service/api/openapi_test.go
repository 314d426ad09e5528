package api

import (
	"bytes"
	"testing"
)

// Routes and description come from one table; the file that others read must be its newest state.
func TestTheDescriptionIsCurrent(t *testing.T) {
	want, err := Describe()
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(append(want, '\n'), Description) {
		t.Error("service/api/openapi.json isn't what the operations say: run `go generate ./service/api`")
	}
}
