// Made from the API's operations by go generate ./service/api.

package client

import (
	"context"
	"io"

	"echolane/core/policy"
	"echolane/service/api"
	"echolane/service/records"
	"echolane/service/source"
)

// Session is GET /session: who calls, and whether the service has an owner.
func (c *Client) Session(ctx context.Context) (out api.Session, err error) {
	err = c.call(ctx, "GET", "/session", nil, &out)
	return out, err
}

// SignIn is POST /session: sign in.
func (c *Client) SignIn(ctx context.Context, in api.SignIn) (out api.Session, err error) {
	err = c.call(ctx, "POST", "/session", in, &out)
	return out, err
}

// SignOut is DELETE /session: sign out.
func (c *Client) SignOut(ctx context.Context) error {
	return c.call(ctx, "DELETE", "/session", nil, nil)
}

// UseLink is POST /session/link: sign in, or become the first owner, by a one-time link.
func (c *Client) UseLink(ctx context.Context, in api.UseLink) (out api.Session, err error) {
	err = c.call(ctx, "POST", "/session/link", in, &out)
	return out, err
}

// SetPassword is PUT /session/password: take another password; other sessions end.
func (c *Client) SetPassword(ctx context.Context, in api.NewPassword) (out api.Session, err error) {
	err = c.call(ctx, "PUT", "/session/password", in, &out)
	return out, err
}

// Language is GET /language: what a sheet may say: properties, and what their values may be.
func (c *Client) Language(ctx context.Context) (out api.Language, err error) {
	err = c.call(ctx, "GET", "/language", nil, &out)
	return out, err
}

// Rules is POST /css: what becomes of a stylesheet's rules in an image's URL.
func (c *Client) Rules(ctx context.Context, in api.RuleText) (out api.Rules, err error) {
	err = c.call(ctx, "POST", "/css", in, &out)
	return out, err
}

// Sites is GET /sites: all sites that the caller may see.
func (c *Client) Sites(ctx context.Context) ([]api.Site, error) {
	return all[api.Site](ctx, c, "/sites")
}

// AddSite is POST /sites: add a site; what the document leaves out is as for every new site.
func (c *Client) AddSite(ctx context.Context, in policy.Document) (out api.Site, err error) {
	err = c.call(ctx, "POST", "/sites", in, &out)
	return out, err
}

// ProposeAddSite is POST /sites: what AddSite would change.
func (c *Client) ProposeAddSite(ctx context.Context, in policy.Document) (out api.Proposal, err error) {
	err = c.call(ctx, "POST", "/sites"+query("dry_run", true), in, &out)
	return out, err
}

// Site is GET /sites/:site: one site.
func (c *Client) Site(ctx context.Context, site string) (out api.Site, err error) {
	err = c.call(ctx, "GET", "/sites/"+escaped(site), nil, &out)
	return out, err
}

// PutSite is PUT /sites/:site: give a site another document.
func (c *Client) PutSite(ctx context.Context, site string, in policy.Document, from int64) (out api.Site, err error) {
	err = c.call(ctx, "PUT", "/sites/"+escaped(site), in, &out, "If-Match", etag(from))
	return out, err
}

// ProposePutSite is PUT /sites/:site: what PutSite would change.
func (c *Client) ProposePutSite(ctx context.Context, site string, in policy.Document) (out api.Proposal, err error) {
	err = c.call(ctx, "PUT", "/sites/"+escaped(site)+query("dry_run", true), in, &out)
	return out, err
}

// RemoveSite is DELETE /sites/:site: remove a site with its secrets; its history stays.
func (c *Client) RemoveSite(ctx context.Context, site string, from int64) error {
	return c.call(ctx, "DELETE", "/sites/"+escaped(site), nil, nil, "If-Match", etag(from))
}

// History is GET /sites/:site/history: who changed what, newest first.
func (c *Client) History(ctx context.Context, site string) ([]records.Change, error) {
	return all[records.Change](ctx, c, "/sites/"+escaped(site)+"/history")
}

