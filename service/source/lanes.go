package source

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"strings"
	"sync"
	"time"

	"echolane/core/policy"
)

// A Kind is a kind of lane: what the settings of such lanes are, and how one is opened. The packages of kinds lie under
// service/lane, which lists them.
type Kind interface {
	// Describe says what the settings of such a lane are.
	Describe() policy.LaneKind
	// Ready says what is wrong with a lane on this machine, nil for nothing. It is asked when settings change.
	Ready(*policy.Lane) *policy.Trouble
	// Open opens a lane. It doesn't reach for what lies behind it.
	Open(Opening) (Lane, error)
}

// Opening is what a lane is opened with.
type Opening struct {
	Site    string
	Lane    *policy.CompiledLane
	Secrets map[string]string // the lane's, by their names as policy.HeaderSecret and policy.CredentialsSecret make them
	Keep    *Keep
	Guard   Guard
	CDN     func() string // this deployment's name in CDN-Loop
}

// Name is the lane's, as people read it: site/lane.
func (o Opening) Name() string { return o.Site + "/" + o.Lane.Name }

// Kinds are kinds of lane in the order in which they are named; a lane that doesn't say is of the first.
type Kinds []Kind

// Describe says what the settings of lanes of these kinds are.
func (ks Kinds) Describe() policy.LaneKinds {
	all := make(policy.LaneKinds, len(ks))
	for i, k := range ks {
		all[i] = k.Describe()
	}
	return all
}

// Of finds a kind by its name, nil where there is none.
func (ks Kinds) Of(name string) Kind {
	for _, k := range ks {
		if k.Describe().Name == name {
			return k
		}
	}
	return nil
}

// Lanes opens lanes and keeps them open as long as their settings stay what they are. Safe for concurrent use.
type Lanes struct {
	Kinds    Kinds
	Keep     *Keep         // for what is fetched; never nil
	CDN      func() string // this deployment's name in CDN-Loop
	Lookup   Lookup        // nil: SystemLookup
	Timeouts Timeouts      // zero: DefaultTimeouts

	mu   sync.Mutex
	open map[string]opened
}

type opened struct {
	site        *policy.SiteSettings
	from        *policy.CompiledLane
	fingerprint [32]byte // of its settings and secrets
	lane        Lane
}

// Of gives the lane, opened with its newest settings.
func (ls *Lanes) Of(site *policy.SiteSettings, l *policy.CompiledLane) (Lane, error) {
	name := site.Name + "/" + l.Name
	ls.mu.Lock()
	defer ls.mu.Unlock()
	have, ok := ls.open[name]
	if ok && have.site == site && have.from == l {
		return have.lane, nil
	}
	prefix := "lane/" + l.Name + "/"
	secrets := map[string]string{}
	for name, value := range site.Secrets {
		if strings.HasPrefix(name, prefix) {
			secrets[name] = value
		}
	}
	for _, name := range site.Broken {
		if strings.HasPrefix(name, prefix) {
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
	next := opened{site: site, from: l, fingerprint: sha256.Sum256(text), lane: have.lane}
	if !ok || have.fingerprint != next.fingerprint {
		kind := ls.Kinds.Of(l.Kind)
		if kind == nil {
			return nil, policy.No(policy.Refusal{Reason: policy.ReasonLaneUnreachable, Parameter: "lane", Given: l.Name, Detail: fmt.Sprintf("this node knows no lanes of kind %q", l.Kind), Remedy: "run the same version of Echo Lane on every node"})
		}
		guard := Guard{Site: site.Name, Lane: l.Name, Private: l.Private, Lookup: ls.Lookup, Timeouts: ls.Timeouts}
		if guard.Lookup == nil {
			guard.Lookup = SystemLookup
		}
		if guard.Timeouts == (Timeouts{}) {
			guard.Timeouts = DefaultTimeouts
		}
		if next.lane, err = kind.Open(Opening{Site: site.Name, Lane: l, Secrets: secrets, Keep: ls.Keep, Guard: guard, CDN: ls.CDN}); err != nil {
			return nil, err
		}
		if ok {
			time.AfterFunc(time.Minute, have.lane.Close) // when those who still use it are done
		}
	}
	if ls.open == nil {
		ls.open = map[string]opened{}
	}
	ls.open[name] = next
	return next.lane, nil
}

// Close closes every lane.
func (ls *Lanes) Close() {
	ls.mu.Lock()
	defer ls.mu.Unlock()
	for _, o := range ls.open {
		o.lane.Close()
	}
}
