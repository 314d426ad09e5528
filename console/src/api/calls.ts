// Made from the API's operations by go generate ./service/api.
import { all, at, base, get, query, send, type Schemas } from "./client";

// getSession is GET /session: who calls, and whether the service has an owner.
export const getSession = (signal?: AbortSignal) => get<Schemas["Session"]>(at`/session`, signal);

// signIn is POST /session: sign in.
export const signIn = (body: Schemas["SignIn"]) => send<Schemas["Session"]>("POST", at`/session`, body);

// signOut is DELETE /session: sign out.
export const signOut = () => send<void>("DELETE", at`/session`);

// useLink is POST /session/link: sign in, or become the first owner, by a one-time link.
export const useLink = (body: Schemas["UseLink"]) => send<Schemas["Session"]>("POST", at`/session/link`, body);

// setPassword is PUT /session/password: take another password; other sessions end.
export const setPassword = (body: Schemas["NewPassword"]) => send<Schemas["Session"]>("PUT", at`/session/password`, body);

// getLanguage is GET /language: what a sheet may say: properties, and what their values may be.
export const getLanguage = (signal?: AbortSignal) => get<Schemas["Language"]>(at`/language`, signal);

// rules is POST /css: what becomes of a stylesheet's rules in an image's URL.
export const rules = (body: Schemas["RuleText"]) => send<Schemas["Rules"]>("POST", at`/css`, body);

// listSites is GET /sites: all sites that the caller may see.
export const listSites = (signal?: AbortSignal) => all<Schemas["Site"]>(at`/sites`, signal);

// addSite is POST /sites: add a site; what the document leaves out is as for every new site.
export const addSite = (body: Schemas["Document"]) => send<Schemas["Site"]>("POST", at`/sites`, body);

// proposeAddSite is POST /sites: what addSite would change.
export const proposeAddSite = (body: Schemas["Document"]) => send<Schemas["Proposal"]>("POST", at`/sites` + query({ dry_run: true }), body);

// getSite is GET /sites/:site: one site.
export const getSite = (site: string, signal?: AbortSignal) => get<Schemas["Site"]>(at`/sites/${site}`, signal);

// putSite is PUT /sites/:site: give a site another document.
export const putSite = (site: string, body: Schemas["Document"], from: number | "*") => send<Schemas["Site"]>("PUT", at`/sites/${site}`, body, from);

// proposePutSite is PUT /sites/:site: what putSite would change.
export const proposePutSite = (site: string, body: Schemas["Document"]) => send<Schemas["Proposal"]>("PUT", at`/sites/${site}` + query({ dry_run: true }), body);

// removeSite is DELETE /sites/:site: remove a site with its secrets; its history stays.
export const removeSite = (site: string, from: number | "*") => send<void>("DELETE", at`/sites/${site}`, undefined, from);

// listHistory is GET /sites/:site/history: who changed what, newest first.
export const listHistory = (site: string, signal?: AbortSignal) => all<Schemas["Change"]>(at`/sites/${site}/history`, signal);

// getDocumentAt is GET /sites/:site/history/:version: the document as a version had it.
export const getDocumentAt = (site: string, version: number, signal?: AbortSignal) => get<Schemas["Document"]>(at`/sites/${site}/history/${version}`, signal);

// restore is POST /sites/:site/restore: go back to a version's document, as a new version.
export const restore = (site: string, body: Schemas["Restore"], from: number | "*") => send<Schemas["Site"]>("POST", at`/sites/${site}/restore`, body, from);

// proposeRestore is POST /sites/:site/restore: what restore would change.
export const proposeRestore = (site: string, body: Schemas["Restore"]) => send<Schemas["Proposal"]>("POST", at`/sites/${site}/restore` + query({ dry_run: true }), body);

// listUsage is GET /sites/:site/usage: what was used, by month, newest first.
export const listUsage = (site: string, signal?: AbortSignal) => all<Schemas["Usage"]>(at`/sites/${site}/usage`, signal);

// getLadder is GET /sites/:site/ladder: a ladder for the site, as a proposal.
export const getLadder = (site: string, from: number, to: number, waste: number, signal?: AbortSignal) => get<Schemas["LadderProposal"]>(at`/sites/${site}/ladder` + query({ from, to, waste }), signal);

