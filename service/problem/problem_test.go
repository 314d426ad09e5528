package problem

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/valyala/fasthttp"

	"echolane/core/policy"
)

func TestEveryReasonHasOneStatus(t *testing.T) {
	seen := map[policy.Reason]int{}
	for status, reasons := range byStatus {
		for _, r := range reasons {
			if before, twice := seen[r]; twice {
				t.Errorf("%s answers %d and %d", r, before, status)
			}
			seen[r] = status
		}
	}
	for _, r := range policy.Reasons {
		if s := seen[r.Reason]; s < 400 || s > 599 {
			t.Errorf("%s answers %d", r.Reason, s)
		}
		delete(seen, r.Reason)
	}
	if len(seen) > 0 {
		t.Errorf("there are no such reasons: %v", seen)
	}
	if Status("mispelt") != 500 {
		t.Error("what isn't a reason is a fault of our own")
	}
}

func answer(t *testing.T, accept string, no *policy.Refusal) *fasthttp.Response {
	t.Helper()
	var c fasthttp.RequestCtx
	c.Request.Header.Set("Accept", accept)
	Write(&c, no)
	return &c.Response
}

func TestARefusalIsProblemDetailsForPrograms(t *testing.T) {
	a := answer(t, "*/*", policy.No(policy.Refusal{Reason: policy.ReasonBusy, Detail: "64 wait", RetryIn: 3}))
	if a.StatusCode() != 503 || string(a.Header.ContentType()) != "application/problem+json" || string(a.Header.Peek("Retry-After")) != "3" || string(a.Header.Peek("Cache-Control")) != "no-store" {
		t.Errorf("%d %s", a.StatusCode(), a.Header.String())
	}
	var d Details
	if err := json.Unmarshal(a.Body(), &d); err != nil || d.Status != 503 || d.Type != "/-/problems#busy" || d.Reason != policy.ReasonBusy || d.Title == "" || d.Detail != "64 wait" || d.RetryIn != 3 {
		t.Errorf("%s: %v", a.Body(), err)
	}
}

func TestARefusalIsAPageForPeople(t *testing.T) {
	a := answer(t, "text/html,*/*;q=0.8", policy.No(policy.Refusal{Reason: policy.ReasonUnknownName, Parameter: "<script>", Remedy: "write width"}))
	body := string(a.Body())
	if a.StatusCode() != 400 || !strings.HasPrefix(string(a.Header.ContentType()), "text/html") || !strings.Contains(body, "400 · unknown-name") || !strings.Contains(body, "write width") {
		t.Errorf("%d %s\n%s", a.StatusCode(), a.Header.String(), body)
	}
	if strings.Contains(body, "<script>") {
		t.Error("what was sent is markup in the page")
	}
}

func TestAnExplanationHoldsTheStatus(t *testing.T) {
	text, err := json.Marshal(struct {
		Refusal *Details `json:"refusal,omitempty"`
	}{Of(policy.No(policy.Refusal{Reason: policy.ReasonLoop}))})
	if err != nil || !strings.HasPrefix(string(text), `{"refusal":{"status":508,"reason":"loop"`) {
		t.Errorf("%s %v", text, err)
	}
	if Of(nil) != nil {
		t.Error("no refusal has details")
	}
}

func TestTheListHasEveryReason(t *testing.T) {
	var c fasthttp.RequestCtx
	WriteList(&c)
	for _, r := range policy.Reasons {
		if !strings.Contains(string(c.Response.Body()), `<dt id="`+string(r.Reason)+`">`) {
			t.Errorf("%s isn't in the list", r.Reason)
		}
	}
}

// A client that is still sending when it's refused gets its answer.
func TestARefusalWaitsForWhatIsOnTheWay(t *testing.T) {
	for size, left := range map[int]bool{2 << 20: false, 8 << 20: true} {
		body := strings.NewReader(strings.Repeat(" ", size))
		var c fasthttp.RequestCtx
		c.Request.SetBodyStream(body, size)
		Write(&c, policy.No(policy.Refusal{Reason: policy.ReasonBadRequest}))
		if (body.Len() > 0) != left || !c.Response.ConnectionClose() {
			t.Errorf("of %d bytes %d are left, the connection closes: %t", size, body.Len(), c.Response.ConnectionClose())
		}
	}
}