// DocumentAt is GET /sites/:site/history/:version: the document as a version had it.
func (c *Client) DocumentAt(ctx context.Context, site string, version int64) (out policy.Document, err error) {
	err = c.call(ctx, "GET", "/sites/"+escaped(site)+"/history/"+escaped(version), nil, &out)
	return out, err
}

// Restore is POST /sites/:site/restore: go back to a version's document, as a new version.
func (c *Client) Restore(ctx context.Context, site string, in api.Restore, from int64) (out api.Site, err error) {
	err = c.call(ctx, "POST", "/sites/"+escaped(site)+"/restore", in, &out, "If-Match", etag(from))
	return out, err
}

// ProposeRestore is POST /sites/:site/restore: what Restore would change.
func (c *Client) ProposeRestore(ctx context.Context, site string, in api.Restore) (out api.Proposal, err error) {
	err = c.call(ctx, "POST", "/sites/"+escaped(site)+"/restore"+query("dry_run", true), in, &out)
	return out, err
}

// Usage is GET /sites/:site/usage: what was used, by month, newest first.
func (c *Client) Usage(ctx context.Context, site string) ([]records.Usage, error) {
	return all[records.Usage](ctx, c, "/sites/"+escaped(site)+"/usage")
}

// Ladder is GET /sites/:site/ladder: a ladder for the site, as a proposal.
func (c *Client) Ladder(ctx context.Context, site string, from int, to int, waste float64) (out api.LadderProposal, err error) {
	err = c.call(ctx, "GET", "/sites/"+escaped(site)+"/ladder"+query("from", from, "to", to, "waste", waste), nil, &out)
	return out, err
}

// Sheet is GET /sites/:site/sheet: the site's stylesheet, and the draft of another.
func (c *Client) Sheet(ctx context.Context, site string) (out api.Sheet, err error) {
	err = c.call(ctx, "GET", "/sites/"+escaped(site)+"/sheet", nil, &out)
	return out, err
}

// PublishSheet is PUT /sites/:site/sheet: publish a sheet; a draft with the same text is done with.
func (c *Client) PublishSheet(ctx context.Context, site string, in api.PublishSheet, from int64) (out api.Sheet, err error) {
	err = c.call(ctx, "PUT", "/sites/"+escaped(site)+"/sheet", in, &out, "If-Match", etag(from))
	return out, err
}

// CheckSheet is POST /sites/:site/sheet/check: what is wrong with a sheet, and what publishing it would do.
func (c *Client) CheckSheet(ctx context.Context, site string, in api.SheetText) (out api.CheckedSheet, err error) {
	err = c.call(ctx, "POST", "/sites/"+escaped(site)+"/sheet/check", in, &out)
	return out, err
}

// PutDraft is PUT /sites/:site/sheet/draft: keep a draft, right or not.
func (c *Client) PutDraft(ctx context.Context, site string, in api.SheetText) (out api.Sheet, err error) {
	err = c.call(ctx, "PUT", "/sites/"+escaped(site)+"/sheet/draft", in, &out)
	return out, err
}

// DropDraft is DELETE /sites/:site/sheet/draft: forget the draft.
func (c *Client) DropDraft(ctx context.Context, site string) error {
	return c.call(ctx, "DELETE", "/sites/"+escaped(site)+"/sheet/draft", nil, nil)
}

// Preview is GET /sites/:site/sheet/preview: a source drawn by a class; what its cards show may also be given by further parameters, data-….
func (c *Client) Preview(ctx context.Context, site string, source string, named string, draft bool, data string) (out []byte, err error) {
	err = c.call(ctx, "GET", "/sites/"+escaped(site)+"/sheet/preview"+query("source", source, "class", named, "draft", draft, "data", data), nil, &out)
	return out, err
}

