// What every call of the service's API goes through. The calls themselves are in calls.ts, made from its description as the
// types are.
import type { components } from "./schema";

export type Schemas = components["schemas"];
export type Site = Schemas["Site"];
export type Document = Schemas["Document"];
export type Lane = Schemas["Lane"];
export type Facts = Schemas["Facts"];
export type Session = Schemas["Session"];
export type Refusal = Schemas["Refusal"];
export type Change = Schemas["Change"];
export type Difference = Schemas["Difference"];
export type Trouble = Schemas["Trouble"];
export type Proposal = Schemas["Proposal"];
export type Step = Schemas["Step"];
export type Sheet = Schemas["Sheet"];
export type CheckedSheet = Schemas["CheckedSheet"];
export type Property = Schemas["Property"];
export type Weighing = Schemas["Weighing"];
export type Report = Schemas["Report"];
export type View = Schemas["View"];
export type Loading = Schemas["Loading"];
export type WeighedPicture = Schemas["Picture"];
export type Markup = Schemas["Markup"];
type Details = Schemas["Problem"];

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

// patiently fetches a picture that may have to wait for a render worker: while the service is busy it asks again when it says so.
export async function patiently(address: string, init: RequestInit & { signal: AbortSignal }): Promise<Response> {
  for (let tries = 0; ; tries++) {
    const answer = await fetch(address, init);
    const after = Number(answer.headers.get("Retry-After"));
    if (answer.status !== 503 || !(after > 0) || tries >= 20) return checked(answer);
    await pause(after, init.signal);
  }
}

// pause waits some seconds, at most ten, and throws where the signal has ended meanwhile.
export async function pause(seconds: number, signal: AbortSignal): Promise<void> {
  await new Promise((r) => setTimeout(r, Math.min(seconds, 10) * 1000));
  signal.throwIfAborted();
}

export const base = "/-/api/v1";

export async function get<T>(address: string, signal?: AbortSignal): Promise<T> {
  const answer = await checked(await fetch(base + address, { signal }));
  return (await answer.json()) as T;
}

// send makes a call that changes something. version is the site's that was read, for those that need it.
export async function send<T>(method: string, address: string, body?: unknown, version?: number | "*"): Promise<T> {
  const headers: Record<string, string> = {};
  if (version !== undefined) headers["If-Match"] = version === "*" ? "*" : `"${version}"`;
  const raw = body instanceof Blob;
  if (body !== undefined && !raw) headers["Content-Type"] = "application/json";
  const answer = await checked(await fetch(base + address, { method, headers, body: body === undefined ? undefined : raw ? body : JSON.stringify(body) }));
  return (answer.status === 204 ? undefined : await answer.json()) as T;
}

// all reads a list to its end.
export async function all<T>(address: string, signal?: AbortSignal): Promise<T[]> {
  const list: T[] = [];
  for (let after = ""; ; ) {
    const page = await get<{ items: T[]; next?: string }>(`${address}${address.includes("?") ? "&" : "?"}limit=1000${after && "&after=" + encodeURIComponent(after)}`, signal);
    list.push(...page.items);
    if (!page.next) return list;
    after = page.next;
  }
}

// at is an address whose parts are escaped.
export const at = (texts: TemplateStringsArray, ...parts: (string | number)[]) => String.raw({ raw: texts }, ...parts.map((p) => encodeURIComponent(p)));

// query writes what is said: nothing of "", 0 and false.
export function query(values: Record<string, string | number | boolean>): string {
  const said = Object.entries(values).filter(([, v]) => v);
  return said.length ? "?" + new URLSearchParams(said.map(([k, v]) => [k, String(v)])) : "";
}

// pageOfSources is a hundred of a lane's sources, those after a path.
export const pageOfSources = (site: string, lane: string, after: string, signal?: AbortSignal) =>
  get<Schemas["PageOfEntry"]>(at`/sites/${site}/lanes/${lane}/sources` + query({ limit: 100, after }), signal);

// latestWeighings are a site's fifty last weigh-ins.
export const latestWeighings = async (site: string, signal: AbortSignal) => (await get<Schemas["PageOfWeighing"]>(at`/sites/${site}/weighings` + query({ limit: 50 }), signal)).items;
