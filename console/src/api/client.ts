// Calls of the service's API. Types come from its description alone.
import type { components } from "./schema";

type Schemas = components["schemas"];
export type Site = Schemas["Site"];
export type Document = Schemas["Document"];
export type Lane = Schemas["Lane"];
export type Sources = Schemas["PageOfEntry"];
export type Facts = Schemas["Facts"];
export type Session = Schemas["Session"];
export type Refusal = Schemas["Refusal"];
export type Change = Schemas["Change"];
export type Difference = Schemas["Difference"];
export type Trouble = Schemas["Trouble"];
export type Proposal = Schemas["Proposal"];
export type Step = Schemas["Step"];
type Details = components["schemas"]["Problem"];

export class Problem extends Error {
  constructor(readonly details: Details) {
    super(details.detail ?? details.title);
  }
}

// checked gives the answer back, or throws the problem that it tells of.
export async function checked(answer: Response): Promise<Response> {
  if (answer.ok) return answer;
  if (answer.headers.get("Content-Type")?.startsWith("application/problem+json")) throw new Problem((await answer.json()) as Details);
  throw new Error(`The service answered ${answer.status}.`);
}

const base = "/-/api/v1";

async function get<T>(path: string, signal: AbortSignal): Promise<T> {
  const answer = await checked(await fetch(base + path, { signal }));
  return (await answer.json()) as T;
}

// send makes a call that changes something. version is the site's that was read, for those that need it.
async function send<T>(method: string, path: string, body?: unknown, version?: number | "*"): Promise<T> {
  const headers: Record<string, string> = {};
  if (version !== undefined) headers["If-Match"] = version === "*" ? "*" : `"${version}"`;
  const raw = body instanceof Blob;
  if (body !== undefined && !raw) headers["Content-Type"] = "application/json";
  const answer = await checked(await fetch(base + path, { method, headers, body: body === undefined ? undefined : raw ? body : JSON.stringify(body) }));
  return (answer.status === 204 ? undefined : await answer.json()) as T;
}

// all reads a list to its end.
async function all<T>(path: string, signal: AbortSignal): Promise<T[]> {
  const list: T[] = [];
  for (let after = ""; ; ) {
    const page = await get<{ items: T[]; next?: string }>(`${path}${path.includes("?") ? "&" : "?"}limit=1000${after && "&after=" + encodeURIComponent(after)}`, signal);
    list.push(...page.items);
    if (!page.next) return list;
    after = page.next;
  }
}

const sitePath = (site: string) => `/sites/${encodeURIComponent(site)}`;
const lanePath = (site: string, lane: string) => `${sitePath(site)}/lanes/${encodeURIComponent(lane)}`;

export const getSession = (signal: AbortSignal) => get<Session>("/session", signal);
export const signIn = (body: Schemas["SignIn"]) => send<Session>("POST", "/session", body);
export const signOut = () => send<void>("DELETE", "/session");
export const useLink = (body: Schemas["UseLink"]) => send<Session>("POST", "/session/link", body);
export const setPassword = (body: Schemas["NewPassword"]) => send<Session>("PUT", "/session/password", body);

export const listSites = (signal: AbortSignal) => all<Site>("/sites", signal);
export const addSite = (document: Partial<Document>) => send<Site>("POST", "/sites", document);
export const proposeSite = (d: Document) => send<Proposal>("PUT", sitePath(d.site) + "?dry_run=true", d);
export const putSite = (d: Document, version: number) => send<Site>("PUT", sitePath(d.site), d, version);
export const removeSite = (site: string, version: number) => send<void>("DELETE", sitePath(site), undefined, version);
export const listHistory = (site: string, signal: AbortSignal) => all<Change>(sitePath(site) + "/history", signal);
export const proposeRestore = (site: string, version: number) => send<Proposal>("POST", sitePath(site) + "/restore?dry_run=true", { version });
export const restore = (site: string, version: number, from: number) => send<Site>("POST", sitePath(site) + "/restore", { version }, from);
export const proposeLadder = (site: string) => get<Schemas["LadderProposal"]>(sitePath(site) + "/ladder", new AbortController().signal);

export const testLane = (site: string, lane: string, source: string) =>
  get<Schemas["TestedLane"]>(`${lanePath(site, lane)}/test?source=${encodeURIComponent(source)}`, new AbortController().signal);
export const putSecret = (site: string, lane: string, body: Schemas["LaneSecret"]) => send<void>("PUT", lanePath(site, lane) + "/secrets", body);
export const removeSecret = (site: string, lane: string, name: string) => send<void>("DELETE", `${lanePath(site, lane)}/secrets?name=${encodeURIComponent(name)}`);
export const upload = (site: string, lane: string, path: string, file: Blob) =>
  send<Schemas["Uploaded"]>("POST", `${lanePath(site, lane)}/sources?path=${encodeURIComponent(path)}`, file);

