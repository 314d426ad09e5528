// Calls of the service's API. Types come from its description alone.
import type { components } from "./schema";

export type Site = components["schemas"]["Site"];
export type Sources = components["schemas"]["Sources"];
export type Facts = components["schemas"]["Facts"];
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

async function get<T>(path: string, signal: AbortSignal): Promise<T> {
  const answer = await checked(await fetch("/-/api/v1" + path, { signal }));
  return (await answer.json()) as T;
}

const lanePath = (site: string, lane: string) => `/sites/${encodeURIComponent(site)}/lanes/${encodeURIComponent(lane)}`;

export const listSites = (signal: AbortSignal) => get<{ items: Site[] }>("/sites", signal);

export const listSources = (site: string, lane: string, after: string, signal: AbortSignal) =>
  get<Sources>(`${lanePath(site, lane)}/sources?limit=100&after=${encodeURIComponent(after)}`, signal);

export const getFacts = (site: string, lane: string, path: string, signal: AbortSignal) =>
  get<Facts>(`${lanePath(site, lane)}/facts?path=${encodeURIComponent(path)}`, signal);

export const originalAddress = (site: string, lane: string, path: string) =>
  `/-/api/v1${lanePath(site, lane)}/original?path=${encodeURIComponent(path)}`;