// Layers is GET /sites/:site/sheet/layers: where the layers of a source drawn by a class lie, and which texts are too large for theirs; parameters as for preview.
func (c *Client) Layers(ctx context.Context, site string, source string, named string, draft bool, data string) (out api.LaidOut, err error) {
	err = c.call(ctx, "GET", "/sites/"+escaped(site)+"/sheet/layers"+query("source", source, "class", named, "draft", draft, "data", data), nil, &out)
	return out, err
}

// SheetHistory is GET /sites/:site/sheet/history: the changes in which the sheet changed, newest first.
func (c *Client) SheetHistory(ctx context.Context, site string) ([]records.Change, error) {
	return all[records.Change](ctx, c, "/sites/"+escaped(site)+"/sheet/history")
}

// RestoreSheet is POST /sites/:site/sheet/restore: publish the sheet of a version again.
func (c *Client) RestoreSheet(ctx context.Context, site string, in api.RestoreSheet, from int64) (out api.Sheet, err error) {
	err = c.call(ctx, "POST", "/sites/"+escaped(site)+"/sheet/restore", in, &out, "If-Match", etag(from))
	return out, err
}

// SetAside is GET /sites/:site/set-aside: sources that nothing is made of, since render workers died over them.
func (c *Client) SetAside(ctx context.Context, site string) ([]records.SetAside, error) {
	return all[records.SetAside](ctx, c, "/sites/"+escaped(site)+"/set-aside")
}

// Readmit is DELETE /sites/:site/set-aside: have one worked on again, or all.
func (c *Client) Readmit(ctx context.Context, site string, digest string) (out api.Readmitted, err error) {
	err = c.call(ctx, "DELETE", "/sites/"+escaped(site)+"/set-aside"+query("digest", digest), nil, &out)
	return out, err
}

// Today is GET /today: what was answered lately, and how the nodes are.
func (c *Client) Today(ctx context.Context, site string, span string) (out api.Today, err error) {
	err = c.call(ctx, "GET", "/today"+query("site", site, "span", span), nil, &out)
	return out, err
}

// StockOfAll is GET /stock: the kept variants of all sites.
func (c *Client) StockOfAll(ctx context.Context, by string, count int) (out api.Stock, err error) {
	err = c.call(ctx, "GET", "/stock"+query("by", by, "count", count), nil, &out)
	return out, err
}

// Stock is GET /sites/:site/stock: a site's kept variants.
func (c *Client) Stock(ctx context.Context, site string, by string, count int) (out api.Stock, err error) {
	err = c.call(ctx, "GET", "/sites/"+escaped(site)+"/stock"+query("by", by, "count", count), nil, &out)
	return out, err
}

// StockVariants is GET /sites/:site/variants: variants that are kept.
func (c *Client) StockVariants(ctx context.Context, site string, lane string, path string, order string, count int, skip int) (out api.StockList, err error) {
	err = c.call(ctx, "GET", "/sites/"+escaped(site)+"/variants"+query("lane", lane, "path", path, "order", order, "count", count, "skip", skip), nil, &out)
	return out, err
}

// Found is GET /sites/:site/found: sources that were looked at, by what was found in them.
func (c *Client) Found(ctx context.Context, site string, find string, lane string, count int, behind string) (out api.FoundSources, err error) {
	err = c.call(ctx, "GET", "/sites/"+escaped(site)+"/found"+query("find", find, "lane", lane, "count", count, "behind", behind), nil, &out)
	return out, err
}

// Purges is GET /sites/:site/purges: what was purged, newest first.
func (c *Client) Purges(ctx context.Context, site string) ([]records.Purge, error) {
	return all[records.Purge](ctx, c, "/sites/"+escaped(site)+"/purges")
}

// Purge is POST /sites/:site/purges: forget kept variants, on every node.
func (c *Client) Purge(ctx context.Context, site string, in api.AskPurge) (out api.Purged, err error) {
	err = c.call(ctx, "POST", "/sites/"+escaped(site)+"/purges", in, &out)
	return out, err
}