export const listRefusals = (site: string, signal: AbortSignal) => all<Refusal>("/refusals" + (site && "?site=" + encodeURIComponent(site)), signal);
export const proposeMend = (id: number) => send<Schemas["Mended"]>("POST", `/refusals/${id}/mend?dry_run=true`);
export const mend = (id: number, only: boolean) => send<Schemas["Mended"]>("POST", `/refusals/${id}/mend?only=${only}`, undefined, "*");
export const forgetRefusal = (id: number) => send<void>("DELETE", `/refusals/${id}`);

export const listTokens = (signal: AbortSignal) => all<Schemas["Token"]>("/tokens", signal);
export const addToken = (body: Schemas["NewToken"]) => send<Schemas["MadeToken"]>("POST", "/tokens", body);
export const removeToken = (id: number) => send<void>("DELETE", `/tokens/${id}`);
export const listPeople = (signal: AbortSignal) => all<Schemas["Person"]>("/people", signal);
export const addPerson = (body: Schemas["NewPerson"]) => send<Schemas["Person"]>("POST", "/people", body);
export const removePerson = (id: number) => send<void>("DELETE", `/people/${id}`);
export const listKeys = (site: string, signal: AbortSignal) => all<Schemas["Key"]>(sitePath(site) + "/keys", signal);
export const addKey = (site: string, id: string) => send<Schemas["MadeKey"]>("POST", sitePath(site) + "/keys", { id });
export const removeKey = (site: string, id: string) => send<void>("DELETE", `${sitePath(site)}/keys/${encodeURIComponent(id)}`);

export const listSources = (site: string, lane: string, after: string, signal: AbortSignal) =>
  get<Sources>(`${lanePath(site, lane)}/sources?limit=100&after=${encodeURIComponent(after)}`, signal);

export const getFacts = (site: string, lane: string, path: string, signal: AbortSignal) =>
  get<Facts>(`${lanePath(site, lane)}/facts?path=${encodeURIComponent(path)}`, signal);

export const originalAddress = (site: string, lane: string, path: string) =>
  `/-/api/v1${lanePath(site, lane)}/original?path=${encodeURIComponent(path)}`;

export type Sheet = Schemas["Sheet"];
export type CheckedSheet = Schemas["CheckedSheet"];
export type Property = Schemas["Property"];
export type Weighing = Schemas["Weighing"];
export type Report = Schemas["Report"];
export type View = Schemas["View"];
export type WeighedPicture = Schemas["Picture"];
export type Markup = Schemas["Markup"];
export const getLanguage = (signal: AbortSignal) => get<Schemas["Language"]>("/language", signal);
export const getSheet = (site: string, signal: AbortSignal) => get<Sheet>(sitePath(site) + "/sheet", signal);
export const checkSheet = (site: string, text: string) => send<CheckedSheet>("POST", sitePath(site) + "/sheet/check", { text });
export const putDraft = (site: string, text: string) => send<Sheet>("PUT", sitePath(site) + "/sheet/draft", { text });
export const dropDraft = (site: string) => send<void>("DELETE", sitePath(site) + "/sheet/draft");
export const publishSheet = (site: string, text: string, anyway: boolean, version: number) => send<Sheet>("PUT", sitePath(site) + "/sheet", { text, anyway }, version);
export const sheetHistory = (site: string, signal: AbortSignal) => all<Change>(sitePath(site) + "/sheet/history", signal);
export const restoreSheet = (site: string, to: number, anyway: boolean, version: number) => send<Sheet>("POST", sitePath(site) + "/sheet/restore", { version: to, anyway }, version);
export const previewAddress = (site: string, source: string, name: string, draft: boolean, mark: string) =>
  `/-/api/v1${sitePath(site)}/sheet/preview?${new URLSearchParams({ source, class: name, draft: String(draft), mark })}`;

export const askMarkup = (site: string, body: Schemas["AskMarkup"]) => send<Schemas["Markup"]>("POST", sitePath(site) + "/markup", body);

export const listWeighings = (site: string, signal: AbortSignal) => get<{ items: Schemas["WeighingState"][] }>(sitePath(site) + "/weighings?limit=50", signal);
export const getWeighing = (site: string, id: number, signal: AbortSignal) => get<Weighing>(`${sitePath(site)}/weighings/${id}`, signal);
export const beginWeighing = (site: string, body: Schemas["AskWeighing"]) => send<Weighing>("POST", sitePath(site) + "/weighings", body);
export const stopWeighing = (site: string, id: number) => send<void>("DELETE", `${sitePath(site)}/weighings/${id}`);
export const reportAddress = (site: string, id: number) => `/-/api/v1${sitePath(site)}/weighings/${id}/page`;
