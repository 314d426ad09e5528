// What the Easel can declare, read from and written to the address bar just as it stands in an image's URL.
import { elementsOf } from "../frame/address";
import { language } from "./language";

export interface Declarations {
  width?: number;
  height?: number;
  shape?: string; // aspect-ratio
  fit?: string;
  format?: string;
  quality?: string; // 1–100 or lossless
  more: Record<string, string>; // all others, by name
}

const own = ["width", "height", "aspect-ratio", "object-fit", "format", "quality"];

export function readDeclarations(q: URLSearchParams): Declarations {
  const number = (name: string) => {
    const n = parseFloat(q.get(name) ?? "");
    return Number.isFinite(n) ? n : undefined;
  };
  const more: Record<string, string> = {};
  for (const name of language) {
    const v = q.get(name);
    if (v && !own.includes(name)) more[name] = v;
  }
  return {
    width: number("width"),
    height: number("height"),
    shape: q.get("aspect-ratio") ?? undefined,
    fit: q.get("object-fit") ?? undefined,
    format: q.get("format") ?? undefined,
    quality: q.get("quality") ?? undefined,
    more,
  };
}

export function writeDeclarations(d: Declarations): URLSearchParams {
  const values: Record<string, string | undefined> = {
    ...d.more,
    width: d.width?.toString(),
    height: d.height?.toString(),
    "aspect-ratio": d.shape,
    "object-fit": d.fit,
    format: d.format,
    quality: d.quality,
  };
  const q = new URLSearchParams();
  for (const name of language) {
    const v = values[name];
    if (v) q.set(name, v);
  }
  return q;
}

// imageAddress is the image's URL below the service, as the address form has it.
export function imageAddress(site: string, lane: string, path: string, d: Declarations): string {
  const encoded = [site, lane, ...elementsOf(path)].map(encodeURIComponent).join("/");
  const query = writeDeclarations(d).toString().replaceAll("%2F", "/");
  return "/" + encoded + (query ? "?" + query : "");
}
