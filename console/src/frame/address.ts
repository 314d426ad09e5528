// The address bar is the console's only memory of where one is: every view reads it and writes it.
import { useSyncExternalStore } from "react";

const base = "/-/console/";
const moved = "echolane:moved";

export interface Address {
  place: string; // the first part of the path, such as easel
  parts: string[]; // the decoded parts behind it
  query: URLSearchParams;
}

function subscribe(listener: () => void) {
  window.addEventListener("popstate", listener);
  window.addEventListener(moved, listener);
  return () => {
    window.removeEventListener("popstate", listener);
    window.removeEventListener(moved, listener);
  };
}

export function useAddress(): Address {
  const href = useSyncExternalStore(subscribe, () => location.pathname + location.search);
  const url = new URL(href, location.origin);
  const [place = "", ...parts] = url.pathname.slice(base.length).split("/").filter(Boolean).map(decodeURIComponent);
  return { place, parts, query: url.searchParams };
}

export function addressOf(place: string, parts: string[] = [], query?: URLSearchParams): string {
  const search = query?.toString();
  return base + [place, ...parts].map(encodeURIComponent).join("/") + (search ? "?" + search : "");
}

// elementsOf are a source's path as elements of an address. A source that is a whole URL is one element.
export function elementsOf(path: string): string[] {
  return path.includes("://") ? [path] : path.split("/");
}

// go moves to another view; with replace the back button doesn't stop here.
export function go(href: string, replace = false) {
  if (href === location.pathname + location.search) return;
  history[replace ? "replaceState" : "pushState"](null, "", href);
  window.dispatchEvent(new Event(moved));
}