// Warmings is GET /sites/:site/warmings: what is or was made ahead, newest first.
func (c *Client) Warmings(ctx context.Context, site string) ([]api.Warming, error) {
	return all[api.Warming](ctx, c, "/sites/"+escaped(site)+"/warmings")
}

// Warm is POST /sites/:site/warmings: begin to make variants before somebody asks for them.
func (c *Client) Warm(ctx context.Context, site string, in api.AskWarm) (out api.Warming, err error) {
	err = c.call(ctx, "POST", "/sites/"+escaped(site)+"/warmings", in, &out)
	return out, err
}

// Warming is GET /sites/:site/warmings/:warming: how far it is, and why something was left out.
func (c *Client) Warming(ctx context.Context, site string, warming string) (out api.Warming, err error) {
	err = c.call(ctx, "GET", "/sites/"+escaped(site)+"/warmings/"+escaped(warming), nil, &out)
	return out, err
}

// SetWarming is PUT /sites/:site/warmings/:warming: have it paused, go on, or stopped.
func (c *Client) SetWarming(ctx context.Context, site string, warming string, in api.SetWarming) (out api.Warming, err error) {
	err = c.call(ctx, "PUT", "/sites/"+escaped(site)+"/warmings/"+escaped(warming), in, &out)
	return out, err
}

// Markup is POST /sites/:site/markup: the HTML for a source in a slot; some variants are made to choose its widths.
func (c *Client) Markup(ctx context.Context, site string, in api.AskMarkup) (out api.Markup, err error) {
	err = c.call(ctx, "POST", "/sites/"+escaped(site)+"/markup", in, &out)
	return out, err
}

// Weighings is GET /sites/:site/weighings: weigh-ins of pages, newest first.
func (c *Client) Weighings(ctx context.Context, site string) ([]records.Weighing, error) {
	return all[records.Weighing](ctx, c, "/sites/"+escaped(site)+"/weighings")
}

// Weigh is POST /sites/:site/weighings: begin to weigh a page.
func (c *Client) Weigh(ctx context.Context, site string, in api.AskWeighing) (out api.Weighing, err error) {
	err = c.call(ctx, "POST", "/sites/"+escaped(site)+"/weighings", in, &out)
	return out, err
}

// Weighing is GET /sites/:site/weighings/:weighing: how far it is, or what it came to.
func (c *Client) Weighing(ctx context.Context, site string, weighing int64) (out api.Weighing, err error) {
	err = c.call(ctx, "GET", "/sites/"+escaped(site)+"/weighings/"+escaped(weighing), nil, &out)
	return out, err
}

// WeighingPage is GET /sites/:site/weighings/:weighing/page: the report as a page by itself.
func (c *Client) WeighingPage(ctx context.Context, site string, weighing int64) (out []byte, err error) {
	err = c.call(ctx, "GET", "/sites/"+escaped(site)+"/weighings/"+escaped(weighing)+"/page", nil, &out)
	return out, err
}

// WeighingShot is GET /sites/:site/weighings/:weighing/shots/:shot: one of the report's screenshots, by its number.
func (c *Client) WeighingShot(ctx context.Context, site string, weighing int64, shot int64) (out []byte, err error) {
	err = c.call(ctx, "GET", "/sites/"+escaped(site)+"/weighings/"+escaped(weighing)+"/shots/"+escaped(shot), nil, &out)
	return out, err
}

// StopWeighing is DELETE /sites/:site/weighings/:weighing: stop it, or forget it.
func (c *Client) StopWeighing(ctx context.Context, site string, weighing int64) error {
	return c.call(ctx, "DELETE", "/sites/"+escaped(site)+"/weighings/"+escaped(weighing), nil, nil)
}

// Keys is GET /sites/:site/keys: the site's signing keys, without what they say.
func (c *Client) Keys(ctx context.Context, site string) ([]api.Key, error) {
	return all[api.Key](ctx, c, "/sites/"+escaped(site)+"/keys")
}