// getSheet is GET /sites/:site/sheet: the site's stylesheet, and the draft of another.
export const getSheet = (site: string, signal?: AbortSignal) => get<Schemas["Sheet"]>(at`/sites/${site}/sheet`, signal);

// publishSheet is PUT /sites/:site/sheet: publish a sheet; a draft with the same text is done with.
export const publishSheet = (site: string, body: Schemas["PublishSheet"], from: number | "*") => send<Schemas["Sheet"]>("PUT", at`/sites/${site}/sheet`, body, from);

// checkSheet is POST /sites/:site/sheet/check: what is wrong with a sheet, and what publishing it would do.
export const checkSheet = (site: string, body: Schemas["SheetText"]) => send<Schemas["CheckedSheet"]>("POST", at`/sites/${site}/sheet/check`, body);

// putDraft is PUT /sites/:site/sheet/draft: keep a draft, right or not.
export const putDraft = (site: string, body: Schemas["SheetText"]) => send<Schemas["Sheet"]>("PUT", at`/sites/${site}/sheet/draft`, body);

// dropDraft is DELETE /sites/:site/sheet/draft: forget the draft.
export const dropDraft = (site: string) => send<void>("DELETE", at`/sites/${site}/sheet/draft`);

// previewAddress is GET /sites/:site/sheet/preview: a source drawn by a class; what its cards show may also be given by further parameters, data-….
export const previewAddress = (site: string, source: string, named: string, draft: boolean, data: string) => base + at`/sites/${site}/sheet/preview` + query({ source, class: named, draft, data });

// getLayers is GET /sites/:site/sheet/layers: where the layers of a source drawn by a class lie, and which texts are too large for theirs; parameters as for preview.
export const getLayers = (site: string, source: string, named: string, draft: boolean, data: string, signal?: AbortSignal) => get<Schemas["LaidOut"]>(at`/sites/${site}/sheet/layers` + query({ source, class: named, draft, data }), signal);

// listSheetHistory is GET /sites/:site/sheet/history: the changes in which the sheet changed, newest first.
export const listSheetHistory = (site: string, signal?: AbortSignal) => all<Schemas["Change"]>(at`/sites/${site}/sheet/history`, signal);

// restoreSheet is POST /sites/:site/sheet/restore: publish the sheet of a version again.
export const restoreSheet = (site: string, body: Schemas["RestoreSheet"], from: number | "*") => send<Schemas["Sheet"]>("POST", at`/sites/${site}/sheet/restore`, body, from);

// listSetAside is GET /sites/:site/set-aside: sources that nothing is made of, since render workers died over them.
export const listSetAside = (site: string, signal?: AbortSignal) => all<Schemas["SetAside"]>(at`/sites/${site}/set-aside`, signal);

// readmit is DELETE /sites/:site/set-aside: have one worked on again, or all.
export const readmit = (site: string, digest: string) => send<Schemas["Readmitted"]>("DELETE", at`/sites/${site}/set-aside` + query({ digest }));

// getToday is GET /today: what was answered lately, and how the nodes are.
export const getToday = (site: string, span: string, signal?: AbortSignal) => get<Schemas["Today"]>(at`/today` + query({ site, span }), signal);

// getStockOfAll is GET /stock: the kept variants of all sites.
export const getStockOfAll = (by: string, count: number, signal?: AbortSignal) => get<Schemas["Stock"]>(at`/stock` + query({ by, count }), signal);

// getStock is GET /sites/:site/stock: a site's kept variants.
export const getStock = (site: string, by: string, count: number, signal?: AbortSignal) => get<Schemas["Stock"]>(at`/sites/${site}/stock` + query({ by, count }), signal);

// getStockVariants is GET /sites/:site/variants: variants that are kept.
export const getStockVariants = (site: string, lane: string, path: string, order: string, count: number, skip: number, signal?: AbortSignal) => get<Schemas["StockList"]>(at`/sites/${site}/variants` + query({ lane, path, order, count, skip }), signal);

