package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"echolane/service/api"
)

func TestAPastedRuleSaysWhatBecomesOfIt(t *testing.T) {
	t.Parallel()
	rule := ".hero img { width: 20rem; border-radius: 50% / 30%; max-width: 100%; display: block }"
	out := bed.Must(t, nil, "css", rule)
	for _, want := range []string{"width: 20rem ", "width=320", "border-radius=50% / 30%", "?width=320&border-radius=50%25%20/%2030%25", "that is the slot's", "--slot 'max-width: 100%'", "2 of 4 declarations taken"} {
		if !strings.Contains(out, want) {
			t.Errorf("there's no %q in:\n%s", want, out)
		}
	}
	file := filepath.Join(t.TempDir(), "shop.css")
	os.WriteFile(file, []byte(rule), 0o600)
	var rules api.Rules
	if err := json.Unmarshal([]byte(bed.Must(t, nil, "css", file, "--json")), &rules); err != nil || rules.Taken != 2 || rules.All != 4 || rules.Rules[0].Slot != "max-width: 100%" {
		t.Errorf("%+v, %v", rules, err)
	}
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"css"}, 2, "a rule in quotes"},
		{[]string{"css", "nosuch.css"}, 1, "nosuch.css"},
		{[]string{"css", "display: block"}, 1, "none of the 1 declaration"},
		{[]string{"css", "/* : */"}, 1, "there is no declaration"},
	} {
		if r := bed.Run(t, nil, c.args...); r.Code != c.code || !strings.Contains(r.Err, c.says) {
			t.Errorf("%v: %d %s", c.args, r.Code, r.Err)
		}
	}

	s := bed.Serve(t)
	body, _ := json.Marshal(api.RuleText{Text: rule})
	var same api.Rules
	if a := s.Ask(t, "POST", "/-/api/v1/css", strings.NewReader(string(body))); json.Unmarshal(a.Data, &same) != nil || same.Taken != 2 || same.Rules[0].Query != rules.Rules[0].Query {
		t.Errorf("over the API: %d %s", a.StatusCode, a.Data)
	}
	if a := s.Ask(t, "POST", "/-/api/v1/css", strings.NewReader(`{"text": ""}`)); a.StatusCode != 400 || !strings.Contains(string(a.Data), "there is no declaration") {
		t.Errorf("nothing: %d %s", a.StatusCode, a.Data)
	}
}