// AddKey is POST /sites/:site/keys: add a signing key; its secret is shown this once.
func (c *Client) AddKey(ctx context.Context, site string, in api.NewKey) (out api.MadeKey, err error) {
	err = c.call(ctx, "POST", "/sites/"+escaped(site)+"/keys", in, &out)
	return out, err
}

// RemoveKey is DELETE /sites/:site/keys/:key: take a key back: what it signed ends.
func (c *Client) RemoveKey(ctx context.Context, site string, key string) error {
	return c.call(ctx, "DELETE", "/sites/"+escaped(site)+"/keys/"+escaped(key), nil, nil)
}

// Sign is POST /sites/:site/sign: sign an address.
func (c *Client) Sign(ctx context.Context, site string, in api.ToSign) (out api.Signed, err error) {
	err = c.call(ctx, "POST", "/sites/"+escaped(site)+"/sign", in, &out)
	return out, err
}

// Lanes is GET /sites/:site/lanes: the site's lanes.
func (c *Client) Lanes(ctx context.Context, site string) ([]policy.Lane, error) {
	return all[policy.Lane](ctx, c, "/sites/"+escaped(site)+"/lanes")
}

// AddLane is POST /sites/:site/lanes: add a lane.
func (c *Client) AddLane(ctx context.Context, site string, in policy.Lane) (out api.Site, err error) {
	err = c.call(ctx, "POST", "/sites/"+escaped(site)+"/lanes", in, &out)
	return out, err
}

// ProposeAddLane is POST /sites/:site/lanes: what AddLane would change.
func (c *Client) ProposeAddLane(ctx context.Context, site string, in policy.Lane) (out api.Proposal, err error) {
	err = c.call(ctx, "POST", "/sites/"+escaped(site)+"/lanes"+query("dry_run", true), in, &out)
	return out, err
}

// Lane is GET /sites/:site/lanes/:lane: one lane.
func (c *Client) Lane(ctx context.Context, site string, lane string) (out policy.Lane, err error) {
	err = c.call(ctx, "GET", "/sites/"+escaped(site)+"/lanes/"+escaped(lane), nil, &out)
	return out, err
}

// PutLane is PUT /sites/:site/lanes/:lane: change a lane.
func (c *Client) PutLane(ctx context.Context, site string, lane string, in policy.Lane, from int64) (out api.Site, err error) {
	err = c.call(ctx, "PUT", "/sites/"+escaped(site)+"/lanes/"+escaped(lane), in, &out, "If-Match", etag(from))
	return out, err
}

// ProposePutLane is PUT /sites/:site/lanes/:lane: what PutLane would change.
func (c *Client) ProposePutLane(ctx context.Context, site string, lane string, in policy.Lane) (out api.Proposal, err error) {
	err = c.call(ctx, "PUT", "/sites/"+escaped(site)+"/lanes/"+escaped(lane)+query("dry_run", true), in, &out)
	return out, err
}

// RemoveLane is DELETE /sites/:site/lanes/:lane: remove a lane; its sources stay where they are.
func (c *Client) RemoveLane(ctx context.Context, site string, lane string, from int64) (out api.Site, err error) {
	err = c.call(ctx, "DELETE", "/sites/"+escaped(site)+"/lanes/"+escaped(lane), nil, &out, "If-Match", etag(from))
	return out, err
}

// ProposeRemoveLane is DELETE /sites/:site/lanes/:lane: what RemoveLane would change.
func (c *Client) ProposeRemoveLane(ctx context.Context, site string, lane string) (out api.Proposal, err error) {
	err = c.call(ctx, "DELETE", "/sites/"+escaped(site)+"/lanes/"+escaped(lane)+query("dry_run", true), nil, &out)
	return out, err
}