// getFound is GET /sites/:site/found: sources that were looked at, by what was found in them.
export const getFound = (site: string, find: string, lane: string, count: number, behind: string, signal?: AbortSignal) => get<Schemas["FoundSources"]>(at`/sites/${site}/found` + query({ find, lane, count, behind }), signal);

// listPurges is GET /sites/:site/purges: what was purged, newest first.
export const listPurges = (site: string, signal?: AbortSignal) => all<Schemas["Purge"]>(at`/sites/${site}/purges`, signal);

// purge is POST /sites/:site/purges: forget kept variants, on every node.
export const purge = (site: string, body: Schemas["AskPurge"]) => send<Schemas["Purged"]>("POST", at`/sites/${site}/purges`, body);

// listWarmings is GET /sites/:site/warmings: what is or was made ahead, newest first.
export const listWarmings = (site: string, signal?: AbortSignal) => all<Schemas["Warming"]>(at`/sites/${site}/warmings`, signal);

// warm is POST /sites/:site/warmings: begin to make variants before somebody asks for them.
export const warm = (site: string, body: Schemas["AskWarm"]) => send<Schemas["Warming"]>("POST", at`/sites/${site}/warmings`, body);

// getWarming is GET /sites/:site/warmings/:warming: how far it is, and why something was left out.
export const getWarming = (site: string, warming: string, signal?: AbortSignal) => get<Schemas["Warming"]>(at`/sites/${site}/warmings/${warming}`, signal);

// setWarming is PUT /sites/:site/warmings/:warming: have it paused, go on, or stopped.
export const setWarming = (site: string, warming: string, body: Schemas["SetWarming"]) => send<Schemas["Warming"]>("PUT", at`/sites/${site}/warmings/${warming}`, body);

// markup is POST /sites/:site/markup: the HTML for a source in a slot; some variants are made to choose its widths.
export const markup = (site: string, body: Schemas["AskMarkup"]) => send<Schemas["Markup"]>("POST", at`/sites/${site}/markup`, body);

// listWeighings is GET /sites/:site/weighings: weigh-ins of pages, newest first.
export const listWeighings = (site: string, signal?: AbortSignal) => all<Schemas["WeighingState"]>(at`/sites/${site}/weighings`, signal);

// weigh is POST /sites/:site/weighings: begin to weigh a page.
export const weigh = (site: string, body: Schemas["AskWeighing"]) => send<Schemas["Weighing"]>("POST", at`/sites/${site}/weighings`, body);

// getWeighing is GET /sites/:site/weighings/:weighing: how far it is, or what it came to.
export const getWeighing = (site: string, weighing: number, signal?: AbortSignal) => get<Schemas["Weighing"]>(at`/sites/${site}/weighings/${weighing}`, signal);

// weighingPageAddress is GET /sites/:site/weighings/:weighing/page: the report as a page by itself.
export const weighingPageAddress = (site: string, weighing: number) => base + at`/sites/${site}/weighings/${weighing}/page`;

// weighingShotAddress is GET /sites/:site/weighings/:weighing/shots/:shot: one of the report's screenshots, by its number.
export const weighingShotAddress = (site: string, weighing: number, shot: number) => base + at`/sites/${site}/weighings/${weighing}/shots/${shot}`;

// stopWeighing is DELETE /sites/:site/weighings/:weighing: stop it, or forget it.
export const stopWeighing = (site: string, weighing: number) => send<void>("DELETE", at`/sites/${site}/weighings/${weighing}`);

// listKeys is GET /sites/:site/keys: the site's signing keys, without what they say.
export const listKeys = (site: string, signal?: AbortSignal) => all<Schemas["Key"]>(at`/sites/${site}/keys`, signal);

// addKey is POST /sites/:site/keys: add a signing key; its secret is shown this once.
export const addKey = (site: string, body: Schemas["NewKey"]) => send<Schemas["MadeKey"]>("POST", at`/sites/${site}/keys`, body);

// removeKey is DELETE /sites/:site/keys/:key: take a key back: what it signed ends.
export const removeKey = (site: string, key: string) => send<void>("DELETE", at`/sites/${site}/keys/${key}`);

