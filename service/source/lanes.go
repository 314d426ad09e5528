package source

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"echolane/core/policy"
)

// Lanes opens lanes and keeps them open as long as their settings stay what they are. Safe for concurrent use.
type Lanes struct {
	Keep     *Keep         // for what is fetched; never nil
	CDN      func() string // this deployment's name in CDN-Loop
	Lookup   Lookup
	Timeouts Timeouts

	mu   sync.Mutex
	open map[string]opened
}

type opened struct {
	mark [32]byte
	lane Lane
}

// Of gives the lane, opened with its newest settings.
func (ls *Lanes) Of(site *policy.SiteSettings, l *policy.CompiledLane) (Lane, error) {
	if l.Kind == "folder" { // nothing to keep open
		return Folder{Name: site.Name + "/" + l.Name, Dir: l.Folder, Limits: l.Limits, Fresh: l.Fresh}, nil
	}
	secrets := map[string]string{}
	for name, value := range site.Secrets {
		if strings.HasPrefix(name, "lane/"+l.Name+"/") {
			secrets[name] = value
		}
	}
	for _, name := range site.Broken {
		if strings.HasPrefix(name, "lane/"+l.Name+"/") {
			return nil, policy.No(policy.Refusal{
				Reason: policy.ReasonSecretMissing, Parameter: "lane", Given: l.Name, Detail: fmt.Sprintf("the secret %s can't be opened with the key that this service has", name),
				Remedy: "start the service with the ECHOLANE_SECRET_KEY that it was kept under, or keep the secret anew",
			})
		}
	}
	text, err := json.Marshal([]any{l.Lane, l.Limits, secrets})
	if err != nil {
		return nil, err
	}
	mark := sha256.Sum256(text)
	name := site.Name + "/" + l.Name
	ls.mu.Lock()
	defer ls.mu.Unlock()
	have, ok := ls.open[name]
	if ok && have.mark == mark {
		return have.lane, nil
	}
	lane, err := ls.make(site.Name, l, secrets)
	if err != nil {
		return nil, refuseStore(name, "", err)
	}
	if ok {
		time.AfterFunc(time.Minute, have.lane.Close) // when those who still use it are done
	}
	if ls.open == nil {
		ls.open = map[string]opened{}
	}
	ls.open[name] = opened{mark, lane}
	return lane, nil
}

func (ls *Lanes) make(site string, l *policy.CompiledLane, secrets map[string]string) (Lane, error) {
	g := guard{site: site, lane: l.Name, private: l.Private, lookup: ls.Lookup, timeouts: ls.Timeouts}
	if g.lookup == nil {
		g.lookup = SystemLookup
	}
	if g.timeouts == (Timeouts{}) {
		g.timeouts = DefaultTimeouts
	}
	name := site + "/" + l.Name
	if l.Kind == "web" {
		headers := http.Header{}
		for secret, value := range secrets {
			if field, ok := strings.CutPrefix(secret, policy.HeaderSecret(l.Name, "")); ok {
				headers.Set(field, value)
			}
		}
		return &Web{site: site, lane: l, headers: headers, client: g.client(), total: g.timeouts.Total, keep: ls.Keep, cdn: ls.CDN, now: time.Now}, nil
	}
	store, err := openStore(l, g, secrets[policy.CredentialsSecret(l.Name)])
	if err != nil {
		return nil, err
	}
	if l.Kind == "bucket" {
		return &Bucket{name: name, lane: l, store: store, total: g.timeouts.Total, keep: ls.Keep, now: time.Now}, nil
	}
	return &Upload{name: name, lane: l, store: store, total: g.timeouts.Total, keep: ls.Keep}, nil
}

// Close closes every lane.
func (ls *Lanes) Close() {
	ls.mu.Lock()
	defer ls.mu.Unlock()
	for _, o := range ls.open {
		o.lane.Close()
	}
}