// Secrets is GET /sites/:site/lanes/:lane/secrets: which secrets the lane has.
func (c *Client) Secrets(ctx context.Context, site string, lane string) ([]records.Secret, error) {
	return all[records.Secret](ctx, c, "/sites/"+escaped(site)+"/lanes/"+escaped(lane)+"/secrets")
}

// PutSecret is PUT /sites/:site/lanes/:lane/secrets: keep credentials, or a request header; never shown again.
func (c *Client) PutSecret(ctx context.Context, site string, lane string, in api.LaneSecret) error {
	return c.call(ctx, "PUT", "/sites/"+escaped(site)+"/lanes/"+escaped(lane)+"/secrets", in, nil)
}

// RemoveSecret is DELETE /sites/:site/lanes/:lane/secrets: forget a secret.
func (c *Client) RemoveSecret(ctx context.Context, site string, lane string, name string) error {
	return c.call(ctx, "DELETE", "/sites/"+escaped(site)+"/lanes/"+escaped(lane)+"/secrets"+query("name", name), nil, nil)
}

// TestLane is GET /sites/:site/lanes/:lane/test: whether a source would be allowed, and by which rule.
func (c *Client) TestLane(ctx context.Context, site string, lane string, source string) (out api.TestedLane, err error) {
	err = c.call(ctx, "GET", "/sites/"+escaped(site)+"/lanes/"+escaped(lane)+"/test"+query("source", source), nil, &out)
	return out, err
}

// Sources is GET /sites/:site/lanes/:lane/sources: the lane's sources; of a web lane those that were asked for.
func (c *Client) Sources(ctx context.Context, site string, lane string) ([]source.Entry, error) {
	return all[source.Entry](ctx, c, "/sites/"+escaped(site)+"/lanes/"+escaped(lane)+"/sources")
}

// Focuses is GET /sites/:site/lanes/:lane/focuses: where people have said that the subjects of the lane's sources are.
func (c *Client) Focuses(ctx context.Context, site string, lane string) ([]api.Focus, error) {
	return all[api.Focus](ctx, c, "/sites/"+escaped(site)+"/lanes/"+escaped(lane)+"/focuses")
}

// SetFocus is PUT /sites/:site/lanes/:lane/focuses: say where a source's subject is.
func (c *Client) SetFocus(ctx context.Context, site string, lane string, in api.SetFocus) (out api.Focus, err error) {
	err = c.call(ctx, "PUT", "/sites/"+escaped(site)+"/lanes/"+escaped(lane)+"/focuses", in, &out)
	return out, err
}

// RemoveFocus is DELETE /sites/:site/lanes/:lane/focuses: take back what was said of a source's subject.
func (c *Client) RemoveFocus(ctx context.Context, site string, lane string, path string) error {
	return c.call(ctx, "DELETE", "/sites/"+escaped(site)+"/lanes/"+escaped(lane)+"/focuses"+query("path", path), nil, nil)
}

// Upload is POST /sites/:site/lanes/:lane/sources: put a source into an upload lane, as the body or as a form's file.
func (c *Client) Upload(ctx context.Context, site string, lane string, path string, in io.Reader) (out api.Uploaded, err error) {
	err = c.call(ctx, "POST", "/sites/"+escaped(site)+"/lanes/"+escaped(lane)+"/sources"+query("path", path), in, &out)
	return out, err
}

// Uploads is POST /sites/:site/lanes/:lane/uploads: put several sources into an upload lane: the files of a form, by their names.
func (c *Client) Uploads(ctx context.Context, site string, lane string, path string, in io.Reader) ([]api.Upload, error) {
	return all[api.Upload](ctx, c, "/sites/"+escaped(site)+"/lanes/"+escaped(lane)+"/uploads"+query("path", path))
}

// RemoveSource is DELETE /sites/:site/lanes/:lane/sources: remove an uploaded source with all its versions.
func (c *Client) RemoveSource(ctx context.Context, site string, lane string, path string) error {
	return c.call(ctx, "DELETE", "/sites/"+escaped(site)+"/lanes/"+escaped(lane)+"/sources"+query("path", path), nil, nil)
}