// sign is POST /sites/:site/sign: sign an address.
export const sign = (site: string, body: Schemas["ToSign"]) => send<Schemas["Signed"]>("POST", at`/sites/${site}/sign`, body);

// listLanes is GET /sites/:site/lanes: the site's lanes.
export const listLanes = (site: string, signal?: AbortSignal) => all<Schemas["Lane"]>(at`/sites/${site}/lanes`, signal);

// addLane is POST /sites/:site/lanes: add a lane.
export const addLane = (site: string, body: Schemas["Lane"]) => send<Schemas["Site"]>("POST", at`/sites/${site}/lanes`, body);

// proposeAddLane is POST /sites/:site/lanes: what addLane would change.
export const proposeAddLane = (site: string, body: Schemas["Lane"]) => send<Schemas["Proposal"]>("POST", at`/sites/${site}/lanes` + query({ dry_run: true }), body);

// getLane is GET /sites/:site/lanes/:lane: one lane.
export const getLane = (site: string, lane: string, signal?: AbortSignal) => get<Schemas["Lane"]>(at`/sites/${site}/lanes/${lane}`, signal);

// putLane is PUT /sites/:site/lanes/:lane: change a lane.
export const putLane = (site: string, lane: string, body: Schemas["Lane"], from: number | "*") => send<Schemas["Site"]>("PUT", at`/sites/${site}/lanes/${lane}`, body, from);

// proposePutLane is PUT /sites/:site/lanes/:lane: what putLane would change.
export const proposePutLane = (site: string, lane: string, body: Schemas["Lane"]) => send<Schemas["Proposal"]>("PUT", at`/sites/${site}/lanes/${lane}` + query({ dry_run: true }), body);

// removeLane is DELETE /sites/:site/lanes/:lane: remove a lane; its sources stay where they are.
export const removeLane = (site: string, lane: string, from: number | "*") => send<Schemas["Site"]>("DELETE", at`/sites/${site}/lanes/${lane}`, undefined, from);

// proposeRemoveLane is DELETE /sites/:site/lanes/:lane: what removeLane would change.
export const proposeRemoveLane = (site: string, lane: string) => send<Schemas["Proposal"]>("DELETE", at`/sites/${site}/lanes/${lane}` + query({ dry_run: true }));

// listSecrets is GET /sites/:site/lanes/:lane/secrets: which secrets the lane has.
export const listSecrets = (site: string, lane: string, signal?: AbortSignal) => all<Schemas["Secret"]>(at`/sites/${site}/lanes/${lane}/secrets`, signal);

// putSecret is PUT /sites/:site/lanes/:lane/secrets: keep credentials, or a request header; never shown again.
export const putSecret = (site: string, lane: string, body: Schemas["LaneSecret"]) => send<void>("PUT", at`/sites/${site}/lanes/${lane}/secrets`, body);

// removeSecret is DELETE /sites/:site/lanes/:lane/secrets: forget a secret.
export const removeSecret = (site: string, lane: string, name: string) => send<void>("DELETE", at`/sites/${site}/lanes/${lane}/secrets` + query({ name }));

// getTestLane is GET /sites/:site/lanes/:lane/test: whether a source would be allowed, and by which rule.
export const getTestLane = (site: string, lane: string, source: string, signal?: AbortSignal) => get<Schemas["TestedLane"]>(at`/sites/${site}/lanes/${lane}/test` + query({ source }), signal);

// listSources is GET /sites/:site/lanes/:lane/sources: the lane's sources; of a web lane those that were asked for.
export const listSources = (site: string, lane: string, signal?: AbortSignal) => all<Schemas["Source"]>(at`/sites/${site}/lanes/${lane}/sources`, signal);

// listFocuses is GET /sites/:site/lanes/:lane/focuses: where people have said that the subjects of the lane's sources are.
export const listFocuses = (site: string, lane: string, signal?: AbortSignal) => all<Schemas["Focus"]>(at`/sites/${site}/lanes/${lane}/focuses`, signal);

// setFocus is PUT /sites/:site/lanes/:lane/focuses: say where a source's subject is.
export const setFocus = (site: string, lane: string, body: Schemas["SetFocus"]) => send<Schemas["Focus"]>("PUT", at`/sites/${site}/lanes/${lane}/focuses`, body);

