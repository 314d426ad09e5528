package app

import (
	"net/http"
	"time"

	"echolane/service/cache/shared"
	"echolane/service/panics"
	"echolane/service/store"
)

// storeConnections is how many connections to the shared store wait for use.
const storeConnections = 64

// openStore opens the store that nodes share, nil where there is none. A bucket isn't asked yet.
func openStore(o Options, catch *panics.Catcher) (*shared.Store, error) {
	if o.Store == (shared.Place{}) {
		return nil, nil
	}
	in, err := OpenPlace(o.Store, o.StoreKeys)
	if err != nil {
		return nil, err
	}
	return shared.Open(shared.Options{Store: in, Where: o.Store.String(), Log: o.Log, Panics: catch}), nil
}

// OpenPlace opens a store's folder or bucket.
func OpenPlace(p shared.Place, keys shared.Credentials) (store.Store, error) {
	if p.Folder != "" {
		return store.InFolder(p.Folder)
	}
	b := p.Bucket
	b.AccessKey, b.SecretKey = keys.AccessKey, keys.SecretKey
	b.Client = &http.Client{Transport: &http.Transport{
		Proxy: http.ProxyFromEnvironment, MaxIdleConnsPerHost: storeConnections, IdleConnTimeout: time.Minute, ResponseHeaderTimeout: 30 * time.Second,
	}}
	return store.InBucket(b), nil
}