// RestoreVersion is POST /sites/:site/lanes/:lane/versions/restore: have an older version of an uploaded source be the newest again.
func (c *Client) RestoreVersion(ctx context.Context, site string, lane string, in api.RestoreVersion) (out source.Uploaded, err error) {
	err = c.call(ctx, "POST", "/sites/"+escaped(site)+"/lanes/"+escaped(lane)+"/versions/restore", in, &out)
	return out, err
}

// Versions is GET /sites/:site/lanes/:lane/versions: an uploaded source's versions, newest first.
func (c *Client) Versions(ctx context.Context, site string, lane string, path string) ([]source.Uploaded, error) {
	return all[source.Uploaded](ctx, c, "/sites/"+escaped(site)+"/lanes/"+escaped(lane)+"/versions"+query("path", path))
}

// Facts is GET /sites/:site/lanes/:lane/facts: what a source's header says.
func (c *Client) Facts(ctx context.Context, site string, lane string, path string) (out source.Facts, err error) {
	err = c.call(ctx, "GET", "/sites/"+escaped(site)+"/lanes/"+escaped(lane)+"/facts"+query("path", path), nil, &out)
	return out, err
}

// Original is GET /sites/:site/lanes/:lane/original: the source as it lies there.
func (c *Client) Original(ctx context.Context, site string, lane string, path string, version int) (out []byte, err error) {
	err = c.call(ctx, "GET", "/sites/"+escaped(site)+"/lanes/"+escaped(lane)+"/original"+query("path", path, "version", version), nil, &out)
	return out, err
}

// Refusals is GET /refusals: what was turned down, the most frequent first.
func (c *Client) Refusals(ctx context.Context, site string) ([]api.Refusal, error) {
	return all[api.Refusal](ctx, c, "/refusals"+query("site", site))
}

// Mend is POST /refusals/:refusal/mend: make the change of settings that would have let it through.
func (c *Client) Mend(ctx context.Context, refusal int64, dryRun bool, only bool, from int64) (out api.Mended, err error) {
	err = c.call(ctx, "POST", "/refusals/"+escaped(refusal)+"/mend"+query("dry_run", dryRun, "only", only), nil, &out, "If-Match", etag(from))
	return out, err
}

// ForgetRefusal is DELETE /refusals/:refusal: take it off the list until it comes again.
func (c *Client) ForgetRefusal(ctx context.Context, refusal int64) error {
	return c.call(ctx, "DELETE", "/refusals/"+escaped(refusal), nil, nil)
}

// Tokens is GET /tokens: all tokens, without what they say.
func (c *Client) Tokens(ctx context.Context) ([]records.Token, error) {
	return all[records.Token](ctx, c, "/tokens")
}

// AddToken is POST /tokens: make a token; what it says is shown this once.
func (c *Client) AddToken(ctx context.Context, in api.NewToken) (out api.MadeToken, err error) {
	err = c.call(ctx, "POST", "/tokens", in, &out)
	return out, err
}

// RemoveToken is DELETE /tokens/:token: revoke a token.
func (c *Client) RemoveToken(ctx context.Context, token int64) error {
	return c.call(ctx, "DELETE", "/tokens/"+escaped(token), nil, nil)
}

// People is GET /people: everybody who may sign in.
func (c *Client) People(ctx context.Context) ([]records.Person, error) {
	return all[records.Person](ctx, c, "/people")
}

// AddPerson is POST /people: add somebody.
func (c *Client) AddPerson(ctx context.Context, in api.NewPerson) (out records.Person, err error) {
	err = c.call(ctx, "POST", "/people", in, &out)
	return out, err
}

// RemovePerson is DELETE /people/:person: remove somebody and end their sessions.
func (c *Client) RemovePerson(ctx context.Context, person int64) error {
	return c.call(ctx, "DELETE", "/people/"+escaped(person), nil, nil)
}