// removeFocus is DELETE /sites/:site/lanes/:lane/focuses: take back what was said of a source's subject.
export const removeFocus = (site: string, lane: string, path: string) => send<void>("DELETE", at`/sites/${site}/lanes/${lane}/focuses` + query({ path }));

// upload is POST /sites/:site/lanes/:lane/sources: put a source into an upload lane, as the body or as a form's file.
export const upload = (site: string, lane: string, path: string, body: Blob) => send<Schemas["Uploaded"]>("POST", at`/sites/${site}/lanes/${lane}/sources` + query({ path }), body);

// listUploads is POST /sites/:site/lanes/:lane/uploads: put several sources into an upload lane: the files of a form, by their names.
export const listUploads = (site: string, lane: string, path: string, body: Blob) => send<Schemas["Upload"]>("POST", at`/sites/${site}/lanes/${lane}/uploads` + query({ path }), body);

// removeSource is DELETE /sites/:site/lanes/:lane/sources: remove an uploaded source with all its versions.
export const removeSource = (site: string, lane: string, path: string) => send<void>("DELETE", at`/sites/${site}/lanes/${lane}/sources` + query({ path }));

// restoreVersion is POST /sites/:site/lanes/:lane/versions/restore: have an older version of an uploaded source be the newest again.
export const restoreVersion = (site: string, lane: string, body: Schemas["RestoreVersion"]) => send<Schemas["UploadedVersion"]>("POST", at`/sites/${site}/lanes/${lane}/versions/restore`, body);

// listVersions is GET /sites/:site/lanes/:lane/versions: an uploaded source's versions, newest first.
export const listVersions = (site: string, lane: string, path: string, signal?: AbortSignal) => all<Schemas["UploadedVersion"]>(at`/sites/${site}/lanes/${lane}/versions` + query({ path }), signal);

// getFacts is GET /sites/:site/lanes/:lane/facts: what a source's header says.
export const getFacts = (site: string, lane: string, path: string, signal?: AbortSignal) => get<Schemas["Facts"]>(at`/sites/${site}/lanes/${lane}/facts` + query({ path }), signal);

// originalAddress is GET /sites/:site/lanes/:lane/original: the source as it lies there.
export const originalAddress = (site: string, lane: string, path: string, version: number) => base + at`/sites/${site}/lanes/${lane}/original` + query({ path, version });

// listRefusals is GET /refusals: what was turned down, the most frequent first.
export const listRefusals = (site: string, signal?: AbortSignal) => all<Schemas["Refusal"]>(at`/refusals` + query({ site }), signal);

// mend is POST /refusals/:refusal/mend: make the change of settings that would have let it through.
export const mend = (refusal: number, dryRun: boolean, only: boolean, from: number | "*") => send<Schemas["Mended"]>("POST", at`/refusals/${refusal}/mend` + query({ dry_run: dryRun, only }), undefined, from);

// forgetRefusal is DELETE /refusals/:refusal: take it off the list until it comes again.
export const forgetRefusal = (refusal: number) => send<void>("DELETE", at`/refusals/${refusal}`);

// listTokens is GET /tokens: all tokens, without what they say.
export const listTokens = (signal?: AbortSignal) => all<Schemas["Token"]>(at`/tokens`, signal);

// addToken is POST /tokens: make a token; what it says is shown this once.
export const addToken = (body: Schemas["NewToken"]) => send<Schemas["MadeToken"]>("POST", at`/tokens`, body);

// removeToken is DELETE /tokens/:token: revoke a token.
export const removeToken = (token: number) => send<void>("DELETE", at`/tokens/${token}`);

// listPeople is GET /people: everybody who may sign in.
export const listPeople = (signal?: AbortSignal) => all<Schemas["Person"]>(at`/people`, signal);

// addPerson is POST /people: add somebody.
export const addPerson = (body: Schemas["NewPerson"]) => send<Schemas["Person"]>("POST", at`/people`, body);

// removePerson is DELETE /people/:person: remove somebody and end their sessions.
export const removePerson = (person: number) => send<void>("DELETE", at`/people/${person}`);
